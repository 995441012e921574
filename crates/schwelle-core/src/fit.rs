//! What of a GPT disk fits into an MBR: the way back.
//!
//! An MBR names four partitions, or three and an extended partition of logical ones, each of which needs a free sector in
//! front of it for the record that names it; it reaches 2^32 sectors. [`find`] reads the disk where it must know
//! that a reserved partition is empty; the result is a value that rules can look at.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::device::{Extent, Geometry, Lba, ReadDevice};
use crate::disk_use::DiskUse;
use crate::fat::FatKind;
use crate::gpt::{TypeTable, attributes, first_usable, type_guid};
use crate::mbr::{Kind, Logical, MbrLayout, NewEntry, REACH};
use crate::placement::{ExistingUnfit, backup_region, room_for_files};
use crate::profile::{Origin, Partition, Profile, Role, Table, VolumeKind, bios_system};

/// Entries in sector 0.
const PRIMARIES: usize = 4;
/// A reserved partition is looked through up to this size; systems make them of 16 or 128 MiB.
const MAX_RESERVED_BYTES: u64 = 1 << 30;
const CHUNK_BYTES: u64 = 1 << 20;
/// FAT32 with sectors by number, which a BIOS starts from.
const FAT32: Kind = Kind(0x0C);

/// The table that a disk can get.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fit {
    /// What the disk is for.
    pub disk_use: DiskUse,
    /// Its partitions; the signature is chosen when the draft is made.
    pub layout: MbrLayout,
    /// Numbers of the reserved partitions that are left out: they hold nothing.
    pub dropped: Vec<usize>,
    /// Number of the EFI system partition, from which a BIOS starts afterwards; `None` for a data disk.
    pub esp: Option<usize>,
}

/// Something that does not fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Obstacle {
    /// A partition ends beyond the last sector that an MBR reaches.
    BeyondReach {
        /// Number of the partition.
        number: usize,
        /// Its last sector.
        last: Lba,
    },
    /// A type without an MBR form.
    Kind {
        /// Number of the partition.
        number: usize,
        /// Its type.
        kind: Uuid,
    },
    /// A reserved partition that holds something.
    ReservedInUse {
        /// Number of the partition.
        number: usize,
        /// The first sector that is not zero; `None` where it is too large to be looked through.
        at: Option<Lba>,
    },
    /// More partitions than entries, and no place for the records of logical ones.
    TooMany {
        /// How many there are.
        partitions: usize,
        /// How many of them must be logical.
        logical: usize,
        /// Those that cannot be logical.
        tight: Vec<Tight>,
    },
    /// A system disk without an EFI system partition, or with several: their numbers.
    Esp(Vec<usize>),
    /// The EFI system partition cannot take more files.
    EspUnfit {
        /// Number of the partition.
        number: usize,
        /// Why not.
        why: ExistingUnfit,
    },
    /// No BIOS starts from sectors of this size.
    Sectors(u32),
}

/// A partition that cannot be logical.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Tight {
    /// Its number.
    pub number: usize,
    /// Why not.
    pub why: WhyTight,
}

/// Why a partition cannot be logical.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WhyTight {
    /// No BIOS starts from a logical one.
    Active,
    /// It begins right after the table: there is no sector for its record.
    BehindTable,
    /// It begins right after the partition with this number.
    BehindPartition(usize),
}

