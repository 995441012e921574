//! The profile as a whole, and the layout in it.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::bootstore::{Locator, element};
use crate::crossing::{Crossing, Style};
use crate::device::{DeviceError, Extent, Geometry, HostFacts, Lba, ReadDevice, Window};
use crate::fat::FatKind;
use crate::gpt::{self, GptEntry, GptPair, type_guid};
use crate::mbr::{BootRecord, Kind, MbrTable, looks_like_volume};

use super::boot::BootProfile;
use super::open::sector_size_of_content;
use super::recovery::RecoveryImage;
use super::stopped::{self, StoppedSign};
use super::system::WindowsSystem;
use super::tail::{self, TailMark};
use super::traces::{self, Trace};
use super::volume::{Volume, VolumeKind};

/// Style of the partition table.
#[derive(Debug)]
pub enum Table {
    /// No table, and nothing in sector 0.
    Blank,
    /// A file system on the bare disk.
    Bare,
    /// Sector 0 holds something that is no table.
    Unknown,
    /// MBR.
    Mbr {
        /// The table.
        table: MbrTable,
        /// A GPT header lies on the disk all the same: a leftover.
        gpt_leftover: bool,
    },
    /// GPT.
    Gpt {
        /// Both copies.
        pair: GptPair,
        /// Sector 0 names partitions besides the protective one.
        hybrid: bool,
    },
}

/// Where a partition is named, and how.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// In the MBR or an extended boot record.
    Mbr {
        /// Type byte.
        kind: Kind,
        /// Marked active.
        active: bool,
        /// A logical partition.
        logical: bool,
        /// The sector that names it.
        named_at: Lba,
    },
    /// In the GPT.
    Gpt(GptEntry),
    /// The whole bare disk.
    Bare,
}

/// What a partition is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum Role {
    /// EFI system partition.
    #[serde(rename = "EFI system")]
    Esp,
    /// Holds the boot files of a BIOS start.
    #[serde(rename = "boot")]
    Boot,
    /// Holds a Windows.
    #[serde(rename = "Windows")]
    Windows,
    /// Holds a recovery environment and nothing else of note.
    #[serde(rename = "recovery")]
    Recovery,
    /// Reserved by the system.
    #[serde(rename = "reserved")]
    Reserved,
    /// Anything else.
    #[serde(rename = "data")]
    Data,
}

impl Role {
    /// The word shown.
    pub fn name(self) -> &'static str {
        match self {
            Self::Esp => "EFI system",
            Self::Boot => "boot",
            Self::Windows => "Windows",
            Self::Recovery => "recovery",
            Self::Reserved => "reserved",
            Self::Data => "data",
        }
    }
}

/// A partition with its content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// Its number in the table.
    pub number: usize,
    /// Where it lies.
    pub extent: Extent,
    /// How it is named.
    pub origin: Origin,
    /// What it holds.
    pub volume: Volume,
    /// What it is for.
    pub role: Role,
}

/// A partition as it is named to people: by its number and the label of its volume. The label comes from the
/// disk and is escaped before it is shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Titled {
    /// Its number.
    pub number: usize,
    /// The label of its volume; empty where it has none.
    pub label: String,
}

impl Partition {
    /// Its number and label.
    pub fn titled(&self) -> Titled {
        Titled {
            number: self.number,
            label: self.volume.label.clone(),
        }
    }

    /// "partition 2 (Leuchtturm)": number and label.
    pub fn title(&self) -> String {
        match self.volume.label.as_str() {
            "" => format!("partition {}", self.number),
            label => format!("partition {} ({label})", self.number),
        }
    }

    /// Type GUID, in a GPT.
    pub fn gpt_kind(&self) -> Option<Uuid> {
        match &self.origin {
            Origin::Gpt(entry) => Some(entry.kind),
            _ => None,
        }
    }

    /// There are shadow copies (restore points) on its volume.
    pub fn has_shadow_copies(&self) -> bool {
        let ntfs = self.volume.ntfs.as_ref();
        ntfs.is_some_and(|health| health.shadows.is_some())
    }

    /// Its type says NTFS or exFAT, and it holds nothing that is known.
    pub fn is_unrecognised(&self) -> bool {
        let is_07 = matches!(self.origin, Origin::Mbr { kind, .. } if kind.visible() == Kind(0x07));
        is_07 && self.volume.kind == VolumeKind::Unknown
    }

