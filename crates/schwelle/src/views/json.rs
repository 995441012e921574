//! The documents of `--json`. Their schemas are in `docs/schema/`, made from these types; keys stay
//! as they are.

use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::commit::{Purpose, StageKind};
use schwelle_core::device::{Extent, Geometry};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::{self, Change, Edit, EditedFile, MapPart, WhyNotUpdated};
use schwelle_core::identities::Style;
use schwelle_core::job::bytes_needed;
use schwelle_core::overview::{DiskAnswer, Overview};
use schwelle_core::placement::{self, EspKind, Place, PlaceVerdict};
use schwelle_core::profile::Role;
use schwelle_core::rehearse::{Answer, Rehearsal};
use schwelle_core::starts::SectorZero;
use schwelle_core::switch::ByBootOrder;
use serde::{Deserialize, Serialize};

use super::emulate::EmulatedDoc;
use super::starts::{LinuxDoc, SystemStartDoc, boot_code, starts};
use super::worded::{FindingDoc, FixDoc, StepDoc, Worded};
use crate::disk::Disk;
use crate::error::CliError;
use crate::words;
use schwelle_core::pipeline::Judged;

/// `check`: one in a line for each disk
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Check {
    pub(crate) disk: String,
    pub(crate) disk_name: Option<String>,
    /// The table that was asked about
    pub(crate) to: Style,
    pub(crate) answer: DiskAnswer,
    /// Why, where it is not what the rules say of a conversion; else empty
    pub(crate) reason: String,
    /// The step of the rehearsal that decides, where a GPT disk does not start everywhere
    pub(crate) step: Option<StepDoc>,
    /// False where a rule blocks: the exit code is then 1, whatever the answer is
    pub(crate) convertible: bool,
    pub(crate) findings: Vec<FindingDoc>,
    /// The boot code in sector 0 of an MBR disk that is to start in UEFI mode; else null
    pub(crate) boot_code: Option<Worded<SectorZero>>,
    /// The systems on such a disk; else empty
    pub(crate) starts: Vec<SystemStartDoc>,
    /// Why the disk could not be read; null where it could
    pub(crate) unreadable: Option<String>,
}

pub(super) fn findings(disk: &Disk, judged: &Judged<'_, '_>) -> Vec<FindingDoc> {
    let findings = judged.findings().iter();
    findings
        .map(|finding| FindingDoc::of(disk, finding))
        .collect()
}

impl Check {
    pub(crate) fn of(disk: &Disk, judged: &Judged<'_, '_>) -> Self {
        let overview = Overview::of(judged);
        Self {
            disk: disk.path.display().to_string(),
            disk_name: disk.profile.disk_name(),
            to: judged.to(),
            answer: overview.answer,
            reason: words::overview::reason(&overview, disk.profile.table_style()),
            step: overview.step.map(|step| StepDoc::of(disk, &step)),
            convertible: !judged.is_blocked(),
            findings: findings(disk, judged),
            boot_code: boot_code(judged),
            starts: starts(judged),
            unreadable: None,
        }
    }

    pub(crate) fn unreadable(path: &Path, to: Style, error: &CliError) -> Self {
        Self {
            disk: path.display().to_string(),
            disk_name: None,
            to,
            answer: DiskAnswer::Unreadable,
            reason: String::new(),
            step: None,
            convertible: false,
            findings: Vec::new(),
            boot_code: None,
            starts: Vec::new(),
            unreadable: Some(error.what.clone()),
        }
    }
}

/// `plan`. For a blocked disk there are only `answer`, `disk`, `to`, `findings`, `boot_code` and `starts`.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Plan {
    pub(crate) disk: String,
    /// The table that it makes
    pub(crate) to: Style,
    pub(crate) answer: DiskAnswer,
    pub(crate) findings: Vec<FindingDoc>,
    /// The boot code in sector 0 of an MBR disk that is to start in UEFI mode; else null
    pub(crate) boot_code: Option<Worded<SectorZero>>,
    /// The systems on such a disk; else empty
    pub(crate) starts: Vec<SystemStartDoc>,
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub(crate) draft: Option<DraftDoc>,
    /// The start of the draft on real firmware; null when it was not asked for
    pub(crate) emulated: Option<EmulatedDoc>,
    /// What is mended, where the plan is to mend a GPT disk
    pub(crate) mended: Vec<FixDoc>,
}

