//! How an MBR disk's names may still stand on a GPT disk: in old BCD stores, and in the registry.

use uuid::Uuid;

use crate::bcd::{BcdStore, Locator};
use crate::device::{ReadDevice, Window};
use crate::gpt::GptLayout;
use crate::hive::Hive;
use crate::identities::{Identities, Style};
use crate::ntfs::NtfsVolume;
use crate::profile::{Profile, WindowsSystem};
use crate::windows::{HiveFile, MountTarget, SYSTEM_HIVE, mounted_names};

/// The signature that the disk had when it was an MBR disk: the one by which a store or the
/// registry names a partition at the place where an installed Windows lies.
pub(super) fn old_signature(
    disk: &dyn ReadDevice,
    profile: &Profile,
    stores: &[&BcdStore],
) -> Option<u32> {
    let places: Vec<u64> = profile
        .systems
        .iter()
        .filter_map(|system| place_of(profile, system))
        .collect();
    let in_stores = stores
        .iter()
        .flat_map(|store| store.objects())
        .find_map(|entry| {
            let devices = entry.devices();
            let mut locators = devices.iter().flat_map(|(_, device)| device.locators());
            locators.find_map(|locator| match locator {
                Locator::Mbr { signature, offset } if places.contains(&offset) => Some(signature),
                _ => None,
            })
        });
    in_stores.or_else(|| {
        let mut systems = profile.systems.iter();
        systems.find_map(|system| in_registry(disk, profile, system))
    })
}

fn place_of(profile: &Profile, system: &WindowsSystem) -> Option<u64> {
    let partition = profile.partition(system.partition)?;
    profile.geometry.byte_of(partition.extent.first)
}

fn in_registry(disk: &dyn ReadDevice, profile: &Profile, system: &WindowsSystem) -> Option<u32> {
    let own = place_of(profile, system)?;
    let window = Window::new(disk, profile.partition(system.partition)?.extent)?;
    let volume = NtfsVolume::open(&window).ok()?;
    let hive = HiveFile::find(&volume, SYSTEM_HIVE).ok()??;
    let recovered = hive.recovered().ok()?;
    let names = Hive::open(&recovered)
        .and_then(|hive| mounted_names(&hive))
        .ok()?;
    names.into_iter().find_map(|name| match name.target {
        MountTarget::Mbr { signature, offset } if offset == own => Some(signature),
        _ => None,
    })
}

/// The conversion that made this table out of an MBR disk with this signature.
pub(super) fn identities(
    disk: &dyn ReadDevice,
    layout: &GptLayout,
    signature: Option<u32>,
    esp: Uuid,
) -> Identities {
    let geometry = disk.geometry();
    let entries = layout.used().filter(|(_, entry)| entry.id != esp);
    let partitions = entries
        .filter_map(|(_, entry)| Some((geometry.byte_of(entry.extent.first)?, entry.id)))
        // Nothing can name a disk whose signature is not known.
        .filter(|_| signature.is_some());
    Identities {
        to: Style::Gpt,
        signature: signature.unwrap_or(0),
        disk: layout.disk_id,
        esp,
        partitions: partitions.collect(),
    }
}
