//! Job folders that belong to a disk, wherever they are.

use std::collections::BTreeSet;
use std::fs;
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};

use super::state::STATE_FILES;
use super::{JobError, JobFolder, JobState, RecoverError};
use crate::cause::Cause;
use crate::device::ReadDevice;
use crate::host::this_pc;

/// Folders looked into below one place, at most.
const MAX_FOLDERS: usize = 1000;

/// A job folder that belongs to a disk, or of which that is unknown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundJob {
    /// The folder.
    pub path: PathBuf,
    /// What is known of it.
    pub found: FolderState,
}

/// What is known of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FolderState {
    /// It belongs to the disk, and its job has come so far.
    Job(JobState),
    /// It is a job folder, and could not be read: it may belong to the disk, and its job may be unfinished.
    Unreadable(Cause),
    /// It is a job folder, and damaged: neither `resume` nor `undo` can use it.
    Damaged(Cause),
    /// It could not be searched for job folders.
    NotSearched(Cause),
}

impl FoundJob {
    /// True if its job is known to be unfinished.
    pub fn is_unfinished(&self) -> bool {
        matches!(&self.found, FolderState::Job(state) if state.is_unfinished())
    }
}

/// Returns the job folders that belong to `disk` or may do so: each of `places` itself, and the folders up to `depth`
/// below it in the same file system. Unfinished jobs come first. Folders that this user may not enter are passed over.
pub fn jobs_of(disk: &dyn ReadDevice, places: &[PathBuf], depth: u32) -> Vec<FoundJob> {
    let mut seen = BTreeSet::new();
    let mut found = Vec::new();
    for place in places {
        let mut left = MAX_FOLDERS;
        search(place, depth, &mut left, &mut |folder, listed| {
            let real = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
            if !seen.insert(real) {
                return;
            }
            let what = match listed.and_then(|()| has_state(folder)) {
                Ok(true) => job_in(folder, disk),
                Ok(false) => None,
                Err(error) => Some(FolderState::NotSearched(error.into())),
            };
            found.extend(what.map(|found| FoundJob {
                path: folder.to_owned(),
                found,
            }));
        });
    }
    found.sort_by_key(|job| (!job.is_unfinished(), job.path.clone()));
    found
}

/// What a job folder is to the disk; `None` if it belongs to another one.
fn job_in(folder: &Path, disk: &dyn ReadDevice) -> Option<FolderState> {
    let failed = |error: &JobError| match error {
        JobError::Io { source, .. } if source.kind() != ErrorKind::InvalidData => {
            FolderState::Unreadable(error.into())
        }
        _ => FolderState::Damaged(error.into()),
    };
    let job = match JobFolder::open(folder) {
        Ok(job) => job,
        Err(error) => return Some(failed(&error)),
    };
    match job.is_about(disk) {
        Ok(true) => Some(FolderState::Job(job.state().state)),
        Ok(false) => None,
        Err(RecoverError::Job(error)) => Some(failed(&error)),
        Err(error) => Some(FolderState::Unreadable(error.into())),
    }
}

/// True if a folder has a file that records the state of a job.
pub(super) fn has_state(folder: &Path) -> io::Result<bool> {
    for name in STATE_FILES {
        if has_file(folder, name)? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// True if there is a regular file of this name in a folder; false as well in a folder that this user may not enter.
pub(super) fn has_file(folder: &Path, name: &str) -> io::Result<bool> {
    match fs::metadata(folder.join(name)) {
        Ok(found) => Ok(found.is_file()),
        Err(error) if is_no_folder(&error) => Ok(false),
        Err(error) => Err(error),
    }
}

/// Nothing is there, or nothing that this user may see.
fn is_no_folder(error: &io::Error) -> bool {
    use ErrorKind::{NotADirectory, NotFound, PermissionDenied};
    matches!(error.kind(), NotFound | NotADirectory | PermissionDenied)
}

/// Shows `take` a folder and those below it, each with whether it could be listed.
fn search(
    folder: &Path,
    depth: u32,
    left: &mut usize,
    take: &mut dyn FnMut(&Path, io::Result<()>),
) {
    let Some(depth) = depth.checked_sub(1) else {
        take(folder, Ok(()));
        return;
    };
    let mut below = Vec::new();
    let listed = fs::read_dir(folder).and_then(|entries| {
        for entry in entries {
            let entry = entry?;
            // Links are not followed. What has gone since it was listed hides none of the others.
            match entry.file_type() {
                Ok(kind) if kind.is_dir() => {}
                Ok(_) => continue,
                Err(error) if error.kind() == ErrorKind::NotFound => continue,
                Err(error) => return Err(error),
            }
            match left.checked_sub(1) {
                Some(fewer) => *left = fewer,
                None => break,
            }
            below.push(entry.path());
        }
        Ok(())
    });
    take(
        folder,
        match listed {
            Err(error) if !is_no_folder(&error) => Err(error),
            _ => Ok(()),
        },
    );
    for path in below {
        if this_pc().is_one_medium(folder, &path) {
            search(&path, depth, left, take);
        }
    }
}
