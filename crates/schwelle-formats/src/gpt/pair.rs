//! Both copies of the table: reading, comparing, making.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

use super::entry::GptEntry;
use super::header::{GptError, GptHeader};
use super::{ENTRY_BYTES, ENTRY_COUNT, backup_sectors, entry_sectors, first_usable};
use crate::device::{DeviceError, Extent, Geometry, IoOp, Lba, ReadDevice};

/// One sound copy: header and used entries, with their number in the table (from 1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GptCopy {
    /// The header.
    pub header: GptHeader,
    /// Used entries, each with its number.
    pub entries: Vec<(usize, GptEntry)>,
}

/// An entry in use that names no sectors, or some outside those that its header keeps for partitions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OddEntry {
    /// Its number in the table, from 1.
    pub number: usize,
    /// The first sector that it names.
    pub first_lba: Lba,
    /// The last one; before the first where the entry is reversed.
    pub last_lba: Lba,
}

impl GptCopy {
    /// Reads a copy of which every entry is sound.
    fn read(device: &dyn ReadDevice, at: Lba) -> Result<Self, GptError> {
        let (copy, odd) = Self::read_leniently(device, at)?;
        let Some(entry) = odd.first() else {
            return Ok(copy);
        };
        let usable = copy.header.usable;
        Err(GptError::Field {
            at: copy.header.entries_lba,
            field: "first or last LBA of an entry",
            actual: entry.first_lba.0,
            expected: format!(
                "entry {} inside LBA {} to {}",
                entry.number,
                usable.first.0,
                usable.last().0
            ),
        })
    }

    /// Reads a copy as firmware does, which skips single odd entries; they are returned beside it.
    fn read_leniently(device: &dyn ReadDevice, at: Lba) -> Result<(Self, Vec<OddEntry>), GptError> {
        let header = GptHeader::parse(&device.read_sector(at)?, at, device.geometry())?;
        let offset = device
            .geometry()
            .byte_of(header.entries_lba)
            .unwrap_or(u64::MAX);
        let len_bytes = usize::try_from(header.entries_len_bytes()).unwrap_or(0);
        let bytes = device.read_vec(offset, len_bytes)?;
        let computed = crc32fast::hash(&bytes);
        if computed != header.entries_crc {
            let actual = header.entries_crc;
            return Err(GptError::Checksum {
                at: header.entries_lba,
                what: "entries",
                actual,
                computed,
            });
        }
        let (mut entries, mut odd) = (Vec::new(), Vec::new());
        let all = bytes.chunks_exact(header.entry_bytes as usize);
        for (number, bytes) in (1_usize..).zip(all) {
            let Some(entry) = GptEntry::parse(bytes) else {
                continue;
            };
            if entry.extent.sectors() > 0 && header.usable.contains(&entry.extent) {
                entries.push((number, entry));
            } else {
                odd.push(OddEntry {
                    number,
                    first_lba: entry.extent.first,
                    last_lba: Lba(entry.extent.end.0.saturating_sub(1)),
                });
            }
        }
        Ok((Self { header, entries }, odd))
    }
}

/// Which copy of the table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TableCopy {
    /// The one after sector 0.
    Primary,
    /// The one at the disk's end.
    Backup,
}

/// In what two sound copies contradict each other.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Disagreement {
    /// The primary header names another place for the backup.
    #[error("the primary header names {named} as the backup's place, but it lies at {lies_at}")]
    BackupPlace {
        /// The place that it names.
        named: Lba,
        /// Where the backup is.
        lies_at: Lba,
    },
    /// The backup header names another place for the primary.
    #[error("the backup header names {named} as the primary's place")]
    PrimaryPlace {
        /// The place that it names.
        named: Lba,
    },
    /// The disk GUIDs.
    #[error("the disk GUIDs differ ({primary} and {backup})")]
    DiskGuids {
        /// That of the primary.
        primary: Uuid,
        /// That of the backup.
        backup: Uuid,
    },
    /// The range of sectors for partitions.
    #[error(
        "the usable sectors differ (LBA {} to {}, and {} to {})",
        primary.first.0, primary.last().0, backup.first.0, backup.last().0
    )]
    UsableSectors {
        /// That of the primary.
        primary: Extent,
        /// That of the backup.
        backup: Extent,
    },
    /// The partitions.
    #[error("the partition entries differ: entry {} ({})", list(numbers), fields.join(", "))]
    Entries {
        /// Numbers of the entries that differ.
        numbers: Vec<usize>,
        /// In which fields they do.
        fields: Vec<String>,
    },
}

