//! The attribute list: names the records that hold the attributes of a file too large for one
//! record.

use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

use crate::bytes::utf16_lossy;

/// Lists are read up to this length; the format itself allows 256 KiB.
pub(super) const MAX_LIST_BYTES: u64 = 256 << 10;

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawListEntry {
    kind: U32,
    len_bytes: U16,
    name_units: u8,
    name_offset: u8,
    lowest_vcn: U64,
    record: U64,
    id: U16,
}

const _: () = assert!(size_of::<RawListEntry>() == 26);

/// One entry: a part of attribute `kind` and `name` is attribute `id` of `record`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct ListEntry {
    pub(super) kind: u32,
    pub(super) name: String,
    pub(super) record: u64,
    pub(super) id: u16,
}

/// The low 48 bits of a reference are the record's number, the high 16 its use count.
pub(super) fn record_number(reference: u64) -> u64 {
    reference & 0xFFFF_FFFF_FFFF
}

/// Parses a list; `None` when an entry leaves it.
pub(super) fn parse(mut bytes: &[u8]) -> Option<Vec<ListEntry>> {
    let mut entries = Vec::new();
    while !bytes.is_empty() {
        let (raw, _) = RawListEntry::ref_from_prefix(bytes).ok()?;
        let len = usize::from(raw.len_bytes.get());
        let whole = bytes
            .get(..len)
            .filter(|whole| whole.len() >= size_of::<RawListEntry>())?;
        let from = usize::from(raw.name_offset);
        let name_len = usize::from(raw.name_units).saturating_mul(2);
        entries.push(ListEntry {
            kind: raw.kind.get(),
            name: utf16_lossy(whole.get(from..from.saturating_add(name_len))?),
            record: record_number(raw.record.get()),
            id: raw.id.get(),
        });
        bytes = bytes.get(len..)?;
    }
    Some(entries)
}
