//! The walk of a Linux start in UEFI mode: a folder on the EFI system partition with its loaders, the lines there that
//! lead to a menu on its own volume, and the kernel and initial RAM disks that the menu loads.

use crate::device::{Extent, ReadDevice, Window};
use crate::ext::{ExtError, ExtVolume, Superblock};
use crate::fat::{FatEntry, FatVolume};
use crate::gpt::{GptEntry, GptPair, type_guid};
use crate::grub::{Lead, Menu, MenuEntry, Target};
use crate::pe::{EFI_APPLICATION, PeImage, ProgramFault};
use crate::profile::{BOOTMGFW, GRUB, Profile, SHIM, grub_partition_at, is_by_table};

use super::answers::linux::{Evidence, Remedy};
use super::step::{Fault, Found, Rehearsal, StepId, depends, holds};

const CONFIGURATION: &str = "grub.cfg";
/// Folders on an EFI system partition that are looked at.
const MAX_FOLDERS: usize = 32;
const MAX_LOADER_BYTES: u64 = 64 << 20;
const MAX_CONFIGURATION_BYTES: u64 = 1 << 20;
const MAX_MENU_BYTES: usize = 1 << 20;
/// A kernel is read up to this length; real ones have some ten MiB.
const MAX_KERNEL_BYTES: usize = 128 << 20;

/// The folders on an EFI system partition with a configuration of GRUB's, as "\EFI\debian".
pub(super) fn folders(fat: &FatVolume<'_>) -> Vec<String> {
    let Ok(Some(efi)) = fat.find("\\EFI") else {
        return Vec::new();
    };
    let entries = fat.read_dir(&efi).unwrap_or_default().into_iter();
    let folders = entries.filter(|entry| entry.is_directory && !entry.name.starts_with('.'));
    folders
        .take(MAX_FOLDERS)
        .map(|entry| format!("\\EFI\\{}", entry.name))
        .filter(|folder| file(fat, &format!("{folder}\\{CONFIGURATION}")).is_some())
        .collect()
}

/// What an EFI system partition has of Linux systems.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinuxOnEsp {
    /// The partition's volume number, by which `/etc/fstab` can name it.
    pub volume_id: u32,
    /// True where Windows' boot manager is there as well.
    pub has_windows: bool,
    /// Path of what firmware starts of each, as "\EFI\debian\shimx64.efi".
    pub loaders: Vec<String>,
}

impl LinuxOnEsp {
    /// Looks on the EFI system partition of a GPT disk; `None` where there is no Linux.
    pub fn find(disk: &dyn ReadDevice) -> Option<Self> {
        let pair = GptPair::read(disk);
        let mut entries = pair.best()?.entries.iter();
        let (_, esp) = entries.find(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM)?;
        let window = Window::new(disk, esp.extent)?;
        let fat = FatVolume::open_leniently(&window).ok()?;
        let first = |folder: String| {
            let paths = [SHIM, GRUB].map(|name| format!("{folder}\\{name}"));
            paths.into_iter().find(|path| file(&fat, path).is_some())
        };
        let loaders: Vec<String> = folders(&fat).into_iter().filter_map(first).collect();
        (!loaders.is_empty()).then(|| Self {
            volume_id: fat.shape().volume_id,
            has_windows: file(&fat, BOOTMGFW).is_some(),
            loaders,
        })
    }

    /// The name of the folder that a loader lies in, as "debian".
    pub fn name_of(loader: &str) -> &str {
        let folder = loader.rsplit_once('\\').map_or("", |(folder, _)| folder);
        folder.rsplit('\\').next().unwrap_or_default()
    }

    /// The loader in the folder with this name.
    pub fn loader(&self, name: &str) -> Option<&str> {
        let mut loaders = self.loaders.iter();
        let found = loaders.find(|loader| Self::name_of(loader).eq_ignore_ascii_case(name));
        found.map(String::as_str)
    }
}

/// The folder of these in which the loader at `path` lies.
pub(super) fn folder_of<'f>(folders: &'f [String], path: &str) -> Option<&'f String> {
    let (folder, _) = path.rsplit_once('\\')?;
    folders
        .iter()
        .find(|known| known.eq_ignore_ascii_case(folder))
}

