//! One 32-byte directory entry, short or long (FAT specification 1.03, "FAT Directory Structure").

use zerocopy::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

pub(super) const ENTRY_BYTES: usize = 32;
pub(super) const ATTR_VOLUME_ID: u8 = 0x08;
pub(super) const ATTR_DIRECTORY: u8 = 0x10;
pub(super) const ATTR_ARCHIVE: u8 = 0x20;
const ATTR_LONG_NAME: u8 = 0x0F;
/// UTF-16 units in one long-name entry.
pub(super) const LONG_UNITS: usize = 13;
const LAST_LONG: u8 = 0x40;
const DELETED: u8 = 0xE5;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawShort {
    name: [u8; 11],
    attributes: u8,
    reserved_nt: u8,
    created_tenth: u8,
    created_time: U16,
    created_date: U16,
    accessed_date: U16,
    cluster_high: U16,
    written_time: U16,
    written_date: U16,
    cluster_low: U16,
    len_bytes: U32,
}

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawLong {
    order: u8,
    name_a: [U16; 5],
    attributes: u8,
    kind: u8,
    checksum: u8,
    name_b: [U16; 6],
    zero: U16,
    name_c: [U16; 2],
}

const _: () = assert!(size_of::<RawShort>() == ENTRY_BYTES && size_of::<RawLong>() == ENTRY_BYTES);

/// A time as FAT keeps it, made by the caller: this crate has no clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DosTime {
    /// Bits 15..9 year from 1980, 8..5 month, 4..0 day.
    pub date: u16,
    /// Bits 15..11 hour, 10..5 minute, 4..0 second / 2.
    pub time: u16,
}

impl DosTime {
    /// The first day that FAT knows: 1 January 1980.
    pub const EPOCH: Self = Self {
        date: 0x0021,
        time: 0,
    };
}

/// The short entry of a file or directory.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct ShortEntry {
    pub(super) name: [u8; 11],
    pub(super) attributes: u8,
    pub(super) cluster: u32,
    pub(super) len_bytes: u32,
}

/// What 32 bytes of a directory are.
pub(super) enum Slot {
    /// No entry here or after.
    End,
    Deleted,
    Long {
        order: u8,
        last: bool,
        checksum: u8,
        units: [u16; LONG_UNITS],
    },
    Short {
        entry: ShortEntry,
        case: LowerCase,
    },
}

/// Which parts of a short name are shown in lower case. The specification reserves the byte ("DIR_NTRes"); Windows and
/// Linux keep two bits in it, so that a name needs no long one for its case alone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct LowerCase {
    pub(super) stem: bool,
    pub(super) extension: bool,
}

impl LowerCase {
    const STEM: u8 = 0x08;
    const EXTENSION: u8 = 0x10;

    fn of(reserved: u8) -> Self {
        Self {
            stem: reserved & Self::STEM != 0,
            extension: reserved & Self::EXTENSION != 0,
        }
    }
}

impl Slot {
    pub(super) fn parse(bytes: &[u8; ENTRY_BYTES]) -> Self {
        let short: RawShort = zerocopy::transmute!(*bytes);
        match short.name[0] {
            0 => return Self::End,
            DELETED => return Self::Deleted,
            _ => {}
        }
        let long: RawLong = zerocopy::transmute!(*bytes);
        // Another attribute, or a first cluster: firmware takes it for no part of a name, and skips it as it does
        // a label.
        if short.attributes == ATTR_LONG_NAME && long.zero.get() == 0 {
            let mut units = [0; LONG_UNITS];
            let name = long.name_a.iter().chain(&long.name_b).chain(&long.name_c);
            units
                .iter_mut()
                .zip(name)
                .for_each(|(to, from)| *to = from.get());
            let (order, last) = (long.order & 0x3F, long.order & LAST_LONG != 0);
            return Self::Long {
                order,
                last,
                checksum: long.checksum,
                units,
            };
        }
        let cluster =
            u32::from(short.cluster_high.get()) << 16 | u32::from(short.cluster_low.get());
        Self::Short {
            entry: ShortEntry {
                name: short.name,
                attributes: short.attributes,
                cluster,
                len_bytes: short.len_bytes.get(),
            },
            case: LowerCase::of(short.reserved_nt),
        }
    }
}

impl ShortEntry {
    pub(super) fn write(&self, time: DosTime) -> [u8; ENTRY_BYTES] {
        let [a, b, c, d] = self.cluster.to_le_bytes();
        zerocopy::transmute!(RawShort {
            name: self.name,
            attributes: self.attributes,
            reserved_nt: 0,
            created_tenth: 0,
            created_time: U16::new(time.time),
            created_date: U16::new(time.date),
            accessed_date: U16::new(time.date),
            cluster_high: U16::from_bytes([c, d]),
            written_time: U16::new(time.time),
            written_date: U16::new(time.date),
            cluster_low: U16::from_bytes([a, b]),
            len_bytes: U32::new(self.len_bytes),
        })
    }
}

/// Lets an entry that stands in a directory name another content; its names and attributes stay.
pub(super) fn move_entry(
    slot: &mut [u8; ENTRY_BYTES],
    cluster: u32,
    len_bytes: u32,
    time: DosTime,
) {
    let mut raw: RawShort = zerocopy::transmute!(*slot);
    let [a, b, c, d] = cluster.to_le_bytes();
    raw.cluster_high = U16::from_bytes([c, d]);
    raw.cluster_low = U16::from_bytes([a, b]);
    raw.len_bytes = U32::new(len_bytes);
    raw.written_time = U16::new(time.time);
    raw.written_date = U16::new(time.date);
    *slot = zerocopy::transmute!(raw);
}

/// The long-name entries before a short entry, in the order they stand on the disk.
pub(super) fn write_long(long_name: &str, short: &[u8; 11]) -> Vec<[u8; ENTRY_BYTES]> {
    let mut units: Vec<u16> = long_name.encode_utf16().collect();
    if !units.len().is_multiple_of(LONG_UNITS) {
        // A name that does not fill its last entry is ended by a zero and filled with FFFFh.
        units.push(0);
        units.resize(units.len().next_multiple_of(LONG_UNITS), 0xFFFF);
    }
    let count = units.len() / LONG_UNITS;
    let mut entries: Vec<[u8; ENTRY_BYTES]> = units
        .chunks_exact(LONG_UNITS)
        .enumerate()
        .map(|(index, part)| {
            let order = u8::try_from(index + 1).unwrap_or(LAST_LONG - 1);
            let unit = |at: usize| U16::new(part.get(at).copied().unwrap_or(0));
            zerocopy::transmute!(RawLong {
                order: if index + 1 == count {
                    order | LAST_LONG
                } else {
                    order
                },
                name_a: std::array::from_fn(unit),
                attributes: ATTR_LONG_NAME,
                kind: 0,
                checksum: short_checksum(short),
                name_b: std::array::from_fn(|at| unit(5 + at)),
                zero: U16::new(0),
                name_c: std::array::from_fn(|at| unit(11 + at)),
            })
        })
        .collect();
    entries.reverse();
    entries
}

/// Ties long entries to their short one ("Long File Name checksum").
pub(super) fn short_checksum(short: &[u8; 11]) -> u8 {
    short
        .iter()
        .fold(0u8, |sum, &byte| sum.rotate_right(1).wrapping_add(byte))
}
