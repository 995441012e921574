//! The protective MBR of a GPT disk (UEFI 2.10 §5.2.3).

use zerocopy::little_endian::U32;
use zerocopy::{FromBytes, FromZeros, IntoBytes};

use super::boot_code::{BiosStart, CODE_BYTES};
use super::entry::{Entry, Kind, RawEntry};
use super::record::RawRecord;
use crate::device::Geometry;

/// Where the entries begin (UEFI 2.10 table 5.1).
const ENTRIES_AT: usize = 446;

/// Sector 0 for a GPT disk: one logical sector long.
pub fn protective_sector(geometry: Geometry, start: BiosStart) -> Vec<u8> {
    let mut record = RawRecord::new_zeroed();
    record.boot_code = start.code();
    record.entries[0] = RawEntry {
        flag: 0,
        chs_first: [0x00, 0x02, 0x00],
        kind: Kind::PROTECTIVE.0,
        chs_last: [0xFF; 3],
        first_lba: U32::new(1),
        // A disk too large for the field is shown as large as the field allows.
        sectors: U32::new(u32::try_from(geometry.sectors.saturating_sub(1)).unwrap_or(u32::MAX)),
    };
    record.boot_signature = [0x55, 0xAA];
    let mut sector = record.as_bytes().to_vec();
    sector.resize(geometry.logical_sector as usize, 0);
    sector
}

/// What sector 0 of a GPT disk says, with a signature at its end or without.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Protection {
    /// It ends in 55 AA.
    pub has_signature: bool,
    /// The protective entry, where there is one.
    pub entry: Option<Entry>,
    /// The other entries that are in use.
    pub others: Vec<Entry>,
}

impl Protection {
    /// Reads the first 512 bytes of a sector 0; `None` where it is shorter.
    pub fn of(sector: &[u8]) -> Option<Self> {
        let (raw, _) = RawRecord::ref_from_prefix(sector).ok()?;
        // Of a protective entry the length does not count: firmware does not look at it.
        let used = raw.entries.iter().map(Entry::fields);
        let used: Vec<Entry> = used.filter(|entry| entry.kind.0 != 0).collect();
        let is_protective = |entry: &&Entry| entry.kind == Kind::PROTECTIVE;
        // Firmware looks for one that it can go by among all of them.
        let protective = used.iter().filter(is_protective);
        let entry = protective.min_by_key(|entry| (entry.first != 1, entry.flag != 0));
        let entry = entry.copied();
        let mut others = used;
        if let Some(at) = others.iter().position(|other| Some(*other) == entry) {
            others.remove(at);
        }
        Some(Self {
            has_signature: raw.boot_signature == [0x55, 0xAA],
            entry,
            others,
        })
    }
}

/// The sector 0 that protects a GPT disk which has one already, sound or not: its boot code and what
/// else is in it stay, the four entries are one protective entry. Where there is no boot code, it gets
/// ours.
pub fn protect(old: &[u8], geometry: Geometry, start: BiosStart) -> Vec<u8> {
    let mut new = protective_sector(geometry, start);
    let has_code = old
        .get(..CODE_BYTES)
        .is_some_and(|code| code.iter().any(|&byte| byte != 0));
    let (from, to) = (old.get(..ENTRIES_AT), new.get_mut(..ENTRIES_AT));
    if let (Some(from), Some(to), true) = (from, to, has_code) {
        to.copy_from_slice(from);
    }
    new
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mbr::BootRecord;

    #[test]
    fn covers_the_disk_and_is_not_active() {
        for (sector, sectors, expected) in [
            (512u32, 1000u64, 999u32),
            (4096, 1000, 999),
            (512, 1 << 32, u32::MAX),
            (512, 1 << 40, u32::MAX),
        ] {
            let geometry = Geometry {
                logical_sector: sector,
                physical_sector: sector,
                sectors,
            };
            let bytes = protective_sector(geometry, BiosStart::Signpost);
            assert_eq!(bytes.len(), sector as usize);
            let record = BootRecord::parse(&bytes).unwrap();
            let entry = record.entries[0].unwrap();
            assert_eq!(
                (entry.kind, entry.first, entry.sectors, entry.flag),
                (Kind::PROTECTIVE, 1, expected, 0)
            );
            assert_eq!(record.entries[1..], [None; 3]);
            assert_eq!(record.disk_signature, 0);
            assert_eq!(record.own_code, Some(BiosStart::Signpost));
        }
    }
}
