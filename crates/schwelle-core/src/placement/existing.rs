//! A partition that an MBR disk has already and that becomes its EFI system partition: one of that type, of which no
//! second is made, or a FAT32 volume from which a BIOS starts now, as the way back to MBR leaves it.

use crate::device::{Draft, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::{DosTime, FatEditor, FatError, FatKind, FatVolume};
use crate::gaps::esp_floor;
use crate::profile::{Partition, Role, VolumeKind, boot_system};

use super::{EspFrom, EspPlace, ExistingUnfit, NoRoom, Place, PlaceVerdict, Search};

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
        if self.request.disk_use == DiskUse::Data {
            return Ok(None);
        }
        let number = partition.number;
        let refused = |why| NoRoom::Existing { number, why };
        if let [second, ..] = more {
            return Err(refused(ExistingUnfit::Second {
                partition: second.number,
            }));
        }
        let place = Place::Existing { partition: number };
        let verdict = match self.use_as_it_is(partition) {
            Ok(verdict) => verdict,
            // The boot partition of a BIOS start may stay what it is: there are other places.
            Err(why) if is_fat32_boot(partition) => {
                self.consider(place, PlaceVerdict::Unfit { why });
                return Ok(None);
            }
            Err(why) => return Err(refused(why)),
        };
        let index = self.consider(place, verdict);
        self.choose_place(index);
        Ok(Some(EspPlace {
            extent: partition.extent,
            from: EspFrom::Existing(number),
        }))
    }

    fn use_as_it_is(&self, partition: &Partition) -> Result<PlaceVerdict, ExistingUnfit> {
        let geometry = self.profile.geometry;
        let (has, floor) = (
            geometry.bytes_in(&partition.extent),
            esp_floor(geometry.logical_sector),
        );
        let files = boot_system(self.profile).map_or(0, |system| system.boot_files.len_bytes());
        let linux = self.profile.linux.iter();
        let linux = linux.filter_map(|system| system.loaders.as_ref().ok());
        // In a folder of their own, and where firmware looks without a boot entry.
        let linux: u64 = linux.map(|loaders| 2 * loaders.len_bytes()).sum();
        let files = files.saturating_add(linux);
        let free = room_for_files(self.device, partition, files);
        if is_fat32(partition) && has < floor {
            return Err(ExistingUnfit::TooSmall {
                has_bytes: has,
                needed_bytes: floor,
            });
        }
        Ok(PlaceVerdict::UsedAsItIs {
            is_boot: partition.role == Role::Boot,
            size_bytes: has,
            free_bytes: free?,
        })
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
) -> Result<u64, ExistingUnfit> {
    if !is_fat32(partition) {
        return Err(ExistingUnfit::NotFat32 {
            volume: partition.volume.kind,
        });
    }
    // What the editor refuses is found out on a draft, which is thrown away.
    let draft = Draft::new(disk);
    let window = Window::new(&draft, partition.extent).ok_or(ExistingUnfit::LeavesDisk)?;
    let fault = |error: FatError| ExistingUnfit::Fault {
        fault: error.into(),
    };
    FatEditor::open(&window, DosTime::EPOCH).map_err(|error| ExistingUnfit::Fault {
        fault: error.into(),
    })?;
    let free_bytes = FatVolume::open(&window).and_then(|volume| volume.free_bytes());
    let free_bytes = free_bytes.map_err(fault)?;
    let needed_bytes = files.saturating_add(SPARE_BYTES);
    if free_bytes < needed_bytes {
        return Err(ExistingUnfit::Full {
            free_bytes,
            needed_bytes,
        });
    }
    Ok(free_bytes)
}
