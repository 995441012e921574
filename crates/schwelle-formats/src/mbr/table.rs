//! The whole partition table of an MBR disk: sector 0 and the chain of extended boot records.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use std::collections::BTreeSet;
use std::fmt;

use super::entry::{Entry, Kind};
use super::record::BootRecord;
use crate::device::{DeviceError, Extent, Lba, ReadDevice};

/// Logical partitions read at most. More than a GPT can hold are of no use, and a chain must end.
const MAX_LOGICAL: usize = 256;

/// Where in the table a partition is named.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Slot {
    /// Entry 1 to 4 of sector 0.
    Primary(usize),
    /// The nth logical partition, counted from 5 as everywhere.
    Logical(usize),
}

impl Slot {
    /// The partition's number.
    pub fn number(self) -> usize {
        match self {
            Self::Primary(number) | Self::Logical(number) => number,
        }
    }
}

impl fmt::Display for Slot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "partition {}", self.number())
    }
}

/// A partition of an MBR disk, at its place on the disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MbrPartition {
    /// Where it is named.
    pub slot: Slot,
    /// Type byte.
    pub kind: Kind,
    /// Where it lies. May leave the disk or overlap another: see [`MbrTable::damage`].
    pub extent: Extent,
    /// Marked as the one to start from.
    pub active: bool,
    /// The sector that names it: 0, or that of its extended boot record.
    pub named_at: Lba,
}

/// Something wrong with the table, and the sector that says so.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Damage {
    /// The sector with the entry or record at fault.
    pub at: Lba,
    /// What is wrong.
    pub kind: DamageKind,
}

/// What can be wrong with an MBR table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum DamageKind {
    /// A partition that ends beyond the disk.
    #[error("{slot} ends at LBA {}, beyond the disk's last, LBA {}", .extent.last().0, .disk_last.0)]
    BeyondEnd {
        /// The partition.
        slot: Slot,
        /// Where it says it lies.
        extent: Extent,
        /// The disk's last sector.
        disk_last: Lba,
    },
    /// Two partitions share sectors.
    #[error("{a} and {b} overlap from LBA {} to LBA {}", .shared.first.0, .shared.last().0)]
    Overlap {
        /// One.
        a: Slot,
        /// The other.
        b: Slot,
        /// The sectors both claim.
        shared: Extent,
    },
    /// A flag byte that is neither 00h nor 80h.
    #[error("{slot} has the flag byte {flag:02X}h, which is neither 00h nor 80h")]
    BadFlag {
        /// The partition.
        slot: Slot,
        /// Its flag.
        flag: u8,
    },
    /// The chain of extended boot records comes back to a record already read.
    #[error("the chain of extended boot records loops back to LBA {}", .to.0)]
    ChainLoop {
        /// The record it returns to.
        to: Lba,
    },
    /// A link of the chain, or a logical partition, leaves its extended partition.
    #[error("a link to LBA {} leaves its extended partition (LBA {} to {})", .to.0, .extended.first.0, .extended.last().0)]
    ChainOutside {
        /// Where it leads.
        to: Lba,
        /// The extended partition.
        extended: Extent,
    },
    /// An extended boot record without its signature 55 AA.
    #[error("the extended boot record has no signature 55 AA")]
    ChainUnmarked,
    /// More logical partitions than are read.
    #[error("more than {MAX_LOGICAL} logical partitions")]
    ChainTooLong,
    /// More than one extended partition.
    #[error("{slot} is a second extended partition")]
    SecondExtended {
        /// The extended partition that is one too many.
        slot: Slot,
    },
}

/// The partitions of an MBR disk and everything that is wrong with their table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MbrTable {
    /// Sector 0.
    pub record: BootRecord,
    /// Primary partitions in table order, then logical ones; extended partitions are not among them.
    pub partitions: Vec<MbrPartition>,
    /// Extended extended partitions.
    pub extended: Vec<MbrPartition>,
    /// What is wrong. Partitions are listed all the same.
    pub damage: Vec<Damage>,
}

impl MbrTable {
    /// Reads the table of a disk whose sector 0 has been parsed as `record`.
    pub fn read(device: &dyn ReadDevice, record: BootRecord) -> Result<Self, DeviceError> {
        let mut table = Self {
            record,
            partitions: Vec::new(),
            extended: Vec::new(),
            damage: Vec::new(),
        };
        for (index, entry) in table.record.entries.into_iter().enumerate() {
            let Some(entry) = entry else { continue };
            let partition = table.place(
                entry,
                Slot::Primary(index.saturating_add(1)),
                Lba(0),
                Lba(0),
            );
            if !entry.kind.is_extended() {
                table.partitions.push(partition);
            } else if table.extended.is_empty() {
                table.extended.push(partition);
            } else {
                table.damage.push(Damage {
                    at: Lba(0),
                    kind: DamageKind::SecondExtended {
                        slot: partition.slot,
                    },
                });
            }
        }
        if let Some(extended) = table.extended.first().copied() {
            table.read_chain(device, extended.extent)?;
        }
        table.check_extents(device.geometry().whole());
        Ok(table)
    }

