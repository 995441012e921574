//! The rules: each asks one question of the facts, and answers with findings, which are values ([`answers`]).
//!
//! All rules for a way always run. They look at values only, never at a device. To add one: give it an id, write
//! its function in its family's file, put it into `RULES`, and give every outcome but `pass` a remedy and a disk
//! in the tests that causes it. The compiler then asks for its words.

pub mod answers;
mod back;
mod backup;
mod boot;
mod firmware;
mod id;
mod medium;
mod room;
mod system;
mod table;
mod volume;

pub use answers::{ByPolicy, Evidence, Finding, Remedy, Subject};
pub use id::{Family, RuleId};

use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::device::{Extent, HealthWarning, Retried};
use crate::disk_use::DiskUse;
use crate::firmware::{LoaderChoice, Machine};
use crate::fit::{Fit, Obstacle};
use crate::gpt::TypeTable;
use crate::identities::Style;
use crate::job::FoundJob;
use crate::placement::{NoRoom, Placement};
use crate::profile::{Profile, Table};
use crate::rehearse::Rehearsal;
use answers::{Answer, common};

/// How a rule answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// No finding.
    Pass,
    /// Could not be found out from here.
    Unknown,
    /// The technician must know.
    Caution,
    /// Will not convert.
    Block,
}

impl Outcome {
    /// The word in reports and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::Unknown => "unknown",
            Self::Caution => "caution",
            Self::Block => "block",
        }
    }
}

/// Where the job folder lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct JobPlace {
    /// On the disk to be converted.
    pub on_disk: bool,
    /// In memory; `None` where the system does not say.
    pub in_memory: Option<bool>,
    /// The technician has said by name that it may be in memory.
    pub may_be_in_memory: bool,
    /// Nothing can be written there.
    pub read_only: bool,
    /// It is on NTFS that is written without its journal, and may have to be repaired after a power cut.
    pub may_need_repair: bool,
}

/// Another disk of this PC with the same signature or GUID.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Twin {
    /// Its path.
    pub path: PathBuf,
    /// Its model, where it tells.
    pub model: Option<String>,
    /// Its serial number, where it tells.
    pub serial: Option<String>,
    /// Why its signature or GUID could not be read, so that it may be the same one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub unread: Option<Cause>,
}

/// The table that a conversion makes, and whether there is room for what it needs.
#[derive(Debug)]
pub enum Room {
    /// GPT: where the room comes from, or why there is none.
    Gpt(Result<Placement, NoRoom>),
    /// MBR: the table that fits, or what does not fit.
    Mbr(Result<Fit, Vec<Obstacle>>),
}

impl Room {
    /// The style of the table.
    pub fn style(&self) -> Style {
        match self {
            Self::Gpt(_) => Style::Gpt,
            Self::Mbr(_) => Style::Mbr,
        }
    }
}

/// What the rules look at.
#[derive(Debug)]
pub struct Facts<'a> {
    /// The disk.
    pub profile: &'a Profile,
    /// What the technician says it is for.
    pub disk_use: DiskUse,
    /// The table that it is to get, and the room for what that needs.
    pub room: &'a Room,
    /// Which partition types become which.
    pub types: &'a TypeTable,
    /// Where the job folder lies; `None` when none was named.
    pub job: Option<JobPlace>,
    /// The PC that the disk belongs to, as far as it is known.
    pub machine: Machine,
    /// Which signed set of boot files is placed, and Secure Boot's verdict on it.
    pub loader: &'a LoaderChoice,
    /// The walk of the disk's start as it is, of an MBR disk with a system.
    pub starts_today: Option<&'a Rehearsal>,
    /// What could not be read while the disk was looked at.
    pub unreadable: &'a [Extent],
    /// Transfers that failed and succeeded when they were repeated while the disk was looked at.
    pub retried: &'a [Retried],
    /// What the drive reports of its own health.
    pub health: &'a [HealthWarning],
    /// Other disks with this one's signature or GUID.
    pub twins: &'a [Twin],
    /// The disk was named by its serial number or its by-id name.
    pub named_surely: bool,
    /// Job folders found that belong to this disk.
    pub jobs: &'a [FoundJob],
    /// The technician has said by name that the folder of a stopped job is lost.
    pub job_lost: bool,
    /// The technician has confirmed a backup.
    pub backup_confirmed: bool,
}

