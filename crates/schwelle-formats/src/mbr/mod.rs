//! The master boot record and its extended boot records.
//!
//! Layout as the UEFI specification gives it (UEFI 2.10 §5.2.1, table 5.1 and 5.2) for sector 0;
//! extended boot records as every PC operating system reads them: the first entry is relative to
//! its own record, the second to the extended partition. [`MbrTable::read`] is the way in. Not supported:
//! more than one extended partition (reported as damage).

#![warn(clippy::indexing_slicing)]

mod boot_code;
mod entry;
mod layout;
mod protective;
mod record;
mod table;

pub use boot_code::BiosStart;
pub use entry::{Entry, Kind};
pub use layout::{Logical, MbrLayout, NewEntry};
pub use protective::{Protection, protect, protective_sector};
pub use record::{BootRecord, is_windows_boot_record, looks_like_volume, shrink_entry};
pub use table::{Damage, DamageKind, MbrPartition, MbrTable, Slot};

/// Sectors that an MBR's 32-bit numbers reach; what lies after them no partition of one can begin in.
pub const REACH: u64 = 1 << 32;
