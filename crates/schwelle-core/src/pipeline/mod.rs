//! The whole way, as types that can only be made in this order: a [`Profile`] is read from a disk, [`Judged`] with
//! the space that was found, drafted as a [`Plan`], [`Rehearsed`], and only if that passes [`Ready`] to be
//! [`Saved`] in a job folder and written.
//!
//! Converting, going back and mending all come through here. The clock, new GUIDs and what is known of the PC are
//! passed in, so the same disk gives the same draft.

mod write;

use std::collections::BTreeMap;

use uuid::Uuid;

use crate::device::{Extent, HealthWarning, ReadDevice, Retried};
use crate::disk_use::DiskUse;
use crate::draft::{self, DraftError, Plan, Source, Stamp};
use crate::firmware::{self, Ground, LoaderChoice, Machine};
use crate::fit;
use crate::gpt::TypeTable;
use crate::identities::Style;
use crate::job::FoundJob;
use crate::mend::{self, Fix, MendError};
use crate::placement::{self, EspRequest};
use crate::profile::{Profile, Table};
use crate::rehearse::{self, Rehearsal};
use crate::rules::{self, Facts, Family, Finding, JobPlace, Outcome, Room, RuleId, Severity, Twin};
use crate::starts::{SectorZero, SystemStart, sector_zero, starts};

pub use write::{NotWritten, Ready, Saved, Written};

/// What is known and requested besides what the disk itself says.
#[derive(Debug, Clone)]
pub struct Inputs<'a> {
    /// The table that it is to get.
    pub to: Style,
    /// What it is for, and where the EFI system partition is requested.
    pub request: EspRequest,
    /// Which partition types become which.
    pub types: &'a TypeTable,
    /// How seriously a workshop takes the rules' answers, where not as they are.
    pub severities: &'a BTreeMap<RuleId, Severity>,
    /// The PC that the disk belongs to, as far as it is known.
    pub machine: Machine,
    /// Where the job folder lies; `None` when none was named.
    pub job: Option<JobPlace>,
    /// What the drive says of its own health, where it tells.
    pub health: Vec<HealthWarning>,
    /// Other disks with this one's signature or GUID.
    pub twins: &'a [Twin],
    /// Job folders found that belong to this disk.
    pub jobs: &'a [FoundJob],
    /// The disk was named by its serial number or its by-id name.
    pub named_surely: bool,
    /// The technician has said by name that the folder of a stopped job is lost.
    pub job_lost: bool,
    /// The partition of the system that firmware without a boot entry is to start, where the technician chose one.
    pub first: Option<usize>,
    /// The technician has confirmed a backup.
    pub backup_confirmed: bool,
}

impl<'a> Inputs<'a> {
    /// A disk of which nothing is known but what it says itself, for a conversion to this table.
    pub fn unknown(
        to: Style,
        request: EspRequest,
        types: &'a TypeTable,
        severities: &'a BTreeMap<RuleId, Severity>,
    ) -> Self {
        Self {
            to,
            request,
            types,
            severities,
            machine: Machine::unknown(Ground::Image),
            job: None,
            health: Vec::new(),
            twins: &[],
            jobs: &[],
            named_surely: false,
            job_lost: false,
            first: None,
            backup_confirmed: false,
        }
    }
}

/// What a draft takes from outside: identities and the time.
pub struct Outside<'a> {
    /// Gives a GUID that nothing else has.
    pub new_guid: &'a mut dyn FnMut() -> Uuid,
    /// The time.
    pub stamp: Stamp,
}

/// A disk that all rules have been asked about, with the room that was found for its new table.
#[derive(Debug)]
pub struct Judged<'d, 'k> {
    disk: &'d dyn ReadDevice,
    profile: &'k Profile,
    inputs: Inputs<'k>,
    room: Room,
    loader: LoaderChoice,
    starts_today: Option<Rehearsal>,
    unreadable: Vec<Extent>,
    retried: Vec<Retried>,
    findings: Vec<Finding>,
}

impl<'d, 'k> Judged<'d, 'k> {
    /// Looks for room, chooses the boot files, and asks all rules.
    pub fn new(disk: &'d dyn ReadDevice, profile: &'k Profile, inputs: Inputs<'k>) -> Self {
        let (request, types) = (inputs.request, inputs.types);
        let room = match inputs.to {
            Style::Gpt => Room::Gpt(placement::find(disk, profile, request)),
            Style::Mbr => Room::Mbr(fit::find(disk, profile, request.disk_use, types)),
        };
        let loader = firmware::choose(disk, profile, &inputs.machine);
        let is_asked = inputs.to == Style::Gpt && request.disk_use == DiskUse::System;
        let is_mbr = matches!(profile.table, Table::Mbr { .. });
        let starts_today =
            (is_asked && is_mbr).then(|| rehearse::walk_bios_to_kernel(disk, profile));
        let judged = Self {
            disk,
            profile,
            inputs,
            room,
            loader,
            starts_today,
            // All that is read for the rules has been read by now.
            unreadable: disk.unreadable(),
            retried: disk.retried(),
            findings: Vec::new(),
        };
        judged.asked()
    }