    /// Cannot be looked into: encrypted, or damaged.
    pub fn is_closed(&self) -> bool {
        matches!(self.volume.kind, VolumeKind::Encrypted(_)) || self.volume.fault.is_some()
    }

    /// An NTFS volume that can be read.
    pub(super) fn is_sound_ntfs(&self) -> bool {
        self.volume.kind == VolumeKind::Ntfs && self.volume.fault.is_none()
    }

    /// Marked active.
    pub fn is_active(&self) -> bool {
        matches!(self.origin, Origin::Mbr { active: true, .. })
    }
}

/// What kind of table a disk has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum TableStyle {
    /// An MBR.
    #[serde(rename = "MBR")]
    Mbr,
    /// A GPT.
    #[serde(rename = "GPT")]
    Gpt,
    /// A GPT whose sector 0 names partitions beside the protective entry.
    #[serde(rename = "hybrid")]
    Hybrid,
    /// None: a file system fills the disk.
    #[serde(rename = "bare volume")]
    BareVolume,
    /// None, and no partition.
    #[serde(rename = "blank")]
    Blank,
    /// None that is known.
    #[serde(rename = "unknown")]
    Unknown,
}

impl TableStyle {
    /// What technicians call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Mbr => "MBR",
            Self::Gpt => "GPT",
            Self::Hybrid => "hybrid",
            Self::BareVolume => "bare volume",
            Self::Blank => "blank",
            Self::Unknown => "unknown",
        }
    }
}

