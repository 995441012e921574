//! What a system finds around it once it starts: the other entries of the menu, its drive letters,
//! its recovery environment. None of this keeps the default entry from starting, so what is wrong
//! here is a caution.

use crate::bootstore::{BootObject, BootStore, ObjectKind, element, is_bios_only};
use crate::device::{Extent, ReadDevice, Window};
use crate::gpt::{GptCopy, type_guid};
use crate::hive::Hive;
use crate::ntfs::NtfsVolume;
use crate::profile::RECOVERY_IMAGE;
use crate::windows::{
    HiveFile, MountTarget, RecoveryDisk, RecoveryFile, SYSTEM_HIVE, mounted_names,
};

use super::walk::{Rehearsal, StepId, resolve};

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
    table: &GptCopy,
    store: &BootStore,
) {
    let mut systems: Vec<Extent> = Vec::new();
    let mut menu = Notes::default();
    for entry in store.menu() {
        let lead = leads_to(disk, table, store, &entry);
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
        attach it; else take the entry out of the menu, in Windows.";
    menu.step(walk, StepId::Menu, "the menu has no entries", remedy);

    let (mut letters, mut recovery) = (Notes::default(), Notes::default());
    for extent in systems {
        let subject = partition_name(table, extent);
        let Some(window) = Window::new(disk, extent) else {
            continue;
        };
        let Ok(volume) = NtfsVolume::open(&window) else {
            continue;
        };
        letters.add(&subject, drive_letters(&volume, table, extent));
        recovery.add(&subject, recovery_environment(disk, &volume, table, store));
    }
    let remedy = "Start this Windows and look at its drives before the PC is handed over; letters \
        can be set in its disk management.";
    letters.step(walk, StepId::Letters, "no Windows to look into", remedy);
    let remedy = "Start this Windows and switch its recovery environment off and on again there.";
    recovery.step(walk, StepId::Recovery, "no Windows to look into", remedy);
}

fn partition_name(table: &GptCopy, extent: Extent) -> String {
    let mut entries = table.entries.iter();
    let number = entries.find(|(_, entry)| entry.extent == extent);
    number.map_or_else(String::new, |(number, _)| format!("partition {number}"))
}

/// The partition of an entry's system, and what was found there.
fn leads_to(
    disk: &dyn ReadDevice,
    table: &GptCopy,
    store: &BootStore,
    entry: &BootObject<'_>,
) -> Result<(Extent, String), String> {
    if is_bios_only(entry.kind()) {
        return Err("runs in BIOS mode only".to_owned());
    }
    if entry.kind() != Some(ObjectKind::Loader) {
        return Err("is no system loader".to_owned());
    }
    let device = store
        .effective(entry, |object| object.device(element::OS_DEVICE))
        .ok_or("has no device")?;
    let extent = resolve(&device, table)?;
    let path = store
        .effective(entry, |object| object.text(element::PATH))
        .ok_or("names no loader")?;
    let subject = partition_name(table, extent);
    // A RAM disk's loader lies in its image, which is only seen to be there.
    let on_disk = device.is_plain_partition();
    let window = Window::new(disk, extent).ok_or("leaves the disk")?;
    let volume = NtfsVolume::open(&window).map_err(|error| error.to_string())?;
    let found = volume.find(&path).map_err(|error| error.to_string())?;
    if on_disk && found.is_none_or(|found| found.is_directory) {
        return Err(format!("{path} is not on {subject}"));
    }
    Ok((extent, format!("{path} on {subject}")))
}

/// The letters of a Windows on this disk.
fn drive_letters(volume: &NtfsVolume<'_>, table: &GptCopy, own: Extent) -> Result<String, String> {
    let hive = HiveFile::find(volume, SYSTEM_HIVE).map_err(|error| error.to_string())?;
    let hive = hive.ok_or("there is no registry")?;
    let recovered = hive
        .recovered()
        .map_err(|error| format!("SYSTEM: {error}"))?;
    let names = Hive::open(&recovered).and_then(|hive| mounted_names(&hive));
    let names = names.map_err(|error| format!("SYSTEM: {error}"))?;
    let (mut here, mut elsewhere, mut has_own) = (Vec::new(), Vec::new(), false);
    for (letter, target) in names.iter().filter_map(|n| Some((n.letter()?, n.target))) {
        match target {
            MountTarget::Gpt(id) => {
                let mut entries = table.entries.iter();
                if let Some((number, entry)) = entries.find(|(_, entry)| entry.id == id) {
                    if entry.kind == type_guid::EFI_SYSTEM {
                        return Err(format!(
                            "{letter} shows the EFI system partition as a drive"
                        ));
                    }
                    has_own |= entry.extent == own;
                    here.push(format!("{letter} is partition {number}"));
                }
            }
            MountTarget::Mbr { signature, .. } => {
                elsewhere.push(format!("{letter} is on the MBR disk {signature:08X}"));
            }
            MountTarget::Other => {}
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
    table: &GptCopy,
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
    match place.disk {
        RecoveryDisk::Gpt(id) if id == table.header.disk_id => {}
        RecoveryDisk::Mbr(signature) => {
            return Err(format!(
                "is still looked for on the MBR disk {signature:08X}"
            ));
        }
        _ => return Err("is looked for on another disk".to_owned()),
    }
    let sector = u64::from(disk.geometry().logical_sector);
    let mut entries = table.entries.iter();
    let partition = entries
        .find(|(_, entry)| entry.extent.first.0.checked_mul(sector) == Some(place.offset))
        .ok_or_else(|| {
            format!(
                "is looked for at byte {}, where no partition begins",
                place.offset
            )
        })?;
    let extent = partition.1.extent;
    let window = Window::new(disk, extent).ok_or("leaves the disk")?;
    let image = format!("{}\\{RECOVERY_IMAGE}", place.path.trim_end_matches('\\'));
    let found = NtfsVolume::open(&window)
        .and_then(|volume| volume.find(&image))
        .map_err(text)?;
    if found.is_none_or(|found| found.is_directory) {
        return Err(format!("{image} is not on partition {}", partition.0));
    }
    if let Some(id) = config.entry {
        let entry = store
            .object(&format!("{{{id}}}"))
            .ok_or("the boot store has no entry for it")?;
        for (_, device) in entry.devices() {
            let there =
                resolve(&device, table).map_err(|what| format!("the boot store's entry {what}"))?;
            if there != extent {
                return Err("the boot store looks for it on another partition".to_owned());
            }
        }
    }
    Ok(format!("{image} on partition {}", partition.0))
}
