//! Shadow copies of a volume, which Windows calls restore points or previous versions.
//!
//! A header at byte 1E00h of the volume names a catalog, a chain of blocks that lists the copies. What a copy
//! keeps of the past lies in store files under `\System Volume Information`, which the catalog names by their
//! bytes on the volume; what has not changed since is read from the volume itself, clusters that are free by
//! now among it. From the format's description by the library that reads it on other systems, and seen on a
//! volume that Windows 10 wrote.

use super::NtfsError;
use super::attribute::kind;
use super::file_record::FileRecord;
use super::index;
use super::volume::NtfsVolume;
use crate::bytes::{u32_at, u64_at};

const HEADER_AT: u64 = 0x1E00;
const BLOCK_BYTES: usize = 16 << 10;
/// 3808876b-c176-4e48-b7ae-04046e6cc752, which every structure begins with.
const SIGNATURE: [u8; 16] = [
    0x6B, 0x87, 0x08, 0x38, 0x76, 0xC1, 0x48, 0x4E, 0xB7, 0xAE, 0x04, 0x04, 0x6E, 0x6C, 0xC7, 0x52,
];
/// End of the name of each store file.
const STORE_NAME_END: &str = "{3808876b-c176-4e48-b7ae-04046e6cc752}";
/// In the header: byte of the catalog on the volume; 0 when there is none.
const CATALOG_AT: usize = 0x30;
/// In a block of the catalog: byte of the next one on the volume; 0 in the last.
const NEXT_AT: usize = 0x28;
const ENTRY_BYTES: usize = 128;
/// Kind of the entry that stands for a copy.
const COPY: u64 = 2;
/// Far more than the 512 copies that Windows keeps at most need.
const MAX_BLOCKS: usize = 64;

/// Shadow copies of a volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ShadowCopies {
    /// How many the catalog lists; `None` where it is invalid.
    pub count: Option<u64>,
}

impl NtfsVolume<'_> {
    /// The volume's shadow copies; `None` when it has none.
    pub fn shadow_copies(&self) -> Result<Option<ShadowCopies>, NtfsError> {
        let device = self.device();
        let header = device.read_vec(HEADER_AT, 512)?;
        let catalog = u64_at(&header, CATALOG_AT).unwrap_or(0);
        if !header.starts_with(&SIGNATURE) || catalog == 0 {
            return Ok(None);
        }
        let (mut at, mut count) = (catalog, 0);
        for _ in 0..MAX_BLOCKS {
            let end = at.saturating_add(BLOCK_BYTES as u64);
            if end > device.geometry().len_bytes() {
                break;
            }
            let block = device.read_vec(at, BLOCK_BYTES)?;
            let is_catalog = block.starts_with(&SIGNATURE) && u32_at(&block, 0x14) == Some(2);
            if !is_catalog {
                break;
            }
            let entries = block.chunks_exact(ENTRY_BYTES).skip(1);
            count += entries
                .filter(|entry| u64_at(entry, 0) == Some(COPY))
                .count() as u64;
            match u64_at(&block, NEXT_AT) {
                Some(0) | None if count == 0 => return Ok(None),
                Some(0) | None => return Ok(Some(ShadowCopies { count: Some(count) })),
                Some(next) => at = next,
            }
        }
        Ok(Some(ShadowCopies { count: None }))
    }
}

/// True for the base record of a file that keeps what shadow copies remember.
pub(super) fn is_store(record: &FileRecord<'_>) -> bool {
    let mut names = record
        .all_resident(kind::FILE_NAME)
        .filter_map(index::file_name);
    names.any(|name| name.to_ascii_lowercase().ends_with(STORE_NAME_END))
}