/// What is on a disk.
#[derive(Debug)]
pub struct Profile {
    /// Sector sizes and size.
    pub geometry: Geometry,
    /// What the running system says about it.
    pub host: HostFacts,
    /// Style of the table, with the table.
    pub table: Table,
    /// Partitions, in the table's order.
    pub partitions: Vec<Partition>,
    /// Unused stretches between sector 0 and the end.
    pub gaps: Vec<Extent>,
    /// Sectors with content where the primary GPT will lie.
    pub code_in_gap: Option<Extent>,
    /// Metadata of RAID sets at the disk's end.
    pub raid: Vec<TailMark>,
    /// Private header of a dynamic disk.
    pub dynamic: Option<TailMark>,
    /// The sector size that the content was written with, where that is another than the disk's own.
    pub written_with: Option<u32>,
    /// Signs of a job that was stopped.
    pub stopped: Vec<StoppedSign>,
    /// Content on a disk whose table names no partition.
    pub trace: Option<Trace>,
    /// Windows systems found.
    pub systems: Vec<WindowsSystem>,
    /// Boot configuration of the BIOS start.
    pub boot: BootProfile,
    /// Recovery environments found.
    pub recovery: Vec<RecoveryImage>,
}

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
        let crossing = any_crossing(geometry, &table, &partitions);
        let systems = WindowsSystem::find_all(device, &partitions, crossing.as_ref());
        let boot = BootProfile::read(device, &partitions, &systems);
        let recovery = RecoveryImage::find_all(device, &partitions, &systems);
        let stopped = match &table {
            Table::Mbr { .. } => stopped::find(beside, &GptPair::read(device), &partitions, &used)?,
            _ => Vec::new(),
        };
        let trace = traces::find(beside, &table, &partitions)?;
        for partition in &mut partitions {
            partition.role = role_of(partition, &systems, &boot, &recovery);
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
            boot,
            recovery,
        })
    }

    /// A crossing of this disk to the other table, to find out what could cross; new GUIDs are zero, a new
    /// signature is one with the most digits. `None` without a table.
    pub fn any_crossing(&self) -> Option<Crossing> {
        any_crossing(self.geometry, &self.table, &self.partitions)
    }

    /// The partition with this number.
    pub fn partition(&self, number: usize) -> Option<&Partition> {
        self.partitions
            .iter()
            .find(|partition| partition.number == number)
    }

    /// The partition of this disk that a boot store means.
    pub fn partition_at(&self, locator: Locator) -> Option<usize> {
        let crossing = self.any_crossing()?;
        let mut partitions = self.partitions.iter();
        let found = partitions.find(|partition| {
            let offset = self.geometry.byte_of(partition.extent.first);
            offset.and_then(|offset| crossing.name_before(offset)) == Some(locator)
        });
        Some(found?.number)
    }

    /// The partitions of this disk that the boot store's default entry and its menu start a system from.
    pub fn menu_partitions(&self) -> Vec<usize> {
        let Some(store) = self.boot.readable() else {
            return Vec::new();
        };
        let entries = store.default_entry().into_iter().chain(store.menu());
        let devices = entries.filter_map(|entry| {
            store.effective(&entry, |object| object.device(element::OS_DEVICE))
        });
        let locators = devices.flat_map(|device| device.locators());
        locators
            .filter_map(|locator| self.partition_at(locator))
            .collect()
    }

    /// True where a Windows on this disk gives this partition a drive letter.
    pub fn has_letter(&self, partition: &Partition) -> bool {
        let Some(at) = self.geometry.byte_of(partition.extent.first) else {
            return false;
        };
        let letters = self
            .systems
            .iter()
            .filter_map(|system| system.letters.as_ref().ok()?.as_ref());
        let mut names = letters.flat_map(|letters| letters.crossed.iter().chain(&letters.left));
        names.any(|name| name.is_letter_of(at))
    }

    /// True for a system that the default entry or the menu starts; for every one, where no store can be read or
    /// it starts none of them. Another one may be left over from an earlier installation.
    pub fn is_started(&self, system: &WindowsSystem) -> bool {
        let started = self.menu_partitions();
        let is_any = self
            .systems
            .iter()
            .any(|system| started.contains(&system.partition));
        !is_any || started.contains(&system.partition)
    }

    /// The MBR table, on an MBR disk.
    pub fn mbr(&self) -> Option<&MbrTable> {
        match &self.table {
            Table::Mbr { table, .. } => Some(table),
            _ => None,
        }
    }

    /// Sectors in use by partitions; a container of logical partitions counts by what lies in it.
    pub fn used(&self) -> Vec<Extent> {
        used_extents(&self.table, &self.partitions)
    }

    /// The name that tells this disk from others: the computer's name in its registry, else the
    /// disk's signature or GUID; of a blank one its serial number, or just "blank".
    pub fn disk_name(&self) -> Option<String> {
        let computer = self
            .systems
            .iter()
            .find_map(|system| system.computer_name.clone());
        computer.or_else(|| match &self.table {
            Table::Mbr { table, .. } => Some(format!("{:08X}", table.record.disk_signature)),
            Table::Gpt { pair, .. } => Some(pair.best()?.header.disk_id.to_string()),
            Table::Blank => self.host.serial.clone().or(Some("blank".to_owned())),
            _ => None,
        })
    }

    /// What kind of table there is.
    pub fn table_style(&self) -> TableStyle {
        match &self.table {
            Table::Blank => TableStyle::Blank,
            Table::Bare => TableStyle::BareVolume,
            Table::Unknown => TableStyle::Unknown,
            Table::Mbr { .. } => TableStyle::Mbr,
            Table::Gpt { hybrid: false, .. } => TableStyle::Gpt,
            Table::Gpt { hybrid: true, .. } => TableStyle::Hybrid,
        }
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

/// The extended boot records' own sectors are in use as long as the disk is an MBR disk: a new
/// partition must not lie on them before sector 0 is replaced.
fn used_extents(table: &Table, partitions: &[Partition]) -> Vec<Extent> {
    let mut used: Vec<Extent> = partitions
        .iter()
        .map(|partition| partition.extent)
        .collect();
    if let Table::Mbr { table, .. } = table {
        let records = table
            .partitions
            .iter()
            .map(|partition| partition.named_at)
            .filter(|lba| lba.0 != 0);
        let containers = table
            .containers
            .iter()
            .map(|container| container.extent.first);
        used.extend(
            records
                .chain(containers)
                .filter_map(|lba| Extent::new(lba, 1)),
        );
    }
    used
}

/// Volumes looked into at most: twice what a GPT of the usual size holds. A hostile table names
/// thousands, all in one place.
const MAX_VOLUMES: usize = 256;

pub(super) fn read_volume(device: &dyn ReadDevice, extent: Extent) -> Result<Volume, DeviceError> {
    match Window::new(device, extent) {
        Some(window) => Volume::read(&window),
        None => Ok(Volume::leaves_disk(extent)),
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

/// Content in the gap behind sector 0 where the primary table will lie: from the first sector that
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
            found = Some(Extent {
                first,
                end: Lba(lba.0 + 1),
            });
        }
    }
    Ok(found)
}

fn any_crossing(geometry: Geometry, table: &Table, partitions: &[Partition]) -> Option<Crossing> {
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
    Some(Crossing {
        to,
        signature,
        disk,
        esp: Uuid::nil(),
        partitions: named.collect(),
    })
}

/// An NTFS volume, as systems make it for the purpose, or a FAT32 volume with a boot store.
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
