//! The end of the pipeline: a draft that passed its rehearsal is saved in a job folder, then written and verified.

use std::io;

use super::Plan;
use crate::bitlocker::{self, NotSealed, Sealed, Unlocked};
use crate::commit::{self, CommitError, Drafts, Observer};
use crate::device::{BlockDevice, DeviceError, Extent, IoOp, Lba, ReadDevice, Window};
use crate::job::{EditedVolume, JobError, JobFolder, JobState, refuse_changed, sealed_fingerprint};
use crate::ntfs::{NtfsError, NtfsVolume};

/// A draft that may be written, once what it overwrites is saved.
#[derive(Debug, Clone, Copy)]
pub struct Ready<'r, 'a> {
    pub(super) plan: &'r Plan<'a>,
}

impl<'r, 'a> Ready<'r, 'a> {
    /// The draft.
    pub fn plan(self) -> &'r Plan<'a> {
        self.plan
    }

    /// Saves in the job folder everything that will be overwritten, and what replaces it. The draft lies over `disk`.
    ///
    /// # Errors
    ///
    /// The folder cannot be written or the disk cannot be read; nothing has been written to the disk.
    pub fn save<'d, D: BlockDevice>(
        self,
        disk: &'d Unlocked<D>,
        mut job: JobFolder,
    ) -> Result<Saved<'r, 'a, 'd, D>, JobError> {
        let plan = self.plan;
        // Whatever the draft made of an unreadable sector: nothing is written on a guess.
        if let Some(unread) = disk.unreadable().first() {
            let sector = u64::from(disk.geometry().logical_sector);
            let source = io::Error::other("it could not be read while the disk was drafted");
            let offset = unread.first.0.saturating_mul(sector);
            return Err(DeviceError::new(IoOp::Read, offset, 0, source)
                .at(unread.first)
                .into());
        }
        let places = plan.changes.extents();
        bitlocker::can_be_sealed(disk.geometry(), disk.volumes(), places)?;
        let drafts = SealedDrafts::new(plan, disk);
        let mut relied_on = plan.relied_on.clone();
        for volume in &mut relied_on.volumes {
            *volume = drafts.watch(volume.clone(), disk)?;
        }
        job.save(disk.disk(), drafts.drafts(), &plan.changes, relied_on)?;
        // Time has passed over the questions. What was read is read again, and from the medium.
        let unchanged = || -> Result<(), JobError> {
            plan.bind(&job)?;
            disk.disk().flush()?;
            refuse_changed(disk, &plan.relied_on)
        };
        if let Err(error) = unchanged() {
            job.give_up();
            return Err(error);
        }
        Ok(Saved { plan, disk, job })
    }
}

/// A draft of which the job folder holds both ways: finishing it, and taking it back. It owns plan, disk and folder, so
/// what was saved for one disk cannot be written to another.
///
/// ```compile_fail,E0061
/// use schwelle_core::device::{BlockDevice, Memory};
/// use schwelle_core::pipeline::Saved;
///
/// fn to_another_disk(saved: Saved<'_, '_, '_, Memory>, other: &Memory) {
///     let _ = saved.write(other, &mut ());
/// }
/// ```
#[derive(Debug)]
pub struct Saved<'r, 'a, 'd, D> {
    plan: &'r Plan<'a>,
    disk: &'d Unlocked<D>,
    job: JobFolder,
}

/// A job whose change set is on the disk, written and read back.
#[derive(Debug)]
pub struct Written {
    /// Its folder.
    pub job: JobFolder,
    /// Why the folder does not say that the job is done. The next `resume` finds that out from the disk.
    pub not_recorded: Option<JobError>,
}

/// Why writing stopped.
#[derive(Debug, thiserror::Error)]
#[error("{error}")]
pub struct NotWritten {
    /// Where, and whether anything was written.
    pub error: CommitError,
    /// The folder of the job.
    pub job: Box<JobFolder>,
}

impl<D: BlockDevice> Saved<'_, '_, '_, D> {
    /// Writes the change set in its stages, and reads all of it back.
    ///
    /// # Errors
    ///
    /// Where it stopped, and whether anything was written. If nothing was, the job counts as taken back.
    pub fn write(self, observer: &mut dyn Observer) -> Result<Written, NotWritten> {
        let Self {
            plan,
            disk,
            mut job,
        } = self;
        let drafts = SealedDrafts::new(plan, disk);
        let (drafts, changes) = (drafts.drafts(), &plan.changes);
        let written = commit::apply(drafts, changes, disk.disk(), &mut job, observer)
            .and_then(|()| commit::verify(drafts, changes, disk.disk(), observer));
        match written {
            Ok(()) => {
                let not_recorded = job.set_state(JobState::Done).err();
                Ok(Written { job, not_recorded })
            }
            Err(error) => {
                if error.is_untouched() {
                    job.give_up();
                }
                let job = Box::new(job);
                Err(NotWritten { error, job })
            }
        }
    }
}

/// A plan's drafts as they come to the disk: what they change on open volumes is encrypted again.
struct SealedDrafts<'d> {
    converted: Sealed<'d>,
    finished: Sealed<'d>,
}

impl<'d> SealedDrafts<'d> {
    fn new<D: ReadDevice>(plan: &'d Plan<'_>, disk: &'d Unlocked<D>) -> Self {
        let seal = |draft: &'d dyn ReadDevice| Sealed::new(draft, disk.disk(), disk.volumes());
        let drafts = plan.drafts();
        Self {
            converted: seal(drafts.converted),
            finished: seal(drafts.finished),
        }
    }

    fn drafts(&self) -> Drafts<'_> {
        Drafts {
            converted: &self.converted,
            finished: &self.finished,
        }
    }

    /// What the journal keeps of a volume, in such a form that an encrypted one need not be open when the job is
    /// finished or taken back.
    fn watch<D: ReadDevice>(
        &self,
        volume: EditedVolume,
        disk: &Unlocked<D>,
    ) -> Result<EditedVolume, JobError> {
        let first = Lba(volume.first_lba);
        let mut open = disk.volumes().iter();
        let Some(open) = open.find(|open| open.extent().first == first) else {
            return Ok(volume);
        };
        let not_sealed = || NotSealed { first };
        let window = Window::new(disk, open.extent()).ok_or_else(not_sealed)?;
        let places = NtfsVolume::open(&window).and_then(|volume| volume.fingerprint_places());
        let places = places.map_err(|error| match error {
            NtfsError::Device(error) => JobError::Device(error),
            _inconsistent => JobError::NotSealed(not_sealed()),
        })?;
        let sector = disk.geometry().logical_sector;
        let sealed: Vec<Extent> = places
            .into_iter()
            .flat_map(|place| open.sectors_of(place, sector))
            .collect();
        Ok(EditedVolume {
            before: sealed_fingerprint(disk.disk(), &sealed)?,
            after: sealed_fingerprint(&self.converted, &sealed)?,
            sealed,
            ..volume
        })
    }
}
