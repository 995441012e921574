//! Compares a disk with both sides of a journal.
//!
//! The disk itself decides, not the record alone: every sector of the journal must be the old one or the new one. Therefore
//! a job can be resumed and undone from any mixture of the two, any number of times.

use std::sync::Arc;

use crate::commit::{Purpose, StageKind};
use crate::device::{BlockDevice, DeviceError, Draft, Extent, Lba, ReadDevice};
use crate::mbr;

use super::bounds::is_inside_volumes;
use super::edits;
use super::refusal::RecoverError;
use super::{
    EditedVolume, FolderProof, JobError, JobFolder, Journal, JournalExtent, ReliedOn, Side,
    Unproven,
};

/// The disk's sectors compared with both sides of the journal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Comparison {
    /// Some sector of the journal is not the new one.
    pub(super) anything_old: bool,
    /// Some sector of the journal is not the old one.
    pub(super) anything_new: bool,
    /// Sectors that are neither: the first of each extent.
    pub(super) unexpected: Vec<(StageKind, Purpose, Lba)>,
}

impl Comparison {
    /// Nothing of the job is on the disk.
    pub(super) fn is_nothing_new(&self) -> bool {
        !self.anything_new && self.unexpected.is_empty()
    }
}

/// The disk proves another folder, so nothing of this job may be on it.
pub(super) fn is_of_another(proof: FolderProof) -> bool {
    proof == FolderProof::Unproven(Unproven::OfAnotherJob)
}

pub(super) fn journal(job: &JobFolder) -> Result<&Journal, RecoverError> {
    job.journal().ok_or(RecoverError::NeverBegan)
}

/// Refuses a disk that has another size than the job's, so that it cannot be that one.
pub(super) fn refuse_other_size(
    job: &JobFolder,
    disk: &dyn ReadDevice,
) -> Result<(), RecoverError> {
    let journal = journal(job)?;
    let geometry = disk.geometry();
    if (geometry.logical_sector, geometry.sectors) == (journal.sector_bytes, journal.sectors) {
        return Ok(());
    }
    Err(RecoverError::OtherDisk {
        expected: journal.sectors,
        sector_bytes: journal.sector_bytes,
    })
}

/// Checks that the disk is the one that the job is about, and compares every sector of the journal. Returns the disk
/// without the edits of its files as well. `disk` is a draft without changes over it.
///
/// # Errors
///
/// The disk is another one, or was changed where it must not be; or disk or folder cannot be read.
pub(super) fn compare<'a>(
    job: &JobFolder,
    disk: Draft<'a>,
) -> Result<(Comparison, Arc<Draft<'a>>), RecoverError> {
    let journal = journal(job)?;
    let geometry = disk.geometry();
    refuse_other_size(job, &disk)?;
    for watched in &journal.watched {
        if !watched.is_so(&disk)? {
            return Err(RecoverError::Differs {
                what: watched.what.clone(),
                at: Lba(watched.first_lba),
            });
        }
    }
    let without_edits = edits::take_edits_off(job, journal, disk)?;
    let disk = without_edits.disk;
    let mut seen = Comparison {
        anything_old: without_edits.anything_old,
        anything_new: without_edits.anything_new,
        unexpected: without_edits.unexpected,
    };
    let sector = geometry.logical_sector as usize;
    for entry in journal
        .extents
        .iter()
        .filter(|entry| is_carried_over(entry))
    {
        let (old, new) = (job.bytes(entry, Side::Old)?, job.bytes(entry, Side::New)?);
        let found = disk.read_vec(journal.byte_of(entry.first_lba), old.len())?;
        let mut first_unexpected = None;
        let sectors = old.chunks(sector).zip(new.chunks(sector));
        let kept_small = match entry.stage {
            StageKind::Commit => boot_records_kept_small(journal, entry, &old),
            _ => Vec::new(),
        };
        for (index, (found, (old, new))) in found.chunks(sector).zip(sectors).enumerate() {
            let is_kept_small = kept_small.iter().any(|record| record == found);
            let (is_old, is_new) = (found == old || is_kept_small, found == new);
            seen.anything_old |= is_old && !is_new;
            seen.anything_new |= is_new && !is_old;
            if !is_old && !is_new && first_unexpected.is_none() {
                first_unexpected = Some(Lba(entry.first_lba + index as u64));
            }
        }
        if let Some(at) = first_unexpected {
            seen.unexpected.push((entry.stage, entry.what.clone(), at));
        }
    }
    Ok((seen, disk))
}

/// Maximum number of volumes that a boot record names.
const MAX_NAMED: usize = 4;

