//! What a system finds around it once it starts: the other entries of the menu, its drive letters,
//! its recovery environment. None of this keeps the default entry from starting, so what is wrong
//! here is a caution.

use crate::bcd::{BcdStore, BootObject, ObjectKind, element, is_bios_only};
use crate::device::{Extent, ReadDevice, Window};
use crate::hive::Hive;
use crate::identities::{PartitionName, Style};
use crate::ntfs::{NtfsError, NtfsVolume};
use crate::pe::{FileVersion, PeImage};
use crate::profile::RECOVERY_IMAGE;
use crate::windows::{
    HiveFile, HiveFileError, MountTarget, MountedName, RecoveryDisk, RecoveryFile, SYSTEM_HIVE,
    mounted_names,
};

use super::answers::around::{
    Elsewhere, Evidence, Leads, LetterElsewhere, LetterHere, Letters, LettersOf, MenuEntry,
    Recovery, RecoveryOf, Remedy,
};
use super::names::{DiskId, DiskNames};
use super::step::{Rehearsal, StepId};

/// What does not hold is reported first.
fn wrong_first<T>(mut all: Vec<T>, holds: impl Fn(&T) -> bool) -> (Vec<T>, bool) {
    all.sort_by_key(&holds);
    let is_good = all.iter().all(holds);
    (all, is_good)
}

pub(super) fn walk_around(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BcdStore,
    manager: Option<FileVersion>,
) {
    let mut systems: Vec<Extent> = Vec::new();
    let mut entries = Vec::new();
    for entry in store.menu() {
        let leads = match leads_to(disk, names, store, &entry, manager) {
            Ok((extent, leads)) => {
                if !systems.contains(&extent) {
                    systems.push(extent);
                }
                leads
            }
            Err(leads) => leads,
        };
        let title = entry.title();
        entries.push(MenuEntry { title, leads });
    }
    let (entries, is_good) = wrong_first(entries, |entry| entry.leads.holds());
    let evidence = Evidence::Menu { entries };
    walk.note(StepId::Menu, is_good, evidence, Remedy::EntryDoesNotStart);

    let (mut letters, mut recovery) = (Vec::new(), Vec::new());
    for extent in systems {
        let partition = number_of(names, extent);
        let Some(window) = Window::new(disk, extent) else {
            continue;
        };
        let Ok(volume) = NtfsVolume::open(&window) else {
            continue;
        };
        letters.push(LettersOf {
            partition,
            letters: drive_letters(&volume, names, extent),
        });
        let found = recovery_environment(disk, &volume, names, store);
        recovery.push(RecoveryOf {
            partition,
            recovery: found.unwrap_or_else(|fault| fault),
        });
    }
    let (systems, is_good) = wrong_first(letters, |of| of.letters.hold());
    let evidence = Evidence::DriveLetters { systems };
    walk.note(StepId::Letters, is_good, evidence, Remedy::LookAtDrives);
    let (systems, is_good) = wrong_first(recovery, |of| of.recovery.holds());
    let evidence = Evidence::RecoveryOf { systems };
    walk.note(StepId::Recovery, is_good, evidence, Remedy::SwitchRecovery);
}

/// The number of the partition here; every extent that is asked for is one's.
fn number_of(names: &DiskNames, extent: Extent) -> usize {
    names.at(extent).map_or(0, |part| part.number)
}

/// The partition of an entry's system, and what was found there.
fn leads_to(
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BcdStore,
    entry: &BootObject<'_>,
    manager: Option<FileVersion>,
) -> Result<(Extent, Leads), Leads> {
    if names.style() == Style::Gpt && is_bios_only(entry.kind()) {
        return Err(Leads::BiosOnly);
    }
    if entry.kind() != Some(ObjectKind::Loader) {
        return Err(Leads::NoSystemLoader);
    }
    let device = store
        .effective(entry, |object| object.device(element::OS_DEVICE))
        .ok_or(Leads::NoDevice)?;
    let extent = names
        .resolve(&device)
        .map_err(|fault| Leads::Names { fault })?;
    let path = store
        .effective(entry, |object| object.text(element::PATH))
        .ok_or(Leads::NoLoader)?;
    let partition = number_of(names, extent);
    // A RAM disk's loader lies in its image, which is only seen to be there.
    let on_disk = device.is_plain_partition();
    let unreadable = |error: NtfsError| Leads::Unreadable {
        fault: error.into(),
    };
    let window = Window::new(disk, extent).ok_or(Leads::LeavesDisk)?;
    let volume = NtfsVolume::open(&window).map_err(unreadable)?;
    let found = volume.find(&path).map_err(unreadable)?;
    let found = found.filter(|found| !found.is_directory);
    if on_disk && found.is_none() {
        return Err(Leads::NotThere { path, partition });
    }
    let loader = found.and_then(|found| {
        let file = volume.open_file(found.record).ok()?;
        PeImage::read(&file).ok()?.version
    });
    if let (Some(manager), Some(loader)) = (manager, loader)
        && manager.build() < loader.build()
    {
        return Err(Leads::Newer {
            path,
            partition,
            loader: loader.to_string(),
            manager: manager.to_string(),
        });
    }
    Ok((extent, Leads::Here { path, partition }))
}

