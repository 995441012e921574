//! The walk from the BCD store's default entry to the kernel.

use crate::bcd::{BcdStore, BootObject, ObjectKind, element};
use crate::bitlocker;
use crate::device::{Extent, Lba, ReadDevice, Window};
use crate::identities::Style;
use crate::ntfs::NtfsVolume;
use crate::pe::{BOOT_APPLICATION, ProgramFault};
use crate::profile::KERNEL;
use crate::windows::program_at;

use super::answers::start::{EntryDevice, Evidence, Remedy};
use super::names::DiskNames;
use super::step::{Fault, Found, Rehearsal, StepId, holds, program};

pub(super) fn walk_entry(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BcdStore,
) -> Option<()> {
    let entry = walk.step(StepId::DefaultEntry, default_entry(store))?;
    let windows = walk.step(StepId::EntryDevices, entry_devices(&entry, names, store))?;
    let window = walk.window(StepId::SystemLoader, disk, windows)?;
    let first = window.read_sector(Lba(0)).unwrap_or_default();
    if bitlocker::recognise(&window, &first).is_some() {
        let evidence = Evidence::VolumeEncrypted { at: windows.first };
        walk.note(StepId::SystemLoader, false, evidence, Remedy::Unlock);
        return None;
    }
    let volume = walk.step(
        StepId::SystemLoader,
        system_loader(&window, &entry, names.style()),
    )?;
    walk.step(StepId::Kernel, kernel(&volume, &entry))
}

fn default_entry(store: &BcdStore) -> Found<BootObject<'_>> {
    let fault = |evidence: Evidence| Fault::new(evidence, Remedy::CorrectEntry);
    let entry = store
        .default_entry()
        .ok_or_else(|| fault(Evidence::DefaultMissing))?;
    let id = entry.id().to_owned();
    match entry.kind() {
        Some(ObjectKind::Loader) => {
            let title = entry.title();
            holds(Evidence::Default { title, id }, entry)
        }
        kind => {
            let object = kind.map(|kind| format!("{kind:?}"));
            Err(fault(Evidence::DefaultNoLoader { id, object }))
        }
    }
}

/// Both devices of the entry; the system's is where the walk goes on.
fn entry_devices(entry: &BootObject<'_>, names: &DiskNames, store: &BcdStore) -> Found<Extent> {
    let fault = |evidence: Evidence| Fault::new(evidence, Remedy::CorrectEntry);
    let find = |number: u32, device: EntryDevice| {
        let found = store.effective(entry, |object| object.device(number));
        let title = entry.title();
        let Some(found) = found else {
            return Err(fault(Evidence::DeviceMissing { device, title }));
        };
        names.resolve(&found).map_err(|names| {
            fault(Evidence::DeviceNames {
                device,
                title,
                fault: names,
            })
        })
    };
    let loader = find(element::DEVICE, EntryDevice::Loader)?;
    let system = find(element::OS_DEVICE, EntryDevice::System)?;
    match loader == system {
        true => holds(Evidence::Devices { sectors: system }, system),
        false => Err(fault(Evidence::DevicesDiffer)),
    }
}

fn system_loader<'w>(
    window: &'w Window<'_, dyn ReadDevice + '_>,
    entry: &BootObject<'_>,
    style: Style,
) -> Found<NtfsVolume<'w>> {
    let fault = |evidence: Evidence| Fault::new(evidence, Remedy::BringLoader { style });
    let path = entry
        .text(element::PATH)
        .ok_or_else(|| Fault::new(Evidence::NoLoaderNamed, Remedy::CorrectEntry))?;
    let volume = NtfsVolume::open(window).map_err(|error| {
        fault(Evidence::VolumeUnreadable {
            fault: error.into(),
        })
    })?;
    // What subsystem a loader for a BIOS names is its own affair: no firmware reads it.
    let subsystem = (style == Style::Gpt).then_some(BOOT_APPLICATION);
    let image = named_for(style, &path)
        .and_then(|()| program_at(&volume, &path))
        .and_then(|image| image.fitting(subsystem));
    match image {
        Ok(image) => holds(program(path, &image, None), volume),
        Err(why) => Err(fault(Evidence::ProgramUnfit { path, why })),
    }
}

/// A boot manager hands over to loaders of its own mode only.
fn named_for(style: Style, path: &str) -> Result<(), ProgramFault> {
    let lower = path.to_ascii_lowercase();
    match style {
        Style::Gpt if lower.ends_with(".exe") => Err(ProgramFault::BiosOnly),
        Style::Mbr if lower.ends_with(".efi") => Err(ProgramFault::UefiOnly),
        _ => Ok(()),
    }
}

fn kernel(volume: &NtfsVolume<'_>, entry: &BootObject<'_>) -> Found<()> {
    let root = entry
        .text(element::SYSTEM_ROOT)
        .ok_or_else(|| Fault::new(Evidence::NoFolderNamed, Remedy::CorrectEntry))?;
    let path = format!("{root}\\{KERNEL}");
    let image = program_at(volume, &path).and_then(|image| image.fitting(None));
    match image {
        Ok(_) => holds(Evidence::Kernel { path }, ()),
        Err(why) => {
            let evidence = Evidence::ProgramUnfit { path, why };
            Err(Fault::new(evidence, Remedy::RepairSystem))
        }
    }
}
