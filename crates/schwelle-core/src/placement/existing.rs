//! A partition that an MBR disk has already and that becomes its EFI system partition: one of that type, of which no
//! second is made, or a FAT32 volume from which a BIOS starts now, as the way back to MBR leaves it.

use crate::device::{Draft, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::{DosTime, FatEditor, FatKind, FatVolume};
use crate::gpt::place::esp_floor;
use crate::profile::{Partition, Role, VolumeKind, boot_system};

use super::{EspFrom, EspPlace, NoRoom, Search, in_words};

/// Left free on the partition beside the boot files: systems put new ones beside the old when they
/// update them.
const SPARE_BYTES: u64 = 16 << 20;

impl Search<'_> {
    /// The EFI system partition that is there; an error where it cannot be used.
    pub(super) fn existing(&mut self) -> Result<Option<EspPlace>, NoRoom> {
        let is_esp = |part: &&Partition| part.role == Role::Esp || is_fat32_boot(part);
        let all: Vec<&Partition> = self.profile.partitions.iter().filter(is_esp).collect();
        let [partition, more @ ..] = &all[..] else {
            return Ok(None);
        };
        if self.wish.disk_use == DiskUse::Data {
            return Ok(None);
        }
        let number = partition.number;
        let refused = |why: String| NoRoom::Existing { number, why };
        if let [second, ..] = more {
            let why = format!(
                "partition {} is one as well, and nobody can tell which is meant",
                second.number
            );
            return Err(refused(why));
        }
        let verdict = match self.use_as_it_is(partition) {
            Ok(verdict) => verdict,
            // The boot partition of a BIOS start may stay what it is: there are other places.
            Err(why) if is_fat32_boot(partition) => {
                self.consider(format!("partition {number}"), why);
                return Ok(None);
            }
            Err(why) => return Err(refused(why)),
        };
        let index = self.consider(format!("partition {number}"), verdict);
        self.choose_place(index);
        Ok(Some(EspPlace {
            extent: partition.extent,
            from: EspFrom::Existing(number),
        }))
    }

    fn use_as_it_is(&self, partition: &Partition) -> Result<String, String> {
        let geometry = self.profile.geometry;
        let (has, floor) = (
            geometry.bytes_in(&partition.extent),
            esp_floor(geometry.logical_sector),
        );
        let files = boot_system(self.profile).map_or(0, |system| system.boot_files.len_bytes());
        let free = room_for_files(self.device, partition, files);
        if is_fat32(partition) && has < floor {
            let (has, floor) = (in_words(has), in_words(floor));
            return Err(format!("it has {has}, and needs {floor}"));
        }
        let what = match partition.role {
            Role::Boot => "the FAT32 boot partition",
            _ => "an EFI system partition",
        };
        Ok(format!(
            "{what} of {} is there already; {} are free on it",
            in_words(has),
            in_words(free?)
        ))
    }
}

fn is_fat32_boot(partition: &Partition) -> bool {
    partition.role == Role::Boot && is_fat32(partition)
}

fn is_fat32(partition: &Partition) -> bool {
    partition.volume.kind == VolumeKind::Fat(FatKind::Fat32)
}

/// The free bytes on a FAT32 volume that can take so many bytes of boot files; else why it cannot.
pub(crate) fn room_for_files(
    disk: &dyn ReadDevice,
    partition: &Partition,
    files: u64,
) -> Result<u64, String> {
    if !is_fat32(partition) {
        let kind = partition.volume.kind.name();
        return Err(format!("it holds {kind}, and not FAT32"));
    }
    // What the editor refuses is found out on a draft, which is thrown away.
    let draft = Draft::new(disk);
    let window =
        Window::new(&draft, partition.extent).ok_or_else(|| "it leaves the disk".to_owned())?;
    FatEditor::open(&window, DosTime::EPOCH).map_err(|error| error.to_string())?;
    let free = FatVolume::open(&window).and_then(|volume| volume.free_bytes());
    let free = free.map_err(|error| error.to_string())?;
    let needed = files.saturating_add(SPARE_BYTES);
    if free < needed {
        let (free, needed) = (in_words(free), in_words(needed));
        return Err(format!("{free} are free on it, and {needed} are needed"));
    }
    Ok(free)
}