fn list(numbers: &[usize]) -> String {
    let numbers: Vec<String> = numbers.iter().map(usize::to_string).collect();
    numbers.join(", ")
}

/// In what the entries of two copies differ.
fn different_entries(
    primary: &[(usize, GptEntry)],
    backup: &[(usize, GptEntry)],
) -> Option<Disagreement> {
    let by_number = |entries: &[(usize, GptEntry)], number: usize| {
        let mut entries = entries.iter();
        entries
            .find(|(of, _)| *of == number)
            .map(|(_, entry)| entry.clone())
    };
    let all: BTreeSet<usize> = primary
        .iter()
        .chain(backup)
        .map(|(number, _)| *number)
        .collect();
    let (mut numbers, mut fields) = (Vec::new(), BTreeSet::new());
    for number in all {
        let differ: Vec<&str> = match (by_number(primary, number), by_number(backup, number)) {
            (Some(a), Some(b)) => [
                (a.kind != b.kind, "type"),
                (a.id != b.id, "GUID"),
                (a.extent.first != b.extent.first, "first LBA"),
                (a.extent.end != b.extent.end, "last LBA"),
                (a.attributes != b.attributes, "attributes"),
                (a.name != b.name, "name"),
            ]
            .into_iter()
            .filter_map(|(differs, field)| differs.then_some(field))
            .collect(),
            _ => vec!["in one copy only"],
        };
        if !differ.is_empty() {
            numbers.push(number);
            fields.extend(differ);
        }
    }
    let fields = fields.into_iter().map(str::to_owned).collect();
    (!numbers.is_empty()).then_some(Disagreement::Entries { numbers, fields })
}

/// What was found where the two copies should be.
#[derive(Debug)]
pub struct GptPair {
    /// The copy after sector 0.
    pub primary: Result<GptCopy, GptError>,
    /// The copy at the disk's end.
    pub backup: Result<GptCopy, GptError>,
}

impl GptPair {
    /// Reads both copies: the primary at LBA 1, the backup on the last sector.
    pub fn read(device: &dyn ReadDevice) -> Self {
        let last = device.geometry().whole().last();
        Self {
            primary: GptCopy::read(device, Lba(1)),
            backup: GptCopy::read(device, last),
        }
    }

    /// Reads both copies as firmware does: of a copy with odd entries, the others count. The odd ones of the primary
    /// and of the backup are returned beside them.
    pub fn read_as_firmware(device: &dyn ReadDevice) -> (Self, [Vec<OddEntry>; 2]) {
        let last = device.geometry().whole().last();
        let split = |read: Result<(GptCopy, Vec<OddEntry>), GptError>| match read {
            Ok((copy, odd)) => (Ok(copy), odd),
            Err(error) => (Err(error), Vec::new()),
        };
        let (primary, of_primary) = split(GptCopy::read_leniently(device, Lba(1)));
        let (backup, of_backup) = split(GptCopy::read_leniently(device, last));
        (Self { primary, backup }, [of_primary, of_backup])
    }

    /// The copy to go by: the primary, else the backup.
    pub fn best(&self) -> Option<&GptCopy> {
        self.primary.as_ref().or(self.backup.as_ref()).ok()
    }