/// The draft in a plan.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct DraftDoc {
    /// What the disk is for
    pub(crate) disk_use: DiskUse,
    pub(crate) sector_bytes: u32,
    /// Where the EFI system partition goes; null for a data disk that gets none
    pub(crate) placement: Option<PlacementDoc>,
    pub(crate) before: Vec<PartDoc>,
    pub(crate) after: Vec<PartDoc>,
    pub(crate) stages: Vec<StageDoc>,
    /// Volumes that are shrunk
    pub(crate) shrunk: Vec<ShrunkDoc>,
    /// Bytes that are copied to free clusters, within the shrunk volumes
    pub(crate) bytes_moved: u64,
    /// Bytes beyond the reach of an MBR (2 TiB at 512-byte sectors), usable from now on
    pub(crate) newly_usable_bytes: u64,
    /// Bytes that a conversion writes to the disk, the moved ones included. But for those, what is
    /// overwritten is saved in the job folder first
    pub(crate) bytes_written: u64,
    /// Bytes that the job folder takes, at most
    pub(crate) job_folder_bytes: u64,
    /// Files on kept volumes that the job edits
    pub(crate) files_edited: Vec<EditedFileDoc>,
    /// The boot menu of Windows afterwards; null where no Windows starts
    pub(crate) menu: Option<MenuDoc>,
    /// The Linux systems that get boot loaders on the EFI system partition
    pub(crate) linux: Vec<LinuxDoc>,
    /// Files put on the EFI system partition
    pub(crate) files_added: Vec<String>,
    /// Those of them in whose place others were, on a partition that was there
    pub(crate) files_replaced: Vec<String>,
    pub(crate) rehearsal: Rehearsed,
}

/// The boot menu afterwards.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct MenuDoc {
    /// False where there was no usable store, and a new one is made
    pub(crate) carried_over: bool,
    /// Titles in order
    pub(crate) entries: Vec<String>,
    /// Title of the entry that starts by default
    pub(crate) default: Option<String>,
    /// Titles of entries that only a BIOS can start, taken out of the menu
    pub(crate) taken_out: Vec<String>,
}

impl MenuDoc {
    fn of(start: &draft::NewStart) -> Option<Self> {
        let translated = start.translated.as_ref();
        let store = start.store.as_ref()?;
        let menu = store.menu();
        Some(Self {
            carried_over: translated.is_some(),
            entries: menu.iter().map(|entry| entry.title()).collect(),
            default: store.default_entry().map(|entry| entry.title()),
            taken_out: translated.map_or_else(Vec::new, |done| done.dropped.clone()),
        })
    }
}

/// A file on a kept volume that the job edits.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct EditedFileDoc {
    /// Number of its partition
    pub(crate) partition: usize,
    /// Its path there
    pub(crate) path: String,
    /// What is changed in it
    pub(crate) changes: Vec<Worded<Edit>>,
}

impl EditedFileDoc {
    pub(super) fn of(file: &EditedFile) -> Self {
        Self {
            partition: file.partition,
            path: file.path.clone(),
            changes: file
                .changes
                .iter()
                .map(|edit| Worded::of(edit.clone(), words::plan::edit))
                .collect(),
        }
    }
}

/// Where the EFI system partition goes.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct PlacementDoc {
    /// How it gets its room; "formatted" (`mend`): it is there, and gets a new file system
    pub(crate) kind: EspKind,
    pub(crate) first_lba: u64,
    pub(crate) last_lba: u64,
    pub(crate) size_bytes: u64,
    /// The partition that it is taken from, or that it is already; null for a gap
    pub(crate) taken_from: Option<usize>,
    /// Every place that was looked at
    pub(crate) considered: Vec<ConsideredDoc>,
}

/// A place for the EFI system partition that was looked at.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct ConsideredDoc {
    pub(crate) place: Worded<Place>,
    /// What it would give and cost, or why it does not serve
    pub(crate) verdict: Worded<PlaceVerdict>,
    pub(crate) chosen: bool,
}

fn considered(place: &placement::Considered) -> ConsideredDoc {
    ConsideredDoc {
        place: Worded::of(place.place, |place| words::places::place(*place)),
        verdict: Worded::of(place.verdict.clone(), words::places::verdict),
        chosen: place.chosen,
    }
}

/// A volume that is shrunk.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct ShrunkDoc {
    /// Number of its partition
    pub(crate) partition: usize,
    pub(crate) last_lba_before: u64,
    pub(crate) last_lba_after: u64,
    /// Files, index blocks and other streams of which something moves
    pub(crate) pieces: u64,
}

