//! Resumes an interrupted commit: applies the new bytes to the disk as a draft and writes what differs, in the order of
//! the first commit.

use std::sync::Arc;

use crate::commit::{self, ChangeSet, Drafts, Observer, Purpose, StageKind, hash_of};
use crate::device::{BlockDevice, Draft, Lba, ReadDevice};

use super::compare::{compare, fingerprint, is_carried_over, is_of_another, journal, lay};
use super::refusal::RecoverError;
use super::{FolderProof, JobFolder, JobState, Side, bounds};

/// What finishing a job writes.
#[derive(Debug)]
pub struct Resuming<'a> {
    converted: Arc<Draft<'a>>,
    finished: Draft<'a>,
    /// What is still to be written.
    pub changes: ChangeSet,
}

/// Finds out what is still to be written to finish the job; `None` if it is finished.
///
/// # Errors
///
/// It cannot be finished, or disk or folder cannot be read.
pub(super) fn plan_resume<'a>(
    job: &JobFolder,
    disk: Arc<dyn ReadDevice + 'a>,
    proof: FolderProof,
) -> Result<Option<Resuming<'a>>, RecoverError> {
    match job.state().state {
        JobState::Saving => return Err(RecoverError::NeverBegan),
        JobState::Undone => return Err(RecoverError::TakenBack),
        JobState::Done => return Ok(None),
        JobState::Writing | JobState::Undoing => {}
    }
    let journal = journal(job)?;
    let (seen, below) = compare(job, Draft::over(disk.clone()))?;
    if is_of_another(proof) {
        return Err(match seen.is_nothing_new() {
            true => RecoverError::NeverBegan,
            false => RecoverError::OtherFolder,
        });
    }
    if let Some((_, what, at)) = seen.unexpected.into_iter().next() {
        return Err(RecoverError::Differs { what, at });
    }
    bounds::refuse_foreign(journal, &*disk)?;
    let draft = Draft::over(below.clone());
    match &job.state().moved {
        // The sources are given up only after this record was kept.
        None => {
            let moves = journal.moves.iter().map(super::MovedExtent::as_move);
            moves.for_each(|moved| draft.move_sectors(moved));
        }
        Some(hashes) => {
            for (moved, expected) in journal.moves.iter().zip(hashes) {
                let there = moved.as_move().destination();
                if hash_of(&*below, there)?.to_hex().as_str() != expected {
                    return Err(RecoverError::Lost {
                        at: Lba(moved.from_lba),
                    });
                }
            }
        }
    }
    lay(job, &draft, Side::New, is_carried_over)?;
    for volume in &journal.volumes {
        let after = fingerprint(&draft, volume, volume.sectors_after)?;
        if after.as_deref() != Some(&volume.after) {
            return Err(RecoverError::VolumeUsed {
                at: Lba(volume.first_lba),
            });
        }
    }
    let converted = Arc::new(draft);
    let finished = Draft::over(converted.clone());
    lay(job, &finished, Side::New, |entry| !is_carried_over(entry))?;
    let regions = |edit: bool| journal.regions(|stage| (stage == StageKind::Edit) == edit);
    let changes = ChangeSet::of(&converted, Purpose::MovedClusters, &regions(false))
        .and_then(|changes| changes.and_then(&finished, &regions(true)))?;
    Ok(Some(Resuming {
        converted,
        finished,
        changes,
    }))
}

impl Resuming<'_> {
    /// Writes what is missing, and reads it back. What remains is to record that the job is done.
    pub(super) fn write(
        &self,
        job: &mut JobFolder,
        disk: &dyn BlockDevice,
        observer: &mut dyn Observer,
    ) -> Result<(), RecoverError> {
        job.set_state(JobState::Writing)?;
        let drafts = Drafts {
            converted: &*self.converted,
            finished: &self.finished,
        };
        commit::apply(drafts, &self.changes, disk, job, observer)?;
        Ok(commit::verify(drafts, &self.changes, disk, observer)?)
    }
}