    /// In what the two sound copies differ; `None` when they agree or one is not sound.
    pub fn disagreement(&self) -> Option<Disagreement> {
        let (Ok(primary), Ok(backup)) = (&self.primary, &self.backup) else {
            return None;
        };
        let (p, b) = (&primary.header, &backup.header);
        if p.alternate_lba != b.my_lba {
            return Some(Disagreement::BackupPlace {
                named: p.alternate_lba,
                lies_at: b.my_lba,
            });
        }
        if b.alternate_lba != p.my_lba {
            return Some(Disagreement::PrimaryPlace {
                named: b.alternate_lba,
            });
        }
        if p.disk_id != b.disk_id {
            return Some(Disagreement::DiskGuids {
                primary: p.disk_id,
                backup: b.disk_id,
            });
        }
        if p.usable != b.usable {
            return Some(Disagreement::UsableSectors {
                primary: p.usable,
                backup: b.usable,
            });
        }
        different_entries(&primary.entries, &backup.entries)
    }
}

/// True when a GPT header's signature stands where a copy should be, sound or not.
pub fn copy_present(copy: &Result<GptCopy, GptError>) -> bool {
    !matches!(
        copy,
        Err(GptError::NoSignature { .. } | GptError::Device(_))
    )
}

/// A table to be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GptLayout {
    /// GUID of the disk.
    pub disk_id: Uuid,
    /// Entries in table order, unused ones among them; at most [`ENTRY_COUNT`].
    pub entries: Vec<GptEntry>,
}

impl GptLayout {
    /// The table that a copy holds, each partition with its number; `None` where it has another form
    /// than the one that is written here.
    pub fn of(copy: &GptCopy) -> Option<Self> {
        if copy.header.entry_bytes != ENTRY_BYTES || copy.header.entry_count > ENTRY_COUNT {
            return None;
        }
        let mut entries: Vec<GptEntry> = Vec::new();
        for (number, entry) in &copy.entries {
            entries.resize(number.checked_sub(1)?, GptEntry::unused());
            entries.push(entry.clone());
        }
        let disk_id = copy.header.disk_id;
        Some(Self { disk_id, entries })
    }

    /// The entries in use, with their numbers.
    pub fn used(&self) -> impl Iterator<Item = (usize, &GptEntry)> {
        let entries = (1..).zip(&self.entries);
        entries.filter(|(_, entry)| entry.is_used())
    }

    /// Puts an entry into the first unused place; false when there is none.
    pub fn add(&mut self, entry: GptEntry) -> bool {
        let (count, most) = (self.entries.len(), ENTRY_COUNT as usize);
        match self.entries.iter_mut().find(|known| !known.is_used()) {
            Some(place) => {
                *place = entry;
                return true;
            }
            None if count >= most => return false,
            None => {}
        }
        self.entries.push(entry);
        true
    }
}

/// A run of sectors to be written.
pub(super) type Sectors = (Lba, Vec<u8>);

impl GptLayout {
    /// The bytes of both copies for a disk: (backup entries and header, primary header and
    /// entries).
    ///
    /// `None` when the disk is too small or there are more entries than fit.
    pub(super) fn sectors(&self, geometry: Geometry) -> Option<(Sectors, Sectors)> {
        let sector = geometry.logical_sector;
        let last = Lba(geometry.sectors.checked_sub(1)?);
        let backup_entries = Lba(geometry.sectors.checked_sub(backup_sectors(sector))?);
        let usable = Extent::between(Lba(first_usable(sector)), backup_entries);
        if usable.first >= usable.end || self.entries.len() > ENTRY_COUNT as usize {
            return None;
        }
        let mut table: Vec<u8> = self.entries.iter().flat_map(GptEntry::write).collect();
        table.resize((ENTRY_COUNT * ENTRY_BYTES) as usize, 0);
        let entries_crc = crc32fast::hash(&table);
        table.resize(
            usize::try_from(entry_sectors(sector).checked_mul(sector.into())?).ok()?,
            0,
        );
        let header = |my_lba, alternate_lba, entries_lba| {
            let header = GptHeader {
                my_lba,
                alternate_lba,
                usable,
                disk_id: self.disk_id,
                entries_lba,
                entry_count: ENTRY_COUNT,
                entry_bytes: ENTRY_BYTES,
                entries_crc,
            };
            header.write(sector)
        };
        let backup = [table.clone(), header(last, Lba(1), backup_entries)].concat();
        let primary = [header(Lba(1), last, Lba(2)), table].concat();
        Some(((backup_entries, backup), (Lba(1), primary)))
    }