    /// The same disk now that a backup has been confirmed. Nothing is read again.
    #[must_use]
    pub fn confirmed(mut self) -> Self {
        self.inputs.backup_confirmed = true;
        let asked: Vec<RuleId> = self.findings.iter().map(|finding| finding.rule).collect();
        let mut judged = self.asked();
        judged
            .findings
            .retain(|finding| asked.contains(&finding.rule));
        judged
    }

    fn asked(mut self) -> Self {
        let known = &self.inputs;
        let facts = Facts {
            profile: self.profile,
            disk_use: known.request.disk_use,
            room: &self.room,
            types: known.types,
            job: known.job,
            machine: known.machine.clone(),
            loader: &self.loader,
            starts_today: self.starts_today.as_ref(),
            unreadable: &self.unreadable,
            retried: &self.retried,
            health: &known.health,
            twins: known.twins,
            named_surely: known.named_surely,
            jobs: known.jobs,
            job_lost: known.job_lost,
            backup_confirmed: known.backup_confirmed,
        };
        let mut findings = rules::check(&facts);
        for finding in &mut findings {
            if let Some(severity) = known.severities.get(&finding.rule) {
                severity.apply(finding);
            }
        }
        self.findings = findings;
        self
    }

    /// What the rules found, in their order.
    pub fn findings(&self) -> &[Finding] {
        &self.findings
    }

    /// The findings with this outcome.
    pub fn with(&self, outcome: Outcome) -> impl Iterator<Item = &Finding> {
        let findings = self.findings.iter();
        findings.filter(move |finding| finding.outcome == outcome)
    }

    /// The answer over all of them.
    pub fn answer(&self) -> Outcome {
        rules::answer(&self.findings)
    }

    /// Every system on an MBR disk that is to start in UEFI mode: whether it starts today, and afterwards.
    pub fn starts(&self) -> Vec<SystemStart> {
        match (self.to(), self.disk_use()) {
            (Style::Gpt, DiskUse::System) => starts(self.profile),
            _ => Vec::new(),
        }
    }

    /// The boot code of an MBR disk that is to start in UEFI mode.
    pub fn sector_zero(&self) -> Option<SectorZero> {
        match (self.to(), self.disk_use()) {
            (Style::Gpt, DiskUse::System) => sector_zero(self.profile),
            _ => None,
        }
    }

    /// A rule blocks it.
    pub fn is_blocked(&self) -> bool {
        self.answer() == Outcome::Block
    }

    /// The same disk, judged as one that holds data.
    #[must_use]
    pub(crate) fn as_data(&self) -> Self {
        let request = EspRequest {
            disk_use: DiskUse::Data,
            ..EspRequest::default()
        };
        let inputs = Inputs {
            request,
            ..self.inputs.clone()
        };
        Self::new(self.disk, self.profile, inputs)
    }

    /// The disk.
    pub(crate) fn disk(&self) -> &'d dyn ReadDevice {
        self.disk
    }

    /// What is on it.
    pub(crate) fn profile(&self) -> &'k Profile {
        self.profile
    }

    /// The table that the disk is to get.
    pub fn to(&self) -> Style {
        self.room.style()
    }

    /// What it is for.
    pub fn disk_use(&self) -> DiskUse {
        self.inputs.request.disk_use
    }

    /// Drafts the conversion.
    ///
    /// # Errors
    ///
    /// [`NotDrafted::Blocked`] where a rule blocks, or there is no room; else what the draft met.
    pub fn draft(&self, outside: Outside<'_>) -> Result<Plan<'d>, NotDrafted> {
        if self.is_blocked() {
            return Err(NotDrafted::Blocked);
        }
        let source = Source {
            new_guid: outside.new_guid,
            stamp: outside.stamp,
            set: self.loader.set,
            types: self.inputs.types,
            first: self.inputs.first,
        };
        let plan = match &self.room {
            Room::Gpt(Ok(place)) => draft::build(self.disk, self.profile, place, source),
            Room::Mbr(Ok(fit)) => draft::build_back(self.disk, self.profile, fit, source),
            Room::Gpt(Err(_)) | Room::Mbr(Err(_)) => return Err(NotDrafted::Blocked),
        };
        plan.map_err(NotDrafted::from)
    }
}