fn shrunk(disk: &Disk, shrink: &placement::Shrinking) -> ShrunkDoc {
    let before = disk.profile.partition(shrink.number);
    let before = before.map_or(shrink.after, |partition| partition.extent);
    ShrunkDoc {
        partition: shrink.number,
        last_lba_before: before.last().0,
        last_lba_after: shrink.after.last().0,
        pieces: shrink.plan.pieces,
    }
}

/// A partition, or an unused stretch.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct PartDoc {
    /// Number in the table; null for an unused stretch
    pub(crate) number: Option<usize>,
    pub(crate) first_lba: u64,
    pub(crate) last_lba: u64,
    #[serde(rename = "type")]
    pub(crate) kind: String,
    /// Null for an unused stretch
    pub(crate) role: Option<Role>,
    pub(crate) label: String,
    pub(crate) active: bool,
    /// GPT attribute bits, in hex
    pub(crate) attributes: String,
    /// "filled" gets more files, "formatted" a new file system
    pub(crate) change: Change,
}

/// A stage of the commit.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct StageDoc {
    pub(crate) stage: StageKind,
    pub(crate) bytes: u64,
    pub(crate) parts: Vec<StagePartDoc>,
}

/// What a stage writes for one purpose.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct StagePartDoc {
    pub(crate) what: Worded<Purpose>,
    pub(crate) extents: Vec<Extent>,
}

fn parts(parts: &[MapPart]) -> Vec<PartDoc> {
    let document = |part: &MapPart| PartDoc {
        number: part.number,
        first_lba: part.extent.first.0,
        last_lba: part.extent.last().0,
        kind: part.kind.clone(),
        role: part.role,
        label: part.label.clone(),
        active: part.active,
        attributes: format!("{:016x}", part.attributes),
        change: part.change,
    };
    parts.iter().map(document).collect()
}

fn stages(plan: &draft::Plan<'_>, geometry: Geometry) -> Vec<StageDoc> {
    let part = |part: &schwelle_core::commit::Part| StagePartDoc {
        what: Worded::of(part.what.clone(), Purpose::to_string),
        extents: part.extents.clone(),
    };
    let stage = |stage: &schwelle_core::commit::Stage| StageDoc {
        stage: stage.kind,
        bytes: stage.bytes(geometry),
        parts: stage.parts.iter().map(part).collect(),
    };
    plan.changes.stages.iter().map(stage).collect()
}

impl Plan {
    pub(crate) fn blocked(disk: &Disk, judged: &Judged<'_, '_>) -> Self {
        Self {
            disk: disk.path.display().to_string(),
            to: judged.to(),
            answer: DiskAnswer::of_rules(judged.answer()),
            findings: findings(disk, judged),
            boot_code: boot_code(judged),
            starts: starts(judged),
            draft: None,
            emulated: None,
            mended: Vec::new(),
        }
    }

    pub(crate) fn of(
        disk: &Disk,
        judged: &Judged<'_, '_>,
        plan: &draft::Plan<'_>,
        rehearsal: &Rehearsal,
    ) -> Self {
        let geometry = disk.profile.geometry;
        let of_start = |files: fn(&draft::NewStart) -> &Vec<String>| {
            plan.start.iter().flat_map(files).cloned().collect()
        };
        let draft = DraftDoc {
            sector_bytes: geometry.logical_sector,
            disk_use: plan.placement.disk_use,
            placement: plan.placement.esp.map(|esp| PlacementDoc {
                kind: esp.from.kind(),
                first_lba: esp.extent.first.0,
                last_lba: esp.extent.last().0,
                size_bytes: geometry.bytes_in(&esp.extent),
                taken_from: esp.from.partition(),
                considered: plan.placement.considered.iter().map(considered).collect(),
            }),
            shrunk: plan
                .placement
                .shrinks
                .iter()
                .map(|t| shrunk(disk, t))
                .collect(),
            bytes_moved: plan.changes.moved_bytes(),
            newly_usable_bytes: plan.newly_usable_bytes(),
            before: parts(&plan.before),
            after: parts(&plan.after),
            stages: stages(plan, geometry),
            bytes_written: plan.changes.bytes(),
            job_folder_bytes: bytes_needed(&plan.changes, 0),
            files_edited: plan.files_edited.iter().map(EditedFileDoc::of).collect(),
            menu: plan.start.as_ref().and_then(MenuDoc::of),
            linux: plan.start.iter().flat_map(LinuxDoc::of).collect(),
            files_added: of_start(|start| &start.files),
            files_replaced: of_start(|start| &start.replaced),
            rehearsal: Rehearsed::of(disk, rehearsal),
        };
        Self {
            draft: Some(draft),
            emulated: None,
            ..Self::blocked(disk, judged)
        }
    }
}

