//! Whether a job is about a disk.

use std::ops::Range;

use uuid::Uuid;

use crate::commit::StageKind;
use crate::device::{DeviceError, Lba, ReadDevice};
use crate::mbr::BootRecord;

use super::torn::Repaired;
use super::{JobError, JobFolder, Journal, RecoverError, Side, compare};

/// The disk's GUID in a GPT header (UEFI 2.10 §5.3.2).
const DISK_ID: Range<usize> = 56..72;

impl JobFolder {
    /// True if the job is about this disk, in the state before it or after it: by its size, its sector 0 and, for a GPT
    /// disk, its GUID. A sector 0 torn by a power failure is recognised by everything else that the job records of
    /// the disk.
    ///
    /// # Errors
    ///
    /// The disk or the folder cannot be read: whether the job is about this disk is unknown.
    pub fn is_about(&self, disk: &dyn ReadDevice) -> Result<bool, RecoverError> {
        let geometry = disk.geometry();
        let Some(journal) = self.journal() else {
            return Ok(false);
        };
        if (journal.sector_bytes, journal.sectors) != (geometry.logical_sector, geometry.sectors) {
            return Ok(false);
        }
        let sector_0 = disk.read_sector(Lba(0));
        if let Ok(sector_0) = &sector_0
            && self.knows_sector_0(journal, sector_0)?
            && knows_disk_id(journal, disk, sector_0)?
        {
            return Ok(true);
        }
        let repaired = Repaired::look(self, disk)?;
        if repaired.torn().any(|first| first == Lba(0)) {
            return compare::fits(self, &repaired);
        }
        // Not torn, so it cannot be read at all.
        sector_0.map(|_other| false).map_err(RecoverError::Device)
    }

    fn knows_sector_0(&self, journal: &Journal, sector_0: &[u8]) -> Result<bool, JobError> {
        let entry = journal.extents.iter().find(|entry| entry.first_lba == 0);
        if let Some(entry) = entry {
            let old = self.bytes(entry, Side::Old)?;
            let kept_small = match entry.stage {
                StageKind::Commit => compare::boot_records_kept_small(journal, entry, &old),
                _ => Vec::new(),
            };
            let new = self.bytes(entry, Side::New)?;
            let mut known = kept_small.iter().chain([&old, &new]);
            if known.any(|bytes| bytes.starts_with(sector_0)) {
                return Ok(true);
            }
        }
        // A job that does not write it watches it.
        let mut watched = journal.watched.iter();
        Ok(watched.any(|watched| {
            watched.first_lba == 0 && watched.blake3 == blake3::hash(sector_0).to_hex().as_str()
        }))
    }
}

/// True if a GPT disk has a GUID that the job knows. All GPT disks of a size have the same sector 0, so this is what
/// distinguishes them.
///
/// # Errors
///
/// Neither copy of the header with such a GUID was found, and one could not be read.
fn knows_disk_id(
    journal: &Journal,
    disk: &dyn ReadDevice,
    sector_0: &[u8],
) -> Result<bool, DeviceError> {
    let record = BootRecord::parse(sector_0);
    if !record.is_some_and(|record| record.is_protective()) {
        return Ok(true);
    }
    let mut unread: Option<DeviceError> = None;
    for at in [Lba(1), Lba(journal.sectors.saturating_sub(1))] {
        let id = |header: &[u8]| {
            let id = header.get(DISK_ID)?.first_chunk()?;
            Some(Uuid::from_bytes_le(*id))
        };
        match disk.read_sector(at) {
            Ok(header) if id(&header).is_some_and(|id| journal.disk_ids.contains(&id)) => {
                return Ok(true);
            }
            Ok(_other) => {}
            Err(error) => unread = unread.or(Some(error)),
        }
    }
    unread.map_or(Ok(false), Err)
}

/// Refuses a GPT disk that has another GUID than the job's.
///
/// # Errors
///
/// [`RecoverError::OtherDiskId`]; or the disk cannot be read.
pub(super) fn refuse_other_id(job: &JobFolder, disk: &dyn ReadDevice) -> Result<(), RecoverError> {
    let Some(journal) = job.journal() else {
        return Err(RecoverError::NeverBegan);
    };
    match knows_disk_id(journal, disk, &disk.read_sector(Lba(0))?)? {
        true => Ok(()),
        false => Err(RecoverError::OtherDiskId),
    }
}
