//! What a job that was interrupted leaves on an MBR disk: signs that are there without its job folder.

use uuid::Uuid;

use crate::device::{DeviceError, Extent, Lba, MIB, ReadDevice, Window};
use crate::fat::FatVolume;
use crate::gaps::{ESP_WANTED, esp_floor, in_gap, usable_part};
use crate::gpt::{GptPair, type_guid};
use crate::marker::{MARKER, MAX_MARKER_BYTES, Marker};
use crate::ntfs::NtfsShape;

use super::partition::Partition;

/// A volume that ends this much before its partition ends clearly before it. Ordinary volumes leave less
/// than a cluster.
const CLEARLY: u64 = MIB;

/// A sign that a job was stopped.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StoppedSign {
    /// A volume ends clearly before its partition does.
    Shrunk {
        /// Number of the partition.
        partition: usize,
        /// Bytes of the partition beyond its volume.
        beyond_bytes: u64,
        /// The last sector of the partition still holds the boot sector's copy of the larger volume.
        copy_left: bool,
    },
    /// An EFI system partition in unused space.
    Esp {
        /// Its first sector.
        at: Lba,
        /// The disk's GUID by its marker, which is the job's own; `None` where it has none.
        disk: Option<Uuid>,
    },
}

/// Sectors of a partition beyond its NTFS volume, where that ends clearly before it.
pub(crate) fn beyond_volume(partition: &Partition, sector_bytes: u32) -> Option<Extent> {
    if partition.is_opened() {
        return None;
    }
    let shape = partition.volume.ntfs.as_ref()?.shape;
    // The backup boot sector lies beyond the volume's own sectors.
    let bytes = shape
        .total_sectors
        .checked_add(1)?
        .checked_mul(shape.sector_bytes.into())?;
    let sectors = bytes.div_ceil(sector_bytes.into());
    let end = partition.extent.first.0.checked_add(sectors)?;
    let beyond = Extent::between(Lba(end), partition.extent.end);
    let is_clear =
        beyond.first < beyond.end && beyond.sectors().saturating_mul(sector_bytes.into()) > CLEARLY;
    is_clear.then_some(beyond)
}

/// Looks for the signs on a disk with an MBR.
pub(super) fn find(
    device: &dyn ReadDevice,
    pair: &GptPair,
    partitions: &[Partition],
    used: &[Extent],
) -> Result<Vec<StoppedSign>, DeviceError> {
    let geometry = device.geometry();
    let mut signs = Vec::new();
    let mut beyond_all = Vec::new();
    for partition in partitions {
        let Some(beyond) = beyond_volume(partition, geometry.logical_sector) else {
            continue;
        };
        beyond_all.push(beyond);
        let copy = NtfsShape::at(device, partition.extent.last())?;
        let shape = partition.volume.ntfs.as_ref().map(|health| health.shape);
        let copy_left = copy.zip(shape).is_some_and(|(copy, shape)| {
            copy.serial == shape.serial && copy.total_sectors > shape.total_sectors
        });
        signs.push(StoppedSign::Shrunk {
            partition: partition.number,
            beyond_bytes: geometry.bytes_in(&beyond),
            copy_left,
        });
    }
    // Where an EFI system partition may lie: where a copy of a GPT says, and where one would be put.
    let copies = [&pair.primary, &pair.backup].into_iter().flatten();
    let named = copies.flat_map(|copy| &copy.entries);
    let mut places: Vec<Lba> = named
        .filter(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM)
        .map(|(_, entry)| entry.extent.first)
        .collect();
    let floor = esp_floor(geometry.logical_sector);
    for wanted in [ESP_WANTED.max(floor), floor] {
        places.extend(in_gap(geometry, used, wanted, floor).map(|extent| extent.first));
    }
    for extent in crate::gaps::gaps(geometry, used)
        .into_iter()
        .chain(beyond_all)
    {
        places.extend(usable_part(geometry, extent).map(|extent| extent.first));
    }
    places.sort_unstable();
    places.dedup();
    let is_free = |at: &Lba| {
        let one = Extent::new(*at, 1);
        let lies_in = |partition: &Partition| {
            let beyond = beyond_volume(partition, geometry.logical_sector);
            let end = beyond.map_or(partition.extent.end, |beyond| beyond.first);
            (partition.extent.first..end).contains(at)
        };
        one.is_some_and(|one| geometry.whole().contains(&one)) && !partitions.iter().any(lies_in)
    };
    for at in places.into_iter().filter(is_free) {
        if let Some(disk) = esp_at(device, at) {
            signs.push(StoppedSign::Esp { at, disk });
        }
    }
    Ok(signs)
}

/// The EFI system partition that begins at a sector: by its marker, or without. `None` where there is no
/// volume with a folder `EFI`.
fn esp_at(device: &dyn ReadDevice, at: Lba) -> Option<Option<Uuid>> {
    let geometry = device.geometry();
    let rest = Extent::between(at, Lba(geometry.sectors));
    let window = Window::new(device, rest)?;
    let volume = FatVolume::open(&window).ok()?;
    volume.find("\\EFI").ok()??;
    let marker = volume.find(MARKER).ok().flatten().and_then(|file| {
        let bytes = volume.read_file(&file, MAX_MARKER_BYTES).ok()?;
        Marker::parse(&bytes)
    });
    Some(marker.map(|marker| marker.disk))
}