/// `rehearse`
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Rehearsed {
    /// The table that the disk should have, and with it the mode of the start: "gpt" (UEFI) or "mbr" (BIOS)
    pub(crate) to: Style,
    /// What the disk is for
    pub(crate) disk_use: DiskUse,
    /// What the walk says; of a data disk, "starts" means that all its volumes are sound
    pub(crate) answer: Answer,
    /// The answer is "starts": all of the way to what the disk is for holds
    pub(crate) passed: bool,
    /// The same of a system disk; false for a data disk
    pub(crate) starts: bool,
    /// Steps in order, up to the first that failed
    pub(crate) steps: Vec<StepDoc>,
    /// What the PC's boot order starts from this disk; null where the order is not known or leads elsewhere
    pub(crate) by_boot_order: Option<ByBootOrderDoc>,
    /// The start on real firmware; null when it was not asked for
    pub(crate) emulated: Option<EmulatedDoc>,
}

/// The walk from the loader that the PC's boot order names.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct ByBootOrderDoc {
    /// Number of the boot entry
    pub(crate) entry: u16,
    /// Name of the boot entry
    pub(crate) name: String,
    /// Path of the loader on the EFI system partition
    pub(crate) path: String,
    /// What the walk says
    pub(crate) answer: Answer,
    /// Steps in order, up to the first that failed
    pub(crate) steps: Vec<StepDoc>,
}

impl ByBootOrderDoc {
    pub(crate) fn of(disk: &Disk, by_order: &ByBootOrder) -> Self {
        let steps = by_order.rehearsal.steps.iter();
        Self {
            entry: by_order.number,
            name: by_order.name.clone(),
            path: by_order.path.clone(),
            answer: by_order.rehearsal.answer(),
            steps: steps.map(|step| StepDoc::of(disk, step)).collect(),
        }
    }
}

impl Rehearsed {
    pub(crate) fn of(disk: &Disk, rehearsal: &Rehearsal) -> Self {
        let steps = rehearsal.steps.iter();
        Self {
            to: rehearsal.style,
            disk_use: rehearsal.disk_use,
            answer: rehearsal.answer(),
            passed: rehearsal.passed(),
            starts: rehearsal.starts(),
            steps: steps.map(|step| StepDoc::of(disk, step)).collect(),
            by_boot_order: None,
            emulated: None,
        }
    }
}

/// How a conversion ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum ConvertAnswer {
    Converted,
    /// By a rule
    Blocked,
    /// The draft failed its rehearsal, or real firmware did not start it; nothing was written
    NotStarted,
}

/// `convert`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Converted {
    pub(crate) answer: ConvertAnswer,
    /// The job folder; null when nothing was written
    pub(crate) job: Option<String>,
    /// The rehearsal of the real disk, or of the draft that failed; null when a rule blocked
    pub(crate) rehearsal: Option<Rehearsed>,
    /// All findings, when a rule blocked
    pub(crate) findings: Vec<FindingDoc>,
    /// The start of the draft on real firmware; null when it was not asked for
    pub(crate) emulated: Option<EmulatedDoc>,
}

impl Converted {
    pub(crate) fn blocked(disk: &Disk, judged: &Judged<'_, '_>) -> Self {
        Self {
            answer: ConvertAnswer::Blocked,
            job: None,
            rehearsal: None,
            findings: findings(disk, judged),
            emulated: None,
        }
    }

    pub(crate) fn not_started(
        disk: &Disk,
        rehearsal: &Rehearsal,
        emulated: Option<EmulatedDoc>,
    ) -> Self {
        Self {
            answer: ConvertAnswer::NotStarted,
            job: None,
            rehearsal: Some(Rehearsed::of(disk, rehearsal)),
            findings: Vec::new(),
            emulated,
        }
    }

    pub(crate) fn of(
        disk: &Disk,
        job: &Path,
        rehearsal: &Rehearsal,
        emulated: Option<EmulatedDoc>,
    ) -> Self {
        Self {
            answer: ConvertAnswer::Converted,
            job: Some(job.display().to_string()),
            rehearsal: Some(Rehearsed::of(disk, rehearsal)),
            findings: Vec::new(),
            emulated,
        }
    }
}

/// A system whose files keep the names that partitions had in the table that is gone.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct NotRestoredNames {
    /// Number of its partition, as the disk was before
    pub(crate) partition: usize,
    /// Why
    pub(crate) why: Worded<WhyNotUpdated>,
}
