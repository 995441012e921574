//! Loaders on FAT volumes that firmware finds by itself, without a boot entry.

use crate::cause::Cause;
use crate::device::{ReadDevice, Window};
use crate::fat::{FatError, FatVolume};

use super::known::REMOVABLE_X64;
use super::partition::Partition;
use super::volume::VolumeKind;

/// A FAT volume with a loader on the removable-media path, or one that could not be searched for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FatLoader {
    /// Number of the partition.
    pub partition: usize,
    /// The loader is there; an error if the volume could not be searched.
    pub found: Result<(), Cause>,
}

impl FatLoader {
    /// Searches every FAT volume. Those that firmware does not read hold none for it.
    pub(super) fn find_all(device: &dyn ReadDevice, partitions: &[Partition]) -> Vec<Self> {
        let is_fat = |part: &&Partition| matches!(part.volume.kind, VolumeKind::Fat(_));
        let found = partitions.iter().filter(is_fat).filter_map(|partition| {
            let window = Window::new(device, partition.extent)?;
            let entry =
                FatVolume::open_leniently(&window).and_then(|volume| volume.find(REMOVABLE_X64));
            let found = match entry {
                Ok(entry) => Ok(entry.filter(|entry| !entry.is_directory).map(|_| ())?),
                Err(FatError::Odd(_)) => return None,
                Err(error) => Err(Cause::from(&error)),
            };
            let partition = partition.number;
            Some(Self { partition, found })
        });
        found.collect()
    }
}
