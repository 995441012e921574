//! Where a boot entry leads on the disks that are attached.

use crate::device::{Lba, ReadDevice, Window};
use crate::fat::FatVolume;
use crate::gpt::{GptEntry, GptPair, type_guid};
use crate::mbr::{BootRecord, Protection};
use crate::profile::REMOVABLE_X64;

use super::load_option::{DiskSignature, LoadOption, OtherTarget};

/// A loader is read up to this length.
const MAX_LOADER_BYTES: u64 = 64 << 20;

/// A disk that a PC has attached.
#[derive(Debug, Clone, Copy)]
pub struct AttachedDisk<'a> {
    /// What it is called in reports.
    pub name: &'a str,
    /// The disk.
    pub device: &'a dyn ReadDevice,
}

/// What a boot entry leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// A file that is there.
    File {
        /// The disk, by its place among those attached.
        disk: usize,
        /// Number of the partition.
        partition: usize,
        /// Path of the file.
        path: String,
    },
    /// The partition is there; the file is not, or cannot be looked for.
    NoFile {
        /// The disk, by its place among those attached.
        disk: usize,
        /// Number of the partition.
        partition: usize,
        /// Path that was looked for.
        path: String,
    },
    /// A partition that is on none of the disks.
    NoPartition,
    /// Something else than a partition; what.
    Other(OtherTarget),
}

impl Target {
    /// Finds what `option` leads to among `disks`.
    pub fn of(option: &LoadOption, disks: &[AttachedDisk<'_>]) -> Self {
        let Some((signature, extent)) = option.partition() else {
            return Self::Other(option.other_target());
        };
        let path = option.file().unwrap_or(REMOVABLE_X64).to_owned();
        for (disk, attached) in disks.iter().enumerate() {
            match signature {
                DiskSignature::Gpt(id) => {
                    let Some((partition, entry)) = find_gpt(attached.device, id) else {
                        continue;
                    };
                    return if has_file(attached.device, &entry, &path) {
                        Self::File {
                            disk,
                            partition,
                            path,
                        }
                    } else {
                        Self::NoFile {
                            disk,
                            partition,
                            path,
                        }
                    };
                }
                DiskSignature::Mbr(number) => {
                    let first = extent.first.0;
                    if let Some(partition) = find_mbr(attached.device, number, first) {
                        return Self::NoFile {
                            disk,
                            partition,
                            path,
                        };
                    }
                }
                DiskSignature::Other(..) => {}
            }
        }
        Self::NoPartition
    }
}

fn find_gpt(device: &dyn ReadDevice, id: uuid::Uuid) -> Option<(usize, GptEntry)> {
    // Firmware takes only a disk whose sector 0 protects the GPT.
    let pair = is_protected(device).then(|| GptPair::read(device))?;
    let entries = pair.best()?.entries.iter();
    let found = entries.clone().find(|(_, entry)| entry.id == id);
    found.cloned()
}

pub(crate) fn is_protected(device: &dyn ReadDevice) -> bool {
    let sector = device.read_sector(Lba(0)).ok();
    let found = sector.and_then(|sector| Protection::of(&sector));
    found.is_some_and(|found| found.entry.is_some())
}

fn find_mbr(device: &dyn ReadDevice, signature: u32, first: u64) -> Option<usize> {
    let record = BootRecord::parse(&device.read_sector(Lba(0)).ok()?)?;
    if record.disk_signature != signature {
        return None;
    }
    let mut entries = record.entries.iter();
    let found = entries.position(|entry| {
        let entry = entry.as_ref();
        entry.is_some_and(|entry| u64::from(entry.first) == first)
    });
    found.map(|at| at + 1)
}

fn has_file(device: &dyn ReadDevice, entry: &GptEntry, path: &str) -> bool {
    let found = || {
        let window = Window::new(device, entry.extent)?;
        let fat = FatVolume::open_leniently(&window).ok()?;
        let file = fat.find(path).ok()??;
        Some(!file.is_directory)
    };
    found() == Some(true)
}

/// The loader at `path` on the EFI system partition of `disk`; `None` where it cannot be read.
pub(crate) fn read_loader(disk: &dyn ReadDevice, path: &str) -> Option<Vec<u8>> {
    let pair = GptPair::read(disk);
    let mut entries = pair.best()?.entries.iter();
    let (_, esp) = entries.find(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM)?;
    let window = Window::new(disk, esp.extent)?;
    let fat = FatVolume::open_leniently(&window).ok()?;
    let file = fat.find(path).ok()??;
    fat.read_file(&file, MAX_LOADER_BYTES).ok()
}
