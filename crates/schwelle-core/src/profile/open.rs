//! Opening an image whose sector size was not given.

use std::path::Path;

use crate::bytes::u16_at;
use crate::device::{DeviceError, DiskFile, OpenError, ReadDevice};
use crate::mbr::{BootRecord, looks_like_volume};

/// Opens a disk read-only or for writing. The sector size of an image is `given`, else found out
/// from its content, else 512.
pub fn open_image_or_disk(
    path: &Path,
    given: Option<u32>,
    write: bool,
) -> Result<DiskFile, OpenError> {
    let open = |sector| {
        if write {
            DiskFile::open_write(path, sector)
        } else {
            DiskFile::open_read(path, sector)
        }
    };
    let disk = open(given)?;
    let is_fixed = given.is_some() || disk.is_block_device();
    if is_fixed || sector_size_of_content(&disk).unwrap_or(None) != Some(4096) {
        return Ok(disk);
    }
    drop(disk);
    open(Some(4096))
}

/// The sector size that the content was written with, where it tells: by the place of a GPT header, or by
/// a volume that begins at the place its entry names in such sectors and says so itself.
pub(super) fn sector_size_of_content(disk: &dyn ReadDevice) -> Result<Option<u32>, DeviceError> {
    let len_bytes = disk.geometry().len_bytes();
    let sector_at = |offset: u64| {
        if offset + 4096 <= len_bytes {
            disk.read_vec(offset, 4096)
        } else {
            Ok(vec![0; 4096])
        }
    };
    let head = sector_at(0)?;
    if head
        .get(512..)
        .is_some_and(|rest| rest.starts_with(b"EFI PART"))
    {
        return Ok(Some(512));
    }
    // The backup copy counts where the primary one is lost.
    let last = (len_bytes / 4096).saturating_sub(1).saturating_mul(4096);
    if sector_at(4096)?.starts_with(b"EFI PART") || sector_at(last)?.starts_with(b"EFI PART") {
        return Ok(Some(4096));
    }
    if looks_like_volume(&head) {
        return Ok(u16_at(&head, 11)
            .map(u32::from)
            .filter(|size| matches!(size, 512 | 4096)));
    }
    let entries = BootRecord::parse(&head)
        .map(|record| record.entries)
        .unwrap_or_default();
    for entry in entries.into_iter().flatten() {
        for size in [512u16, 4096] {
            let sector = sector_at(u64::from(entry.first) * u64::from(size))?;
            if looks_like_volume(&sector) && u16_at(&sector, 11) == Some(size) {
                return Ok(Some(size.into()));
            }
        }
    }
    Ok(None)
}
