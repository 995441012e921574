//! Job folders that belong to a disk, wherever they may lie.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use super::state::is_kept_in;
use super::{JobFolder, JobState};
use crate::device::ReadDevice;
use crate::host::this_pc;

/// Folders looked into below one place, at most.
const MAX_FOLDERS: usize = 1000;

/// A job folder that belongs to a disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundJob {
    /// The folder.
    pub path: PathBuf,
    /// Where the job stands.
    pub state: JobState,
}

/// The job folders that belong to `disk`: each of `places` itself, and the folders up to `depth` below it, on
/// the same file system. Those that need a hand stand first.
pub fn jobs_of(disk: &dyn ReadDevice, places: &[PathBuf], depth: u32) -> Vec<FoundJob> {
    let mut seen = BTreeSet::new();
    let mut found = Vec::new();
    for place in places {
        let mut left = MAX_FOLDERS;
        look(place, depth, &mut left, &mut |folder| {
            let real = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
            if !is_kept_in(folder) || !seen.insert(real) {
                return;
            }
            let Ok(job) = JobFolder::open(folder) else {
                return;
            };
            if job.is_about(disk) {
                found.push(FoundJob {
                    path: folder.to_owned(),
                    state: job.state().state,
                });
            }
        });
    }
    found.sort_by_key(|job| (!job.state.is_unfinished(), job.path.clone()));
    found
}

fn look(folder: &Path, depth: u32, left: &mut usize, take: &mut dyn FnMut(&Path)) {
    take(folder);
    let Some(depth) = depth.checked_sub(1) else {
        return;
    };
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        // Links are not followed.
        if !entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            continue;
        }
        match left.checked_sub(1) {
            Some(fewer) => *left = fewer,
            None => return,
        }
        let path = entry.path();
        if this_pc().is_one_medium(folder, &path) {
            look(&path, depth, left, take);
        }
    }
}