impl<'a> Facts<'a> {
    /// A blank disk that shall hold data.
    fn is_blank_for_data(&self) -> bool {
        self.disk_use == DiskUse::Data && matches!(self.profile.table, Table::Blank)
    }

    /// The table that it is to get.
    fn to(&self) -> Style {
        self.room.style()
    }

    /// The room for a GPT.
    fn placement(&self) -> Option<&'a Placement> {
        match self.room {
            Room::Gpt(placement) => placement.as_ref().ok(),
            Room::Mbr(_) => None,
        }
    }

    /// Why there is no room for a GPT.
    fn no_room(&self) -> Option<&'a NoRoom> {
        match self.room {
            Room::Gpt(placement) => placement.as_ref().err(),
            Room::Mbr(_) => None,
        }
    }

    /// What fits into an MBR.
    fn fit(&self) -> Option<&'a Result<Fit, Vec<Obstacle>>> {
        match self.room {
            Room::Gpt(_) => None,
            Room::Mbr(fit) => Some(fit),
        }
    }

    /// There is a table to convert, or none is needed.
    fn can_have_table(&self) -> bool {
        match self.to() {
            Style::Gpt => self.profile.mbr().is_some() || self.is_blank_for_data(),
            Style::Mbr => matches!(self.profile.table, Table::Gpt { hybrid: false, .. }),
        }
    }
}

/// A rule.
#[derive(Debug)]
pub struct Rule {
    /// Which.
    pub id: RuleId,
    /// The way that it is asked about; `None` for both.
    pub to: Option<Style>,
    /// Answers it; an empty answer means: passed, nothing to say.
    check: fn(&Facts<'_>) -> Vec<Answer>,
}

impl Rule {
    /// A rule that is asked about both ways.
    const fn always(id: RuleId, check: fn(&Facts<'_>) -> Vec<Answer>) -> Self {
        let to = None;
        Self { id, to, check }
    }

    /// One that is only asked about the way to a GPT.
    const fn to_gpt(id: RuleId, check: fn(&Facts<'_>) -> Vec<Answer>) -> Self {
        let to = Some(Style::Gpt);
        Self { id, to, check }
    }

    /// One that is only asked about the way to an MBR.
    const fn to_mbr(id: RuleId, check: fn(&Facts<'_>) -> Vec<Answer>) -> Self {
        let to = Some(Style::Mbr);
        Self { id, to, check }
    }

    /// Runs the rule.
    fn findings(&self, facts: &Facts<'_>) -> Vec<Finding> {
        let mut answers = (self.check)(facts);
        if answers.is_empty() {
            answers.push(Answer::pass(Subject::Disk, common::Evidence::NothingFound));
        }
        let finding = |answer: Answer| Finding {
            rule: self.id,
            outcome: answer.outcome,
            subject: answer.subject,
            evidence: answer.evidence,
            remedy: answer.remedy,
            by_policy: None,
        };
        answers.into_iter().map(finding).collect()
    }
}

/// All rules, by family.
pub(crate) static RULES: &[&[Rule]] = &[
    medium::RULES,
    table::RULES,
    room::RULES,
    volume::RULES,
    system::RULES,
    boot::RULES,
    firmware::RULES,
    back::RULES,
    backup::RULES,
];

/// All rules, in the order they are listed.
pub fn all() -> impl Iterator<Item = &'static Rule> {
    RULES.iter().flat_map(|family| family.iter())
}

/// The rule with this id.
pub fn find(id: &str) -> Option<&'static Rule> {
    all().find(|rule| rule.id.name() == id)
}

/// How seriously a workshop takes a rule's answers, where not as they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// A caution, and what could not be found out, is a block.
    Strict,
    /// A caution, and what could not be found out, is known and passes. A block stays one: what it says would
    /// cost data, or a disk that does not start.
    Known,
}

impl Severity {
    /// The word in policies.
    pub fn name(self) -> &'static str {
        match self {
            Self::Strict => "strict",
            Self::Known => "known",
        }
    }

