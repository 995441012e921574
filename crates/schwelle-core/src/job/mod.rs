//! The job folder: all that is needed to finish a conversion or to take it back, on the medium
//! before the disk is touched.
//!
//! | file | what |
//! | --- | --- |
//! | `job.json` | the plan as `plan --json` shows it, with the disk's name and the time: for the report |
//! | `journal.json` | what the job is ([`JobFacts`]), and every extent written, with what was there and what comes there; see [`Journal`] |
//! | `saved.bin` | the old bytes of these extents |
//! | `new.bin` | their new bytes |
//! | `state-a.json`, `state-b.json` | how far the job has come, in either; see [`State`] |
//! | `moved.json` | once everything is moved: the hash of each extent moved |
//! | `names-1-...` | the same files of a [`Renaming`], which is part of taking a job back; `names-2-...` of the next |
//! | `log.txt` | what happened, a line each |
//!
//! [`JobFolder`] makes and reads the folder; [`Recovery`] finishes a commit or takes it back.

mod at_most;
mod bounds;
mod compare;
mod edits;
mod facts;
mod find;
mod fingerprint;
mod folder;
mod journal;
mod proof;
mod recognition;
mod recovery;
mod refusal;
mod renaming;
mod reserved;
mod resume;
mod state;
#[cfg(test)]
mod stick;
mod storage;
mod summary;
mod torn;
mod undo;
mod writer;

pub use compare::{DiskState, disk_state};
pub(crate) use compare::{refuse_changed, with_table};
pub use facts::{FactKind, JobEnd, JobFacts, JobKind, OtherFact};
pub use find::{FolderState, FoundJob, jobs_of};
pub use fingerprint::fingerprint;
pub(crate) use fingerprint::sealed_fingerprint;
pub use folder::JobFolder;
pub use journal::{
    Beside, EditedVolume, Journal, JournalExtent, MovedExtent, ReliedOn, Side, Stored, Watched,
};
pub use proof::{FolderProof, Unproven};
pub use recovery::{Finished, PlannedResume, PlannedUndo, Recovery, RecoveryFailed, Trusted};
pub use refusal::RecoverError;
pub use renaming::Renaming;
pub use reserved::ReservedFolder;
pub use resume::Resuming;
pub use storage::{Storage, StoredFile};
pub use summary::{JobStatus, JobSummary, ScanResult, scan_jobs};
pub use undo::Undoing;

#[cfg(feature = "schema")]
use schemars::JsonSchema;

use std::io;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::bitlocker::NotSealed;
use crate::commit::{ChangeSet, StageKind};
use crate::device::{DeviceError, Lba};

/// Why the job folder could not be used.
#[derive(Debug, thiserror::Error)]
pub enum JobError {
    /// The folder is in use by another job.
    #[error("the job folder {path} is not empty")]
    NotEmpty {
        /// The folder.
        path: PathBuf,
    },
    /// The folder or a file in it could not be read or written.
    #[error("{path}: {source}")]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// A file of the folder is not what the job wrote.
    #[error("{path}: {fault}")]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        fault: String,
    },
    /// What should be saved could not be read from the disk.
    #[error(transparent)]
    Device(#[from] DeviceError),
    /// A change to an encrypted volume cannot be encrypted again, or the volume not be watched.
    #[error(transparent)]
    NotSealed(#[from] NotSealed),
    /// The disk has been changed by something else since it was looked at.
    #[error("what is at {at} has been changed by another program since the disk was looked at")]
    ChangedMeanwhile {
        /// The first sector of the table, or of the volume.
        at: Lba,
    },
}

/// Where a job stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum JobState {
    /// What will be overwritten is being saved; the disk is untouched.
    Saving,
    /// Saved; the disk may be written from now on.
    Writing,
    /// All is written and read back.
    Done,
    /// It is being taken back.
    Undoing,
    /// It has been taken back.
    Undone,
}

impl JobState {
    /// The word in the folder's files.
    pub fn name(self) -> &'static str {
        match self {
            Self::Saving => "saving",
            Self::Writing => "writing",
            Self::Done => "done",
            Self::Undoing => "undoing",
            Self::Undone => "undone",
        }
    }

    /// True when the disk may be half-way between the old and the new.
    pub fn is_unfinished(self) -> bool {
        matches!(self, Self::Writing | Self::Undoing)
    }
}

/// Bytes that the folder of a job with these changes takes, at most, on a file system on which each
/// file takes at least `block_bytes`. What is all one byte takes none, so it may be much less.
pub fn bytes_needed(changes: &ChangeSet, block_bytes: u64) -> u64 {
    // An extent in the journal, and a move with the hash of what was moved, as text.
    const EXTENT_TEXT: u64 = 450;
    const MOVE_TEXT: u64 = 180;
    // Plan, outcome, log and reports; and how many files there are.
    const DOCUMENTS: u64 = 512 << 10;
    const FILES: u64 = 12;
    let saved = changes.bytes().saturating_sub(changes.moved_bytes());
    // Long extents are cut into pieces of 1 MiB.
    let pieces = (saved >> 20).saturating_add(changes.extents().count() as u64);
    saved
        .saturating_mul(2)
        .saturating_add(pieces.saturating_mul(EXTENT_TEXT))
        .saturating_add((changes.moves.len() as u64).saturating_mul(MOVE_TEXT))
        .saturating_add(DOCUMENTS)
        .saturating_add(block_bytes.saturating_mul(FILES))
}

/// How far a job has come.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    /// Where it stands.
    pub state: JobState,
    /// BLAKE3 hash of `journal.json`, in hex; empty while saving.
    pub journal: String,
    /// The last stage that is on the medium. For people: what holds is read from the disk.
    pub stage: Option<StageKind>,
    /// Once everything is moved: the BLAKE3 hash of each extent moved, in hex and in the journal's
    /// order.
    pub moved: Option<Vec<String>>,
}

impl State {
    pub(super) fn saving() -> Self {
        Self {
            state: JobState::Saving,
            journal: String::new(),
            stage: None,
            moved: None,
        }
    }
}
