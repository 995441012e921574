//! Finishing a job or taking it back, as types that can only be made in this order: a [`Recovery`] is opened on a
//! folder and a disk, planned, trusted, and only then written. Each owns the one before it, so a plan, the trust in a
//! folder, the folder and the disk always belong together.
//!
//! A sector or a file that could not be read is never taken for an answer: the types carry the error, and before the
//! first write the disk is asked whether any read failed on the way, whatever was made of it.

use std::fmt;
use std::sync::Arc;

use crate::commit::Observer;
use crate::device::{Draft, Lba, ReadDevice, Tracked};
use crate::profile::TableStyle;

use super::compare;
use super::proof::verify_folder;
use super::recognition::refuse_other_id;
use super::refusal::RecoverError;
use super::resume::{self, Resuming};
use super::torn::Repaired;
use super::undo::{self, Undoing};
use super::{FolderProof, JobError, JobFolder, JobState, Renaming, Side, Unproven};

/// A job folder with the disk it is about, before anything is decided.
#[derive(Debug)]
pub struct Recovery<'d> {
    job: JobFolder,
    disk: &'d Tracked<'d>,
    /// The disk with its torn sectors repaired.
    repaired: Arc<Repaired<'d>>,
    proof: FolderProof,
}

impl<'d> Recovery<'d> {
    /// Opens a job on its disk: looks for torn sectors, and asks the disk whether the folder is its own.
    ///
    /// # Errors
    ///
    /// The folder belongs to another disk, or the disk to another folder; or disk or folder cannot be read.
    pub fn open(job: JobFolder, disk: &'d Tracked<'d>) -> Result<Self, RecoverError> {
        compare::refuse_other_size(&job, disk)?;
        let repaired = Repaired::look(&job, disk)?;
        // An unreadable sector is repaired, or was an error.
        disk.forget_failures();
        refuse_other_id(&job, &repaired)?;
        let proof = verify_folder(&job, disk, &repaired.extents())?;
        Ok(Self {
            job,
            disk,
            repaired: Arc::new(repaired),
            proof,
        })
    }

    /// The job.
    pub fn job(&self) -> &JobFolder {
        &self.job
    }

    /// Whether the disk proves the folder.
    pub fn proof(&self) -> FolderProof {
        self.proof
    }

    /// First sectors of the physical sectors that a power failure has torn, and that are repaired first.
    pub fn torn(&self) -> Vec<Lba> {
        self.repaired.torn().collect()
    }

    /// Finds out what is still to be written to finish the job.
    ///
    /// # Errors
    ///
    /// The job cannot be finished, or disk or folder cannot be read. Nothing has been written.
    pub fn plan_resume(self) -> Result<PlannedResume<'d>, RecoverError> {
        let plan = resume::plan_resume(&self.job, self.repaired.clone(), self.proof)?;
        self.refuse_unread()?;
        Ok(PlannedResume {
            recovery: self,
            plan,
        })
    }

    /// Finds out what taking the job back means.
    ///
    /// # Errors
    ///
    /// The job cannot be taken back, or disk or folder cannot be read. Nothing has been written.
    pub fn plan_undo(self) -> Result<PlannedUndo<'d>, RecoverError> {
        let plan = undo::plan_undo(&self.job, &*self.repaired, self.proof)?;
        self.refuse_unread()?;
        let is_of_another = self.proof == FolderProof::Unproven(Unproven::OfAnotherJob);
        if is_of_another && !self.torn().is_empty() {
            return Err(RecoverError::OtherFolder);
        }
        Ok(PlannedUndo {
            recovery: self,
            plan,
            renaming: None,
        })
    }

    /// Refuses to go on if a read has failed that no torn sector explains.
    fn refuse_unread(&self) -> Result<(), RecoverError> {
        match self.disk.first_failure(&self.repaired.extents()) {
            Some(error) => Err(RecoverError::Device(error)),
            None => Ok(()),
        }
    }

    /// True if the folder may be worked with: the disk proves it, or the technician has typed its name.
    fn is_trusted(&self, typed: Option<&str>) -> bool {
        let vouched = || typed.is_some_and(|typed| typed == self.job.name());
        self.proof == FolderProof::Proven || vouched()
    }

    fn failed(&self, error: RecoverError) -> RecoveryFailed {
        let wrote = self.disk.wrote();
        RecoveryFailed { error, wrote }
    }

    /// Records how the job ended. The disk is complete: an error is reported, and the next run finds out by itself.
    fn finish(mut self, state: JobState) -> Finished {
        let not_recorded = self.job.set_state(state).err();
        Finished {
            job: self.job,
            wrote: self.disk.wrote(),
            not_recorded,
        }
    }
}

/// A job that can be finished.
#[derive(Debug)]
pub struct PlannedResume<'d> {
    recovery: Recovery<'d>,
    plan: Option<Resuming<'d>>,
}

impl<'d> PlannedResume<'d> {
    /// What is still to be written; `None` if the job is finished.
    pub fn plan(&self) -> Option<&Resuming<'d>> {
        self.plan.as_ref()
    }

    /// The job and its disk.
    pub fn recovery(&self) -> &Recovery<'d> {
        &self.recovery
    }

    /// The job may be finished if the disk proves its folder, or if the technician vouches for it: `typed` is the
    /// folder's name.
    ///
    /// # Errors
    ///
    /// Gives the plan back if neither is so.
    pub fn trusted(self, typed: Option<&str>) -> Result<Trusted<Self>, Box<Self>> {
        if self.plan.is_none() || self.recovery.is_trusted(typed) {
            Ok(Trusted(self))
        } else {
            Err(Box::new(self))
        }
    }
}

