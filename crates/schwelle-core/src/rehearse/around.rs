//! What a system finds around it once it starts: the other entries of the menu, its drive letters,
//! its recovery environment. None of this keeps the default entry from starting, so what is wrong
//! here is a caution.

use crate::bootstore::{BootObject, BootStore, ObjectKind, element, is_bios_only};
use crate::crossing::{PartitionName, Style};
use crate::device::{Extent, ReadDevice, Window};
use crate::hive::Hive;
use crate::ntfs::NtfsVolume;
use crate::pe::{FileVersion, PeImage};
use crate::profile::RECOVERY_IMAGE;
use crate::windows::{
    HiveFile, MountTarget, RecoveryDisk, RecoveryFile, SYSTEM_HIVE, mounted_names,
};

use super::names::{DiskId, DiskNames};
use super::walk::{Rehearsal, StepId};

/// Texts of what holds and of what does not.
#[derive(Default)]
struct Notes {
    good: Vec<String>,
    wrong: Vec<String>,
}

impl Notes {
    fn add(&mut self, subject: &str, note: Result<String, String>) {
        match note {
            Ok(text) => self.good.push(format!("{subject}: {text}")),
            Err(text) => self.wrong.push(format!("{subject}: {text}")),
        }
    }

    /// As a step: a caution when anything is wrong, which is then told first.
    fn step(self, walk: &mut Rehearsal, id: StepId, nothing: &str, remedy: &str) {
        let is_good = self.wrong.is_empty();
        let all = [self.wrong, self.good].concat();
        let evidence = if all.is_empty() {
            nothing.to_owned()
        } else {
            all.join("; ")
        };
        walk.note(id, is_good, evidence, remedy);
    }
}

pub(super) fn walk_around(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BootStore,
    manager: Option<FileVersion>,
) {
    let mut systems: Vec<Extent> = Vec::new();
    let mut menu = Notes::default();
    for entry in store.menu() {
        let lead = leads_to(disk, names, store, &entry, manager);
        if let Ok((extent, _)) = &lead
            && !systems.contains(extent)
        {
            systems.push(*extent);
        }
        menu.add(
            &format!("\"{}\"", entry.title()),
            lead.map(|(_, text)| text),
        );
    }
    let remedy = "The entry does not start from here. If it is for a disk that is missing now, \
        attach it; else take the entry out of the menu, in Windows. Where the boot manager is the older one, let \
        the startup repair of the newest Windows place its own.";
    menu.step(walk, StepId::Menu, "the menu has no entries", remedy);

    let (mut letters, mut recovery) = (Notes::default(), Notes::default());
    for extent in systems {
        let subject = partition_name(names, extent);
        let Some(window) = Window::new(disk, extent) else {
            continue;
        };
        let Ok(volume) = NtfsVolume::open(&window) else {
            continue;
        };
        letters.add(&subject, drive_letters(&volume, names, extent));
        recovery.add(&subject, recovery_environment(disk, &volume, names, store));
    }
    let remedy = "Start this Windows and look at its drives before the PC is handed over; letters \
        can be set in its disk management.";
    letters.step(walk, StepId::Letters, "no Windows to look into", remedy);
    let remedy = "Start this Windows and switch its recovery environment off and on again there.";
    recovery.step(walk, StepId::Recovery, "no Windows to look into", remedy);
}

fn partition_name(names: &DiskNames, extent: Extent) -> String {
    let found = names.at(extent);
    found.map_or_else(String::new, |part| format!("partition {}", part.number))
}

/// The partition of an entry's system, and what was found there.
fn leads_to(
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BootStore,
    entry: &BootObject<'_>,
    manager: Option<FileVersion>,
) -> Result<(Extent, String), String> {
    if names.style() == Style::Gpt && is_bios_only(entry.kind()) {
        return Err("runs in BIOS mode only".to_owned());
    }
    if entry.kind() != Some(ObjectKind::Loader) {
        return Err("is no system loader".to_owned());
    }
    let device = store
        .effective(entry, |object| object.device(element::OS_DEVICE))
        .ok_or("has no device")?;
    let extent = names.resolve(&device)?;
    let path = store
        .effective(entry, |object| object.text(element::PATH))
        .ok_or("names no loader")?;
    let subject = partition_name(names, extent);
    // A RAM disk's loader lies in its image, which is only seen to be there.
    let on_disk = device.is_plain_partition();
    let window = Window::new(disk, extent).ok_or("leaves the disk")?;
    let volume = NtfsVolume::open(&window).map_err(|error| error.to_string())?;
    let found = volume.find(&path).map_err(|error| error.to_string())?;
    let found = found.filter(|found| !found.is_directory);
    if on_disk && found.is_none() {
        return Err(format!("{path} is not on {subject}"));
    }
    let loader = found.and_then(|found| {
        let file = volume.open_file(found.record).ok()?;
        PeImage::read(&file).ok()?.version
    });
    if let (Some(manager), Some(loader)) = (manager, loader)
        && manager.build() < loader.build()
    {
        return Err(format!(
            "{path} on {subject} is {loader}, newer than the boot manager ({manager}), which may not start it"
        ));
    }
    Ok((extent, format!("{path} on {subject}")))
}

