//! What a PC starts from the finished disk: which system's boot files, and the BCD store beside
//! them.

use uuid::Uuid;

use crate::bcd::{self, BcdStore, NewEntry, Translated, translate};
use crate::device::Extent;
use crate::identities::{Identities, Style};
use crate::marker::{MARKER, Marker, SystemMarker};
use crate::profile::{
    BIOS_STORE, BootFile, ESP_STORE, Profile, SignedSet, WindowsSystem, bios_system, boot_system,
};
use crate::starts::can_be_given_up;

use super::basis::{DraftError, Source};
use super::esp::Filled;
use super::linux::{self, NewLinux, OwnFile};

/// What the new EFI system partition holds, and where it leads.
#[derive(Debug)]
pub struct NewStart {
    /// The new BCD store; `None` where no Windows starts.
    pub store: Option<BcdStore>,
    /// What became of the old one; `None` when there was none to take over.
    pub translated: Option<Translated>,
    /// The Linux systems that have a folder on the partition.
    pub linux: Vec<NewLinux>,
    /// Files put on the partition.
    pub files: Vec<String>,
    /// Bytes of those files.
    pub bytes: u64,
    /// Those of the files in whose place others were, on a partition that was there.
    pub replaced: Vec<String>,
}

/// What the partition is filled with.
pub(crate) struct Content {
    /// Boot files, and where the installed Windows lies that brings them.
    pub(crate) files: Vec<BootFile>,
    pub(crate) windows: Option<Extent>,
    pub(crate) store: Option<BcdStore>,
    pub(crate) translated: Option<Translated>,
    pub(crate) linux: Vec<NewLinux>,
    /// Files that are made here, the store and the marker of a conversion, and those of Linux systems.
    pub(crate) own: Vec<OwnFile>,
}

impl NewStart {
    /// What was put on the partition.
    pub(crate) fn of(content: Content, filled: Filled) -> Self {
        Self {
            store: content.store,
            translated: content.translated,
            linux: content.linux,
            files: filled.files,
            bytes: filled.bytes,
            replaced: filled.replaced,
        }
    }
}

impl Content {
    /// What a conversion gives.
    pub(crate) fn of(
        profile: &Profile,
        identities: &Identities,
        source: &mut Source<'_>,
    ) -> Result<Self, DraftError> {
        let (set, written, first) = (source.set, source.stamp.windows, source.first);
        let systems = linux::systems(profile, first);
        let marker = marker(profile, identities, written).write();
        let mut own = vec![(MARKER.to_owned(), marker)];
        own.extend(linux::files(profile, first));
        if boot_system(profile).is_none() && !systems.is_empty() {
            return Ok(Self {
                files: Vec::new(),
                windows: None,
                store: None,
                translated: None,
                linux: systems,
                own,
            });
        }
        let old = profile.boot.readable();
        let made = bcd_store(profile, identities, old, source)?;
        own.insert(0, (ESP_STORE.to_owned(), made.0.to_hive(written)));
        let (system, windows) = start_of(profile, identities.to)?;
        let mut files = system.boot_files.placed(set);
        // What a Linux puts there is not overwritten.
        files.retain(|file| !own.iter().any(|(path, _)| file.is_for(path)));
        Ok(Self {
            linux: systems,
            ..Self::new(files, windows, made, own)
        })
    }

    /// What the way back gives.
    pub(crate) fn back(
        profile: &Profile,
        identities: &Identities,
        source: &mut Source<'_>,
    ) -> Result<Self, DraftError> {
        let old = profile.boot.readable();
        let made = bcd_store(profile, identities, old, source)?;
        let store = made.0.to_hive(source.stamp.windows);
        let own = vec![(BIOS_STORE.to_owned(), store)];
        let (system, windows) = start_of(profile, identities.to)?;
        Ok(Self::new(
            system.bios_files.files.clone(),
            windows,
            made,
            own,
        ))
    }