    fn place(&mut self, entry: Entry, slot: Slot, base: Lba, named_at: Lba) -> MbrPartition {
        if entry.flag & 0x7F != 0 {
            self.damage.push(Damage {
                at: named_at,
                kind: DamageKind::BadFlag {
                    slot,
                    flag: entry.flag,
                },
            });
        }
        let extent = entry.extent(base);
        MbrPartition {
            slot,
            kind: entry.kind,
            extent,
            active: entry.is_active(),
            named_at,
        }
    }

    fn read_chain(&mut self, device: &dyn ReadDevice, extended: Extent) -> Result<(), DeviceError> {
        let disk = device.geometry().whole();
        let mut seen = BTreeSet::new();
        let mut at = extended.first;
        while seen.len() < MAX_LOGICAL {
            if !disk.contains(&Extent::between(at, Lba(at.0.saturating_add(1)))) {
                // The extended partition itself lies beyond the disk; its own damage says so.
                return Ok(());
            }
            seen.insert(at);
            let Some(record) = BootRecord::parse(&device.read_sector(at)?) else {
                self.damage.push(Damage {
                    at,
                    kind: DamageKind::ChainUnmarked,
                });
                return Ok(());
            };
            let [logical, next, ..] = record.entries;
            if let Some(entry) = logical.filter(|entry| !entry.kind.is_extended()) {
                let number = self
                    .partitions
                    .iter()
                    .filter(|p| matches!(p.slot, Slot::Logical(_)))
                    .count();
                let partition = self.place(entry, Slot::Logical(number.saturating_add(5)), at, at);
                if !extended.contains(&partition.extent) {
                    let kind = DamageKind::ChainOutside {
                        to: partition.extent.last(),
                        extended,
                    };
                    self.damage.push(Damage { at, kind });
                }
                self.partitions.push(partition);
            }
            let Some(next) = next else { return Ok(()) };
            let to = next.extent(extended.first).first;
            let link = Extent::between(to, Lba(to.0.saturating_add(1)));
            let kind = if seen.contains(&to) {
                DamageKind::ChainLoop { to }
            } else if !extended.contains(&link) {
                DamageKind::ChainOutside { to, extended }
            } else {
                at = to;
                continue;
            };
            self.damage.push(Damage { at, kind });
            return Ok(());
        }
        self.damage.push(Damage {
            at,
            kind: DamageKind::ChainTooLong,
        });
        Ok(())
    }