/// Finds out what fits. All that does not is reported.
pub fn find(
    disk: &dyn ReadDevice,
    profile: &Profile,
    disk_use: DiskUse,
    types: &TypeTable,
) -> Result<Fit, Vec<Obstacle>> {
    let Table::Gpt { .. } = profile.table else {
        // The rule about the table says so; nothing is looked for.
        return Err(Vec::new());
    };
    let mut obstacles = Vec::new();
    let esp = match disk_use {
        DiskUse::Data => None,
        DiskUse::System => {
            let sector = profile.geometry.logical_sector;
            obstacles.extend((sector != 512).then_some(Obstacle::Sectors(sector)));
            let esps = profile
                .partitions
                .iter()
                .filter(|part| part.role == Role::Esp);
            let esps: Vec<usize> = esps.map(|part| part.number).collect();
            if esps.len() != 1 {
                obstacles.push(Obstacle::Esp(esps.clone()));
            }
            if let ([number], Some(esp)) =
                (&esps[..], esps.first().and_then(|&n| profile.partition(n)))
            {
                let files = bios_system(profile).map_or(0, |system| system.bios_files.len_bytes());
                let unfit = room_for_files(disk, esp, files).err();
                obstacles.extend(unfit.map(|why| Obstacle::EspUnfit {
                    number: *number,
                    why,
                }));
            }
            esps.first().copied()
        }
    };
    let (mut kept, mut dropped) = (Vec::new(), Vec::new());
    for partition in &profile.partitions {
        if partition.gpt_kind() == Some(type_guid::RESERVED) {
            match content_of(disk, partition.extent) {
                Ok(None) => dropped.push(partition.number),
                Ok(at) => obstacles.push(Obstacle::ReservedInUse {
                    number: partition.number,
                    at,
                }),
                Err(()) => obstacles.push(Obstacle::ReservedInUse {
                    number: partition.number,
                    at: None,
                }),
            }
            continue;
        }
        let active = esp == Some(partition.number);
        let kind = if active {
            Some(FAT32)
        } else {
            kind_of(partition, types)
        };
        match kind {
            Some(kind) => kept.push((
                partition,
                NewEntry {
                    kind,
                    extent: partition.extent,
                    active,
                },
            )),
            None => obstacles.push(Obstacle::Kind {
                number: partition.number,
                kind: partition.gpt_kind().unwrap_or_default(),
            }),
        }
        if partition.extent.end.0 > REACH {
            obstacles.push(Obstacle::BeyondReach {
                number: partition.number,
                last: partition.extent.last(),
            });
        }
    }
    kept.sort_by_key(|(partition, _)| partition.extent);
    match lay_out(profile.geometry, &kept) {
        Ok(layout) if obstacles.is_empty() => Ok(Fit {
            disk_use,
            layout,
            dropped,
            esp,
        }),
        Ok(_) => Err(obstacles),
        Err(obstacle) => {
            obstacles.push(obstacle);
            Err(obstacles)
        }
    }
}

/// Shares partitions, which are in disk order, out among primary and logical ones: as few logical ones as can
/// be, and among equals those that hold no Windows.
fn lay_out(geometry: Geometry, kept: &[(&Partition, NewEntry)]) -> Result<MbrLayout, Obstacle> {
    let count = kept.len();
    let layout = |logical: std::ops::Range<usize>, records: &[Option<Lba>]| {
        let (mut primaries, mut inside) = (Vec::new(), Vec::new());
        for (index, ((_, entry), record)) in kept.iter().zip(records).enumerate() {
            match record {
                Some(record) if logical.contains(&index) => inside.push(Logical {
                    entry: *entry,
                    record: *record,
                }),
                _ => primaries.push(*entry),
            }
        }
        MbrLayout {
            signature: 0,
            primaries,
            logical: inside,
        }
    };
    let records = record_places(geometry, kept);
    if count <= PRIMARIES {
        return Ok(layout(0..0, &records));
    }
    let least = count.saturating_sub(PRIMARIES - 1);
    let is_windows = |index: &usize| {
        kept.get(*index)
            .is_some_and(|(partition, _)| partition.role == Role::Windows)
    };
    let can_be = |index: &usize| {
        let active = kept.get(*index).is_some_and(|(_, entry)| entry.active);
        !active && records.get(*index).is_some_and(Option::is_some)
    };
    let runs = (least..=count).flat_map(|len| (0..=count - len).map(move |from| from..from + len));
    let possible = runs.filter(|run| run.clone().all(|index| can_be(&index)));
    let best = possible.min_by_key(|run| {
        let windows = run.clone().filter(is_windows).count();
        (run.len(), windows)
    });
    match best {
        Some(run) => Ok(layout(run, &records)),
        None => Err(Obstacle::TooMany {
            partitions: count,
            logical: least,
            tight: tight(kept, &records),
        }),
    }
}

