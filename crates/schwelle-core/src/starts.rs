//! Who starts here: every system on an MBR disk, whether a BIOS starts it today, and whether it starts once the disk is
//! a GPT disk.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use uuid::Uuid;

use crate::device::Extent;
use crate::grub::{Menu, MenuEntry, Target};
use crate::pe::ProgramFault;
use crate::profile::{
    LinuxSystem, Origin, Partition, Profile, Role, Table, Titled, UefiLoaders, VolumeKind,
    WindowsSystem, grub_partition_at, is_by_table,
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Afterwards {
    /// The menu of Windows' boot manager starts it.
    WindowsMenu,
    /// The menu of a GRUB that gets a folder on the EFI system partition starts it.
    GrubMenu {
        /// The folder, as "/EFI/debian".
        folder: String,
    },
    /// No menu names it, as today.
    NotNamed,
    /// It has boot loaders, and names its volumes by the partition table, so it does not find them then.
    ByTable {
        /// What names them so: its menu, or a file.
        names: Vec<String>,
    },
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
        let is_kept = self.afterwards == Afterwards::NotLookedInto;
        starts && !is_kept && !self.starts_afterwards()
    }

    /// True for what starts from the converted disk.
    pub fn starts_afterwards(&self) -> bool {
        matches!(
            self.afterwards,
            Afterwards::WindowsMenu | Afterwards::GrubMenu { .. }
        )
    }

    /// True where `name` is this one's.
    pub fn is_called(&self, name: &str) -> bool {
        self.name.eq_ignore_ascii_case(name.trim())
    }
}

/// The boot code in sector 0 of an MBR disk, and what it leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum SectorZero {
    /// There is none, or it starts nothing.
    StartsNothing,
    /// It goes to the partition that is marked active: Windows' own, or ours.
    ToActive {
        /// Its number, where there is exactly one.
        partition: Option<usize>,
    },
    /// GRUB's.
    Grub {
        /// The sectors that it loads; empty where they do not hold what it wants.
        core: Vec<Extent>,
        /// The partition with its menu, where that is known.
        menu_on: Option<usize>,
    },
    /// Not known.
    Unknown {
        /// Content between it and the first partition, which it may need.
        gap: Option<Extent>,
    },
}

/// The boot code of an MBR disk; `None` of any other.
pub fn sector_zero(profile: &Profile) -> Option<SectorZero> {
    let record = &profile.mbr()?.record;
    let mut active = profile.partitions.iter().filter(|part| part.is_active());
    let partition = active.next().filter(|_| active.next().is_none());
    Some(match &profile.grub {
        _ if record.goes_to_active() => SectorZero::ToActive {
            partition: partition.map(|part| part.number),
        },
        _ if !record.has_boot_code || record.own_code.is_some() => SectorZero::StartsNothing,
        Some(grub) => SectorZero::Grub {
            core: grub.core.clone(),
            menu_on: grub.menu_on,
        },
        None => SectorZero::Unknown {
            gap: profile.code_in_gap,
        },
    })
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
    // Code that goes to the active partition is nothing by itself, nor is GRUB where its menu has been read: what it
    // starts is listed.
    let (is_known, is_unread) = match record.has_grub_code {
        true => (false, profile.grub_menu().is_none()),
        false => (record.goes_to_active(), profile.starts_through_gap()),
    };
    if !is_known && is_unread && record.own_code.is_none() {
        let name = if record.has_grub_code {
            "GRUB"
        } else {
            "boot code"
        };
        found.push(SystemStart {
            name: name.to_owned(),
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
                linux_afterwards(profile, system),
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
    let is_linux = matches!(partition.origin, Origin::Mbr { kind, .. } if kind.is_linux());
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

/// A GRUB that is placed on the EFI system partition: the loaders, and the menu that they lead to.
#[derive(Debug, Clone, Copy)]
pub(crate) struct PlacedGrub<'p> {
    /// The Linux that they belong to.
    pub(crate) system: &'p LinuxSystem,
    pub(crate) loaders: &'p UefiLoaders,
    /// UUID of the volume with the menu, and the folder there.
    pub(crate) uuid: Uuid,
    pub(crate) folder: &'p str,
    menu: &'p Menu,
}

/// The GRUBs that are placed: those of systems that start by them.
pub(crate) fn placed_grubs(profile: &Profile) -> Vec<PlacedGrub<'_>> {
    let mut grubs = possible_grubs(profile);
    grubs.retain(|grub| {
        let afterwards = linux_afterwards(profile, grub.system);
        matches!(afterwards, Afterwards::GrubMenu { .. })
    });
    grubs
}

/// The GRUB of each Linux that has loaders and a menu, unless another one has the folder already.
fn possible_grubs(profile: &Profile) -> Vec<PlacedGrub<'_>> {
    let mut placed: Vec<PlacedGrub<'_>> = Vec::new();
    for system in profile
        .linux
        .iter()
        .filter(|system| system.release.is_some())
    {
        let Ok(loaders) = &system.loaders else {
            continue;
        };
        let Some(on) = menu_volume(profile, system) else {
            continue;
        };
        let is_taken = placed
            .iter()
            .any(|other| other.loaders.folder == loaders.folder);
        if let (Some(found), Some(menu), false) = (&on.menu, on.readable_menu(), is_taken) {
            placed.push(PlacedGrub {
                system,
                loaders,
                uuid: on.uuid,
                folder: &found.folder,
                menu,
            });
        }
    }
    placed
}

/// The volume with the menu of a Linux: its own, or one of boot files whose menu starts it.
fn menu_volume<'p>(profile: &'p Profile, system: &'p LinuxSystem) -> Option<&'p LinuxSystem> {
    if system.readable_menu().is_some() {
        return Some(system);
    }
    let starts_it = |volume: &&LinuxSystem| {
        let entries = volume.readable_menu().map_or(&[][..], |menu| &menu.entries);
        let mut started = entries.iter().filter_map(|entry| system_of(profile, entry));
        volume.release.is_none() && started.any(|started| started.partition == system.partition)
    };
    profile.linux.iter().find(starts_it)
}

fn linux_afterwards(profile: &Profile, system: &LinuxSystem) -> Afterwards {
    let mut found = None;
    for grub in possible_grubs(profile) {
        for entry in &grub.menu.entries {
            let Target::Linux {
                kernel, arguments, ..
            } = &entry.target
            else {
                continue;
            };
            let started = system_of(profile, entry);
            if started.is_some_and(|started| started.partition == system.partition)
                && has_kernel(profile, entry, kernel)
            {
                let root = arguments.iter().find_map(|word| word.strip_prefix("root="));
                let root = root.filter(|root| is_by_table(root));
                found = found.or(Some((grub.loaders.folder.clone(), root)));
            }
        }
    }
    let Some((folder, root)) = found else {
        return Afterwards::NoLoader;
    };
    let root = root.map(|root| format!("root={root}"));
    let names: Vec<String> = root
        .into_iter()
        .chain(system.by_table.iter().cloned())
        .collect();
    match names.is_empty() {
        true => Afterwards::GrubMenu { folder },
        false => Afterwards::ByTable { names },
    }
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

/// The system that an entry starts: the root on its kernel's command line, else the volume that the kernel lies on.
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
