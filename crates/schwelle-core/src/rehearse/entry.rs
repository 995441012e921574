//! The walk from the boot store's default entry to the kernel.

use crate::bootstore::{BootObject, BootStore, ObjectKind, element};
use crate::crossing::Style;
use crate::device::{Extent, ReadDevice, Window};
use crate::ntfs::{NtfsFile, NtfsVolume};
use crate::pe::{BOOT_APPLICATION, Machine, PeImage};
use crate::profile::KERNEL;

use super::names::DiskNames;
use super::walk::{Fault, Found, Rehearsal, StepId, check_image};

const STORE_REMEDY: &str =
    "Correct the entry in the boot store on the EFI system partition, or make the store anew.";

pub(super) fn walk_entry(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BootStore,
) -> Option<()> {
    let entry = walk.step(StepId::DefaultEntry, default_entry(store))?;
    let windows = walk.step(StepId::EntryDevices, entry_devices(&entry, names, store))?;
    let window = walk.window(StepId::SystemLoader, disk, windows)?;
    let volume = walk.step(
        StepId::SystemLoader,
        system_loader(&window, &entry, names.style()),
    )?;
    walk.step(StepId::Kernel, kernel(&volume, &entry))
}

fn default_entry(store: &BootStore) -> Found<BootObject<'_>> {
    let entry = store.default_entry().ok_or_else(|| {
        Fault::new(
            "the boot manager's default entry is not in the store",
            STORE_REMEDY,
        )
    })?;
    match entry.kind() {
        Some(ObjectKind::Loader) => Ok((format!("\"{}\" {}", entry.title(), entry.id()), entry)),
        kind => Err(Fault::new(
            format!(
                "the default entry {} is no system loader ({kind:?})",
                entry.id()
            ),
            STORE_REMEDY,
        )),
    }
}

/// Both devices of the entry; the system's is where the walk goes on.
fn entry_devices(entry: &BootObject<'_>, names: &DiskNames, store: &BootStore) -> Found<Extent> {
    let find = |number: u32, what: &str| {
        let fault = |text: &str| {
            Fault::new(
                format!("the {what} of \"{}\" {text}", entry.title()),
                STORE_REMEDY,
            )
        };
        let device = store
            .effective(entry, |object| object.device(number))
            .ok_or_else(|| fault("is missing"))?;
        names.resolve(&device).map_err(|text| fault(&text))
    };
    let loader = find(element::DEVICE, "loader's device")?;
    let system = find(element::OS_DEVICE, "system's device")?;
    if loader != system {
        return Err(Fault::new(
            "loader and system lie on different partitions",
            STORE_REMEDY,
        ));
    }
    Ok((
        format!(
            "loader and system on the partition at LBA {} to {}",
            system.first.0,
            system.last().0
        ),
        system,
    ))
}

fn system_loader<'w>(
    window: &'w Window<'_, dyn ReadDevice + '_>,
    entry: &BootObject<'_>,
    style: Style,
) -> Found<NtfsVolume<'w>> {
    let remedy = match style {
        Style::Gpt => {
            "Windows must bring its UEFI loader: repair the system's files from its installation \
             medium."
        }
        Style::Mbr => {
            "Windows must bring its BIOS loader: repair the system's files from its installation \
             medium."
        }
    };
    let fault = |what: String| Fault::new(what, remedy);
    let path = entry
        .text(element::PATH)
        .ok_or_else(|| Fault::new("the entry names no loader", STORE_REMEDY))?;
    let volume = NtfsVolume::open(window).map_err(|error| fault(error.to_string()))?;
    // What subsystem a loader for a BIOS names is its own affair: no firmware reads it.
    let subsystem = (style == Style::Gpt).then_some(BOOT_APPLICATION);
    let image = named_for(style, &path)
        .and_then(|()| open(&volume, &path))
        .and_then(|file| check_image(PeImage::read(&file), subsystem));
    match image {
        Ok((text, _)) => Ok((format!("{path}: {text}"), volume)),
        Err(text) => Err(fault(format!("{path}: {text}"))),
    }
}

/// A boot manager hands over to loaders of its own mode only.
fn named_for(style: Style, path: &str) -> Result<(), String> {
    let lower = path.to_ascii_lowercase();
    match style {
        Style::Gpt if lower.ends_with(".exe") => Err("runs in BIOS mode only".to_owned()),
        Style::Mbr if lower.ends_with(".efi") => Err("runs in UEFI mode only".to_owned()),
        _ => Ok(()),
    }
}

fn kernel(volume: &NtfsVolume<'_>, entry: &BootObject<'_>) -> Found<()> {
    let remedy = "Repair the system's files from its installation medium.";
    let root = entry
        .text(element::SYSTEM_ROOT)
        .ok_or_else(|| Fault::new("the entry names no system folder", STORE_REMEDY))?;
    let path = format!("{root}\\{KERNEL}");

    let image = open(volume, &path)
        .and_then(|file| PeImage::read(&file).map_err(|error| error.to_string()));
    match image {
        Ok(PeImage {
            machine: Machine::X64,
            cut_off: None,
            ..
        }) => Ok((format!("{path}: x64"), ())),
        Ok(PeImage {
            cut_off: Some(_), ..
        }) => Err(Fault::new(format!("{path}: truncated"), remedy)),
        Ok(image) => Err(Fault::new(
            format!("{path}: made for {}, not for x64", image.machine),
            remedy,
        )),
        Err(text) => Err(Fault::new(format!("{path}: {text}"), remedy)),
    }
}

fn open<'v>(volume: &'v NtfsVolume<'v>, path: &str) -> Result<NtfsFile<'v>, String> {
    let entry = volume.find(path).map_err(|error| error.to_string())?;
    let entry = entry
        .filter(|entry| !entry.is_directory)
        .ok_or("is not there")?;
    volume
        .open_file(entry.record)
        .map_err(|error| error.to_string())
}
