//! The documents of `--json`. Their schemas are in `docs/schema/`, made from these types; keys stay
//! as they are.

use std::path::Path;

use schemars::JsonSchema;
use schwelle_core::crossing::Style;
use schwelle_core::device::Geometry;
use schwelle_core::draft::{self, EditedFile, MapPart};
use schwelle_core::job::bytes_needed;
use schwelle_core::placement;
use schwelle_core::rehearse::Rehearsal;
use schwelle_core::rules::Finding;
use serde::{Deserialize, Serialize};

use super::emulate::EmulatedDoc;
use super::mend::FixDoc;
use crate::disk::{Disk, Judgement, answer_name};
use crate::error::CliError;

/// `check`; for several disks one in a line each
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Check {
    pub(crate) disk: String,
    pub(crate) short_name: Option<String>,
    /// The table that was asked about: "gpt" or "mbr"
    pub(crate) to: String,
    /// "ready", "caution" or "blocked"; of several disks also "unreadable"
    pub(crate) answer: String,
    pub(crate) findings: Vec<FindingDoc>,
    /// Why the disk could not be read; null where it could
    pub(crate) unreadable: Option<String>,
}

/// A rule's answer.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct FindingDoc {
    pub(crate) rule: String,
    /// "pass", "caution", "block" or "unknown"
    pub(crate) outcome: String,
    pub(crate) subject: String,
    pub(crate) evidence: String,
    pub(crate) remedy: Option<String>,
}

pub(super) fn findings(findings: &[Finding]) -> Vec<FindingDoc> {
    let document = |finding: &Finding| FindingDoc {
        rule: finding.rule.to_owned(),
        outcome: finding.outcome.name().to_owned(),
        subject: finding.subject.clone(),
        evidence: finding.evidence.clone(),
        remedy: finding.remedy.clone(),
    };
    findings.iter().map(document).collect()
}

impl Check {
    pub(crate) fn of(disk: &Disk, judgement: &Judgement) -> Self {
        Self {
            disk: disk.path.display().to_string(),
            short_name: disk.profile.disk_name(),
            to: judgement.to().name().to_owned(),
            answer: answer_name(judgement.answer).to_owned(),
            findings: findings(&judgement.findings),
            unreadable: None,
        }
    }

    pub(crate) fn unreadable(path: &Path, to: Style, error: &CliError) -> Self {
        Self {
            disk: path.display().to_string(),
            short_name: None,
            to: to.name().to_owned(),
            answer: "unreadable".to_owned(),
            findings: Vec::new(),
            unreadable: Some(error.what.clone()),
        }
    }
}

/// `plan`. For a blocked disk there are only `answer`, `disk`, `to` and `findings`.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Plan {
    pub(crate) disk: String,
    /// The table that it makes: "gpt" or "mbr"
    pub(crate) to: String,
    /// "ready", "caution" or "blocked"
    pub(crate) answer: String,
    pub(crate) findings: Vec<FindingDoc>,
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub(crate) draft: Option<DraftDoc>,
    /// The start of the draft on real firmware; null when it was not asked for
    pub(crate) emulated: Option<EmulatedDoc>,
    /// What is mended, where the plan is to mend a GPT disk
    pub(crate) mended: Vec<FixDoc>,
}

/// The draft in a plan.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct DraftDoc {
    /// What the disk is for: "system" or "data"
    pub(crate) disk_use: String,
    pub(crate) sector_bytes: u32,
    /// Where the EFI system partition goes; null for a data disk that gets none
    pub(crate) placement: Option<PlacementDoc>,
    pub(crate) before: Vec<PartDoc>,
    pub(crate) after: Vec<PartDoc>,
    pub(crate) stages: Vec<StageDoc>,
    /// Volumes that become smaller
    pub(crate) trimmed: Vec<TrimmedDoc>,
    /// Bytes that are copied to free clusters, within the trimmed volumes
    pub(crate) bytes_moved: u64,
    /// Bytes behind the reach of an MBR (2 TiB at 512-byte sectors), usable from now on
    pub(crate) newly_usable_bytes: u64,
    /// Bytes that a conversion writes to the disk, the moved ones included. But for those, what is
    /// overwritten is saved in the job folder first
    pub(crate) bytes_written: u64,
    /// Bytes that the job folder takes, at most
    #[serde(default)]
    pub(crate) job_folder_bytes: u64,
    /// Files on kept volumes that the job edits
    pub(crate) files_edited: Vec<EditedFileDoc>,
    /// The boot menu afterwards; null for a data disk
    pub(crate) menu: Option<MenuDoc>,
    /// Files put on the EFI system partition
    pub(crate) files_added: Vec<String>,
    /// Those of them in whose place others were, on a partition that was there
    pub(crate) files_replaced: Vec<String>,
    pub(crate) rehearsal: Rehearsed,
}

