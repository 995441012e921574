//! Opening a disk's encrypted volumes.

use super::encryption::{Encryption, metadata};
use super::layout::Profile;
use super::partition::Partition;
use crate::bitlocker::{Secret, UnlockError, Unlocked, UnlockedVolume};
use crate::device::{DeviceError, Extent, Lba, ReadDevice};
use crate::gpt::GptPair;
use crate::host::HostFacts;
use crate::mbr::{BootRecord, MbrTable};

/// Partitions that are looked at for encrypted volumes, at most.
const MAX_VOLUMES: usize = 256;

/// Where an encrypted volume lies that was not opened, and why not.
pub type StaysClosed = (Extent, UnlockError);

/// Where partitions lie, as the table has it, or the whole disk where a volume fills it.
fn extents(device: &dyn ReadDevice) -> Result<Vec<Extent>, DeviceError> {
    let sector = device.read_sector(Lba(0))?;
    let mut extents = vec![device.geometry().whole()];
    if let Some(copy) = GptPair::read(device).best() {
        extents.extend(copy.entries.iter().map(|(_, entry)| entry.extent));
    }
    if let Some(record) = BootRecord::parse(&sector).filter(|record| !record.is_protective()) {
        let table = MbrTable::read(device, record)?;
        extents.extend(table.partitions.iter().map(|partition| partition.extent));
    }
    extents.truncate(MAX_VOLUMES);
    Ok(extents)
}

/// Opens what can be opened of a disk's encrypted volumes: by their clear keys where protection is suspended, else by
/// one of these secrets. Gives the disk, and why volumes that none of it opened stay closed.
///
/// # Errors
///
/// The table cannot be read.
pub fn unlock<D: ReadDevice>(
    disk: D,
    secrets: &[Secret],
) -> Result<(Unlocked<D>, Vec<StaysClosed>), DeviceError> {
    let (mut open, mut closed): (Vec<UnlockedVolume>, Vec<_>) = (Vec::new(), Vec::new());
    let geometry = disk.geometry();
    for extent in extents(&disk)? {
        let is_taken = open.iter().any(|volume| volume.extent().overlaps(&extent));
        let Some(metadata) = metadata(&disk, extent).filter(|_| !is_taken) else {
            continue;
        };
        match metadata.unlock(secrets) {
            Ok(key) => match UnlockedVolume::new(geometry, extent, metadata, key) {
                Some(volume) => open.push(volume),
                None => closed.push((extent, UnlockError::Damaged)),
            },
            Err(why) => closed.push((extent, why)),
        }
    }
    Ok((Unlocked::new(disk, open), closed))
}

impl Profile {
    /// The encrypted volumes with a Windows on them that are open.
    pub fn opened_systems(&self) -> impl Iterator<Item = (&Partition, &Encryption)> {
        let partitions = self
            .partitions
            .iter()
            .filter(|partition| partition.is_opened());
        partitions
            .filter(|partition| {
                let mut systems = self.systems.iter();
                systems.any(|system| system.partition == partition.number)
            })
            .filter_map(|partition| Some((partition, partition.encryption.as_ref()?)))
    }

    /// Looks at a disk of which volumes have been opened.
    ///
    /// # Errors
    ///
    /// It cannot be read.
    pub fn read_open<D: ReadDevice>(
        disk: &Unlocked<D>,
        host: HostFacts,
    ) -> Result<Self, DeviceError> {
        let mut profile = Self::read(disk, host)?;
        for volume in disk.volumes() {
            let mut partitions = profile.partitions.iter_mut();
            let found = partitions.find(|partition| partition.extent == volume.extent());
            if let Some(partition) = found {
                let by = Some(volume.key().opened_by);
                partition.encryption = Some(Encryption::of(volume.metadata(), by));
            }
        }
        Ok(profile)
    }
}
