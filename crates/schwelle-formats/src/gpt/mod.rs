//! The GUID partition table (UEFI 2.10 §5.3): both copies, their entries, and where a new partition
//! can go.
//!
//! [`GptPair::read`] reads and checks both copies; [`GptLayout::write`] makes them. Not supported:
//! header revisions other than 1.0, and entries of another size than 128 bytes are read but never
//! written.

#![warn(clippy::indexing_slicing)]

mod entry;
mod header;
mod pair;
mod types;

pub use entry::{GptEntry, attributes};
pub use header::{GptError, GptHeader};
pub use pair::{Disagreement, GptCopy, GptLayout, GptPair, OddEntry, TableCopy, copy_present};
pub use types::{MappedType, TypeTable, type_guid, type_name};

/// Entries in a table that we write, and bytes in an entry (UEFI 2.10 §5.3.1 asks for 16,384 bytes
/// at least).
pub const ENTRY_COUNT: u32 = 128;
/// Bytes of an entry.
pub(crate) const ENTRY_BYTES: u32 = 128;

/// Sectors that the entries of a table take: 32 at 512 bytes, 4 at 4096.
pub(crate) fn entry_sectors(logical_sector: u32) -> u64 {
    u64::from((ENTRY_COUNT * ENTRY_BYTES).div_ceil(logical_sector))
}

/// First sector after the primary table: where partitions may begin.
pub fn first_usable(logical_sector: u32) -> u64 {
    // Sector 0, the header, the entries.
    2 + entry_sectors(logical_sector)
}

/// Sectors that the backup table takes at the end of the disk: the entries, then the header.
pub fn backup_sectors(logical_sector: u32) -> u64 {
    1 + entry_sectors(logical_sector)
}
