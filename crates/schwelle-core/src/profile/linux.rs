//! Linux installations, as far as they lie on ext volumes: what they call themselves, their kernels, and the menu and
//! images of GRUB. Other file systems are not looked into.

use uuid::Uuid;

use crate::cause::Cause;
use crate::device::{DeviceError, Extent, Lba, ReadDevice, Window};
use crate::ext::{ExtError, ExtVolume};
use crate::grub::{BootImage, CoreImage, Menu, MenuEntry, Place, Target};

use super::layout::Profile;
use super::loaders::{NoLoaders, UefiLoaders};
use super::partition::Partition;
use super::volume::VolumeKind;

/// Where a system says what it is (os-release(5)).
const RELEASE: [&str; 2] = ["/etc/os-release", "/usr/lib/os-release"];
/// Where GRUB's files are: on the system's own volume, or on one of their own. Distributions call the folder either.
const GRUB_FOLDERS: [&str; 4] = ["/boot/grub", "/boot/grub2", "/grub", "/grub2"];
/// Where kernels are, on the same volumes.
const KERNEL_FOLDERS: [&str; 2] = ["/boot", "/"];
const KERNEL: &str = "vmlinuz";
/// The core image that its installer put on the disk, in GRUB's folder.
const CORE: &str = "i386-pc/core.img";
/// Where a system says what it mounts (fstab(5)).
const FSTAB: &str = "/etc/fstab";
/// What is read of such files at most.
const MAX_RELEASE_BYTES: usize = 64 << 10;
const MAX_MENU_BYTES: usize = 1 << 20;
const MAX_CORE_BYTES: usize = 1 << 20;
/// Kernels that are kept, at most.
const MAX_KERNELS: usize = 64;

/// A Linux, or the boot files of one, on an ext volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinuxSystem {
    /// Number of its partition.
    pub partition: usize,
    /// UUID of the file system.
    pub uuid: Uuid,
    /// What it calls itself; `None` where the volume holds boot files only.
    pub release: Option<Release>,
    /// Paths of its kernels on the volume.
    pub kernels: Vec<String>,
    /// Its GRUB menu.
    pub menu: Option<FoundMenu>,
    /// The core image that sector 0 starts is this one's.
    pub is_started: bool,
    /// What `/etc/fstab` names by the partition table, which a conversion changes: devices that do not keep their
    /// names.
    pub by_table: Vec<String>,
    /// Its UEFI boot loaders, on its volume or given; else why there are none.
    pub loaders: Result<UefiLoaders, NoLoaders>,
}

/// What a system calls itself. Both come from the disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Release {
    /// A short name in lower case, as "debian".
    pub id: String,
    /// The name for people, with its version.
    pub name: String,
}

/// A GRUB menu, and the folder that it lies in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundMenu {
    /// The folder on the volume.
    pub folder: String,
    /// The menu; else why it cannot be read.
    pub menu: Result<Menu, Cause>,
}

/// GRUB, where a BIOS starts it from sector 0.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grub {
    /// Sectors of its core image; empty where none could be read.
    pub core: Vec<Extent>,
    /// Number of the partition whose menu it shows, where that is known.
    pub menu_on: Option<usize>,
}

impl LinuxSystem {
    /// Looks on each ext volume, and for GRUB in sector 0, which decides what is started of them. A volume that cannot
    /// be looked into counts as one without a Linux: it is kept as it is.
    pub(super) fn find_all(
        disk: &dyn ReadDevice,
        partitions: &[Partition],
    ) -> Result<(Vec<Self>, Option<Grub>), DeviceError> {
        let image = BootImage::of(&disk.read_sector(Lba(0))?);
        let core = image.and_then(|image| image.core);
        let core = core.map(|first| CoreImage::read(disk, first));
        let core = core.transpose()?.flatten();
        let volumes = partitions.iter();
        let volumes = volumes.filter(|part| part.volume.kind == VolumeKind::Ext);
        let found: Vec<Self> = volumes
            .filter_map(|partition| {
                let window = Window::new(disk, partition.extent)?;
                let number = partition.number;
                let look = |volume: &ExtVolume| Self::find(volume, number, core.as_ref());
                ExtVolume::open(&window, look).ok()?
            })
            .collect();
        let grub = image.map(|_| {
            let with_menu: Vec<&Self> = found
                .iter()
                .filter(|system| system.menu.is_some())
                .collect();
            let started = with_menu.iter().find(|system| system.is_started);
            // Its installer may have removed its copy; a menu that is the only one is meant.
            let shown = started.or(match &with_menu[..] {
                [only] => Some(only),
                _ => None,
            });
            Grub {
                menu_on: shown.map(|system| system.partition),
                core: core.map(|core| core.extents).unwrap_or_default(),
            }
        });
        Ok((found, grub))
    }

