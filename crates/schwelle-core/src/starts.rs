//! Who starts here: every system on an MBR disk, whether a BIOS starts it today, and whether it starts once the disk is
//! a GPT disk.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::grub::{Menu, MenuEntry, Target};
use crate::pe::ProgramFault;
use crate::profile::{
    LinuxSystem, Partition, Profile, Role, Table, Titled, VolumeKind, WindowsSystem,
    grub_partition_at,
};

/// A system on the disk, or boot code that starts no system that is known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SystemStart {
    /// What it is called; no two have the same name. Comes from the disk.
    pub name: String,
    /// The partition that it lies on.
    pub on: Option<Titled>,
    /// Whether it starts today.
    pub today: Today,
    /// Whether it starts afterwards.
    pub afterwards: Afterwards,
}

/// Whether a system starts in BIOS mode.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Today {
    /// The menu of Windows' boot manager starts it.
    WindowsMenu,
    /// GRUB's menu starts it.
    GrubMenu,
    /// Boot code in sector 0 is started; to what it leads is not known.
    BootCode,
    /// No menu that is reached names it.
    NotNamed,
    /// GRUB's menu names it, by a kernel that is not there.
    NoKernel {
        /// Path of the kernel.
        path: String,
    },
    /// It is not looked into.
    NotLookedInto {
        /// What its volume holds.
        volume: VolumeKind,
    },
}

/// Whether a system starts in UEFI mode, from the converted disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Afterwards {
    /// The menu of Windows' boot manager starts it.
    WindowsMenu,
    /// No menu names it, as today.
    NotNamed,
    /// One of its programs does not start in UEFI mode.
    Unfit {
        /// What is wrong.
        why: ProgramFault,
    },
    /// It gets no UEFI boot loader.
    NoLoader,
    /// It is boot code for a BIOS.
    BiosCode,
    /// It is kept as it is, and not looked into.
    NotLookedInto,
}

impl SystemStart {
    /// True for what starts today, or may, and does not afterwards.
    pub fn is_lost(&self) -> bool {
        let starts = matches!(
            self.today,
            Today::WindowsMenu | Today::GrubMenu | Today::BootCode
        );
        let stays = matches!(
            self.afterwards,
            Afterwards::WindowsMenu | Afterwards::NotLookedInto
        );
        starts && !stays
    }

    /// True for what starts from the converted disk.
    pub fn starts_afterwards(&self) -> bool {
        self.afterwards == Afterwards::WindowsMenu
    }

    /// True where `name` is this one's.
    pub fn is_called(&self, name: &str) -> bool {
        self.name.eq_ignore_ascii_case(name.trim())
    }
}

/// Every system on an MBR disk, in the order of the partitions; boot code of which no system is known at the end.
pub fn starts(profile: &Profile) -> Vec<SystemStart> {
    let Table::Mbr { table, .. } = &profile.table else {
        return Vec::new();
    };
    let mut found: Vec<SystemStart> = profile
        .partitions
        .iter()
        .filter_map(|partition| on_partition(profile, partition))
        .collect();
    let record = &table.record;
    let is_known = record.goes_to_active() || record.own_code.is_some();
    let by_grub = |found: &SystemStart| found.today == Today::GrubMenu;
    let (is_grub, has_code) = (record.has_grub_code, record.has_boot_code);
    // Code that goes to the active partition, or to a system that is listed, is nothing by itself.
    if !is_known
        && has_code
        && !found.iter().any(by_grub)
        && (is_grub || profile.starts_through_gap())
    {
        found.push(SystemStart {
            name: if is_grub { "GRUB" } else { "boot code" }.to_owned(),
            on: None,
            today: Today::BootCode,
            afterwards: Afterwards::BiosCode,
        });
    }
    let names: Vec<String> = found.iter().map(|system| system.name.clone()).collect();
    for system in &mut found {
        let same = names.iter().filter(|name| system.is_called(name)).count();
        if let (true, Some(on)) = (same > 1, &system.on) {
            system.name = format!("{} on partition {}", system.name, on.number);
        }
    }
    found
}

/// A Windows that a menu starts today, and that does not start in UEFI mode while another one does: it can be given up.
pub fn can_be_given_up(profile: &Profile, system: &WindowsSystem) -> bool {
    let starts_after = |system: &WindowsSystem| unfit(system).is_none();
    let mut others = profile.systems.iter();
    !starts_after(system)
        && others.any(|other| {
            other.partition != system.partition && profile.is_started(other) && starts_after(other)
        })
}

fn on_partition(profile: &Profile, partition: &Partition) -> Option<SystemStart> {
    let number = partition.number;
    let mut systems = profile.systems.iter();
    let (name, today, afterwards) =
        if let Some(system) = systems.find(|system| system.partition == number) {
            let after = match unfit(system) {
                Some(why) => Afterwards::Unfit { why: why.clone() },
                None if profile.is_started(system) => Afterwards::WindowsMenu,
                None => Afterwards::NotNamed,
            };
            (system.title(), windows_today(profile, system), after)
        } else if let Some(system) = listed(profile, number) {
            (
                system.title(),
                linux_today(profile, system),
                Afterwards::NoLoader,
            )
        } else if is_not_looked_into(partition) {
            let volume = partition.volume.kind;
            let name = format!("{} on partition {number}", volume.name());
            let today = Today::NotLookedInto { volume };
            (name, today, Afterwards::NotLookedInto)
        } else {
            return None;
        };
    Some(SystemStart {
        name,
        on: Some(partition.titled()),
        today,
        afterwards,
    })
}

