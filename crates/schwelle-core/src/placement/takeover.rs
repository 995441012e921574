//! The place of the System Reserved partition.

use crate::bytes::ReadBytes;
use crate::device::{Extent, Lba, Window};
use crate::gaps::esp_floor;
use crate::gpt::first_usable;
use crate::ntfs::{NtfsError, NtfsVolume, ROOT_RECORD};
use crate::profile::{Partition, Role, is_companion};

use super::{EspFrom, EspPlace, NoRoom, Place, PlaceVerdict, Placement, Search, backup_region};

impl Search<'_> {
    /// The boot partition's place, when it was asked for by name.
    pub(super) fn takeover(mut self) -> Result<Placement, NoRoom> {
        let profile = self.profile;
        let mut boot = profile.partitions.iter().filter(|p| p.role == Role::Boot);
        let found = boot
            .next()
            .map(|partition| (partition, self.give_up(partition)));
        let (place, verdict) = match found {
            None => (Place::NoBootPartition, Err(PlaceVerdict::NoBootPartition)),
            Some((partition, found)) => {
                let partition = partition.number;
                (Place::Takeover { partition }, found)
            }
        };
        let (number, extent, verdict) = match verdict {
            Ok(found) => found,
            Err(why) => {
                self.consider(place, why);
                return Err(NoRoom::NoPlace {
                    needed: esp_floor(profile.geometry.logical_sector),
                    considered: self.considered,
                });
            }
        };
        let index = self.consider(place, verdict);
        self.choose_place(index);
        let region = backup_region(profile.geometry);
        let gives_tail = profile.partition(number);
        let gives_tail = gives_tail.is_some_and(|part| part.extent.overlaps(&region));
        let tail = match gives_tail {
            true => None,
            false => self.tail_for_backup()?,
        };
        let from = EspFrom::Takeover(number);
        Ok(self.placed(EspPlace { extent, from }, tail))
    }

    /// The place that a boot partition gives, in whole MiB; the error says in numbers why not.
    fn give_up(
        &self,
        partition: &Partition,
    ) -> Result<(usize, Extent, PlaceVerdict), PlaceVerdict> {
        let geometry = self.profile.geometry;
        let align = geometry.sectors_per_mib();
        let extent = partition.extent;
        let first = extent.first.0.max(first_usable(geometry.logical_sector));
        let first = first.checked_next_multiple_of(align).unwrap_or(u64::MAX);
        let limit = backup_region(geometry).first.0;
        let mut end = extent.end.0.min(limit) / align * align;
        if let Some(asked) = self.request.size {
            let sectors = asked.div_ceil(geometry.logical_sector.into());
            let sectors = sectors.checked_next_multiple_of(align).unwrap_or(u64::MAX);
            if first.saturating_add(sectors) <= end {
                end = first.saturating_add(sectors);
            } else {
                end = first;
            }
        }
        let place = Extent::between(Lba(first), Lba(end.max(first)));
        let needed = self
            .request
            .size
            .unwrap_or(esp_floor(geometry.logical_sector));
        let has = geometry.bytes_in(&place);
        if has < needed {
            return Err(PlaceVerdict::PlaceTooSmall {
                needed_bytes: needed,
                has_bytes: geometry.bytes_in(&extent),
            });
        }
        self.is_only_boot_files(partition, needed)?;
        let verdict = PlaceVerdict::TakenOver { size_bytes: has };
        Ok((partition.number, place, verdict))
    }

    /// Refuses a volume with more on it than what BIOS starts with.
    fn is_only_boot_files(&self, partition: &Partition, needed: u64) -> Result<(), PlaceVerdict> {
        let geometry = self.profile.geometry;
        let window = Window::new(self.device, partition.extent).ok_or(PlaceVerdict::LeavesDisk)?;
        let unread = |error: NtfsError| PlaceVerdict::Unreadable {
            fault: error.into(),
        };
        let volume = NtfsVolume::open(&window).map_err(unread)?;
        let mut images = self.profile.recovery.iter();
        if let Some(image) = images.find(|image| image.partition == partition.number) {
            let file = volume.find(&image.path).map_err(unread)?;
            let bytes = file.map(|file| volume.open_file(file.record)).transpose();
            let bytes = bytes.map_err(unread)?.map_or(0, |file| file.len_bytes());
            return Err(PlaceVerdict::HoldsRecoveryImage {
                path: image.path.clone(),
                image_bytes: bytes,
                has_bytes: geometry.bytes_in(&partition.extent),
                needed_bytes: needed,
            });
        }
        // An empty folder is no loss.
        let mut others = Vec::new();
        for entry in volume.read_dir(ROOT_RECORD).map_err(unread)? {
            let is_empty =
                entry.is_directory && volume.read_dir(entry.record).map_err(unread)?.is_empty();
            if !is_companion(&entry.name) && !is_empty {
                others.push(entry.name);
            }
        }
        match others.len() {
            0 => Ok(()),
            count => {
                others.truncate(5);
                let names = others;
                Err(PlaceVerdict::HoldsFiles {
                    count,
                    file_names: names,
                })
            }
        }
    }
}
