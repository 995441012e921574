//! An EFI system partition that an MBR disk has already: it is used, and no second one is made.

use crate::device::{Draft, Window};
use crate::disk_use::DiskUse;
use crate::fat::{DosTime, FatEditor, FatVolume};
use crate::gpt::place::esp_floor;
use crate::profile::{Partition, Role, VolumeKind, boot_system};

use super::{EspFrom, EspPlace, NoRoom, Search, in_words};

/// Left free on the partition beside the boot files: systems put new ones beside the old when they
/// update them.
const SPARE_BYTES: u64 = 16 << 20;

impl Search<'_> {
    /// The EFI system partition that is there; an error where it cannot be used.
    pub(super) fn existing(&mut self) -> Result<Option<EspPlace>, NoRoom> {
        let is_esp = |part: &&Partition| part.role == Role::Esp;
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
        let verdict = self.use_as_it_is(partition).map_err(refused)?;
        let index = self.consider(format!("partition {number}"), verdict);
        self.choose_place(index);
        Ok(Some(EspPlace {
            extent: partition.extent,
            from: EspFrom::Existing(number),
        }))
    }

    fn use_as_it_is(&self, partition: &Partition) -> Result<String, String> {
        let geometry = self.profile.geometry;
        if !matches!(
            partition.volume.kind,
            VolumeKind::Fat(crate::fat::FatKind::Fat32)
        ) {
            let kind = partition.volume.kind.name();
            return Err(format!("it holds {kind}, and not FAT32"));
        }
        let (has, floor) = (
            geometry.bytes_in(&partition.extent),
            esp_floor(geometry.logical_sector),
        );
        if has < floor {
            let (has, floor) = (in_words(has), in_words(floor));
            return Err(format!("it has {has}, and needs {floor}"));
        }
        // What the editor refuses is found out on a draft, which is thrown away.
        let draft = Draft::new(self.device);
        let window =
            Window::new(&draft, partition.extent).ok_or_else(|| "it leaves the disk".to_owned())?;
        FatEditor::open(&window, DosTime::EPOCH).map_err(|error| error.to_string())?;
        let free = FatVolume::open(&window).and_then(|volume| volume.free_bytes());
        let free = free.map_err(|error| error.to_string())?;
        let files = boot_system(self.profile).map_or(0, |system| system.boot_files.len_bytes());
        let needed = files.saturating_add(SPARE_BYTES);
        if free < needed {
            let (free, needed) = (in_words(free), in_words(needed));
            return Err(format!("{free} are free on it, and {needed} are needed"));
        }
        Ok(format!(
            "an EFI system partition of {} is there already; {} are free on it",
            in_words(has),
            in_words(free)
        ))
    }
}
