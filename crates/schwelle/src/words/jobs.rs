//! The overview of jobs.

use schwelle_core::disk_use::DiskUse;
use schwelle_core::identities::Style;
use schwelle_core::job::{JobKind, JobState, JobStatus};

use crate::text::bytes;

/// Files that keep a job's state are there, and none holds a whole one.
pub(crate) const NO_STATE: &str = "no file holds a whole state of the job";
/// Taken back, but not to the byte.
pub(crate) const NOT_EXACT: &str = "Volumes that had been used since kept their newer files.";

/// A standing in a list.
pub(crate) fn name(standing: JobStatus) -> &'static str {
    match standing {
        JobStatus::NeedsResume => "needs resume",
        JobStatus::NeedsUndo => "needs undo",
        JobStatus::Incomplete => "incomplete",
        JobStatus::DoesNotStart => "does not start",
        JobStatus::NotConfirmed => "not confirmed",
        JobStatus::ToConfirm => "to confirm",
        JobStatus::NotBegun => "not begun",
        JobStatus::Done => "done",
        JobStatus::Confirmed => "confirmed",
        JobStatus::Undone => "undone",
    }
}

/// The same in a sentence.
pub(crate) fn meaning(standing: JobStatus) -> &'static str {
    match standing {
        JobStatus::NeedsResume => {
            "The job was interrupted: the disk is between the old and the new. Finish it, or take it back with \
             undo."
        }
        JobStatus::NeedsUndo => {
            "It was being taken back, and that was interrupted: the disk is between the new and the old."
        }
        JobStatus::Incomplete => {
            "The job folder is incomplete: neither resume nor undo can use it."
        }
        JobStatus::DoesNotStart => "The disk is written, and did not pass its rehearsal.",
        JobStatus::NotConfirmed => "The confirmation says that it did not start in UEFI mode.",
        JobStatus::ToConfirm => {
            "The disk is done. Whether Windows starts in UEFI mode has not been confirmed yet."
        }
        JobStatus::NotBegun => "The job stopped before anything was written to the disk.",
        JobStatus::Done => "The disk is done.",
        JobStatus::Confirmed => "The disk is done, and Windows has started from it in UEFI mode.",
        JobStatus::Undone => "The job was taken back.",
    }
}

/// What was done.
pub(crate) fn what(kind: Option<JobKind>, to: Option<Style>, disk_use: Option<DiskUse>) -> String {
    let data = match disk_use {
        Some(DiskUse::Data) => ", data disk",
        _ => "",
    };
    match (kind, to) {
        (Some(JobKind::Mend), _) => "mended".to_owned(),
        (_, Some(to)) => format!("to {}{data}", to.name().to_uppercase()),
        (_, None) => String::new(),
    }
}

/// What an incomplete folder means for its disk, by the last state that it holds.
pub(crate) fn incomplete(state: Option<JobState>) -> &'static str {
    match state {
        Some(JobState::Saving) => "The disk is untouched.",
        Some(JobState::Writing | JobState::Undoing) => {
            "The disk may be between the old and the new: keep it, and this folder, as they are."
        }
        Some(JobState::Done) => "The disk is written; it cannot be taken back by this folder.",
        Some(JobState::Undone) => "The job had been taken back.",
        None => "What state the disk is in is seen on the disk alone.",
    }
}

/// A document of a finished job cannot be read.
pub(crate) fn unread(error: &str) -> String {
    format!(
        "A document of this folder cannot be read ({error}), so whether its disk starts is unknown here. The job can \
         still be taken back."
    )
}

/// A journal too long to be checked.
pub(crate) fn unchecked(size: u64) -> String {
    format!(
        "Its journal of {} was not checked here: resume and undo check it.",
        bytes(size)
    )
}
