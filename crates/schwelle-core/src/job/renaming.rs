//! Files that get the old table's names before a job is taken back.
//!
//! A volume that has been used since keeps its files, and among them those that name the disk. They are edited the
//! other way then. What was in them is not in the job's journal, so such edits have a journal of their own in the
//! same folder, kept whole before the first of them is written. Where power goes meanwhile, they are taken off
//! again in memory, and all is planned anew on what is below.

use std::sync::Arc;

use crate::commit::{self, ChangeSet, Drafts, Observer};
use crate::device::{BlockDevice, Draft, ReadDevice};

use super::compare::fingerprint;
use super::refusal::RecoverError;
use super::{EditedVolume, JobFolder, JobState, ReliedOn, edits};

/// Edits of files on volumes that have been used since the job.
#[derive(Debug)]
pub struct Renaming<'a> {
    below: Arc<Draft<'a>>,
    edited: Draft<'a>,
    changes: ChangeSet,
    volumes: Vec<EditedVolume>,
}

impl<'a> Renaming<'a> {
    /// The disk on which edits are planned: as it is, but without the edits of a renaming that a power cut interrupted.
    ///
    /// # Errors
    ///
    /// The disk or the job folder cannot be read.
    pub(super) fn below(
        job: &JobFolder,
        disk: Arc<dyn ReadDevice + 'a>,
    ) -> Result<Arc<Draft<'a>>, RecoverError> {
        let as_it_is = || Arc::new(Draft::over(disk.clone()));
        let cut = job.renaming();
        let cut = cut.filter(|renaming| renaming.state().state.is_unfinished());
        let Some((renaming, journal)) = cut.and_then(|cut| Some((cut, cut.journal()?))) else {
            return Ok(as_it_is());
        };
        let without_edits = edits::take_edits_off(renaming, journal, Draft::over(disk.clone()))?;
        let mut is_unused = without_edits.unexpected.is_empty();
        for volume in &journal.volumes {
            let now = fingerprint(&*without_edits.disk, volume, volume.sectors_before)?;
            is_unused &= now.as_deref() == Some(&volume.before);
        }
        // A volume that was used in between has newer content, which counts.
        if is_unused {
            Ok(without_edits.disk)
        } else {
            Ok(as_it_is())
        }
    }

    /// What `edited` changes, which lies over what [`Self::below`] gave.
    pub(crate) fn new(
        below: Arc<Draft<'a>>,
        edited: Draft<'a>,
        changes: ChangeSet,
        volumes: Vec<EditedVolume>,
    ) -> Self {
        Self {
            below,
            edited,
            changes,
            volumes,
        }
    }

    /// Bytes that will be written.
    pub fn bytes(&self) -> u64 {
        self.changes.bytes()
    }

    /// Writes the edits and reads them back, once the folder holds what they overwrite.
    pub(super) fn write(
        &self,
        job: &JobFolder,
        disk: &dyn BlockDevice,
        observer: &mut dyn Observer,
    ) -> Result<(), RecoverError> {
        let mut renaming = job.begin_renaming("{}")?;
        let drafts = Drafts {
            converted: &*self.below,
            finished: &self.edited,
        };
        let relied_on = ReliedOn {
            volumes: self.volumes.clone(),
            ..ReliedOn::default()
        };
        renaming.save(&*self.below, drafts, &self.changes, relied_on)?;
        commit::apply(drafts, &self.changes, disk, &mut renaming, observer)?;
        commit::verify(drafts, &self.changes, disk, observer)?;
        Ok(renaming.set_state(JobState::Done)?)
    }
}