    fn find(
        volume: &ExtVolume,
        partition: usize,
        core: Option<&CoreImage>,
    ) -> Result<Option<Self>, ExtError> {
        let mut release = None;
        for path in RELEASE {
            if let (None, Some(text)) = (&release, volume.read_file(path, MAX_RELEASE_BYTES)?) {
                release = Some(Release::parse(&String::from_utf8_lossy(&text)));
            }
        }
        let mut kernels = Vec::new();
        for folder in KERNEL_FOLDERS {
            let entries = volume.list(folder)?.into_iter();
            let is_kernel = |name: &str| name.starts_with(KERNEL) || name.starts_with("vmlinux-");
            let found = entries.filter(|entry| !entry.is_directory && is_kernel(&entry.name));
            let slash = if folder == "/" { "" } else { "/" };
            kernels.extend(found.map(|entry| format!("{folder}{slash}{}", entry.name)));
        }
        kernels.truncate(MAX_KERNELS);
        let mut menu = None;
        let mut is_started = false;
        for folder in GRUB_FOLDERS {
            let text = volume.read_file(&format!("{folder}/grub.cfg"), MAX_MENU_BYTES);
            let read = match text {
                Ok(Some(text)) => Ok(Menu::parse(&String::from_utf8_lossy(&text))),
                Ok(None) => continue,
                Err(error) => Err(Cause::from(error)),
            };
            if menu.is_none() {
                let copy = volume.read_file(&format!("{folder}/{CORE}"), MAX_CORE_BYTES);
                let copy = copy.ok().flatten();
                is_started = copy
                    .zip(core)
                    .is_some_and(|(copy, core)| core.is_copy_of(&copy));
                menu = Some(FoundMenu {
                    folder: folder.to_owned(),
                    menu: read,
                });
            }
        }
        let loaders = match &release {
            Some(release) => UefiLoaders::on_volume(volume, &release.id),
            None => Err(NoLoaders::Missing),
        };
        let is_one = release.is_some() || menu.is_some();
        Ok(is_one.then(|| Self {
            partition,
            uuid: volume.uuid(),
            release,
            kernels,
            menu,
            is_started,
            by_table: match volume.read_file(FSTAB, MAX_RELEASE_BYTES) {
                Ok(Some(text)) => by_table(&String::from_utf8_lossy(&text)),
                Ok(None) | Err(_) => Vec::new(),
            },
            loaders,
        }))
    }

    /// What it is called.
    pub fn title(&self) -> String {
        match &self.release {
            Some(release) => release.name.clone(),
            None => "Linux".to_owned(),
        }
    }

    /// Its menu, where that can be read.
    pub fn readable_menu(&self) -> Option<&Menu> {
        self.menu.as_ref()?.menu.as_ref().ok()
    }
}

impl Release {
    /// Reads lines of a name, `=` and a value that may be quoted.
    fn parse(text: &str) -> Self {
        let value = |wanted: &str| {
            let mut lines = text.lines();
            let value = lines.find_map(|line| line.strip_prefix(wanted)?.strip_prefix('='))?;
            let value = value.trim().trim_matches(['"', '\'']);
            (!value.is_empty()).then(|| value.to_owned())
        };
        let id = value("ID").unwrap_or_else(|| "linux".to_owned());
        let name = value("PRETTY_NAME").or_else(|| value("NAME"));
        Self {
            name: name.unwrap_or_else(|| "Linux".to_owned()),
            id,
        }
    }
}

/// The devices that a table of mounts names in a way that goes by the partition table.
fn by_table(text: &str) -> Vec<String> {
    let lines = text.lines().map(str::trim);
    let specs = lines
        .filter(|line| !line.starts_with('#'))
        .filter_map(|line| line.split_whitespace().next());
    specs
        .filter(|spec| is_by_table(spec))
        .map(str::to_owned)
        .collect()
}