/// Walks from each folder to the kernel of its menu's entry.
pub(super) fn walk_folders(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    (fat, entries): (&FatVolume<'_>, &[(usize, GptEntry)]),
    folders: &[String],
) -> Option<()> {
    let volumes = Volumes { disk, entries };
    for folder in folders {
        walk.step(StepId::LinuxLoader, loaders(fat, folder))?;
        let menu = walk.step(StepId::LinuxMenu, menu(fat, volumes, folder))?;
        walk.step(StepId::LinuxKernel, kernel(volumes, &menu))?;
    }
    Some(())
}

/// The same of a disk that starts another system: each folder is a note of what is found there. It may be left over
/// from a system that is no more.
pub(super) fn note_folders(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    (fat, entries): (&FatVolume<'_>, &[(usize, GptEntry)]),
    folders: &[String],
) {
    let volumes = Volumes { disk, entries };
    for folder in folders {
        let found = loaders(fat, folder)
            .and_then(|_| menu(fat, volumes, folder))
            .and_then(|(_, _, menu)| kernel(volumes, &menu));
        let (evidence, remedy) = match found {
            Ok((evidence, remedy, ())) => (evidence, remedy),
            Err(fault) => (fault.evidence, Some(fault.remedy)),
        };
        let is_whole = remedy.is_none();
        let remedy = remedy.unwrap_or_else(|| Remedy::InstallLoader.into());
        walk.note(StepId::OtherSystem, is_whole, evidence, remedy);
    }
}

fn file(fat: &FatVolume<'_>, path: &str) -> Option<FatEntry> {
    let found = fat.find(path).ok()?;
    found.filter(|entry| !entry.is_directory)
}

/// GRUB is there, and what is started before it where that is there; both are programs that firmware starts.
fn loaders(fat: &FatVolume<'_>, folder: &str) -> Found<()> {
    let mut programs = Vec::new();
    for name in [SHIM, GRUB] {
        let path = format!("{folder}\\{name}");
        let Some(entry) = file(fat, &path) else {
            if name == GRUB {
                let why = ProgramFault::Missing;
                let evidence = Evidence::LinuxLoaderUnfit { path, why };
                return Err(Fault::new(evidence, Remedy::InstallLoader));
            }
            continue;
        };
        let content = fat.read_file(&entry, MAX_LOADER_BYTES);
        let fit = content
            .map_err(ProgramFault::unreadable)
            .and_then(|content| fitting(&content));
        if let Err(why) = fit {
            let evidence = Evidence::LinuxLoaderUnfit { path, why };
            return Err(Fault::new(evidence, Remedy::InstallLoader));
        }
        programs.push(name.to_owned());
    }
    let folder = folder.to_owned();
    holds(Evidence::LinuxLoaders { folder, programs }, ())
}

fn fitting(content: &[u8]) -> Result<(), ProgramFault> {
    let image = PeImage::read(content).map_err(ProgramFault::unreadable)?;
    image.fitting(Some(EFI_APPLICATION)).map(drop)
}

/// The volumes that a menu can name.
#[derive(Clone, Copy)]
struct Volumes<'d> {
    disk: &'d dyn ReadDevice,
    entries: &'d [(usize, GptEntry)],
}

impl Volumes<'_> {
    /// Number and sectors of the partition with the ext volume that has this UUID.
    fn find(&self, uuid: &str) -> Option<(usize, Extent)> {
        let has_it = |(_, entry): &&(usize, GptEntry)| {
            let window = Window::new(self.disk, entry.extent);
            let found = window.and_then(|window| Superblock::read(&window).ok());
            found.is_some_and(|found| found.uuid.to_string().eq_ignore_ascii_case(uuid))
        };
        let (number, entry) = self.entries.iter().find(has_it)?;
        Some((*number, entry.extent))
    }

    fn read<T: Send>(
        &self,
        extent: Extent,
        look: impl FnOnce(&ExtVolume) -> Result<T, ExtError> + Send,
    ) -> Result<T, ExtError> {
        let window = Window::new(self.disk, extent).ok_or(ExtError::GaveUp)?;
        ExtVolume::open(&window, look)
    }
}

/// A menu, and the volume that it lies on.
struct FoundMenu {
    menu: Menu,
    path: String,
    uuid: String,
}

fn menu(fat: &FatVolume<'_>, volumes: Volumes<'_>, folder: &str) -> Found<FoundMenu> {
    let path = format!("{folder}\\{CONFIGURATION}");
    let text = file(fat, &path).and_then(|entry| {
        let content = fat.read_file(&entry, MAX_CONFIGURATION_BYTES).ok()?;
        Some(String::from_utf8_lossy(&content).into_owned())
    });
    let Some(lead) = text.and_then(|text| Lead::parse(&text)) else {
        return Err(Fault::new(Evidence::NoLead { path }, Remedy::InstallLoader));
    };
    let Some((partition, extent)) = volumes.find(&lead.uuid) else {
        let volume_id = lead.uuid;
        let evidence = Evidence::NoSuchVolume { path, volume_id };
        return Err(Fault::new(evidence, Remedy::InstallLoader));
    };
    let menu_path = format!("{}/{CONFIGURATION}", lead.folder);
    let read = volumes.read(extent, |volume| {
        volume.read_file(&menu_path, MAX_MENU_BYTES)
    });
    let text = match read {
        Ok(Some(text)) => text,
        other => {
            let fault = other.err().map(Into::into);
            let evidence = Evidence::NoMenu {
                partition,
                menu_path,
                fault,
            };
            return Err(Fault::new(evidence, Remedy::MakeMenu));
        }
    };
    let menu = Menu::parse(&String::from_utf8_lossy(&text));
    let evidence = Evidence::GrubMenu {
        path,
        partition,
        menu_path: menu_path.clone(),
        count: menu.entries.len(),
    };
    let found = FoundMenu {
        menu,
        path: menu_path,
        uuid: lead.uuid,
    };
    holds(evidence, found)
}

