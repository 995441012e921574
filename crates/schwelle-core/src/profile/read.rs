//! Reading the profile of a disk.

use uuid::Uuid;

use crate::device::{DeviceError, Extent, Geometry, Lba, ReadDevice};
use crate::fat::FatKind;
use crate::gpt::{self, GptPair, type_guid};
use crate::host::HostFacts;
use crate::identities::{Identities, Style};
use crate::mbr::{BootRecord, Kind, MbrTable, looks_like_volume};

use super::boot::BootProfile;
use super::encryption::Encryption;
use super::fat_loaders::FatLoader;
use super::layout::Profile;
use super::linux::{LinuxSystem, ThroughGrub};
use super::open::sector_size_of_content;
use super::partition::{Origin, Partition, Role, Table, TableStyle, used_extents};
use super::recovery::RecoveryImage;
use super::stopped::{self};
use super::system::WindowsSystem;
use super::tail::{self};
use super::traces::{self};
use super::volume::{VolumeKind, read_volume};

impl Profile {
    /// Looks at a disk.
    pub fn read(device: &dyn ReadDevice, host: HostFacts) -> Result<Self, DeviceError> {
        let geometry = device.geometry();
        let (table, mut partitions) = read_table(device)?;
        // What is looked at beside the table and the volumes is looked at as far as it can be read: the
        // device remembers what cannot, and a rule about that blocks.
        let beside = &Lenient(device);
        let used: Vec<Extent> = used_extents(&table, &partitions);
        let gaps = crate::gaps::gaps(geometry, &used);
        let code_in_gap = code_in_gap(beside, &gaps)?;
        let identities = any_identities(geometry, &table, &partitions);
        let systems = WindowsSystem::find_all(device, &partitions, identities.as_ref());
        let (linux, grub) = LinuxSystem::find_all(beside, &partitions)?;
        // On a GPT disk it belongs to a start in BIOS mode that nothing here is about.
        let grub = grub.filter(|_| matches!(table, Table::Mbr { .. }));
        let through_grub = ThroughGrub::find(grub.as_ref(), &linux, &partitions);
        let through_grub = through_grub.map(|through| through.partition);
        let mut boot = BootProfile::read(device, &partitions, &systems, through_grub);
        boot.resolve(identities.as_ref(), &partitions, &systems, geometry);
        let recovery = RecoveryImage::find_all(device, &partitions, &systems);
        let fat_loaders = FatLoader::find_all(device, &partitions);
        let stopped = match &table {
            Table::Mbr { .. } => stopped::find(beside, &GptPair::read(device), &partitions, &used)?,
            _ => Vec::new(),
        };
        let trace = traces::find(beside, &table, &partitions)?;
        for partition in &mut partitions {
            partition.role = role_of(partition, &systems, &boot, &recovery);
            if let VolumeKind::Encrypted(state) = partition.volume.kind {
                let closed = Encryption::closed(device, partition.extent, state);
                partition.encryption = Some(closed);
            }
        }
        Ok(Self {
            geometry,
            host,
            table,
            partitions,
            gaps,
            code_in_gap,
            raid: tail::raid_marks(beside)?,
            dynamic: tail::dynamic_mark(beside)?,
            written_with: sector_size_of_content(beside)?
                .filter(|&size| size != geometry.logical_sector),
            stopped,
            trace,
            systems,
            linux,
            grub,
            boot,
            recovery,
            fat_loaders,
        })
    }

    /// A conversion of this disk to the other table, to find out what could be carried over; new GUIDs are zero, a new
    /// signature is one with the most digits. `None` without a table.
    pub(crate) fn any_identities(&self) -> Option<Identities> {
        any_identities(self.geometry, &self.table, &self.partitions)
    }
}

/// A device of which sectors that cannot be read are shown as zeros.
#[derive(Debug)]
struct Lenient<'a>(&'a dyn ReadDevice);

impl ReadDevice for Lenient<'_> {
    fn geometry(&self) -> Geometry {
        self.0.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        if self.0.read_at(offset, buffer).is_err() {
            buffer.fill(0);
        }
        Ok(())
    }
}

/// Volumes looked into at most: twice what a GPT of the usual size holds. A hostile table names
/// thousands, all in one place.
const MAX_VOLUMES: usize = 256;

impl TableStyle {
    /// Reads what kind of table a disk has, and nothing else of it.
    ///
    /// # Errors
    ///
    /// A sector that tells cannot be read.
    pub fn read(device: &dyn ReadDevice) -> Result<Self, DeviceError> {
        read_table(device).map(|(table, _)| table.style())
    }
}