/// Why there is no draft.
#[derive(Debug, thiserror::Error)]
pub enum NotDrafted {
    /// A rule blocks it.
    #[error("a rule blocks this disk")]
    Blocked,
    /// The draft could not be made.
    #[error(transparent)]
    Draft(#[from] DraftError),
}

/// A disk that is mended: the draft, what is mended on it, and what the rules say of that.
#[derive(Debug)]
pub struct Mending<'d, 'k> {
    /// What the rules say: those about the medium, and where volumes are touched, all that do not ask for an
    /// MBR table.
    pub judged: Judged<'d, 'k>,
    /// What is mended.
    pub fixes: Vec<Fix>,
    plan: Plan<'d>,
}

impl<'d, 'k> Mending<'d, 'k> {
    /// Plans to mend a GPT disk; `None` when nothing fails.
    ///
    /// # Errors
    ///
    /// What cannot be mended here, and what the draft met.
    pub fn new(
        disk: &'d dyn ReadDevice,
        profile: &'k Profile,
        inputs: Inputs<'k>,
        outside: Outside<'_>,
    ) -> Result<Option<Self>, MendError> {
        let source = Source {
            new_guid: outside.new_guid,
            stamp: outside.stamp,
            set: firmware::choose(disk, profile, &inputs.machine).set,
            types: inputs.types,
            first: None,
        };
        let planned = mend::plan(disk, profile, inputs.request, source)?;
        Ok(planned.map(|(plan, fixes)| {
            let mut judged = Judged::new(disk, profile, inputs);
            let touches = plan.touches_volumes();
            judged
                .findings
                .retain(|finding| is_asked_of_mending(finding.rule.family(), touches));
            Self {
                judged,
                fixes,
                plan,
            }
        }))
    }

    /// Rehearses the draft.
    ///
    /// # Errors
    ///
    /// What the rules say, where one of them blocks.
    pub fn rehearse(self) -> Result<MendedDraft<'d, 'k>, Box<Judged<'d, 'k>>> {
        if self.judged.is_blocked() {
            return Err(Box::new(self.judged));
        }
        Ok(MendedDraft {
            judged: self.judged,
            fixes: self.fixes,
            rehearsed: Rehearsed::new(self.plan),
        })
    }
}

/// A mended disk's draft, rehearsed.
#[derive(Debug)]
pub struct MendedDraft<'d, 'k> {
    /// What the rules say.
    pub judged: Judged<'d, 'k>,
    /// What is mended.
    pub fixes: Vec<Fix>,
    /// The draft.
    pub rehearsed: Rehearsed<'d>,
}

/// Mending does not ask for an MBR table, and where it leaves volumes alone, nothing about them.
fn is_asked_of_mending(family: Family, touches_volumes: bool) -> bool {
    match family {
        Family::Medium | Family::Backup => true,
        Family::Table | Family::Room | Family::Boot => false,
        Family::Volume | Family::System | Family::Firmware | Family::Back => touches_volumes,
    }
}

/// A draft whose rehearsal has been walked.
#[derive(Debug)]
pub struct Rehearsed<'a> {
    plan: Plan<'a>,
    rehearsal: Rehearsal,
}

impl<'a> Rehearsed<'a> {
    /// Walks the draft as a PC would, or for data looks at every volume on it.
    pub fn new(plan: Plan<'a>) -> Self {
        let rehearsal = plan.rehearse_on(&plan.draft);
        Self { plan, rehearsal }
    }

    /// The draft.
    pub fn plan(&self) -> &Plan<'a> {
        &self.plan
    }

    /// The draft by itself.
    pub fn into_plan(self) -> Plan<'a> {
        self.plan
    }

    /// How the walk went.
    pub fn rehearsal(&self) -> &Rehearsal {
        &self.rehearsal
    }

    /// What may be written: a draft that passed.
    pub fn ready(&self) -> Option<Ready<'_, 'a>> {
        let plan = &self.plan;
        self.rehearsal.passed().then_some(Ready { plan })
    }
}

impl Plan<'_> {
    /// The walk that the finished disk must pass, on the draft or on the disk that it was written to.
    pub fn rehearse_on(&self, disk: &dyn ReadDevice) -> Rehearsal {
        let mut rehearsal = rehearse::walk_to(disk, self.table.style(), self.placement.disk_use);
        if self
            .start
            .as_ref()
            .is_some_and(|start| !start.linux.is_empty())
        {
            rehearsal.require_other_systems();
        }
        rehearsal
    }

    /// Something is written into volumes: boot files, edited files, file systems that are shrunk.
    fn touches_volumes(&self) -> bool {
        self.start.is_some() || !self.files_edited.is_empty() || !self.placement.shrinks.is_empty()
    }
}
