//! A partition table to be written: sector 0 and the chain of extended boot records.

use zerocopy::little_endian::U32;
use zerocopy::{FromZeros, IntoBytes};

use super::boot_code::BiosStart;
use super::entry::{Kind, RawEntry};
use super::record::RawRecord;
use crate::device::{BlockDevice, DeviceError, Extent, Geometry, IoOp, Lba};

/// Type of the extended partition, for sectors by number.
const EXTENDED: Kind = Kind(0x0F);
/// Type of a link in the chain.
const LINK: Kind = Kind(0x05);
/// Flag of the partition that is started.
const ACTIVE: u8 = 0x80;
/// Heads and sectors on a track that every BIOS shows for a large disk.
const HEADS: u64 = 255;
const TRACK_SECTORS: u64 = 63;
/// A place that cylinder, head and sector cannot say.
const CHS_BEYOND: [u8; 3] = [0xFE, 0xFF, 0xFF];

/// A partition to be named.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewEntry {
    /// Type byte.
    pub kind: Kind,
    /// Where it lies: inside the first 2^32 sectors.
    pub extent: Extent,
    /// The one to start from.
    pub active: bool,
}

/// A logical partition, and the sector before it that names it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Logical {
    /// The partition.
    pub entry: NewEntry,
    /// Its extended boot record.
    pub record: Lba,
}

/// A table to be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MbrLayout {
    /// Disk signature.
    pub signature: u32,
    /// Primary partitions in table order: four, or three where there are logical ones.
    pub primaries: Vec<NewEntry>,
    /// Logical partitions in disk order.
    pub logical: Vec<Logical>,
}

impl MbrLayout {
    /// The extended partition: from the first extended boot record to the end of the last logical partition.
    pub fn extended(&self) -> Option<Extent> {
        Some(Extent::between(
            self.logical.first()?.record,
            self.logical.last()?.entry.extent.end,
        ))
    }

    /// All partitions with their numbers: primary ones by their place in the table, logical ones from 5
    /// on. The extended partition has a place of its own, after the primary ones.
    pub fn numbered(&self) -> impl Iterator<Item = (usize, &NewEntry)> {
        let logical = self.logical.iter().map(|logical| &logical.entry);
        (1..).zip(&self.primaries).chain((5..).zip(logical))
    }

    /// The sectors of the extended boot records.
    pub fn records(&self) -> impl Iterator<Item = Lba> + '_ {
        self.logical.iter().map(|logical| logical.record)
    }

    /// Writes sector 0 with this boot code, and the chain. What an entry cannot hold is an error of the
    /// device's kind: out of reach.
    pub fn write(&self, device: &dyn BlockDevice, start: BiosStart) -> Result<(), DeviceError> {
        let geometry = device.geometry();
        let extended = self.extended();
        for (index, logical) in self.logical.iter().enumerate() {
            let first = extended.map_or(Lba(0), |extended| extended.first);
            let next = self.logical.get(index.saturating_add(1));
            let link = next.map(|next| NewEntry {
                kind: LINK,
                extent: Extent::between(next.record, next.entry.extent.end),
                active: false,
            });
            let mut record = RawRecord::new_zeroed();
            let entries = [
                Some((logical.entry, logical.record)),
                link.map(|link| (link, first)),
            ];
            put(&mut record, entries.into_iter().flatten(), geometry)?;
            write_record(device, &record, logical.record)?;
        }
        let mut record = RawRecord::new_zeroed();
        record.boot_code = start.code();
        record.disk_signature = U32::new(self.signature);
        let extended = extended.map(|extent| NewEntry {
            kind: EXTENDED,
            extent,
            active: false,
        });
        let entries = self.primaries.iter().copied().chain(extended);
        put(&mut record, entries.map(|entry| (entry, Lba(0))), geometry)?;
        write_record(device, &record, Lba(0))
    }
}

/// Puts entries into a record, each counted from its base.
fn put(
    record: &mut RawRecord,
    entries: impl Iterator<Item = (NewEntry, Lba)>,
    geometry: Geometry,
) -> Result<(), DeviceError> {
    let mut places = record.entries.iter_mut();
    for (entry, base) in entries {
        let extent = entry.extent;
        let offset = geometry.byte_of(extent.first).unwrap_or(u64::MAX);
        let out_of_reach = || DeviceError::out_of_bounds(IoOp::Write, offset, 0);
        let number = |sectors: Option<u64>| u32::try_from(sectors?).ok();
        let first = number(extent.first.0.checked_sub(base.0)).ok_or_else(out_of_reach)?;
        let sectors = number(Some(extent.sectors())).ok_or_else(out_of_reach)?;
        let place = places.next().ok_or_else(out_of_reach)?;
        *place = RawEntry {
            flag: if entry.active { ACTIVE } else { 0 },
            chs_first: chs(extent.first),
            kind: entry.kind.0,
            chs_last: chs(extent.last()),
            first_lba: U32::new(first),
            sectors: U32::new(sectors),
        };
    }
    record.boot_signature = [0x55, 0xAA];
    Ok(())
}