/// The old boot record as undoing leaves it when volumes have been used since and keep their new size: one for each
/// choice of the shrunk volumes that it names.
pub(super) fn boot_records_kept_small(
    journal: &Journal,
    entry: &JournalExtent,
    old: &[u8],
) -> Vec<Vec<u8>> {
    let volumes = journal.volumes.iter();
    let shrunk = volumes.filter(|volume| {
        volume.sectors_after < volume.sectors_before && volume.named_at == entry.first_lba
    });
    let mut records = vec![old.to_vec()];
    for volume in shrunk.take(MAX_NAMED) {
        for mut record in records.clone() {
            mbr::shrink_entry(&mut record, volume.first_lba, volume.sectors_after);
            records.push(record);
        }
    }
    records
}

/// State of a disk relative to a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DiskState {
    /// As it was before.
    Old,
    /// As it is when the job is done.
    New,
    /// Some sectors are old, some new.
    Between,
    /// Some sectors are neither.
    Changed,
}

/// Returns the state of a disk relative to a job.
///
/// # Errors
///
/// Those of comparing it: it is another disk, or disk or folder cannot be read.
pub fn disk_state(job: &JobFolder, disk: &dyn ReadDevice) -> Result<DiskState, RecoverError> {
    let (seen, _) = compare(job, Draft::new(disk))?;
    Ok(
        match (&seen.unexpected[..], seen.anything_old, seen.anything_new) {
            ([_, ..], ..) => DiskState::Changed,
            (_, true, true) => DiskState::Between,
            (_, false, true) => DiskState::New,
            (_, _, false) => DiskState::Old,
        },
    )
}

/// True if every sector of the journal is the old or the new one. The disk has been found to be of the job's size.
///
/// # Errors
///
/// The disk or the folder cannot be read.
pub(super) fn fits(job: &JobFolder, disk: &dyn ReadDevice) -> Result<bool, RecoverError> {
    match compare(job, Draft::new(disk)) {
        Ok((seen, _)) => Ok(seen.unexpected.is_empty()),
        Err(RecoverError::Differs { .. } | RecoverError::OtherDisk { .. }) => Ok(false),
        Err(error) => Err(error),
    }
}

/// True for what is written before the files are edited.
pub(super) fn is_carried_over(entry: &JournalExtent) -> bool {
    entry.stage != StageKind::Edit
}

/// Lays one side of the extents that `wanted` picks over a draft.
pub(super) fn lay(
    job: &JobFolder,
    draft: &Draft<'_>,
    side: Side,
    wanted: impl Fn(&JournalExtent) -> bool,
) -> Result<(), RecoverError> {
    let journal = journal(job)?;
    for entry in journal.extents.iter().filter(|entry| wanted(entry)) {
        match entry.side(side).fill {
            Some(byte) => draft.fill(entry.extent(), byte)?,
            None => draft.write_at(journal.byte_of(entry.first_lba), &job.bytes(entry, side)?)?,
        }
    }
    Ok(())
}

/// The disk with the table that it had before the job, or has when it is done.
pub(crate) fn with_table<'a>(
    job: &JobFolder,
    disk: &'a dyn ReadDevice,
    side: Side,
) -> Result<Draft<'a>, RecoverError> {
    let draft = Draft::new(disk);
    lay(job, &draft, side, |entry| !is_inside_volumes(entry.stage))?;
    Ok(draft)
}

/// Refuses a disk on which something has changed since a job was drafted: the table, what the job watches, or the metadata
/// of a volume that it edits.
///
/// # Errors
///
/// [`JobError::ChangedMeanwhile`]; or the disk cannot be read.
pub(crate) fn refuse_changed(disk: &dyn ReadDevice, relied_on: &ReliedOn) -> Result<(), JobError> {
    for watched in relied_on.table.iter().chain(&relied_on.watched) {
        if !watched.is_so(disk)? {
            let at = Lba(watched.first_lba);
            return Err(JobError::ChangedMeanwhile { at });
        }
    }
    for volume in &relied_on.volumes {
        let now = fingerprint(disk, volume, volume.sectors_before)?;
        if now.as_deref() != Some(&volume.before) {
            let at = Lba(volume.first_lba);
            return Err(JobError::ChangedMeanwhile { at });
        }
    }
    Ok(())
}

/// Returns the hash over the metadata of one of the journal's volumes, with this many sectors; `None` if that is too
/// inconsistent to be hashed.
///
/// # Errors
///
/// A sector could not be read.
pub(super) fn fingerprint(
    disk: &dyn ReadDevice,
    volume: &EditedVolume,
    sectors: u64,
) -> Result<Option<String>, DeviceError> {
    if !volume.sealed.is_empty() {
        return super::sealed_fingerprint(disk, &volume.sealed).map(Some);
    }
    match Extent::new(Lba(volume.first_lba), sectors) {
        Some(extent) => super::fingerprint(disk, extent),
        None => Ok(None),
    }
}