    /// Takes a finding as seriously as this says. Its remedy stays.
    pub fn apply(self, finding: &mut Finding) {
        if !matches!(finding.outcome, Outcome::Caution | Outcome::Unknown) {
            return;
        }
        finding.by_policy = Some(ByPolicy {
            was: finding.outcome,
            severity: self,
        });
        finding.outcome = match self {
            Self::Strict => Outcome::Block,
            Self::Known => Outcome::Pass,
        };
    }
}

/// Runs all rules about the way that the disk is to go.
pub fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let is_asked = |rule: &&Rule| rule.to.is_none_or(|to| to == facts.to());
    let asked = all().filter(is_asked);
    asked.flat_map(|rule| rule.findings(facts)).collect()
}

/// The answer over all findings: the worst of them. `Unknown` does not block a conversion.
pub fn answer(findings: &[Finding]) -> Outcome {
    findings
        .iter()
        .map(|finding| finding.outcome)
        .filter(|&outcome| outcome != Outcome::Unknown)
        .max()
        .unwrap_or(Outcome::Pass)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn a_policy_changes_cautions_and_open_questions_and_no_block() {
        use Outcome::{Block, Caution, Pass, Unknown};
        for (severity, outcome, expected) in [
            (Severity::Strict, Caution, Block),
            (Severity::Strict, Unknown, Block),
            (Severity::Strict, Pass, Pass),
            (Severity::Known, Caution, Pass),
            (Severity::Known, Unknown, Pass),
            (Severity::Known, Block, Block),
        ] {
            let mut finding = Finding {
                rule: RuleId::TableMbr,
                outcome,
                subject: Subject::Disk,
                evidence: common::Evidence::NothingFound.into(),
                remedy: None,
                by_policy: None,
            };
            severity.apply(&mut finding);
            assert_eq!(finding.outcome, expected);
            let was = finding.by_policy.map(|by| by.was);
            assert_eq!(was, (outcome != expected).then_some(outcome));
        }
    }

    #[test]
    fn ids_are_unique_listed_once_and_stable() {
        let ids: Vec<RuleId> = all().map(|rule| rule.id).collect();
        assert_eq!(ids, RuleId::ALL);
        let ids: Vec<&str> = ids.iter().map(|id| id.name()).collect();
        assert_eq!(ids.iter().collect::<BTreeSet<_>>().len(), ids.len());
        for id in RuleId::ALL {
            let whole = format!("{}.{}", id.family().name(), id.name_in_family());
            assert_eq!(id.name(), whole);
        }
        let listed = "medium.whole-disk medium.writable medium.sector-size medium.readable medium.health medium.in-use medium.raid medium.job-elsewhere medium.job-lasting \
                      medium.job-writable medium.stopped-job medium.copy medium.power table.mbr table.inside table.overlap table.chain table.flags table.dynamic table.types table.count table.alignment \
                      room.primary-table room.backup-table room.smallest room.esp volume.encryption volume.readable \
                      volume.hibernation volume.clean volume.consistent volume.shadow-copies volume.matches-type system.active system.windows \
                      system.64bit system.boot-files system.registry system.letters system.several system.starts boot.start boot.store boot.default boot.entries \
                      boot.recovery boot.other-loader firmware.uefi firmware.bits firmware.csm firmware.secure-boot back.table back.fits back.types back.active \
                      back.boot-files back.firmware backup.made";
        assert_eq!(
            ids,
            listed.split_whitespace().collect::<Vec<_>>(),
            "ids are promised to scripts"
        );
    }
}