/// Writes a record; what is after its 512 bytes in a longer sector becomes zeros.
fn write_record(device: &dyn BlockDevice, record: &RawRecord, at: Lba) -> Result<(), DeviceError> {
    let geometry = device.geometry();
    let mut sector = record.as_bytes().to_vec();
    sector.resize(geometry.logical_sector as usize, 0);
    device.write_at(geometry.byte_of(at).unwrap_or(u64::MAX), &sector)
}

/// Cylinder, head and sector (numbered from 1) as an entry packs them: the sector in six bits, above it
/// the two highest of the cylinder's ten.
fn chs(lba: Lba) -> [u8; 3] {
    let (track, sector) = (lba.0 / TRACK_SECTORS, lba.0 % TRACK_SECTORS + 1);
    let (cylinder, head) = (track / HEADS, track % HEADS);
    let packed = [head, sector | (cylinder >> 2 & 0xC0), cylinder & 0xFF].map(u8::try_from);
    match packed {
        [Ok(head), Ok(sector), Ok(low)] if cylinder < 1024 => [head, sector, low],
        _ => CHS_BEYOND,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{Memory, ReadDevice};
    use crate::mbr::{BootRecord, MbrTable};
    use proptest::prelude::*;

    fn entry(first: u64, sectors: u64, kind: u8, active: bool) -> NewEntry {
        NewEntry {
            kind: Kind(kind),
            extent: Extent::new(Lba(first), sectors).unwrap(),
            active,
        }
    }

    fn read(disk: &Memory) -> MbrTable {
        let record = BootRecord::parse(&disk.read_sector(Lba(0)).unwrap()).unwrap();
        MbrTable::read(disk, record).unwrap()
    }

    #[test]
    fn places_in_cylinders_end_where_their_bits_do() {
        for (lba, expected) in [
            (0, [0, 1, 0]),
            (62, [0, 63, 0]),
            (63, [1, 1, 0]),
            (2048, [32, 33, 0]),
            (255 * 63 * 256, [0, 0x41, 0]),
            (255 * 63 * 1024 - 1, [254, 0xFF, 0xFF]),
            (255 * 63 * 1024, CHS_BEYOND),
        ] {
            assert_eq!(chs(Lba(lba)), expected, "{lba}");
        }
    }

    #[test]
    fn what_an_entry_cannot_hold_is_refused() {
        let disk = Memory::new(512, 100);
        for primaries in [
            vec![entry(1 << 32, 1, 7, false)],
            vec![entry(9, 1, 7, false); 5],
        ] {
            let layout = MbrLayout {
                signature: 1,
                primaries,
                logical: Vec::new(),
            };
            assert!(layout.write(&disk, BiosStart::PassOn).is_err());
        }
        assert_eq!(disk.read_sector(Lba(0)).unwrap(), vec![0; 512]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(100))]
        #[test]
        fn what_is_written_is_read_again(
            sector in prop::sample::select(vec![512u32, 4096]),
            gaps in prop::collection::vec((1u64..50, 1u64..200), 0..20),
            primaries in 0usize..4,
            active in 0usize..4,
        ) {
            let mut at = 1;
            let mut layout = MbrLayout { signature: 0xC0FF_EE01, primaries: Vec::new(), logical: Vec::new() };
            for (index, (gap, sectors)) in gaps.into_iter().enumerate() {
                let new = entry(at + gap, sectors, 7, index < primaries && index == active);
                match index < primaries {
                    true => layout.primaries.push(new),
                    false => layout.logical.push(Logical { entry: new, record: Lba(at + gap - 1) }),
                }
                at += gap + sectors;
            }
            let disk = Memory::new(sector, 10_000);
            layout.write(&disk, BiosStart::ActivePartition).unwrap();
            let table = read(&disk);
            prop_assert_eq!(&table.damage, &[]);
            prop_assert_eq!(table.record.disk_signature, 0xC0FF_EE01);
            prop_assert_eq!(table.record.own_code, Some(BiosStart::ActivePartition));
            let found: Vec<_> = table.partitions.iter().map(|part| (part.slot.number(), part.extent, part.active)).collect();
            let meant: Vec<_> = layout.numbered().map(|(number, entry)| (number, entry.extent, entry.active)).collect();
            prop_assert_eq!(found, meant);
            let named_at: Vec<_> = table.partitions.iter().map(|part| part.named_at).filter(|at| at.0 != 0).collect();
            prop_assert_eq!(named_at, layout.records().collect::<Vec<_>>());
            prop_assert_eq!(table.extended.first().map(|extended| extended.extent), layout.extended());
        }
    }
}