    /// UEFI boot files beside a store that is there; nothing is made here.
    pub(crate) fn of_store(
        profile: &Profile,
        set: SignedSet,
        made: (BcdStore, Option<Translated>),
    ) -> Result<Self, DraftError> {
        let (system, windows) = start_of(profile, Style::Gpt)?;
        let files = system.boot_files.placed(set);
        Ok(Self::new(files, windows, made, Vec::new()))
    }

    /// A file that the partition gets: its path from the root on, with backslashes.
    pub(crate) fn has_file(&self, path: &str) -> bool {
        let mut own = self.own.iter();
        self.files.iter().any(|file| file.is_for(path))
            || own.any(|(own, _)| own.eq_ignore_ascii_case(path))
    }

    fn new(
        files: Vec<BootFile>,
        windows: Extent,
        (store, translated): (BcdStore, Option<Translated>),
        own: Vec<OwnFile>,
    ) -> Self {
        Self {
            files,
            windows: Some(windows),
            store: Some(store),
            translated,
            linux: Vec::new(),
            own,
        }
    }
}

/// The Windows whose boot files are taken, and where it lies.
fn start_of(profile: &Profile, to: Style) -> Result<(&WindowsSystem, Extent), DraftError> {
    let system = match to {
        Style::Gpt => boot_system(profile).ok_or("Windows with UEFI boot files"),
        Style::Mbr => bios_system(profile).ok_or("Windows with BIOS boot files"),
    };
    let system = system.map_err(DraftError::Missing)?;
    let windows = profile
        .partition(system.partition)
        .ok_or(DraftError::Missing("Windows volume"))?;
    Ok((system, windows.extent))
}

/// Byte offset of a system's partition, and its new GUID.
fn identity_of(
    profile: &Profile,
    identities: &Identities,
    system: &WindowsSystem,
) -> Option<(u64, Uuid)> {
    let first = profile.partition(system.partition)?.extent.first;
    let offset = profile.geometry.byte_of(first)?;
    Some((offset, identities.partition(identities.signature, offset)?))
}

/// The store for the new partition: the old one taken across, or a fresh one where there is none.
pub(crate) fn bcd_store(
    profile: &Profile,
    identities: &Identities,
    old: Option<&BcdStore>,
    source: &mut Source<'_>,
) -> Result<(BcdStore, Option<Translated>), DraftError> {
    let systems = profile.systems.iter();
    let places: Vec<_> = systems
        .filter_map(|system| Some((system, identity_of(profile, identities, system)?)))
        .collect();
    if let Some(store) = old {
        let mut store = store.clone();
        let is_left = |system: &&WindowsSystem| {
            identities.to == Style::Gpt && can_be_given_up(profile, system)
        };
        let (left, start): (Vec<_>, Vec<_>) =
            places.iter().partition(|(system, _)| is_left(system));
        let offset = |(_, (offset, _)): (&WindowsSystem, (u64, Uuid))| offset;
        let [left, start] =
            [left, start].map(|places| places.into_iter().map(offset).collect::<Vec<u64>>());
        let systems = bcd::Systems {
            start: &start,
            left: &left,
        };
        let translated = translate(&mut store, identities, systems);
        return Ok((store, Some(translated)));
    }
    let (system, _) = start_of(profile, identities.to)?;
    let mut entries: Vec<(bool, NewEntry)> = places
        .iter()
        .filter(|(system, _)| match identities.to {
            Style::Gpt => system.uefi_loader.is_ok(),
            Style::Mbr => system.bios_loader.is_ok(),
        })
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
    let store = BcdStore::fresh(&entries, identities, &locale, source.new_guid, written);
    Ok((store, None))
}

fn marker(profile: &Profile, identities: &Identities, written: u64) -> Marker {
    let systems = profile.systems.iter().filter_map(|system| {
        let (_, partition) = identity_of(profile, identities, system)?;
        Some(SystemMarker {
            partition,
            firmware_boot_device: system.firmware_boot_device.clone(),
        })
    });
    Marker::new(identities.disk, identities.esp, written, systems.collect())
}