    /// Writes both copies to `device`, backup first.
    pub fn write(&self, device: &dyn crate::device::BlockDevice) -> Result<(), DeviceError> {
        let geometry = device.geometry();
        let too_small = || DeviceError::out_of_bounds(IoOp::Write, 0, 0);
        let (backup, primary) = self.sectors(geometry).ok_or_else(too_small)?;
        for (lba, bytes) in [backup, primary] {
            device.write_at(geometry.byte_of(lba).ok_or_else(too_small)?, &bytes)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{BlockDevice, Memory};
    use crate::gpt::type_guid;

    fn layout(end: u64) -> GptLayout {
        let entry = |first, end, name: &str| GptEntry {
            kind: type_guid::BASIC_DATA,
            id: Uuid::from_u128(u128::from(first)),
            extent: Extent::between(Lba(first), Lba(end)),
            attributes: 1 << 63,
            name: name.into(),
        };
        GptLayout {
            disk_id: Uuid::from_u128(77),
            entries: vec![entry(64, 100, "Turm 🗼"), entry(100, end, "")],
        }
    }

    #[test]
    fn what_is_written_is_read_back_at_both_sector_sizes() {
        for (sector, usable_end) in [(512, 2048 - 33), (4096, 2048 - 5)] {
            let disk = Memory::new(sector, 2048);
            let layout = layout(usable_end);
            layout.write(&disk).unwrap();
            let pair = GptPair::read(&disk);
            assert_eq!(pair.disagreement(), None);
            for copy in [pair.primary.unwrap(), pair.backup.unwrap()] {
                let entries: Vec<_> = copy.entries.into_iter().map(|(_, entry)| entry).collect();
                assert_eq!(entries, layout.entries);
                assert_eq!(copy.header.usable.end, Lba(usable_end));
            }
        }
    }

    #[test]
    fn every_damage_is_named_with_its_place() {
        let disk = Memory::new(512, 2048);
        layout(1000).write(&disk).unwrap();
        let good = disk.read_vec(0, 34 * 512).unwrap();
        // (byte to change after LBA 1, expected message of the primary copy)
        for (at, expected) in [
            (0, "LBA 1: no GPT header"),
            (13, "LBA 1: the GPT header's size"),
            (17, "LBA 1: the checksum of the GPT header"),
            (40, "LBA 1: the checksum of the GPT header"),
            (512 + 3, "LBA 2: the checksum of the GPT entries"),
        ] {
            let mut bytes = good.clone();
            bytes[512 + at] ^= 0x80;
            disk.write_at(0, &bytes).unwrap();
            let pair = GptPair::read(&disk);
            let message = pair.primary.as_ref().unwrap_err().to_string();
            assert!(message.starts_with(expected), "{message}");
            assert!(pair.best().is_some(), "the backup serves");
        }
        // A header that moved, with a checksum that holds.
        let (_, (_, primary)) = layout(1000).sectors(disk.geometry()).unwrap();
        disk.write_at(2047 * 512, &primary[..512]).unwrap();
        let message = GptPair::read(&disk).backup.unwrap_err().to_string();
        assert!(message.contains("own LBA is 1, expected 2047"), "{message}");
    }

    #[test]
    fn copies_that_disagree_are_noticed() {
        let disk = Memory::new(512, 2048);
        layout(1000).write(&disk).unwrap();
        let (_, primary) = layout(900).sectors(disk.geometry()).unwrap();
        disk.write_at(512, &primary.1).unwrap();
        let disagreement = GptPair::read(&disk).disagreement().unwrap();
        let expected = "the partition entries differ: entry 2 (last LBA)";
        assert_eq!(disagreement.to_string(), expected);
    }
}
