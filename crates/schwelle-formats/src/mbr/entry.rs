//! One entry of a boot record (UEFI 2.10 §5.2.1, table 5.2).

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use zerocopy::little_endian::U32;
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::device::{Extent, Lba};

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct RawEntry {
    pub(super) flag: u8,
    pub(super) chs_first: [u8; 3],
    pub(super) kind: u8,
    pub(super) chs_last: [u8; 3],
    pub(super) first_lba: U32,
    pub(super) sectors: U32,
}

const _: () = assert!(size_of::<RawEntry>() == 16);

/// The type byte of an MBR partition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Kind(pub u8);

impl Kind {
    /// Protective entry of a GPT disk.
    pub const PROTECTIVE: Self = Self(0xEE);
    /// Member of a dynamic disk.
    pub const DYNAMIC: Self = Self(0x42);
    /// EFI system partition on an MBR disk.
    pub const EFI_SYSTEM: Self = Self(0xEF);
    /// Hidden NTFS: recovery environment.
    pub const RECOVERY: Self = Self(0x27);

    /// An extended partition of logical partitions.
    pub(crate) fn is_extended(self) -> bool {
        matches!(self.0, 0x05 | 0x0F | 0x85)
    }

    /// The type without its "hidden" bit, where it has a hidden twin.
    pub fn visible(self) -> Self {
        match self.0 {
            0x11 | 0x14 | 0x16 | 0x17 | 0x1B | 0x1C | 0x1E => Self(self.0 & 0x0F),
            _ => self,
        }
    }

    /// The type with its "hidden" bit, where it has a hidden twin.
    pub fn hidden(self) -> Self {
        match self.0 {
            0x01 | 0x04 | 0x06 | 0x07 | 0x0B | 0x0C | 0x0E => Self(self.0 | 0x10),
            _ => self,
        }
    }

    /// One of the PC manufacturers' own partitions.
    pub fn is_manufacturers(self) -> bool {
        matches!(self.0, 0x12 | 0x84 | 0xDE)
    }

    /// A volume of Linux: its file systems, LVM or RAID.
    pub fn is_linux(self) -> bool {
        matches!(self.0, 0x83 | 0x8E | 0xFD)
    }

    /// What technicians call it.
    pub fn name(self) -> &'static str {
        match self.0 {
            0x01 => "FAT12",
            0x04 | 0x06 | 0x0E => "FAT16",
            0x05 | 0x0F | 0x85 => "extended partition",
            0x07 => "NTFS or exFAT",
            0x0B | 0x0C => "FAT32",
            0x11 | 0x14 | 0x16 | 0x17 | 0x1B | 0x1C | 0x1E => "hidden FAT or NTFS",
            0x12 | 0xDE => "PC manufacturer's service",
            0x27 => "Windows recovery",
            0x42 => "dynamic disk",
            0x82 => "Linux swap",
            0x83 => "Linux",
            0x84 => "fast resume",
            0x8E => "Linux LVM",
            0xEE => "protective",
            0xEF => "EFI system",
            0xFD => "Linux RAID",
            _ => "unknown",
        }
    }
}

/// A used entry: flag, type, and where it says the partition lies (relative to its record's base).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry {
    /// Flag byte: 80h active, 00h not; anything else is damage.
    pub flag: u8,
    /// Type byte.
    pub kind: Kind,
    /// First sector, relative.
    pub first: u32,
    /// Length in sectors.
    pub sectors: u32,
}

impl Entry {
    /// The checked form of 16 raw bytes; `None` for an unused entry (type 0 or no sectors).
    pub(super) fn parse(raw: &RawEntry) -> Option<Self> {
        let entry = Self::fields(raw);
        (entry.kind.0 != 0 && entry.sectors != 0).then_some(entry)
    }

    /// What stands there, used or not.
    pub(super) fn fields(raw: &RawEntry) -> Self {
        Self {
            flag: raw.flag,
            kind: Kind(raw.kind),
            first: raw.first_lba.get(),
            sectors: raw.sectors.get(),
        }
    }

    /// Marked as the partition to start from.
    pub fn is_active(&self) -> bool {
        self.flag == 0x80
    }

    /// Where it lies when its record counts from `base`.
    pub fn extent(&self, base: Lba) -> Extent {
        // A u32 added to an LBA of a real disk cannot overflow a u64; a hostile base is capped, and
        // then lies outside.
        let first = base.0.saturating_add(u64::from(self.first));
        Extent::between(
            Lba(first),
            Lba(first.saturating_add(u64::from(self.sectors))),
        )
    }
}
