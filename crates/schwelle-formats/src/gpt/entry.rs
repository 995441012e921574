//! One partition entry (UEFI 2.10 §5.3.3, table 5.6).

use std::mem::offset_of;

use uuid::Uuid;
use zerocopy::little_endian::{U16, U64};
use zerocopy::{FromBytes, FromZeros, Immutable, IntoBytes, KnownLayout, Unaligned};

use super::ENTRY_BYTES;
use crate::device::{Extent, Lba};

/// Attribute bits. 0 and 1 are UEFI's (table 5.8); 60 to 63 belong to the type, here Windows' for basic
/// data.
pub mod attributes {
    /// Bit 0: the platform needs it.
    pub const REQUIRED: u64 = 1;
    /// Bit 1: firmware shows no block device for it, so nothing starts from it.
    pub const NO_BLOCK_DEVICE: u64 = 1 << 1;
    /// Bit 60: Windows mounts it read-only.
    pub const READ_ONLY: u64 = 1 << 60;
    /// Bit 62: hidden.
    pub const HIDDEN: u64 = 1 << 62;
    /// Bit 63: gets no drive letter.
    pub const NO_DRIVE_LETTER: u64 = 1 << 63;
}

const NAME_UNITS: usize = 36;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawGptEntry {
    kind: [u8; 16],
    id: [u8; 16],
    first_lba: U64,
    last_lba: U64,
    attributes: U64,
    name: [U16; NAME_UNITS],
}

const _: () = assert!(size_of::<RawGptEntry>() == ENTRY_BYTES as usize);
const _: () = assert!(offset_of!(RawGptEntry, attributes) == 48);

/// An entry of the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GptEntry {
    /// Type GUID.
    pub kind: Uuid,
    /// The partition's own GUID.
    pub id: Uuid,
    /// Where it lies. Checked against the header by the table, not here.
    pub extent: Extent,
    /// Attribute bits, see [`attributes`].
    pub attributes: u64,
    /// Name; at most 36 UTF-16 units are kept.
    pub name: String,
}

impl GptEntry {
    /// Parses one entry; `None` when it is unused (type all zero) or too short.
    pub(super) fn parse(bytes: &[u8]) -> Option<Self> {
        let (raw, _) = RawGptEntry::ref_from_prefix(bytes).ok()?;
        if raw.kind == [0; 16] {
            return None;
        }
        let name = raw
            .name
            .iter()
            .map(|unit| unit.get())
            .take_while(|&unit| unit != 0);
        Some(Self {
            kind: Uuid::from_bytes_le(raw.kind),
            id: Uuid::from_bytes_le(raw.id),
            extent: Extent::between(
                Lba(raw.first_lba.get()),
                Lba(raw.last_lba.get().saturating_add(1)),
            ),
            attributes: raw.attributes.get(),
            name: char::decode_utf16(name)
                .map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER))
                .collect(),
        })
    }

    /// An unused entry, which keeps the numbers of those after it.
    pub fn unused() -> Self {
        Self {
            kind: Uuid::nil(),
            id: Uuid::nil(),
            extent: Extent::between(Lba(0), Lba(0)),
            attributes: 0,
            name: String::new(),
        }
    }

    /// Names a partition.
    pub fn is_used(&self) -> bool {
        !self.kind.is_nil()
    }

    /// The entry's 128 bytes.
    pub(super) fn write(&self) -> [u8; ENTRY_BYTES as usize] {
        let mut raw = RawGptEntry::new_zeroed();
        if !self.is_used() {
            return zerocopy::transmute!(raw);
        }
        raw.kind = self.kind.to_bytes_le();
        raw.id = self.id.to_bytes_le();
        raw.first_lba = U64::new(self.extent.first.0);
        raw.last_lba = U64::new(self.extent.last().0);
        raw.attributes = U64::new(self.attributes);
        for (slot, unit) in raw.name.iter_mut().zip(self.name.encode_utf16()) {
            *slot = U16::new(unit);
        }
        zerocopy::transmute!(raw)
    }
}