/// True for a name of a partition that another table, or another disk beside it, gives to another one.
pub(crate) fn is_by_table(spec: &str) -> bool {
    let (kind, _) = spec.split_once('=').unwrap_or_default();
    let is_node = ["sd", "hd", "vd", "xvd", "nvme", "mmcblk"]
        .iter()
        .any(|name| {
            spec.strip_prefix("/dev/")
                .is_some_and(|node| node.starts_with(name))
        });
    is_node
        || matches!(kind, "PARTUUID" | "PARTLABEL")
        || spec.starts_with("/dev/disk/by-partuuid/")
        || spec.starts_with("/dev/disk/by-path/")
}

impl Profile {
    /// Gives these loaders to the Linux systems that they are for: those that call themselves as the loaders' folder is
    /// called, or the only one. How many these are.
    pub fn give_loaders(&mut self, loaders: &UefiLoaders) -> usize {
        let whole = |system: &&mut LinuxSystem| system.release.is_some();
        let count = self.linux.iter_mut().filter(whole).count();
        let is_for = |system: &LinuxSystem| {
            let id = system.release.as_ref().map(|release| release.id.as_str());
            count == 1 || id == Some(loaders.name())
        };
        let mut given = 0;
        for system in self.linux.iter_mut().filter(whole) {
            if is_for(system) {
                system.loaders = Ok(loaders.clone());
                given += 1;
            }
        }
        given
    }

    /// Where GRUB's menu goes to Windows, when a BIOS starts this disk through it.
    pub fn through_grub(&self) -> Option<ThroughGrub> {
        ThroughGrub::find(self.grub.as_ref(), &self.linux, &self.partitions)
    }

    /// The menu that GRUB shows when a BIOS starts this disk.
    pub fn grub_menu(&self) -> Option<&Menu> {
        let number = self.grub.as_ref()?.menu_on?;
        let mut systems = self.linux.iter();
        systems
            .find(|system| system.partition == number)?
            .readable_menu()
    }
}

/// Where GRUB's menu goes to Windows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ThroughGrub {
    /// Number of the partition that the menu lies on.
    pub menu_on: usize,
    /// Number of the partition whose boot record it starts: by its default entry, else by the first one that does.
    pub partition: usize,
    /// By its default entry.
    pub by_default: bool,
}

impl ThroughGrub {
    pub(super) fn find(
        grub: Option<&Grub>,
        linux: &[LinuxSystem],
        partitions: &[Partition],
    ) -> Option<Self> {
        let menu_on = grub?.menu_on?;
        let system = linux.iter().find(|system| system.partition == menu_on)?;
        let menu = system.readable_menu()?;
        let of = |entry: &MenuEntry| match entry.target {
            Target::BootRecord => partition_at(&entry.root, linux, partitions),
            _ => None,
        };
        let default = menu.default_entry().and_then(of);
        let partition = default.or_else(|| menu.entries.iter().find_map(of))?;
        Some(Self {
            menu_on,
            partition,
            by_default: default.is_some(),
        })
    }
}

/// The partition that a menu means.
pub(crate) fn partition_at(
    place: &Place,
    linux: &[LinuxSystem],
    partitions: &[Partition],
) -> Option<usize> {
    let named = |part: &&Partition| Some(part.number) == place.partition;
    let Some(uuid) = &place.uuid else {
        return Some(partitions.iter().find(named)?.number);
    };
    let has_it = |part: &&Partition| match part.volume.kind {
        VolumeKind::Ext => linux.iter().any(|system| {
            system.partition == part.number && uuid_is(uuid, &system.uuid.to_string())
        }),
        VolumeKind::Ntfs => {
            let health = part.volume.ntfs.as_ref();
            health.is_some_and(|health| uuid_is(uuid, &format!("{:016x}", health.shape.serial)))
        }
        // Others are known by the place that the menu gives beside it.
        _ => named(part),
    };
    Some(partitions.iter().find(has_it)?.number)
}

fn uuid_is(named: &str, found: &str) -> bool {
    named.eq_ignore_ascii_case(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_system_says_what_it_is() {
        let text = "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nNAME=\"Debian\"\nVERSION_ID=\"12\"\nID=debian\n";
        let release = Release::parse(text);
        let expected = ("debian", "Debian GNU/Linux 12 (bookworm)");
        assert_eq!((release.id.as_str(), release.name.as_str()), expected);
        let nothing = Release::parse("X=1\nID=\n");
        assert_eq!(
            (nothing.id.as_str(), nothing.name.as_str()),
            ("linux", "Linux")
        );
        let short = Release::parse("NAME='Insel'\nID=insel");
        assert_eq!((short.id.as_str(), short.name.as_str()), ("insel", "Insel"));
    }
}