    fn check_extents(&mut self, disk: Extent) {
        let mut all: Vec<MbrPartition> = self.partitions.clone();
        for part in all.iter().chain(&self.extended) {
            if !disk.contains(&part.extent) {
                let kind = DamageKind::BeyondEnd {
                    slot: part.slot,
                    extent: part.extent,
                    disk_last: disk.last(),
                };
                self.damage.push(Damage {
                    at: part.named_at,
                    kind,
                });
            }
        }
        let mut overlap = |a: &MbrPartition, b: &MbrPartition| {
            let shared = Extent::between(
                a.extent.first.max(b.extent.first),
                a.extent.end.min(b.extent.end),
            );
            if shared.first < shared.end {
                let kind = DamageKind::Overlap {
                    a: a.slot,
                    b: b.slot,
                    shared,
                };
                self.damage.push(Damage {
                    at: b.named_at,
                    kind,
                });
            }
        };
        // An extended partition overlaps its own logical partitions by nature, so it is held against
        // primaries only.
        for extended in &self.extended {
            for primary in all
                .iter()
                .filter(|part| matches!(part.slot, Slot::Primary(_)))
            {
                overlap(primary, extended);
            }
        }
        all.sort_by_key(|part| part.extent);
        let mut widest: Option<MbrPartition> = None;
        for part in all {
            if let Some(before) = &widest {
                overlap(before, &part);
            }
            if widest.is_none_or(|before| part.extent.end > before.extent.end) {
                widest = Some(part);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{BlockDevice, Memory};
    use proptest::prelude::*;

    /// A boot record with the given (type, first, sectors) entries.
    fn record(entries: &[(u8, u32, u32)]) -> Vec<u8> {
        let mut sector = vec![0; 512];
        for (entry, at) in entries.iter().zip((446..).step_by(16)) {
            sector[at + 4] = entry.0;
            sector[at + 8..at + 12].copy_from_slice(&entry.1.to_le_bytes());
            sector[at + 12..at + 16].copy_from_slice(&entry.2.to_le_bytes());
        }
        sector[510..].copy_from_slice(&[0x55, 0xAA]);
        sector
    }

    fn read(records: &[(u64, Vec<u8>)]) -> MbrTable {
        let disk = Memory::new(512, 10_000);
        for (lba, bytes) in records {
            disk.write_at(lba * 512, bytes).unwrap();
        }
        let first = BootRecord::parse(&disk.read_sector(Lba(0)).unwrap()).unwrap();
        MbrTable::read(&disk, first).unwrap()
    }

    #[test]
    fn logical_partitions_count_from_their_own_record() {
        let table = read(&[
            (0, record(&[(7, 63, 100), (0x0F, 1000, 4000)])),
            (1000, record(&[(7, 10, 90), (5, 500, 1000)])),
            (1500, record(&[(0x83, 20, 80)])),
        ]);
        assert_eq!(table.damage, []);
        let found: Vec<_> = table
            .partitions
            .iter()
            .map(|p| (p.slot.number(), p.extent.first.0, p.extent.end.0))
            .collect();
        assert_eq!(found, [(1, 63, 163), (5, 1010, 1100), (6, 1520, 1600)]);
        assert_eq!(table.partitions[2].named_at, Lba(1500));
    }

    #[test]
    fn damage_is_told_with_its_place() {
        let text = |table: &MbrTable| -> Vec<String> {
            table
                .damage
                .iter()
                .map(|damage| format!("{}: {}", damage.at, damage.kind))
                .collect()
        };
        type Records<'a> = &'a [(u64, Vec<u8>)];
        let cases: [(Records<'_>, &str); 7] = [
            (
                &[(0, record(&[(7, 9000, 2000)]))],
                "LBA 0: partition 1 ends at LBA 10999, beyond the disk's last, LBA 9999",
            ),
            (
                &[(0, record(&[(7, 100, 100), (7, 150, 100)]))],
                "LBA 0: partition 1 and partition 2 overlap from LBA 150 to LBA 199",
            ),
            (
                &[
                    (0, record(&[(5, 1000, 1000)])),
                    (1000, record(&[(7, 10, 10), (5, 0, 100)])),
                ],
                "LBA 1000: the chain of extended boot records loops back to LBA 1000",
            ),
            (
                &[
                    (0, record(&[(5, 1000, 1000)])),
                    (1000, record(&[(7, 10, 10), (5, 3000, 100)])),
                ],
                "LBA 1000: a link to LBA 4000 leaves its extended partition (LBA 1000 to 1999)",
            ),
            (
                &[(0, record(&[(5, 1000, 1000)]))],
                "LBA 1000: the extended boot record has no signature 55 AA",
            ),
            (
                &[
                    (0, record(&[(5, 1000, 1000)])),
                    (1000, record(&[(7, 10, 2000)])),
                ],
                "LBA 1000: a link to LBA 3009 leaves its extended partition (LBA 1000 to 1999)",
            ),
            (
                &[
                    (0, record(&[(5, 1000, 10), (5, 2000, 10)])),
                    (1000, record(&[])),
                ],
                "LBA 0: partition 2 is a second extended partition",
            ),
        ];
        for (records, expected) in cases {
            assert_eq!(text(&read(records)), [expected]);
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]
        #[test]
        fn any_bytes_are_read_without_panic(
            entries in prop::collection::vec((any::<u8>(), 0u32..12_000, 0u32..12_000), 4),
            links in prop::collection::vec((0u64..10_000, any::<u8>(), any::<u32>(), 0u32..10_000), 0..12),
        ) {
            let mut records = vec![(0, record(&entries))];
            records.extend(links.into_iter().map(|(at, kind, first, next)| (at, record(&[(kind, first, 5), (5, next, 5)]))));
            records.rotate_left(1);
            let disk = Memory::new(512, 10_000);
            for (lba, bytes) in &records {
                disk.write_at(lba * 512, bytes).unwrap();
            }
            if let Some(first) = BootRecord::parse(&disk.read_sector(Lba(0)).unwrap()) {
                let table = MbrTable::read(&disk, first).unwrap();
                prop_assert!(table.partitions.len() <= MAX_LOGICAL + 4);
            }
        }
    }
}