/// For each partition, the free sector right before it.
fn record_places(geometry: Geometry, kept: &[(&Partition, NewEntry)]) -> Vec<Option<Lba>> {
    let mut end = first_usable(geometry.logical_sector);
    let last = backup_region(geometry).first.0;
    let mut places = Vec::new();
    for (_, entry) in kept {
        let place = entry.extent.first.0.checked_sub(1);
        places.push(place.filter(|at| *at >= end && *at < last).map(Lba));
        end = end.max(entry.extent.end.0);
    }
    places
}

/// Those that cannot be logical: no BIOS starts from a logical partition, and each needs a sector for its record.
fn tight(kept: &[(&Partition, NewEntry)], records: &[Option<Lba>]) -> Vec<Tight> {
    let mut behind = WhyTight::BehindTable;
    let mut tight = Vec::new();
    for ((partition, entry), record) in kept.iter().zip(records) {
        let number = partition.number;
        if entry.active {
            let why = WhyTight::Active;
            tight.push(Tight { number, why });
        } else if record.is_none() {
            tight.push(Tight {
                number,
                why: behind,
            });
        }
        behind = WhyTight::BehindPartition(number);
    }
    tight
}

/// The type that a partition gets; `None` where its own has no MBR form.
fn kind_of(partition: &Partition, types: &TypeTable) -> Option<Kind> {
    let Origin::Gpt(entry) = &partition.origin else {
        return None;
    };
    let kind = match entry.kind {
        type_guid::EFI_SYSTEM => Kind::EFI_SYSTEM,
        type_guid::RECOVERY => Kind::RECOVERY,
        type_guid::LINUX => Kind(0x83),
        type_guid::LINUX_SWAP => Kind(0x82),
        type_guid::LINUX_LVM => Kind(0x8E),
        type_guid::LINUX_RAID => Kind(0xFD),
        type_guid::FAST_RESUME => Kind(0x84),
        type_guid::BASIC_DATA => {
            let visible = match partition.volume.kind {
                VolumeKind::Fat(FatKind::Fat32) => FAT32,
                VolumeKind::Fat(FatKind::Fat16) => Kind(0x0E),
                VolumeKind::Fat(FatKind::Fat12) => Kind(0x01),
                _ => Kind(0x07),
            };
            match entry.attributes & attributes::HIDDEN != 0 {
                true => visible.hidden(),
                false => visible,
            }
        }
        other => return types.chosen_as(other),
    };
    Some(kind)
}

/// The first sector that is not zero. The error says that it is not known: it cannot be read, or is too large.
fn content_of(disk: &dyn ReadDevice, extent: Extent) -> Result<Option<Lba>, ()> {
    let geometry = disk.geometry();
    let len_bytes = geometry.bytes_in(&extent);
    let start = geometry.byte_of(extent.first).ok_or(())?;
    if len_bytes > MAX_RESERVED_BYTES {
        return Err(());
    }
    let mut at = 0;
    while at < len_bytes {
        let len = usize::try_from(CHUNK_BYTES.min(len_bytes - at)).map_err(|_too_large| ())?;
        let bytes = disk
            .read_vec(start.checked_add(at).ok_or(())?, len)
            .map_err(|_fault| ())?;
        if let Some(place) = bytes.iter().position(|&byte| byte != 0) {
            let sector = at.saturating_add(place as u64) / u64::from(geometry.logical_sector);
            return Ok(Some(Lba(extent.first.0.saturating_add(sector))));
        }
        at = at.saturating_add(CHUNK_BYTES);
    }
    Ok(None)
}