/// The entry that is started without a key, else the first one, of those that start a Linux.
fn entry_of(menu: &Menu) -> Option<&MenuEntry> {
    let is_linux = |entry: &&MenuEntry| matches!(entry.target, Target::Linux { .. });
    let default = menu.default_entry().filter(is_linux);
    default.or_else(|| menu.entries.iter().find(is_linux))
}

fn kernel(volumes: Volumes<'_>, found: &FoundMenu) -> Found<()> {
    let Some(entry) = entry_of(&found.menu) else {
        let menu_path = found.path.clone();
        return Err(Fault::new(
            Evidence::NoLinuxEntry { menu_path },
            Remedy::MakeMenu,
        ));
    };
    let Target::Linux {
        kernel,
        initrds,
        arguments,
    } = &entry.target
    else {
        let menu_path = found.path.clone();
        return Err(Fault::new(
            Evidence::NoLinuxEntry { menu_path },
            Remedy::MakeMenu,
        ));
    };
    let uuid = entry.root.uuid.as_ref().unwrap_or(&found.uuid);
    let Some((partition, extent)) = volumes.find(uuid) else {
        let evidence = Evidence::NoSuchVolume {
            path: found.path.clone(),
            volume_id: uuid.clone(),
        };
        return Err(Fault::new(evidence, Remedy::MakeMenu));
    };
    let unfit = |path: &str, why: ProgramFault| {
        let path = path.to_owned();
        let evidence = Evidence::LinuxFileUnfit {
            partition,
            path,
            why,
        };
        Fault::new(evidence, Remedy::RepairSystem)
    };
    let read = volumes.read(extent, |volume| {
        let content = volume.read_file(kernel, MAX_KERNEL_BYTES)?;
        let lengths: Result<Vec<Option<u64>>, ExtError> =
            initrds.iter().map(|path| volume.file_len(path)).collect();
        Ok((content, lengths?))
    });
    let (content, lengths) =
        read.map_err(|error| unfit(kernel, ProgramFault::unreadable(error)))?;
    let content = content.ok_or_else(|| unfit(kernel, ProgramFault::Missing))?;
    fitting(&content).map_err(|why| unfit(kernel, why))?;
    for (path, len) in initrds.iter().zip(lengths) {
        if len.is_none_or(|len| len == 0) {
            return Err(unfit(path, ProgramFault::Missing));
        }
    }
    let root = arguments.iter().find_map(|word| word.strip_prefix("root="));
    if let Some(root) = root.filter(|root| is_elsewhere(volumes, root)) {
        let root = root.to_owned();
        return depends(Evidence::RootElsewhere { root }, Remedy::MakeMenu, ());
    }
    let evidence = Evidence::LinuxKernel {
        title: entry.title.clone(),
        partition,
        path: kernel.clone(),
        ram_disks: initrds.clone(),
    };
    holds(evidence, ())
}

/// What the menu on this partition starts without a key, as the profile knows it.
pub(super) fn kernel_of(profile: &Profile, menu_on: usize) -> Found<()> {
    let no_entry = || {
        let menu_path = CONFIGURATION.to_owned();
        Fault::new(Evidence::NoLinuxEntry { menu_path }, Remedy::MakeMenu)
    };
    let menu = profile.grub_menu().ok_or_else(no_entry)?;
    let entry = entry_of(menu).ok_or_else(no_entry)?;
    let Target::Linux {
        kernel, initrds, ..
    } = &entry.target
    else {
        return Err(no_entry());
    };
    let partition = grub_partition_at(&entry.root, &profile.linux, &profile.partitions);
    let partition = partition.unwrap_or(menu_on);
    let mut volumes = profile.linux.iter();
    let volume = volumes.find(|volume| volume.partition == partition);
    let path = kernel.clone();
    if volume.is_some_and(|volume| !volume.kernels.contains(kernel)) {
        let evidence = Evidence::LinuxFileUnfit {
            partition,
            path,
            why: ProgramFault::Missing,
        };
        return Err(Fault::new(evidence, Remedy::RepairSystem));
    }
    let evidence = Evidence::LinuxKernel {
        title: entry.title.clone(),
        partition,
        path,
        ram_disks: initrds.clone(),
    };
    holds(evidence, ())
}

/// The root on a kernel's command line is not on this disk, or is named by the partition table.
fn is_elsewhere(volumes: Volumes<'_>, root: &str) -> bool {
    match root.strip_prefix("UUID=") {
        Some(uuid) => volumes.find(uuid).is_none(),
        None => is_by_table(root),
    }
}
