//! The profile as a whole, and what is asked of it.

use crate::bcd::{Locator, element};
use crate::device::{Extent, Geometry};
use crate::host::HostFacts;
use crate::mbr::MbrTable;
use crate::pe::FileVersion;

use super::boot::BootProfile;
use super::fat_loaders::FatLoader;
use super::known::BOOTMGR;
use super::linux::{Grub, LinuxSystem};
use super::partition::{Partition, Table, TableStyle, used_extents};
use super::recovery::RecoveryImage;
use super::stopped::StoppedSign;
use super::system::WindowsSystem;
use super::tail::TailSignature;
use super::traces::Trace;

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
    pub raid: Vec<TailSignature>,
    /// Private header of a dynamic disk.
    pub dynamic: Option<TailSignature>,
    /// The sector size that the content was written with, where that is another than the disk's own.
    pub written_with: Option<u32>,
    /// Signs of a job that was stopped.
    pub stopped: Vec<StoppedSign>,
    /// Content on a disk whose table names no partition.
    pub trace: Option<Trace>,
    /// Windows systems found.
    pub systems: Vec<WindowsSystem>,
    /// Linux systems found on ext volumes.
    pub linux: Vec<LinuxSystem>,
    /// GRUB, where sector 0 has its boot image.
    pub grub: Option<Grub>,
    /// Boot configuration of the BIOS start.
    pub boot: BootProfile,
    /// Recovery environments found.
    pub recovery: Vec<RecoveryImage>,
    /// FAT volumes on which firmware finds a loader by itself, and those that could not be searched for one.
    pub fat_loaders: Vec<FatLoader>,
}

impl Profile {
    /// True where the running system has the volume of a partition mounted: what is read of it changes meanwhile,
    /// and what its log and its marks say is the state of a volume at work.
    pub fn is_mounted(&self, partition: &Partition) -> bool {
        let first = self.geometry.byte_of(partition.extent.first);
        let mut mounted = self.host.mounted.iter();
        mounted.any(|volume| first.is_some_and(|first| volume.first_bytes.contains(&first)))
    }

    /// The partition with this number.
    pub fn partition(&self, number: usize) -> Option<&Partition> {
        self.partitions
            .iter()
            .find(|partition| partition.number == number)
    }

    /// The partition of this disk that a BCD store means.
    pub(crate) fn partition_at(&self, locator: Locator) -> Option<usize> {
        let identities = self.any_identities()?;
        let mut partitions = self.partitions.iter();
        let found = partitions.find(|partition| {
            let offset = self.geometry.byte_of(partition.extent.first);
            offset.and_then(|offset| identities.name_before(offset)) == Some(locator)
        });
        Some(found?.number)
    }

    /// The partitions of this disk that the BCD store's default entry and its menu start a system from.
    pub(crate) fn menu_partitions(&self) -> Vec<usize> {
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

    /// True where an installed Windows on this disk gives this partition a drive letter.
    pub fn has_letter(&self, partition: &Partition) -> bool {
        let Some(at) = self.geometry.byte_of(partition.extent.first) else {
            return false;
        };
        let letters = self
            .systems
            .iter()
            .filter_map(|system| system.letters.as_ref().ok()?.as_ref());
        let mut names = letters.flat_map(|letters| letters.converted.iter().chain(&letters.left));
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

    /// Every system found, Windows and Linux, by the numbers of their partitions: number and title.
    pub fn titles(&self) -> Vec<(usize, String)> {
        let windows = self.systems.iter();
        let windows = windows.map(|system| (system.partition, system.title()));
        let linux = self.linux.iter().filter(|system| system.release.is_some());
        let linux = linux.map(|system| (system.partition, system.title()));
        let mut titles: Vec<(usize, String)> = windows.chain(linux).collect();
        titles.sort_by_key(|(number, _)| *number);
        titles
    }

    /// The MBR table, on an MBR disk.
    pub fn mbr(&self) -> Option<&MbrTable> {
        match &self.table {
            Table::Mbr { table, .. } => Some(table),
            _ => None,
        }
    }

    /// True where the boot code in sector 0 may need what lies in the sectors after it. Windows' own does not, nor
    /// ours; the remains of a GPT are no boot code.
    pub fn starts_through_gap(&self) -> bool {
        match &self.table {
            Table::Mbr {
                table,
                gpt_leftover: false,
            } => self.code_in_gap.is_some() && !table.record.goes_to_active(),
            _ => false,
        }
    }

    /// Sectors in use by partitions; an extended partition of logical partitions counts by what lies in it.
    pub fn used(&self) -> Vec<Extent> {
        used_extents(&self.table, &self.partitions)
    }

    /// The computer's name in the registry of the first Windows that has one.
    pub fn computer_name(&self) -> Option<String> {
        let mut systems = self.systems.iter();
        systems.find_map(|system| system.computer_name.clone())
    }

    /// The name that distinguishes this disk from others: the computer's name in its registry, else the
    /// disk's signature or GUID; of a blank one its serial number, or just "blank".
    pub fn disk_name(&self) -> Option<String> {
        self.computer_name().or_else(|| match &self.table {
            Table::Mbr { table, .. } => Some(format!("{:08X}", table.record.disk_signature)),
            Table::Gpt { pair, .. } => Some(pair.best()?.header.disk_id.to_string()),
            Table::Blank => self.host.serial.clone().or(Some("blank".to_owned())),
            _ => None,
        })
    }

    /// What kind of table there is.
    pub fn table_style(&self) -> TableStyle {
        self.table.style()
    }
}

impl Table {
    /// What kind of table it is.
    pub(super) fn style(&self) -> TableStyle {
        match self {
            Self::Blank => TableStyle::Blank,
            Self::Bare => TableStyle::BareVolume,
            Self::Unknown => TableStyle::Unknown,
            Self::Mbr { .. } => TableStyle::Mbr,
            Self::Gpt { hybrid: false, .. } => TableStyle::Gpt,
            Self::Gpt { hybrid: true, .. } => TableStyle::Hybrid,
        }
    }
}

/// The Windows whose boot files are placed: the one with the newest boot manager, since an older one does not
/// start a newer Windows; among equals the first. The rules name the others.
pub(crate) fn boot_system(profile: &Profile) -> Option<&WindowsSystem> {
    let age = |system: &WindowsSystem| {
        let Some(Ok(manager)) = &system.boot_files.manager else {
            return None;
        };
        let build = system.build.as_ref().and_then(|build| {
            let number = build.split('.').next().unwrap_or_default();
            number.parse::<u32>().ok()
        });
        Some((manager.version.map(FileVersion::build), build))
    };
    let started = profile
        .systems
        .iter()
        .filter(|system| profile.is_started(system));
    let with_manager = started.filter_map(|system| Some((age(system)?, system)));
    // The last of the largest, seen from the end, is the first.
    with_manager
        .rev()
        .max_by_key(|(age, _)| *age)
        .map(|(_, system)| system)
}

/// The Windows whose files a BIOS start gets: the first one that brings a boot manager for it.
pub(crate) fn bios_system(profile: &Profile) -> Option<&WindowsSystem> {
    let mut systems = profile
        .systems
        .iter()
        .filter(|system| profile.is_started(system));
    systems.find(|system| {
        let mut files = system.bios_files.files.iter();
        system.bios_loader.is_ok() && files.any(|file| file.is_for(BOOTMGR))
    })
}
