//! The hand-over record of a job: as a page, and as a document.
//!
//! Everything in it comes from the job folder, so that it can be made when the disk is long back in its PC.

mod page;
mod share;

use std::io;
use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::commit::{Purpose, StageKind};
use schwelle_core::confirm::Reason;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::job::{JobEnd, JobError, JobFolder, JobState, JournalExtent};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::common::{answer, paragraph};
use super::job::{
    CONFIRMATION, DiskDoc, JobRecord, KeptConfirmation, OUTCOME, Outcome, PcFactDoc, RECORD,
};
use super::json::{Plan, Rehearsed};
use super::sheet::Sheet;
use super::worded::{FindingDoc, StepDoc, Worded};
use crate::document;
use crate::emulate::KEPT;
use crate::screen::{Tone, toned};
use crate::text::{safe, typed};
use crate::words;

pub(crate) use page::html;
pub(crate) use share::shared;

/// Lines of the log that are shown, at most.
const MAX_LOG_LINES: usize = 500;
/// A larger picture of a screen is none.
const MAX_PICTURE_BYTES: u64 = 8 << 20;

/// How a job ended, or that it has not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum JobAnswer {
    Converted,
    Mended,
    Undone,
    /// Half-way
    Stopped,
    NotBegun,
}

impl JobAnswer {
    fn of(end: JobEnd) -> Self {
        match end {
            JobEnd::Converted => Self::Converted,
            JobEnd::Mended => Self::Mended,
            JobEnd::Undone => Self::Undone,
        }
    }
}

/// `report`
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Report {
    pub(crate) made_by: String,
    /// RFC 3339
    pub(crate) made: String,
    /// The workshop's name
    pub(crate) shop: Option<String>,
    /// Names, labels, serial numbers and file names are replaced
    pub(crate) shared: bool,
    /// How the job ended
    pub(crate) answer: JobAnswer,
    /// The job folder
    pub(crate) job: String,
    /// RFC 3339
    pub(crate) started: String,
    /// RFC 3339; null where it has not ended
    pub(crate) finished: Option<String>,
    /// Who confirmed the disk and the backup: "the technician" or "--yes"
    pub(crate) answered_by: String,
    /// What the policy had asked beside, each answered with yes
    pub(crate) questions: Vec<String>,
    pub(crate) disk: String,
    pub(crate) serial: Option<String>,
    pub(crate) disk_facts: DiskDoc,
    pub(crate) pc: Vec<PcFactDoc>,
    /// What was planned: findings, the disk before and after, stages, edited files, the draft's rehearsal
    pub(crate) plan: Plan,
    /// The rehearsal of the finished disk
    pub(crate) rehearsal: Option<Rehearsed>,
    pub(crate) sheet: Option<Sheet>,
    /// What `confirm --job` said last
    pub(crate) confirmation: Option<KeptConfirmation>,
    /// `undo`: every sector that matters is as it was
    pub(crate) exact: Option<bool>,
    /// Every extent that the job writes, with hashes of what was there and what comes there
    pub(crate) written: Vec<WrittenDoc>,
    /// Hashes of the files that `undo` needs
    pub(crate) checksums: Vec<ChecksumDoc>,
    /// What happened, with times
    pub(crate) log: Vec<String>,
}

/// An extent that the job writes.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct WrittenDoc {
    pub(crate) stage: StageKind,
    pub(crate) what: Worded<Purpose>,
    pub(crate) first_lba: u64,
    pub(crate) last_lba: u64,
    /// BLAKE3, in hex, of what was there
    pub(crate) before: String,
    /// BLAKE3, in hex, of what comes there
    pub(crate) after: String,
}

/// A file of the job folder.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct ChecksumDoc {
    pub(crate) file: String,
    pub(crate) bytes: u64,
    /// In hex
    pub(crate) blake3: String,
}

