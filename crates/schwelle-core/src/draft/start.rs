//! What a PC starts from the finished disk: which system's boot files, and the boot store beside
//! them.

use uuid::Uuid;

use crate::bootstore::{BootStore, NewEntry, Translated, translate};
use crate::crossing::Crossing;
use crate::device::Extent;
use crate::profile::{ESP_STORE, Profile, SignedSet, WindowsSystem, boot_system};
use crate::receipt::{RECEIPT, Receipt, SystemReceipt};

use super::build::{DraftError, Source};
use super::esp::Filled;

/// What the new EFI system partition holds, and where it leads.
#[derive(Debug)]
pub struct NewStart {
    /// The new boot store.
    pub store: BootStore,
    /// What became of the old one; `None` when there was none to take over.
    pub translated: Option<Translated>,
    /// Files put on the partition.
    pub files: Vec<String>,
    /// Bytes of those files.
    pub bytes: u64,
    /// Those of the files in whose place others were, on a partition that was there.
    pub replaced: Vec<String>,
}

/// What the partition is filled with.
pub(crate) struct Content<'a> {
    /// Whose boot files, where that system lies, and which signed set of them.
    pub(crate) system: &'a WindowsSystem,
    pub(crate) windows: Extent,
    pub(crate) set: SignedSet,
    pub(crate) store: BootStore,
    pub(crate) translated: Option<Translated>,
    /// Files that are made here: the store, and the receipt of a conversion.
    pub(crate) own: Vec<(&'static str, Vec<u8>)>,
    /// What is on the removable-media path stays.
    pub(crate) keep_removable: bool,
}

impl NewStart {
    /// What was put on the partition.
    pub(crate) fn of(content: Content<'_>, filled: Filled) -> Self {
        Self {
            store: content.store,
            translated: content.translated,
            files: filled.files,
            bytes: filled.bytes,
            replaced: filled.replaced,
        }
    }
}

impl<'a> Content<'a> {
    /// What a crossing gives.
    pub(crate) fn of(
        profile: &'a Profile,
        crossing: &Crossing,
        source: &mut Source<'_>,
    ) -> Result<Self, DraftError> {
        let (set, written) = (source.set, source.stamp.windows);
        let old = profile.boot.readable();
        let (store, translated) = boot_store(profile, crossing, old, source)?;
        let receipt = receipt(profile, crossing, written).write();
        let own = vec![(ESP_STORE, store.to_hive(written)), (RECEIPT, receipt)];
        Ok(Self {
            own,
            ..Self::of_store(profile, set, (store, translated))?
        })
    }

    /// Boot files beside a store; nothing is made here.
    pub(crate) fn of_store(
        profile: &'a Profile,
        set: SignedSet,
        (store, translated): (BootStore, Option<Translated>),
    ) -> Result<Self, DraftError> {
        let (system, windows) = start_of(profile)?;
        Ok(Self {
            system,
            windows,
            set,
            store,
            translated,
            own: Vec::new(),
            keep_removable: false,
        })
    }
}

/// The Windows whose boot files are taken, and where it lies.
fn start_of(profile: &Profile) -> Result<(&WindowsSystem, Extent), DraftError> {
    let system = boot_system(profile).ok_or(DraftError::Missing("Windows with UEFI boot files"))?;
    let windows = profile
        .partition(system.partition)
        .ok_or(DraftError::Missing("Windows volume"))?;
    Ok((system, windows.extent))
}

/// Byte offset of a system's partition, and its new GUID.
fn identity_of(
    profile: &Profile,
    crossing: &Crossing,
    system: &WindowsSystem,
) -> Option<(u64, Uuid)> {
    let first = profile.partition(system.partition)?.extent.first;
    let offset = profile.geometry.byte_of(first)?;
    Some((offset, crossing.partition(crossing.signature, offset)?))
}

/// The store for the new partition: the old one taken across, or a fresh one where there is none.
pub(crate) fn boot_store(
    profile: &Profile,
    crossing: &Crossing,
    old: Option<&BootStore>,
    source: &mut Source<'_>,
) -> Result<(BootStore, Option<Translated>), DraftError> {
    let systems = profile.systems.iter();
    let places: Vec<_> = systems
        .filter_map(|system| Some((system, identity_of(profile, crossing, system)?)))
        .collect();
    if let Some(store) = old {
        let mut store = store.clone();
        let offsets: Vec<u64> = places.iter().map(|(_, (offset, _))| *offset).collect();
        let translated = translate(&mut store, crossing, &offsets);
        return Ok((store, Some(translated)));
    }
    let (system, _) = start_of(profile)?;
    let mut entries: Vec<(bool, NewEntry)> = places
        .iter()
        .filter(|(system, _)| system.has_uefi_loader)
        .map(|(other, (_, partition))| {
            let title = other.title();
            let partition = *partition;
            (
                other.partition != system.partition,
                NewEntry { title, partition },
            )
        })
        .collect();
    // The system that brings the boot files is the default.
    entries.sort_by_key(|(is_other, _)| *is_other);
    let entries: Vec<NewEntry> = entries.into_iter().map(|(_, entry)| entry).collect();
    let locale = system.boot_files.locale();
    let written = source.stamp.windows;
    let store = BootStore::fresh(&entries, crossing, &locale, source.new_guid, written);
    Ok((store, None))
}

fn receipt(profile: &Profile, crossing: &Crossing, written: u64) -> Receipt {
    let systems = profile.systems.iter().filter_map(|system| {
        let (_, partition) = identity_of(profile, crossing, system)?;
        Some(SystemReceipt {
            partition,
            firmware_boot_device: system.firmware_boot_device.clone(),
        })
    });
    Receipt::new(crossing.disk, crossing.esp, written, systems.collect())
}