/// The boot menu afterwards.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct MenuDoc {
    /// False where there was no usable store, and a new one is made
    pub(crate) carried_over: bool,
    /// Titles in order
    pub(crate) entries: Vec<String>,
    /// Title of the entry that starts when nobody chooses
    pub(crate) default: Option<String>,
    /// Titles of entries that only a BIOS can start, taken out of the menu
    pub(crate) taken_out: Vec<String>,
}

impl MenuDoc {
    fn of(start: &draft::NewStart) -> Self {
        let translated = start.translated.as_ref();
        let menu = start.store.menu();
        Self {
            carried_over: translated.is_some(),
            entries: menu.iter().map(|entry| entry.title()).collect(),
            default: start.store.default_entry().map(|entry| entry.title()),
            taken_out: translated.map_or_else(Vec::new, |done| done.dropped.clone()),
        }
    }
}

/// A file on a kept volume that the job edits.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct EditedFileDoc {
    /// Number of its partition
    pub(crate) partition: usize,
    /// Its path there
    pub(crate) path: String,
    /// What is changed in it
    pub(crate) changes: Vec<String>,
}

impl EditedFileDoc {
    fn of(file: &EditedFile) -> Self {
        Self {
            partition: file.partition,
            path: file.path.clone(),
            changes: file.changes.clone(),
        }
    }
}

/// Where the EFI system partition goes.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct PlacementDoc {
    /// "gap", "trim", "takeover", "existing" or "formatted" (`mend`: it is there, and gets a new file system)
    pub(crate) kind: String,
    pub(crate) first_lba: u64,
    pub(crate) last_lba: u64,
    pub(crate) size_bytes: u64,
    /// The partition that it is taken from, or that it is already; null for a gap
    pub(crate) taken_from: Option<usize>,
    /// Every place that was looked at
    pub(crate) considered: Vec<ConsideredDoc>,
}

/// A place for the EFI system partition that was looked at.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct ConsideredDoc {
    pub(crate) place: String,
    /// What it would give and cost, or why it does not serve
    pub(crate) verdict: String,
    pub(crate) chosen: bool,
}

fn considered(place: &placement::Considered) -> ConsideredDoc {
    ConsideredDoc {
        place: place.place.clone(),
        verdict: place.verdict.clone(),
        chosen: place.chosen,
    }
}

/// A volume that becomes smaller.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct TrimmedDoc {
    /// Number of its partition
    pub(crate) partition: usize,
    pub(crate) last_lba_before: u64,
    pub(crate) last_lba_after: u64,
    /// Files, index blocks and other streams of which something moves
    pub(crate) pieces: u64,
}

fn trimmed(disk: &Disk, trim: &placement::Trimming) -> TrimmedDoc {
    let before = disk.profile.partition(trim.number);
    let before = before.map_or(trim.after, |partition| partition.extent);
    TrimmedDoc {
        partition: trim.number,
        last_lba_before: before.last().0,
        last_lba_after: trim.after.last().0,
        pieces: trim.plan.pieces,
    }
}

/// A partition, or an unused stretch.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct PartDoc {
    /// Number in the table; null for an unused stretch
    pub(crate) number: Option<usize>,
    pub(crate) first_lba: u64,
    pub(crate) last_lba: u64,
    #[serde(rename = "type")]
    pub(crate) kind: String,
    /// "boot", "Windows", "EFI system", "recovery", "reserved", "data"; null for an unused stretch
    pub(crate) role: Option<String>,
    pub(crate) label: String,
    pub(crate) active: bool,
    /// GPT attribute bits, in hex
    pub(crate) attributes: String,
    /// "kept", "smaller", "filled" (gets more files), "formatted" (gets a new file system), "retyped" or "new"
    pub(crate) change: String,
}

/// A stage of the commit.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct StageDoc {
    /// "move", "trim", "fill", "prepare", "commit", "takeover", "clear" or "settle"
    pub(crate) stage: String,
    pub(crate) bytes: u64,
    pub(crate) parts: Vec<StagePartDoc>,
}

/// What a stage writes for one purpose.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct StagePartDoc {
    pub(crate) what: String,
    pub(crate) extents: Vec<ExtentDoc>,
}

/// A range of sectors.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct ExtentDoc {
    pub(crate) first_lba: u64,
    pub(crate) last_lba: u64,
}