/// A Linux on this partition: a whole one, or boot files of which no whole one is found.
fn listed(profile: &Profile, number: usize) -> Option<&LinuxSystem> {
    let mut systems = profile.linux.iter();
    let system = systems.find(|system| system.partition == number)?;
    let is_whole = system.release.is_some();
    let is_alone = || {
        let entries = system.readable_menu().map_or(&[][..], |menu| &menu.entries);
        let mut started = entries.iter().filter_map(|entry| system_of(profile, entry));
        !started.any(|started| started.partition != number)
    };
    (is_whole || is_alone()).then_some(system)
}

/// Might hold a Linux, and is not looked into.
fn is_not_looked_into(partition: &Partition) -> bool {
    let is_linux =
        matches!(partition.origin, crate::profile::Origin::Mbr { kind, .. } if kind.is_linux());
    let is_other = !matches!(
        partition.volume.kind,
        VolumeKind::Ext
            | VolumeKind::Swap
            | VolumeKind::Blank
            | VolumeKind::Ntfs
            | VolumeKind::Fat(_)
    );
    is_linux && is_other && partition.role == Role::Data
}

/// Why an installed Windows does not start in UEFI mode.
fn unfit(system: &WindowsSystem) -> Option<&ProgramFault> {
    let kernel = system.kernel.as_ref().err();
    kernel.or(system.uefi_loader.as_ref().err())
}

fn windows_today(profile: &Profile, system: &WindowsSystem) -> Today {
    let in_windows_menu = profile.menu_partitions().contains(&system.partition);
    let grub = profile.grub_menu();
    let by_grub = |partition: usize| {
        let entries = grub.map_or(&[][..], |menu| &menu.entries);
        let mut records = entries
            .iter()
            .filter(|entry| entry.target == Target::BootRecord);
        records.any(|entry| place_of(profile, entry) == Some(partition))
    };
    // What other boot code does is not known; that it goes to the active partition is likely.
    let is_reached = match (&profile.grub, profile.boot.partition) {
        (Some(_), Some(boot)) => by_grub(boot),
        (None, Some(_)) => profile
            .mbr()
            .is_some_and(|table| starts_something(&table.record)),
        (_, None) => false,
    };
    if in_windows_menu && is_reached {
        Today::WindowsMenu
    } else if by_grub(system.partition) {
        Today::GrubMenu
    } else {
        Today::NotNamed
    }
}

/// Sector 0 has code that goes somewhere.
fn starts_something(record: &crate::mbr::BootRecord) -> bool {
    record.has_boot_code && (record.own_code.is_none() || record.goes_to_active())
}

fn linux_today(profile: &Profile, system: &LinuxSystem) -> Today {
    let entries = profile
        .grub_menu()
        .map_or(&[][..], |menu: &Menu| &menu.entries);
    let mut missing = None;
    for entry in entries {
        let Target::Linux { kernel, .. } = &entry.target else {
            continue;
        };
        let started = system_of(profile, entry);
        if started.is_none_or(|started| started.partition != system.partition) {
            continue;
        }
        if has_kernel(profile, entry, kernel) {
            return Today::GrubMenu;
        }
        missing = missing.or(Some(kernel));
    }
    match missing {
        Some(path) => Today::NoKernel { path: path.clone() },
        None => Today::NotNamed,
    }
}

fn place_of(profile: &Profile, entry: &MenuEntry) -> Option<usize> {
    grub_partition_at(&entry.root, &profile.linux, &profile.partitions)
}

/// The kernel of an entry is there. A volume that is not looked into may have it.
fn has_kernel(profile: &Profile, entry: &MenuEntry, kernel: &str) -> bool {
    let on = place_of(profile, entry);
    let mut volumes = profile.linux.iter();
    match volumes.find(|volume| Some(volume.partition) == on) {
        Some(volume) => volume.kernels.iter().any(|found| found == kernel),
        None => true,
    }
}

/// The system that an entry starts: the one that its kernel is told to use, else the one that the kernel lies on.
fn system_of<'p>(profile: &'p Profile, entry: &MenuEntry) -> Option<&'p LinuxSystem> {
    let Target::Linux { arguments, .. } = &entry.target else {
        return None;
    };
    let root = arguments.iter().find_map(|word| word.strip_prefix("root="));
    let uuid = root.and_then(|root| root.strip_prefix("UUID="));
    let by_uuid = uuid.and_then(|uuid| {
        let mut systems = profile.linux.iter();
        systems.find(|system| system.uuid.to_string().eq_ignore_ascii_case(uuid))
    });
    let on = place_of(profile, entry);
    by_uuid.or_else(|| {
        let mut systems = profile.linux.iter();
        systems.find(|system| Some(system.partition) == on)
    })
}