/// The letters of an installed Windows on this disk.
fn drive_letters(volume: &NtfsVolume<'_>, names: &DiskNames, own: Extent) -> Letters {
    match mounted(volume) {
        Ok(Some(mounted)) => letters_of(&mounted, names, own),
        Ok(None) => Letters::NoRegistry,
        Err(error) => Letters::Unreadable {
            fault: error.into(),
        },
    }
}

/// The names of volumes that a registry keeps; `None` where there is none.
fn mounted(volume: &NtfsVolume<'_>) -> Result<Option<Vec<MountedName>>, HiveFileError> {
    let Some(file) = HiveFile::find(volume, SYSTEM_HIVE)? else {
        return Ok(None);
    };
    let recovered = file.recovered().map_err(HiveFileError::from)?;
    let mounted = Hive::open(&recovered).and_then(|hive| mounted_names(&hive));
    Ok(Some(mounted.map_err(HiveFileError::from)?))
}

fn letters_of(mounted: &[MountedName], names: &DiskNames, own: Extent) -> Letters {
    let (mut here, mut elsewhere, mut has_own) = (Vec::new(), Vec::new(), false);
    for (letter, target) in mounted.iter().filter_map(|n| Some((n.letter()?, n.target))) {
        let letter = letter.to_owned();
        let name = match (target, names.disk) {
            (MountTarget::Mbr { signature, offset }, _) => PartitionName::Mbr { signature, offset },
            (MountTarget::Gpt(partition), DiskId::Gpt(disk)) => {
                PartitionName::Gpt { disk, partition }
            }
            (MountTarget::Gpt(partition), DiskId::Mbr(_)) => {
                let on = Elsewhere::GptPartition(partition);
                elsewhere.push(LetterElsewhere { letter, on });
                continue;
            }
            (MountTarget::Other, _) => continue,
        };
        match (names.find(name), name) {
            (Ok(part), _) if part.is_esp => return Letters::OnEsp { letter },
            (Ok(part), _) => {
                has_own |= part.extent == own;
                let partition = part.number;
                here.push(LetterHere { letter, partition });
            }
            (Err(_), PartitionName::Mbr { signature, .. }) => {
                let on = Elsewhere::MbrDisk(signature);
                elsewhere.push(LetterElsewhere { letter, on });
            }
            // A partition of another GPT disk: nothing here is wrong.
            (Err(_), PartitionName::Gpt { .. }) => {}
        }
    }
    match has_own || elsewhere.is_empty() {
        true => Letters::Given { here, elsewhere },
        false => Letters::NotItsOwn { elsewhere },
    }
}

/// The recovery environment of an installed Windows on this disk.
fn recovery_environment(
    disk: &dyn ReadDevice,
    volume: &NtfsVolume<'_>,
    names: &DiskNames,
    store: &BcdStore,
) -> Result<Recovery, Recovery> {
    let unreadable = |error: NtfsError| Recovery::Unreadable {
        fault: error.into(),
    };
    let Some(file) = RecoveryFile::find(volume).map_err(unreadable)? else {
        return Ok(Recovery::NotSetUp);
    };
    let config = file
        .config
        .map_err(|error| Recovery::Unreadable { fault: error })?;
    let place = config.location().filter(|_| config.enabled == Some(true));
    let Some(place) = place else {
        return Ok(Recovery::Off);
    };
    match (place.disk, names.disk) {
        (RecoveryDisk::Gpt(id), DiskId::Gpt(own)) if id == own => {}
        (RecoveryDisk::Mbr(id), DiskId::Mbr(own)) if id == own => {}
        (RecoveryDisk::Mbr(signature), DiskId::Gpt(_)) => {
            return Err(Recovery::StillMbr { signature });
        }
        (RecoveryDisk::Gpt(disk), DiskId::Mbr(_)) => return Err(Recovery::StillGpt { disk }),
        _ => return Err(Recovery::OtherDisk),
    }
    let offset = place.offset;
    let mut partitions = names.partitions.iter();
    let partition = partitions
        .find(|part| part.offset == offset)
        .ok_or(Recovery::NoPartitionAt { offset })?;
    let (extent, partition) = (partition.extent, partition.number);
    let window = Window::new(disk, extent).ok_or(Recovery::LeavesDisk)?;
    let path = format!("{}\\{RECOVERY_IMAGE}", place.path.trim_end_matches('\\'));
    let found = NtfsVolume::open(&window)
        .and_then(|volume| volume.find(&path))
        .map_err(unreadable)?;
    if found.is_none_or(|found| found.is_directory) {
        return Err(Recovery::ImageMissing { path, partition });
    }
    if let Some(id) = config.entry {
        let entry = store
            .object(&format!("{{{id}}}"))
            .ok_or(Recovery::NoEntry)?;
        for (_, device) in entry.devices() {
            let there = names
                .resolve(&device)
                .map_err(|fault| Recovery::EntryNames { fault })?;
            if there != extent {
                return Err(Recovery::EntryElsewhere);
            }
        }
    }
    Ok(Recovery::Here { path, partition })
}