fn parts(parts: &[MapPart]) -> Vec<PartDoc> {
    let document = |part: &MapPart| PartDoc {
        number: part.number,
        first_lba: part.extent.first.0,
        last_lba: part.extent.last().0,
        kind: part.kind.clone(),
        role: part.role.map(|role| role.name().to_owned()),
        label: part.label.clone(),
        active: part.active,
        attributes: format!("{:016x}", part.attributes),
        change: part.change.name().to_owned(),
    };
    parts.iter().map(document).collect()
}

fn stages(plan: &draft::Plan<'_>, geometry: Geometry) -> Vec<StageDoc> {
    let extent = |extent: &schwelle_core::device::Extent| ExtentDoc {
        first_lba: extent.first.0,
        last_lba: extent.last().0,
    };
    let part = |part: &schwelle_core::commit::Part| StagePartDoc {
        what: part.what.clone(),
        extents: part.extents.iter().map(extent).collect(),
    };
    let stage = |stage: &schwelle_core::commit::Stage| StageDoc {
        stage: stage.kind.name().to_owned(),
        bytes: stage.bytes(geometry),
        parts: stage.parts.iter().map(part).collect(),
    };
    plan.changes.stages.iter().map(stage).collect()
}

impl Plan {
    pub(crate) fn blocked(disk: &Disk, judgement: &Judgement) -> Self {
        Self {
            disk: disk.path.display().to_string(),
            to: judgement.to().name().to_owned(),
            answer: answer_name(judgement.answer).to_owned(),
            findings: findings(&judgement.findings),
            draft: None,
            emulated: None,
            mended: Vec::new(),
        }
    }

    pub(crate) fn of(
        disk: &Disk,
        judgement: &Judgement,
        plan: &draft::Plan<'_>,
        rehearsal: &Rehearsal,
    ) -> Self {
        let geometry = disk.profile.geometry;
        let of_start = |files: fn(&draft::NewStart) -> &Vec<String>| {
            plan.start.iter().flat_map(files).cloned().collect()
        };
        let draft = DraftDoc {
            sector_bytes: geometry.logical_sector,
            disk_use: plan.placement.disk_use.name().to_owned(),
            placement: plan.placement.esp.map(|esp| PlacementDoc {
                kind: esp.from.name().to_owned(),
                first_lba: esp.extent.first.0,
                last_lba: esp.extent.last().0,
                size_bytes: geometry.bytes_in(&esp.extent),
                taken_from: esp.from.partition(),
                considered: plan.placement.considered.iter().map(considered).collect(),
            }),
            trimmed: plan
                .placement
                .trims
                .iter()
                .map(|t| trimmed(disk, t))
                .collect(),
            bytes_moved: plan.changes.moved_bytes(),
            newly_usable_bytes: plan.newly_usable_bytes(),
            before: parts(&plan.before),
            after: parts(&plan.after),
            stages: stages(plan, geometry),
            bytes_written: plan.changes.bytes(),
            job_folder_bytes: bytes_needed(&plan.changes, 0),
            files_edited: plan.files_edited.iter().map(EditedFileDoc::of).collect(),
            menu: plan.start.as_ref().map(MenuDoc::of),
            files_added: of_start(|start| &start.files),
            files_replaced: of_start(|start| &start.replaced),
            rehearsal: Rehearsed::of(rehearsal),
        };
        Self {
            draft: Some(draft),
            emulated: None,
            ..Self::blocked(disk, judgement)
        }
    }
}

/// `rehearse`
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Rehearsed {
    /// The table that the disk should have, and with it the mode of the start: "gpt" (UEFI) or "mbr" (BIOS)
    pub(crate) to: String,
    /// What the disk is for: "system" or "data"
    pub(crate) disk_use: String,
    /// The walk reached what the disk is for: the system's kernel, or all volumes of a data disk
    pub(crate) passed: bool,
    /// By the walk; false for a data disk
    pub(crate) starts: bool,
    /// Steps in order, up to the first that failed
    pub(crate) steps: Vec<StepDoc>,
    /// The start on real firmware; null when it was not asked for
    pub(crate) emulated: Option<EmulatedDoc>,
}

/// A step of the walk.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct StepDoc {
    pub(crate) step: String,
    /// "pass"; "caution": it starts all the same; or "fail"
    pub(crate) outcome: String,
    pub(crate) evidence: String,
    pub(crate) remedy: Option<String>,
}

impl Rehearsed {
    pub(crate) fn of(rehearsal: &Rehearsal) -> Self {
        let step = |step: &schwelle_core::rehearse::Step| StepDoc {
            step: step.id.name().to_owned(),
            outcome: step.outcome.name().to_owned(),
            evidence: step.evidence.clone(),
            remedy: step.remedy.clone(),
        };
        Self {
            to: rehearsal.style.name().to_owned(),
            disk_use: rehearsal.disk_use.name().to_owned(),
            passed: rehearsal.passed(),
            starts: rehearsal.starts(),
            steps: rehearsal.steps.iter().map(step).collect(),
            emulated: None,
        }
    }
}