/// Why there is no report.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ReportError {
    #[error(transparent)]
    Job(#[from] JobError),
    #[error("{file}: {fault}")]
    Record {
        file: &'static str,
        fault: serde_json::Error,
    },
    #[error("{0}")]
    Io(#[from] io::Error),
}

impl Report {
    /// The report of a job, and the picture of the screen where an emulator has started the draft.
    pub(crate) fn of(
        folder: &JobFolder,
        made: String,
    ) -> Result<(Self, Option<Vec<u8>>), ReportError> {
        let record: JobRecord = typed_json(RECORD, folder.record()?)?;
        let outcome: Option<Outcome> = match folder.outcome()? {
            Some(outcome) => Some(typed_json(OUTCOME, outcome)?),
            None => None,
        };
        let outcome = outcome.filter(|_| !folder.state().state.is_unfinished());
        let done = folder.facts().map(|facts| facts.kind.done());
        let answer = match (&outcome, folder.state().state) {
            (Some(outcome), JobState::Done | JobState::Undone) => JobAnswer::of(outcome.answer),
            (_, JobState::Writing | JobState::Undoing) => JobAnswer::Stopped,
            (None, JobState::Undone) => JobAnswer::Undone,
            (None, JobState::Done) => done.map_or(JobAnswer::Stopped, JobAnswer::of),
            (_, JobState::Saving) => JobAnswer::NotBegun,
        };
        let (mut finished, mut rehearsal, mut sheet, mut exact) = (None, None, None, None);
        if let Some(outcome) = outcome {
            finished = Some(outcome.finished);
            (rehearsal, sheet, exact) = (outcome.rehearsal, outcome.sheet, outcome.exact);
        }
        let journal = folder.journal();
        let extents = journal.map_or(&[][..], |journal| &journal.extents);
        let checksums = folder.checksums()?;
        let checksums = checksums
            .into_iter()
            .map(|(file, bytes, hash)| ChecksumDoc {
                file: file.to_owned(),
                bytes,
                blake3: hash.to_hex().to_string(),
            });
        let report = Self {
            made_by: record.made_by,
            made,
            shop: record.shop,
            shared: false,
            answer,
            job: folder.path().display().to_string(),
            started: record.started,
            finished,
            answered_by: record.answered_by,
            questions: record.questions,
            disk: record.disk,
            serial: record.serial,
            disk_facts: record.disk_facts,
            pc: record.pc,
            plan: record.plan,
            rehearsal,
            sheet,
            confirmation: confirmation(folder)?,
            exact,
            written: extents.iter().map(written).collect(),
            checksums: checksums.collect(),
            log: folder.log_lines(MAX_LOG_LINES)?,
        };
        Ok((report, picture(folder)))
    }

    /// How it ended, in a sentence.
    pub(crate) fn sentence(&self) -> String {
        let starts = match self.rehearsal.as_ref() {
            Some(rehearsal) if rehearsal.passed && rehearsal.disk_use == DiskUse::Data => {
                " Its volumes are sound, by its rehearsal."
            }
            Some(rehearsal) if rehearsal.passed => " It starts, by its rehearsal.",
            Some(_) => " It does not start, by its rehearsal.",
            None => "",
        };
        let to = self.plan.to.name().to_uppercase();
        match self.answer {
            JobAnswer::Converted => format!("The disk was converted to {to}.{starts}"),
            JobAnswer::Mended => format!("The disk was mended.{starts}"),
            JobAnswer::Undone if self.exact == Some(true) => {
                "The job was taken back: everything it had overwritten is restored.".to_owned()
            }
            JobAnswer::Undone => {
                "The job was taken back, except on volumes that had been used since.".to_owned()
            }
            JobAnswer::Stopped => {
                "The job was interrupted: the disk needs resume or undo.".to_owned()
            }
            JobAnswer::NotBegun => {
                "The job stopped before anything was written to the disk.".to_owned()
            }
        }
    }

    /// It ended as it should.
    pub(crate) fn is_good(&self) -> bool {
        match self.answer {
            JobAnswer::Converted | JobAnswer::Mended => {
                self.rehearsal.as_ref().is_none_or(|walk| walk.passed)
            }
            JobAnswer::Undone => true,
            JobAnswer::Stopped | JobAnswer::NotBegun => false,
        }
    }
}

fn written(extent: &JournalExtent) -> WrittenDoc {
    WrittenDoc {
        stage: extent.stage,
        what: Worded::of(extent.what.clone(), Purpose::to_string),
        first_lba: extent.first_lba,
        last_lba: extent
            .first_lba
            .saturating_add(extent.sectors)
            .saturating_sub(1),
        before: extent.old.blake3.clone(),
        after: extent.new.blake3.clone(),
    }
}

fn typed_json<T: DeserializeOwned>(file: &'static str, value: Value) -> Result<T, ReportError> {
    serde_json::from_value(value).map_err(|fault| ReportError::Record { file, fault })
}

/// What was confirmed of the disk as it is now; `None` if nothing was, or if the document is damaged.
fn confirmation(folder: &JobFolder) -> Result<Option<KeptConfirmation>, JobError> {
    if folder.state().state != JobState::Done {
        return Ok(None);
    }
    let text = folder.document(CONFIRMATION)?;
    Ok(text.and_then(|text| document::read(&text).ok()))
}

/// The picture of the screen that an emulator has left in the folder. One that cannot be had is no reason for no report.
fn picture(folder: &JobFolder) -> Option<Vec<u8>> {
    let [_, name] = KEPT;
    let bytes = folder.attachment(name, MAX_PICTURE_BYTES).ok()??;
    bytes.starts_with(b"\x89PNG\r\n\x1a\n").then_some(bytes)
}

/// The same document with each of its texts changed; `change` gets the key under which the text stands.
fn with_texts(report: &Report, change: &mut dyn FnMut(&str, &str) -> String) -> Report {
    fn walk(key: &str, value: &mut Value, change: &mut dyn FnMut(&str, &str) -> String) {
        match value {
            Value::String(text) => *text = change(key, text),
            Value::Array(list) => list.iter_mut().for_each(|value| walk(key, value, change)),
            Value::Object(map) => {
                for (key, value) in map {
                    walk(key, value, change);
                }
            }
            _ => {}
        }
    }
    let mut value = document::value(report);
    walk("", &mut value, change);
    serde_json::from_value(value).expect("texts stay texts")
}

impl Report {
    /// Says anew what its values say, after they have been changed.
    fn retell(&mut self) {
        self.plan.findings.iter_mut().for_each(FindingDoc::retell);
        let mended = self.plan.mended.iter_mut();
        mended.for_each(|fix| fix.what.retell(words::mend::fix));
        let draft = self.plan.draft.as_mut();
        for considered in draft
            .and_then(|draft| draft.placement.as_mut())
            .into_iter()
            .flat_map(|placement| &mut placement.considered)
        {
            considered.verdict.retell(words::places::verdict);
        }
        let drafted = self.plan.draft.as_mut().map(|draft| &mut draft.rehearsal);
        let walks = drafted.into_iter().chain(self.rehearsal.as_mut());
        let steps = walks.flat_map(|walk| &mut walk.steps);
        steps.for_each(StepDoc::retell);
        let emulated = self.plan.emulated.as_mut();
        for step in emulated
            .into_iter()
            .flat_map(|emulated| &mut emulated.steps)
        {
            step.evidence.retell(words::emulated::seen);
        }
        if let Some(kept) = self.confirmation.as_mut() {
            let confirmed = &mut kept.confirmed;
            let evidence = confirmed.evidence.iter_mut();
            evidence.for_each(|piece| piece.found.retell(words::confirm::found));
            let reason = |reason: &Reason| words::confirm::reason(*reason);
            confirmed.reason.retell(reason);
            confirmed
                .rehearsal
                .steps
                .iter_mut()
                .for_each(StepDoc::retell);
        }
        let sheet = self.sheet.as_mut();
        // One that says that Secure Boot is off has no value.
        if let Some(sheet) = sheet.filter(|sheet| sheet.secure_boot.value.is_some()) {
            sheet.secure_boot.retell(words::secure_boot::advice);
        }
    }
}

/// What the screen says when it is made.
pub(crate) fn render(report: &Report, written: &Path, columns: usize) -> String {
    let mut text = format!(
        "{}\n",
        toned(Tone::Heading, &format!("Job in {}", safe(&report.job)))
    );
    text += &paragraph("", &report.sentence(), 2, columns);
    let draft = report.plan.draft.as_ref();
    let edited = draft.map_or(0, |draft| draft.files_edited.len());
    let pieces = [
        format!("{} findings", report.plan.findings.len()),
        format!("{} extents written", report.written.len()),
        format!("{edited} files edited"),
        format!(
            "{} steps of the disk's rehearsal",
            report.rehearsal.as_ref().map_or(0, |walk| walk.steps.len())
        ),
    ];
    text += &paragraph("It has: ", &pieces.join(", "), 2, columns);
    if report.shared {
        let line = "Names, labels, serial numbers and file names are replaced, and pictures are left out. Look \
            through it before you send it.";
        text += &paragraph("", line, 2, columns);
    } else {
        let line = "It names the disk, its volumes and their labels, serial numbers, the PC, and files on the disk. Without \
            these, to show it to a colleague: --share";
        text += &paragraph("", line, 2, columns);
    }
    text += &format!("\nWritten: {}\n", typed(written));
    match report.answer {
        JobAnswer::Stopped => {
            let next = format!("schwelle resume --job {}", typed(Path::new(&report.job)));
            text + &answer(Tone::Bad, "Interrupted", &format!("Next: {next}"))
        }
        _ => {
            let next = "Next: open it in a browser; print it if it is to go with the disk.";
            text + &answer(Tone::Good, "Done", next)
        }
    }
}
