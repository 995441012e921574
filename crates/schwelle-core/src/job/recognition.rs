//! Whether a job is about a disk.

use crate::commit::StageKind;
use crate::device::{DeviceError, Extent, Lba, ReadDevice};
use crate::mbr::BootRecord;

use super::torn::Repaired;
use super::{JobError, JobFolder, Journal, JournalExtent, RecoverError, Side, recover};

/// The primary GPT header.
const HEADER: Extent = Extent {
    first: Lba(1),
    end: Lba(2),
};

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
            && self.knows_disk_id(journal, disk, sector_0)?
        {
            return Ok(true);
        }
        let repaired = Repaired::look(self, disk)?;
        if repaired.torn().any(|first| first == Lba(0)) {
            return recover::fits(self, &repaired);
        }
        // Not torn, so it cannot be read at all.
        sector_0.map(|_other| false).map_err(RecoverError::Device)
    }

    /// All GPT disks of a size have the same sector 0. What distinguishes them is the disk's GUID, in the header at
    /// LBA 1 and in its copy in the last sector (UEFI 2.10 §5.3.2, at byte 56).
    fn knows_disk_id(
        &self,
        journal: &Journal,
        disk: &dyn ReadDevice,
        sector_0: &[u8],
    ) -> Result<bool, RecoverError> {
        let record = BootRecord::parse(sector_0);
        if !record.is_some_and(|record| record.is_protective()) {
            return Ok(true);
        }
        let holds = |entry: &&JournalExtent| entry.extent().contains(&HEADER);
        let Some(entry) = journal.extents.iter().find(holds) else {
            return Ok(true);
        };
        let sector = journal.sector_bytes as usize;
        // LBA 1 is in it, so it begins there or one before.
        let header_at = if entry.first_lba == 0 { sector } else { 0 };
        let id = |header: &[u8]| header.get(56..72).map(<[u8]>::to_vec);
        let mut known = Vec::new();
        for side in [Side::Old, Side::New] {
            let bytes = self.bytes(entry, side)?;
            known.extend(bytes.get(header_at..).and_then(id));
        }
        known.retain(|id| id.iter().any(|&byte| byte != 0));
        let mut unread: Option<DeviceError> = None;
        for at in [Lba(1), Lba(journal.sectors.saturating_sub(1))] {
            match disk.read_sector(at) {
                Ok(header) if id(&header).is_some_and(|found| known.contains(&found)) => {
                    return Ok(true);
                }
                Ok(_other) => {}
                Err(error) => unread = unread.or(Some(error)),
            }
        }
        unread.map_or(Ok(false), |error| Err(error.into()))
    }

    fn knows_sector_0(&self, journal: &Journal, sector_0: &[u8]) -> Result<bool, JobError> {
        let entry = journal.extents.iter().find(|entry| entry.first_lba == 0);
        if let Some(entry) = entry {
            let old = self.bytes(entry, Side::Old)?;
            let kept_small = match entry.stage {
                StageKind::Commit => recover::boot_records_kept_small(journal, entry, &old),
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