/// The letters of a Windows on this disk.
fn drive_letters(
    volume: &NtfsVolume<'_>,
    names: &DiskNames,
    own: Extent,
) -> Result<String, String> {
    let hive = HiveFile::find(volume, SYSTEM_HIVE).map_err(|error| error.to_string())?;
    let hive = hive.ok_or("there is no registry")?;
    let recovered = hive
        .recovered()
        .map_err(|error| format!("SYSTEM: {error}"))?;
    let mounted = Hive::open(&recovered).and_then(|hive| mounted_names(&hive));
    let mounted = mounted.map_err(|error| format!("SYSTEM: {error}"))?;
    let (mut here, mut elsewhere, mut has_own) = (Vec::new(), Vec::new(), false);
    for (letter, target) in mounted.iter().filter_map(|n| Some((n.letter()?, n.target))) {
        let name = match (target, names.disk) {
            (MountTarget::Mbr { signature, offset }, _) => PartitionName::Mbr { signature, offset },
            (MountTarget::Gpt(partition), DiskId::Gpt(disk)) => {
                PartitionName::Gpt { disk, partition }
            }
            (MountTarget::Gpt(partition), DiskId::Mbr(_)) => {
                elsewhere.push(format!("{letter} is on the GPT partition {partition}"));
                continue;
            }
            (MountTarget::Other, _) => continue,
        };
        match (names.find(name), name) {
            (Ok(part), _) if part.is_esp => {
                return Err(format!(
                    "{letter} shows the EFI system partition as a drive"
                ));
            }
            (Ok(part), _) => {
                has_own |= part.extent == own;
                here.push(format!("{letter} is partition {}", part.number));
            }
            (Err(_), PartitionName::Mbr { signature, .. }) => {
                elsewhere.push(format!("{letter} is on the MBR disk {signature:08X}"));
            }
            // A partition of another GPT disk: nothing here is wrong.
            (Err(_), PartitionName::Gpt { .. }) => {}
        }
    }
    if !has_own && !elsewhere.is_empty() {
        return Err(format!(
            "no letter names its own partition; {}",
            elsewhere.join(", ")
        ));
    }
    here.extend(elsewhere);
    if here.is_empty() {
        here.push("Windows gives its letters when it starts".to_owned());
    }
    Ok(here.join(", "))
}

/// The recovery environment of a Windows on this disk.
fn recovery_environment(
    disk: &dyn ReadDevice,
    volume: &NtfsVolume<'_>,
    names: &DiskNames,
    store: &BootStore,
) -> Result<String, String> {
    let text = |error: crate::ntfs::NtfsError| error.to_string();
    let Some(file) = RecoveryFile::find(volume).map_err(text)? else {
        return Ok("none is set up".to_owned());
    };
    let config = file.config?;
    let place = config.location().filter(|_| config.enabled == Some(true));
    let Some(place) = place else {
        return Ok("not switched on".to_owned());
    };
    match (place.disk, names.disk) {
        (RecoveryDisk::Gpt(id), DiskId::Gpt(own)) if id == own => {}
        (RecoveryDisk::Mbr(id), DiskId::Mbr(own)) if id == own => {}
        (RecoveryDisk::Mbr(signature), DiskId::Gpt(_)) => {
            return Err(format!(
                "is still looked for on the MBR disk {signature:08X}"
            ));
        }
        (RecoveryDisk::Gpt(disk), DiskId::Mbr(_)) => {
            return Err(format!("is still looked for on the GPT disk {disk}"));
        }
        _ => return Err("is looked for on another disk".to_owned()),
    }
    let mut partitions = names.partitions.iter();
    let partition = partitions
        .find(|part| part.offset == place.offset)
        .ok_or_else(|| {
            format!(
                "is looked for at byte {}, where no partition begins",
                place.offset
            )
        })?;
    let extent = partition.extent;
    let window = Window::new(disk, extent).ok_or("leaves the disk")?;
    let image = format!("{}\\{RECOVERY_IMAGE}", place.path.trim_end_matches('\\'));
    let found = NtfsVolume::open(&window)
        .and_then(|volume| volume.find(&image))
        .map_err(text)?;
    if found.is_none_or(|found| found.is_directory) {
        return Err(format!("{image} is not on partition {}", partition.number));
    }
    if let Some(id) = config.entry {
        let entry = store
            .object(&format!("{{{id}}}"))
            .ok_or("the boot store has no entry for it")?;
        for (_, device) in entry.devices() {
            let there = names
                .resolve(&device)
                .map_err(|what| format!("the boot store's entry {what}"))?;
            if there != extent {
                return Err("the boot store looks for it on another partition".to_owned());
            }
        }
    }
    Ok(format!("{image} on partition {}", partition.number))
}
