//! Job folders as they are found: what each says of its job, whole or torn, without its disk. Nothing is
//! written, and what a folder can make this read is bounded.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;

use super::folder::{JOURNAL, LOG, RECORD, SAVED, document_of};
use super::state::{Kept, is_kept_in};
use super::storage::{Directory, Storage};
use super::{JobError, JobFacts, JobFolder, JobState};

/// Folders looked into below one place, at most.
const MAX_FOLDERS: usize = 20_000;
/// Entries of all these folders, at most.
const MAX_NAMES: usize = 2_000_000;
/// A journal is checked up to this length: some 60,000 extents.
const MAX_JOURNAL_BYTES: u64 = 32 << 20;

/// Where a job stands for who has many of them. What needs a hand stands first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum JobStanding {
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
pub struct Glance {
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

impl Glance {
    /// Looks at a folder. The saved bytes themselves are not read.
    fn at(path: &Path) -> Self {
        let mut glance = Self {
            path: path.to_owned(),
            state: None,
            facts: None,
            fault: None,
            unchecked_bytes: None,
        };
        let mut bytes = 0;
        if let Ok(storage) = Directory::open(path) {
            let kept = Kept::read(&storage).ok().flatten();
            glance.state = kept.map(|kept| kept.state.state);
            let journal = storage.open(JOURNAL, false);
            bytes = journal.and_then(|file| file.len_bytes()).unwrap_or(0);
        }
        if bytes > MAX_JOURNAL_BYTES && glance.state.is_some() {
            glance.unchecked_bytes = Some(bytes);
            return glance;
        }
        match JobFolder::open(path) {
            Ok(folder) => {
                glance.state = Some(folder.state().state);
                glance.facts = folder.facts().cloned();
            }
            Err(error) => glance.fault = Some(error),
        }
        glance
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// A document of the folder, if it can be read and is no longer than any is.
    pub fn document(&self, name: &str) -> Option<Vec<u8>> {
        document_of(&Directory::open(&self.path).ok()?, name)
    }
}

/// What a look at a place found beside job folders.
#[derive(Debug, Default)]
pub struct Aside {
    /// Folders looked into that are no job's, and have none below.
    pub others: usize,
    /// What could not be looked into, and why.
    pub unread: Vec<(PathBuf, io::Error)>,
    /// There are more folders than are looked into.
    pub cut_off: bool,
}

/// Looks at each job folder in `place`: it itself, or those up to `depth` below it, in the order of their names.
/// Links are not followed. An error when `place` cannot be listed.
pub fn glances(place: &Path, depth: u32, take: &mut dyn FnMut(Glance)) -> io::Result<Aside> {
    let mut look = Look {
        aside: Aside::default(),
        folders: MAX_FOLDERS,
        names: MAX_NAMES,
        take,
    };
    look.below(place, depth)?;
    Ok(look.aside)
}

struct Look<'a> {
    aside: Aside,
    folders: usize,
    names: usize,
    take: &'a mut dyn FnMut(Glance),
}

impl Look<'_> {
    /// True when a job was found.
    fn below(&mut self, folder: &Path, depth: u32) -> io::Result<bool> {
        if is_a_jobs(folder) {
            (self.take)(Glance::at(folder));
            return Ok(true);
        }
        let mut folders = Vec::new();
        for entry in fs::read_dir(folder)? {
            let Some(fewer) = self.names.checked_sub(1) else {
                self.aside.cut_off = true;
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
                self.aside.cut_off = true;
                break;
            };
            self.folders = fewer;
            match self.below(&path, depth - 1) {
                Ok(here) => found |= here,
                Err(error) => self.aside.unread.push((path, error)),
            }
        }
        self.aside.others += usize::from(!found);
        Ok(found)
    }
}

/// True for a folder in which a job was begun, also where all files that keep its state are lost.
fn is_a_jobs(folder: &Path) -> bool {
    let has = |name: &str| folder.join(name).is_file();
    is_kept_in(folder)
        || (has(JOURNAL) && has(SAVED))
        || (has(RECORD) && (has(LOG) || has(JOURNAL)))
}