fn read_table(device: &dyn ReadDevice) -> Result<(Table, Vec<Partition>), DeviceError> {
    let sector = device.read_sector(Lba(0))?;
    let pair = GptPair::read(device);
    let gpt_present = gpt::copy_present(&pair.primary) || gpt::copy_present(&pair.backup);
    let record = BootRecord::parse(&sector);
    let kinds: Vec<Kind> = record
        .iter()
        .flat_map(|record| &record.entries)
        .flatten()
        .map(|entry| entry.kind)
        .collect();
    let protective = kinds.contains(&Kind::PROTECTIVE);
    // A volume without a table begins like one; some (ext, swap, LVM) leave sector 0 to a boot
    // loader and may have zeros there.
    let extent = device.geometry().whole();
    let bare = if gpt_present || (record.is_some() && !looks_like_volume(&sector)) {
        None
    } else {
        Some(read_volume(device, extent)?)
    };
    if let Some(volume) = bare.filter(|volume| {
        looks_like_volume(&sector)
            || !matches!(volume.kind, VolumeKind::Blank | VolumeKind::Unknown)
    }) {
        let partition = Partition {
            number: 1,
            extent,
            origin: Origin::Bare,
            volume,
            role: Role::Data,
            encryption: None,
        };
        return Ok((Table::Bare, vec![partition]));
    }
    if protective || (gpt_present && kinds.is_empty()) {
        let partitions = match pair.best() {
            Some(copy) => copy
                .entries
                .iter()
                .take(MAX_VOLUMES)
                .map(|(number, entry)| {
                    let volume = read_volume(device, entry.extent)?;
                    let origin = Origin::Gpt(entry.clone());
                    Ok(Partition {
                        number: *number,
                        extent: entry.extent,
                        origin,
                        volume,
                        role: Role::Data,
                        encryption: None,
                    })
                })
                .collect::<Result<_, DeviceError>>()?,
            None => Vec::new(),
        };
        let hybrid = protective && kinds.len() > 1;
        return Ok((Table::Gpt { pair, hybrid }, partitions));
    }
    match record {
        Some(record) if !kinds.is_empty() || record.has_boot_code => {
            let table = MbrTable::read(device, record)?;
            let partitions = table
                .partitions
                .iter()
                .map(|part| {
                    let volume = read_volume(device, part.extent)?;
                    let logical = matches!(part.slot, crate::mbr::Slot::Logical(_));
                    let origin = Origin::Mbr {
                        kind: part.kind,
                        active: part.active,
                        logical,
                        named_at: part.named_at,
                    };
                    let number = part.slot.number();
                    Ok(Partition {
                        number,
                        extent: part.extent,
                        origin,
                        volume,
                        role: Role::Data,
                        encryption: None,
                    })
                })
                .collect::<Result<_, DeviceError>>()?;
            Ok((
                Table::Mbr {
                    table,
                    gpt_leftover: gpt_present,
                },
                partitions,
            ))
        }
        _ if sector.iter().all(|&byte| byte == 0) || record.is_some() => {
            Ok((Table::Blank, Vec::new()))
        }
        _ => Ok((Table::Unknown, Vec::new())),
    }
}

/// Content in the gap after sector 0 where the primary table will lie: from the first sector that
/// is not zero to the last.
fn code_in_gap(device: &dyn ReadDevice, gaps: &[Extent]) -> Result<Option<Extent>, DeviceError> {
    let geometry = device.geometry();
    let Some(gap) = gaps.first().filter(|gap| gap.first == Lba(1)) else {
        return Ok(None);
    };
    let end = gap.end.0.min(gpt::first_usable(geometry.logical_sector));
    let mut found: Option<Extent> = None;
    for lba in (1..end).map(Lba) {
        if device.read_sector(lba)?.iter().any(|&byte| byte != 0) {
            let first = found.map_or(lba, |extent| extent.first);
            found = Some(Extent::between(first, Lba(lba.0 + 1)));
        }
    }
    Ok(found)
}

fn any_identities(
    geometry: Geometry,
    table: &Table,
    partitions: &[Partition],
) -> Option<Identities> {
    let (to, signature, disk) = match table {
        Table::Mbr { table, .. } => (Style::Gpt, table.record.disk_signature, Uuid::nil()),
        Table::Gpt { pair, .. } => (Style::Mbr, u32::MAX, pair.best()?.header.disk_id),
        _ => return None,
    };
    let named = partitions.iter().filter_map(|partition| {
        let id = match &partition.origin {
            Origin::Gpt(entry) => entry.id,
            _ => Uuid::nil(),
        };
        Some((geometry.byte_of(partition.extent.first)?, id))
    });
    Some(Identities {
        to,
        signature,
        disk,
        esp: Uuid::nil(),
        partitions: named.collect(),
    })
}

/// An NTFS volume, as systems make it for the purpose, or a FAT32 volume with a BCD store.
fn is_boot_volume(part: &Partition, boot: &BootProfile) -> bool {
    match part.volume.kind {
        VolumeKind::Ntfs => true,
        VolumeKind::Fat(FatKind::Fat32) => {
            let found = boot.store.as_ref().and_then(|store| store.as_ref().ok());
            found.is_some_and(|found| found.partition == part.number)
        }
        _ => false,
    }
}

fn role_of(
    part: &Partition,
    systems: &[WindowsSystem],
    boot: &BootProfile,
    recovery: &[RecoveryImage],
) -> Role {
    let gpt_kind = match &part.origin {
        Origin::Gpt(entry) => Some(entry.kind),
        Origin::Mbr {
            kind: Kind::EFI_SYSTEM,
            ..
        } => Some(type_guid::EFI_SYSTEM),
        Origin::Mbr {
            kind: Kind::RECOVERY,
            ..
        } => Some(type_guid::RECOVERY),
        _ => None,
    };
    if gpt_kind == Some(type_guid::EFI_SYSTEM) {
        Role::Esp
    } else if systems.iter().any(|system| system.partition == part.number) {
        Role::Windows
    } else if boot.partition == Some(part.number) && is_boot_volume(part, boot) {
        Role::Boot
    } else if gpt_kind == Some(type_guid::RECOVERY)
        || recovery
            .iter()
            .any(|image| image.partition == part.number && image.is_alone)
    {
        Role::Recovery
    } else if gpt_kind == Some(type_guid::RESERVED) {
        Role::Reserved
    } else {
        Role::Data
    }
}