/// A job that can be taken back.
#[derive(Debug)]
pub struct PlannedUndo<'d> {
    recovery: Recovery<'d>,
    plan: Option<Undoing>,
    renaming: Option<Renaming<'d>>,
}

impl<'d> PlannedUndo<'d> {
    /// What is written; `None` if nothing of the job is on the disk.
    pub fn plan(&self) -> Option<&Undoing> {
        self.plan.as_ref()
    }

    /// The job and its disk.
    pub fn recovery(&self) -> &Recovery<'d> {
        &self.recovery
    }

    /// The table that the disk has once the job is taken back.
    ///
    /// # Errors
    ///
    /// Disk or folder cannot be read.
    pub fn restored_table(&self) -> Result<TableStyle, RecoverError> {
        let restored = compare::with_table(&self.recovery.job, self.disk(), Side::Old)?;
        Ok(TableStyle::read(&restored)?)
    }

    /// True if nothing is written to the disk: nothing of the job is on it.
    pub fn writes_nothing(&self) -> bool {
        self.plan.is_none() && self.recovery.repaired.torn().next().is_none()
    }

    /// The disk as it is, with its torn sectors repaired.
    pub(crate) fn disk(&self) -> &dyn ReadDevice {
        &*self.recovery.repaired
    }

    /// The disk on which files that name it are edited.
    pub(crate) fn below_renaming(&self) -> Result<Arc<Draft<'d>>, RecoverError> {
        Renaming::below(&self.recovery.job, self.recovery.repaired.clone())
    }

    /// Takes what has to be renamed on volumes that have been used since into the plan.
    ///
    /// # Errors
    ///
    /// A sector could not be read on the way.
    pub(crate) fn rename(&mut self, renaming: Option<Renaming<'d>>) -> Result<(), RecoverError> {
        self.recovery.refuse_unread()?;
        self.renaming = renaming;
        Ok(())
    }

    /// The job may be taken back if the disk proves its folder, or if the technician vouches for it: `typed` is the
    /// folder's name.
    ///
    /// # Errors
    ///
    /// Gives the plan back if neither is so.
    pub fn trusted(self, typed: Option<&str>) -> Result<Trusted<Self>, Box<Self>> {
        if self.writes_nothing() || self.recovery.is_trusted(typed) {
            Ok(Trusted(self))
        } else {
            Err(Box::new(self))
        }
    }
}

/// A plan whose folder the disk proves, or for which the technician vouches. Nothing else lets recovery write.
#[derive(Debug)]
pub struct Trusted<P>(P);

impl Trusted<PlannedResume<'_>> {
    /// Finishes the job: repairs torn sectors, writes what is missing, and reads it back.
    ///
    /// # Errors
    ///
    /// Where it stopped, and whether this run has written to the disk.
    pub fn write(self, observer: &mut dyn Observer) -> Result<Finished, Box<RecoveryFailed>> {
        let PlannedResume { mut recovery, plan } = self.0;
        let Some(plan) = plan else {
            return Ok(Finished {
                job: recovery.job,
                wrote: false,
                not_recorded: None,
            });
        };
        let written = recovery
            .refuse_unread()
            .and_then(|()| recovery.repaired.write(recovery.disk))
            .and_then(|()| plan.write(&mut recovery.job, recovery.disk, observer));
        match written {
            Ok(()) => Ok(recovery.finish(JobState::Done)),
            Err(error) => Err(Box::new(recovery.failed(error))),
        }
    }
}

impl Trusted<PlannedUndo<'_>> {
    /// Takes the job back: repairs torn sectors, renames files, and restores what was overwritten.
    ///
    /// # Errors
    ///
    /// Where it stopped, and whether this run has written to the disk.
    pub fn write(self, observer: &mut dyn Observer) -> Result<Finished, Box<RecoveryFailed>> {
        let PlannedUndo {
            mut recovery,
            plan,
            renaming,
        } = self.0;
        let written = recovery
            .refuse_unread()
            .and_then(|()| recovery.repaired.write(recovery.disk))
            .and_then(|()| match &plan {
                Some(plan) => undo::undo(
                    &mut recovery.job,
                    plan,
                    renaming.as_ref(),
                    recovery.disk,
                    observer,
                ),
                None => Ok(()),
            });
        match written {
            Ok(()) => Ok(recovery.finish(JobState::Undone)),
            Err(error) => Err(Box::new(recovery.failed(error))),
        }
    }
}

/// A job that was finished or taken back: the disk is complete.
#[derive(Debug)]
pub struct Finished {
    /// Its folder.
    pub job: JobFolder,
    /// This run has written to the disk.
    pub wrote: bool,
    /// Why the folder does not say that the job has ended. The next run finds that out from the disk.
    pub not_recorded: Option<JobError>,
}

/// Why finishing a job or taking it back stopped.
#[derive(Debug)]
pub struct RecoveryFailed {
    /// What failed.
    pub error: RecoverError,
    /// This run has written to the disk: it is between two states, or was before.
    pub wrote: bool,
}

impl fmt::Display for RecoveryFailed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.error.fmt(f)
    }
}

impl std::error::Error for RecoveryFailed {}

impl From<RecoverError> for RecoveryFailed {
    /// A failure before the first write.
    fn from(error: RecoverError) -> Self {
        Self {
            error,
            wrote: false,
        }
    }
}
