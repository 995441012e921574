//! Job folders without their disk: what each records of its job, be it complete or damaged. Nothing is written, and
//! what a folder can make this read is bounded.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::find::{has_file, has_state};
use super::folder::{JOURNAL, LOG, RECORD, SAVED, document_of};
use super::state::PersistedState;
use super::storage::{Directory, Storage};
use super::{JobError, JobFacts, JobFolder, JobState};

/// Folders looked into below one place, at most.
const MAX_FOLDERS: usize = 20_000;
/// Entries of all these folders, at most.
const MAX_NAMES: usize = 2_000_000;
/// A journal is checked up to this length: some 60,000 extents.
const MAX_JOURNAL_BYTES: u64 = 32 << 20;

/// Job status for the overview. Jobs that need action sort first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum JobStatus {
    /// Stopped between first and last write.
    NeedsResume,
    /// Stopped while it was taken back.
    NeedsUndo,
    /// The folder is torn or changed: neither `resume` nor `undo` can use it.
    Incomplete,
    /// Done, and the disk did not pass its rehearsal.
    DoesNotStart,
    /// `confirm` says that it did not start in UEFI mode.
    NotConfirmed,
    /// Done; whether Windows starts in UEFI mode is not confirmed yet.
    ToConfirm,
    /// Stopped before anything was written to the disk.
    NotBegun,
    /// Done; there is nothing to confirm.
    Done,
    /// `confirm` says that it started in UEFI mode.
    Confirmed,
    /// Taken back.
    Undone,
}

/// What a job folder says of its job.
#[derive(Debug)]
pub struct JobSummary {
    path: PathBuf,
    /// Where the job stands, by the last whole state; `None` where no file holds one.
    pub state: Option<JobState>,
    /// What the job is; `None` while it is being saved, and where the journal cannot be read.
    pub facts: Option<JobFacts>,
    /// Why neither `resume` nor `undo` can use the folder.
    pub fault: Option<JobError>,
    /// The length in bytes of a journal that is too long to be checked here.
    pub unchecked_bytes: Option<u64>,
}

impl JobSummary {
    /// Looks at a folder. The saved bytes themselves are not read.
    fn at(path: &Path) -> Self {
        let mut summary = Self {
            path: path.to_owned(),
            state: None,
            facts: None,
            fault: None,
            unchecked_bytes: None,
        };
        match too_long(path) {
            Ok(None) => {}
            Ok(Some((state, bytes))) => {
                summary.state = Some(state);
                summary.unchecked_bytes = Some(bytes);
                return summary;
            }
            Err(source) => {
                let path = path.to_owned();
                summary.fault = Some(JobError::Io { path, source });
                return summary;
            }
        }
        match JobFolder::open(path) {
            Ok(folder) => {
                summary.state = Some(folder.state().state);
                summary.facts = folder.facts().cloned();
            }
            Err(error) => summary.fault = Some(error),
        }
        summary
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Reads a document of the folder; `None` if there is none.
    ///
    /// # Errors
    ///
    /// It cannot be read, or is longer than any document is.
    pub fn document(&self, name: &str) -> io::Result<Option<Vec<u8>>> {
        document_of(&Directory::open(&self.path)?, name)
    }
}

/// The state and the length in bytes of a journal that is too long to be checked here.
fn too_long(path: &Path) -> io::Result<Option<(JobState, u64)>> {
    let storage = Directory::open(path)?;
    let journal = match storage.open(JOURNAL, false) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        journal => journal?,
    };
    let bytes = journal.len_bytes()?;
    if bytes <= MAX_JOURNAL_BYTES {
        return Ok(None);
    }
    let persisted = PersistedState::read(&storage)?;
    Ok(persisted.map(|persisted| (persisted.state.state, bytes)))
}

/// What a look at a place found beside job folders.
#[derive(Debug, Default)]
pub struct ScanResult {
    /// Folders looked into that are no job's, and have none below.
    pub others: usize,
    /// What could not be looked into, and why.
    pub unread: Vec<(PathBuf, io::Error)>,
    /// There are more folders than are looked into.
    pub cut_off: bool,
}

/// Looks at each job folder in `place`: it itself, or those up to `depth` below it, in the order of their names.
/// Links are not followed. An error when `place` cannot be listed.
pub fn scan_jobs(
    place: &Path,
    depth: u32,
    take: &mut dyn FnMut(JobSummary),
) -> io::Result<ScanResult> {
    let mut scanner = Scanner {
        result: ScanResult::default(),
        folders: MAX_FOLDERS,
        names: MAX_NAMES,
        take,
    };
    scanner.below(place, depth)?;
    Ok(scanner.result)
}

struct Scanner<'a> {
    result: ScanResult,
    folders: usize,
    names: usize,
    take: &'a mut dyn FnMut(JobSummary),
}

impl Scanner<'_> {
    /// True when a job was found.
    fn below(&mut self, folder: &Path, depth: u32) -> io::Result<bool> {
        if is_job_folder(folder)? {
            (self.take)(JobSummary::at(folder));
            return Ok(true);
        }
        let mut folders = Vec::new();
        for entry in fs::read_dir(folder)? {
            let Some(fewer) = self.names.checked_sub(1) else {
                self.result.cut_off = true;
                break;
            };
            self.names = fewer;
            let entry = entry?;
            if entry.file_type()?.is_dir() {
                folders.push(entry.path());
            }
        }
        folders.sort();
        let mut found = false;
        for path in folders.into_iter().filter(|_| depth > 0) {
            let Some(fewer) = self.folders.checked_sub(1) else {
                self.result.cut_off = true;
                break;
            };
            self.folders = fewer;
            match self.below(&path, depth - 1) {
                Ok(here) => found |= here,
                Err(error) => self.result.unread.push((path, error)),
            }
        }
        self.result.others += usize::from(!found);
        Ok(found)
    }
}

/// True for a folder in which a job was begun, even if all files that record its state are lost.
fn is_job_folder(folder: &Path) -> io::Result<bool> {
    let has = |name: &str| has_file(folder, name);
    Ok(has_state(folder)?
        || (has(JOURNAL)? && has(SAVED)?)
        || (has(RECORD)? && (has(LOG)? || has(JOURNAL)?)))
}
