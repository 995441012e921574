//! Encrypted volumes: what they say of themselves, and opening them.

use uuid::Uuid;

use super::layout::Profile;
use super::partition::Partition;
use crate::bitlocker::{
    EncryptionState, Metadata, Method, ProtectorKind, Secret, UnlockError, Unlocked, UnlockedVolume,
};
use crate::device::{DeviceError, Extent, Lba, ReadDevice, Window};
use crate::gpt::GptPair;
use crate::host::HostFacts;
use crate::mbr::{BootRecord, MbrTable};

/// Partitions that are looked at for encrypted volumes, at most.
const MAX_VOLUMES: usize = 256;

/// What an encrypted volume says of itself, and whether it is open here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Encryption {
    /// What it is doing.
    pub state: EncryptionState,
    /// How its sectors are encrypted; `None` where its metadata cannot be read.
    pub method: Option<Method>,
    /// Identifiers of its recovery passwords, as Windows shows them beside those.
    pub recovery_ids: Vec<Uuid>,
    /// What opened it here; `None` for one that is closed.
    pub opened_by: Option<ProtectorKind>,
}

impl Encryption {
    fn of(metadata: &Metadata, opened_by: Option<ProtectorKind>) -> Self {
        let is_recovery = |kind| kind == ProtectorKind::RecoveryPassword;
        let protectors = metadata.protectors.iter();
        let recovery = protectors.filter(|protector| is_recovery(protector.kind));
        Self {
            state: metadata.state,
            method: Some(metadata.method),
            recovery_ids: recovery.map(|protector| protector.id).collect(),
            opened_by,
        }
    }

    /// Of a volume that is closed, in this state.
    pub(super) fn closed(device: &dyn ReadDevice, extent: Extent, state: EncryptionState) -> Self {
        match metadata(device, extent) {
            Some(metadata) => Self::of(&metadata, None),
            None => Self {
                state,
                method: None,
                recovery_ids: Vec::new(),
                opened_by: None,
            },
        }
    }

    /// Its key was protected when it was opened: Windows may ask for the recovery password when the PC starts in
    /// another way.
    pub fn is_protected(&self) -> bool {
        self.state != EncryptionState::Suspended
    }
}

/// Where an encrypted volume lies that was not opened, and why not.
pub type StaysClosed = (Extent, UnlockError);

fn metadata(device: &dyn ReadDevice, extent: Extent) -> Option<Metadata> {
    let window = Window::new(device, extent)?;
    let first = window.read_sector(Lba(0)).ok()?;
    Metadata::read(&window, &first)?.ok()
}

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
