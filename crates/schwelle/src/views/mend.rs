//! The view of `mend`, and its document.

use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::Plan;
use schwelle_core::mend::Fix;
use schwelle_core::rehearse::Rehearsal;
use serde::Serialize;

use super::common::{answer, head, paragraph};
use super::json::{self, Rehearsed};
use super::plan;
use super::worded::{FindingDoc, FixDoc, Worded};
use crate::disk::Disk;
use crate::screen::{Look, Tone, toned};
use crate::text::pad;
use crate::words;
use schwelle_core::pipeline::{Judged, MendedDraft};

/// The whole view of a plan.
pub(crate) fn render(disk: &Disk, mended: &MendedDraft<'_, '_>, look: Look) -> String {
    const INDENT: usize = 19;
    let mut text = head(disk);
    text += &format!("\n{}\n", toned(Tone::Heading, "What is fixed"));
    for fix in &mended.fixes {
        let step = toned(Tone::Careful, &pad(fix.step.name(), 16));
        let what = words::mend::fix(&fix.what);
        let what = paragraph("", &what, INDENT, look.columns);
        text += &format!("  {step} {}", what.trim_start());
    }
    let (judged, drafted) = (&mended.judged, &mended.rehearsed);
    text + &plan::body(disk, judged, drafted.plan(), drafted.rehearsal(), look)
}

/// The last line of a plan that is only shown.
pub(crate) fn verdict(disk: &Disk, rehearsal: &Rehearsal) -> String {
    let (good, option) = match rehearsal.disk_use {
        DiskUse::System => ("Mended, it starts", ""),
        DiskUse::Data => ("Mended, it is sound", " --data-disk"),
    };
    let command = disk.next("mend");
    let next = format!("Nothing has been written. Next: {command}{option} --job DIR");
    answer(Tone::Good, good, &next)
}

/// The view of a disk on which nothing fails.
pub(crate) fn nothing(disk: &Disk, disk_use: DiskUse) -> String {
    let next = match disk_use {
        DiskUse::System => format!(
            "All steps hold. If the PC does not start from it, look at its firmware: {}",
            disk.next("firmware sheet")
        ),
        DiskUse::Data => "Both copies of the table agree, and all volumes can be read.".to_owned(),
    };
    head(disk) + &answer(Tone::Good, "Nothing to mend", &next)
}

/// The last lines.
pub(crate) fn done(disk: &Disk, job: &Path, plan: &Plan<'_>, rehearsal: &Rehearsal) -> String {
    plan::done("Mended", disk, job, plan, rehearsal)
}

/// How it ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum MendAnswer {
    Mended,
    /// No job folder was named
    Planned,
    NothingToMend,
    /// By a rule
    Blocked,
}

/// `mend`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Mended {
    pub(crate) answer: MendAnswer,
    /// What is mended
    pub(crate) fixes: Vec<FixDoc>,
    /// The plan, where nothing was written
    pub(crate) plan: Option<json::Plan>,
    /// The job folder; null when nothing was written
    pub(crate) job: Option<String>,
    /// The rehearsal of the mended disk; null when nothing was written
    pub(crate) rehearsal: Option<Rehearsed>,
    /// All findings, when a rule blocked
    pub(crate) findings: Vec<FindingDoc>,
}

/// The same in JSON.
pub(crate) fn fixes(fixes: &[Fix]) -> Vec<FixDoc> {
    let document = |fix: &Fix| FixDoc {
        step: fix.step,
        what: Worded::of(fix.what.clone(), words::mend::fix),
    };
    fixes.iter().map(document).collect()
}

impl Mended {
    fn new(answer: MendAnswer) -> Self {
        Self {
            answer,
            fixes: Vec::new(),
            plan: None,
            job: None,
            rehearsal: None,
            findings: Vec::new(),
        }
    }

    pub(crate) fn nothing() -> Self {
        Self::new(MendAnswer::NothingToMend)
    }

    pub(crate) fn blocked(disk: &Disk, judged: &Judged<'_, '_>) -> Self {
        Self {
            findings: json::findings(disk, judged),
            ..Self::new(MendAnswer::Blocked)
        }
    }

    pub(crate) fn planned(plan: json::Plan) -> Self {
        Self {
            fixes: plan.mended.clone(),
            plan: Some(plan),
            ..Self::new(MendAnswer::Planned)
        }
    }

    pub(crate) fn done(disk: &Disk, mended: &[Fix], job: &Path, rehearsal: &Rehearsal) -> Self {
        Self {
            fixes: fixes(mended),
            job: Some(job.display().to_string()),
            rehearsal: Some(Rehearsed::of(disk, rehearsal)),
            ..Self::new(MendAnswer::Mended)
        }
    }
}