/// `convert`
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Converted {
    /// "converted"; "blocked" by a rule; "not-started" where the draft failed its rehearsal, or real
    /// firmware did not start it, and nothing was written
    pub(crate) answer: String,
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
    pub(crate) fn blocked(judgement: &Judgement) -> Self {
        Self {
            answer: "blocked".to_owned(),
            job: None,
            rehearsal: None,
            findings: findings(&judgement.findings),
            emulated: None,
        }
    }

    pub(crate) fn not_started(rehearsal: &Rehearsal, emulated: Option<EmulatedDoc>) -> Self {
        Self {
            answer: "not-started".to_owned(),
            job: None,
            rehearsal: Some(Rehearsed::of(rehearsal)),
            findings: Vec::new(),
            emulated,
        }
    }

    pub(crate) fn of(job: &Path, rehearsal: &Rehearsal, emulated: Option<EmulatedDoc>) -> Self {
        Self {
            answer: "converted".to_owned(),
            job: Some(job.display().to_string()),
            rehearsal: Some(Rehearsed::of(rehearsal)),
            findings: Vec::new(),
            emulated,
        }
    }
}

/// `resume` and `undo`
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Recovered {
    /// "converted" or "mended" (`resume`), "undone" (`undo`)
    pub(crate) answer: String,
    /// The disk that was found
    pub(crate) disk: String,
    pub(crate) job: String,
    /// `undo`: every sector that matters is as it was. False where a trimmed volume had been used
    /// since and stays smaller
    pub(crate) exact: Option<bool>,
    /// `resume`: the rehearsal of the disk
    pub(crate) rehearsal: Option<Rehearsed>,
}

impl Recovered {
    pub(crate) fn resumed(disk: &Path, job: &Path, done: &str, rehearsal: &Rehearsal) -> Self {
        Self {
            answer: done.to_owned(),
            disk: disk.display().to_string(),
            job: job.display().to_string(),
            exact: None,
            rehearsal: Some(Rehearsed::of(rehearsal)),
        }
    }

    pub(crate) fn undone(disk: &Path, job: &Path, exact: bool) -> Self {
        Self {
            answer: "undone".to_owned(),
            disk: disk.display().to_string(),
            job: job.display().to_string(),
            exact: Some(exact),
            rehearsal: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use crate::views;

    /// The schemas in `docs/schema/` are made from the types. To renew them: `SCHWELLE_RENEW=1
    /// cargo test`.
    #[test]
    fn schemas_in_docs_are_those_of_the_types() {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/schema");
        for (name, schema) in [
            ("survey", schemars::schema_for!(views::survey::Surveyed)),
            ("check", schemars::schema_for!(super::Check)),
            ("rules", schemars::schema_for!(views::rules::Rules)),
            ("plan", schemars::schema_for!(super::Plan)),
            ("rehearse", schemars::schema_for!(super::Rehearsed)),
            ("mend", schemars::schema_for!(views::mend::Mended)),
            ("confirm", schemars::schema_for!(views::confirm::Confirmed)),
            ("firmware", schemars::schema_for!(views::firmware::Firmware)),
            (
                "firmware-set",
                schemars::schema_for!(views::firmware::SettingsDoc),
            ),
            (
                "firmware-start",
                schemars::schema_for!(views::firmware::Started),
            ),
            (
                "firmware-entry",
                schemars::schema_for!(views::firmware::EntryWritten),
            ),
            (
                "firmware-setup",
                schemars::schema_for!(views::firmware::SetupAsked),
            ),
            ("firmware-sheet", schemars::schema_for!(views::sheet::Sheet)),
            ("convert", schemars::schema_for!(super::Converted)),
            ("recover", schemars::schema_for!(super::Recovered)),
            ("job", schemars::schema_for!(views::job::JobRecord)),
            ("outcome", schemars::schema_for!(views::job::Outcome)),
            ("report", schemars::schema_for!(views::report::Report)),
        ] {
            let path = format!("{folder}/{name}.json");
            let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
            if std::env::var_os("SCHWELLE_RENEW").is_some() {
                fs::create_dir_all(folder).unwrap();
                fs::write(&path, &text).unwrap();
            }
            let known = fs::read_to_string(&path).unwrap_or_default();
            assert!(known == text, "{path} is out of date: SCHWELLE_RENEW=1");
        }
    }
}
