//! One attribute of a file record.

use std::ops::Range;

use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

use super::runlist::Vcn;
use crate::bytes::{u32_at, utf16_lossy};

/// Attribute type codes.
pub(super) mod kind {
    pub(crate) const STANDARD_INFORMATION: u32 = 0x10;
    pub(crate) const ATTRIBUTE_LIST: u32 = 0x20;
    pub(crate) const FILE_NAME: u32 = 0x30;
    pub(crate) const SECURITY_DESCRIPTOR: u32 = 0x50;
    pub(crate) const VOLUME_NAME: u32 = 0x60;
    pub(crate) const VOLUME_INFORMATION: u32 = 0x70;
    pub(crate) const DATA: u32 = 0x80;
    pub(crate) const INDEX_ROOT: u32 = 0x90;
    pub(crate) const INDEX_ALLOCATION: u32 = 0xA0;
    pub(crate) const BITMAP: u32 = 0xB0;
    pub(crate) const REPARSE_POINT: u32 = 0xC0;
    pub(crate) const EXTENDED: u32 = 0xE0;
    pub(crate) const PROPERTY_SET: u32 = 0xF0;
    pub(crate) const LOGGED_STREAM: u32 = 0x100;
    pub(crate) const END: u32 = 0xFFFF_FFFF;
}

/// Attribute flags.
pub(super) const COMPRESSED: u16 = 0x00FF;
/// The one way of compressing that there is.
pub(super) const LZNT1: u16 = 1;
pub(super) const ENCRYPTED: u16 = 0x4000;

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawAttribute {
    kind: U32,
    len_bytes: U32,
    non_resident: u8,
    name_units: u8,
    name_offset: U16,
    flags: U16,
    id: U16,
}

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawResident {
    value_len: U32,
    value_offset: U16,
}

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawNonResident {
    lowest_vcn: U64,
    highest_vcn: U64,
    runs_offset: U16,
    compression_unit: U16,
    reserved: U32,
    allocated_len: U64,
    data_len: U64,
    initialized_len: U64,
}

const HEAD: usize = size_of::<RawAttribute>();
const _: () = assert!(HEAD == 16 && size_of::<RawNonResident>() == 48);

/// An attribute, its parts as ranges of its record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Attribute {
    pub(super) kind: u32,
    pub(super) name: String,
    pub(super) flags: u16,
    pub(super) id: u16,
    /// Where the whole attribute lies in its record.
    pub(super) place: Range<usize>,
    pub(super) body: Body,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Body {
    /// The value lies in the record.
    Resident(Range<usize>),
    /// The value lies in clusters.
    NonResident {
        lowest_vcn: Vcn,
        runs: Range<usize>,
        /// Clusters of a compression unit, as a power of two; 0 where nothing is compressed.
        unit_power: u16,
        allocated_len: u64,
        data_len: u64,
        initialized_len: u64,
    },
}

/// The attributes of a record whose fix-ups have been restored. `first` is the offset of the first
/// one. The error says what is wrong.
pub(super) fn parse_all(record: &[u8], first: usize) -> Result<Vec<Attribute>, &'static str> {
    // Most records have no more.
    let mut attributes = Vec::with_capacity(6);
    let mut at = first;
    loop {
        let kind = u32_at(record, at).ok_or("the attributes run over the record's end")?;
        if kind == kind::END {
            return Ok(attributes);
        }
        let rest = record.get(at..).unwrap_or_default();
        let (raw, _) =
            RawAttribute::ref_from_prefix(rest).map_err(|_too_short| "an attribute is cut off")?;
        let len = usize::try_from(raw.len_bytes.get()).unwrap_or(usize::MAX);
        // A length of zero would loop for ever.
        if len < HEAD || len % 8 != 0 {
            return Err("an attribute has an impossible length");
        }
        let whole = rest
            .get(..len)
            .ok_or("an attribute runs over the record's end")?;
        attributes.push(parse_one(raw, whole, at).ok_or("an attribute's parts lie outside it")?);
        at = at.saturating_add(len);
    }
}

fn parse_one(raw: &RawAttribute, whole: &[u8], at: usize) -> Option<Attribute> {
    let part = |from: usize, len: usize| {
        let range = from..from.checked_add(len)?;
        whole.get(range.clone())?;
        Some(range.start.checked_add(at)?..range.end.checked_add(at)?)
    };
    let name_range = usize::from(raw.name_offset.get());
    let name_len = usize::from(raw.name_units).saturating_mul(2);
    let name = utf16_lossy(whole.get(name_range..name_range.checked_add(name_len)?)?);
    let head = whole.get(HEAD..)?;
    let body = if raw.non_resident == 0 {
        let (resident, _) = RawResident::ref_from_prefix(head).ok()?;
        let len = usize::try_from(resident.value_len.get()).ok()?;
        Body::Resident(part(resident.value_offset.get().into(), len)?)
    } else {
        let (outside, _) = RawNonResident::ref_from_prefix(head).ok()?;
        let from = usize::from(outside.runs_offset.get());
        Body::NonResident {
            lowest_vcn: Vcn(outside.lowest_vcn.get()),
            unit_power: outside.compression_unit.get(),
            runs: part(from, whole.len().checked_sub(from)?)?,
            allocated_len: outside.allocated_len.get(),
            data_len: outside.data_len.get(),
            initialized_len: outside.initialized_len.get(),
        }
    };
    Some(Attribute {
        kind: raw.kind.get(),
        name,
        flags: raw.flags.get(),
        id: raw.id.get(),
        place: at..at.checked_add(whole.len())?,
        body,
    })
}
