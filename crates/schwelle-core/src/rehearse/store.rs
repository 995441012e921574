//! From the BCD store on, whichever way a start has come to it.

use crate::bcd::{BcdStore, element};
use crate::device::{Extent, ReadDevice};
use crate::fat::{FatError, FatFault, FatVolume};
use crate::pe::FileVersion;

use super::answers::start::{Evidence as Start, Remedy as StartRemedy};
use super::names::DiskNames;
use super::step::{Fault, Found, Rehearsal, StepId, holds};
use super::{around, entry};

/// The steps from the BCD store on; `own` is the partition that it must name as the boot manager's, and which
/// build that is, where it says so.
pub(super) fn walk_store(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BcdStore,
    (own, manager): (Extent, Option<FileVersion>),
) -> Option<()> {
    walk_to_kernel(walk, disk, names, store, own)?;
    around::walk_around(walk, disk, names, store, manager);
    Some(())
}

/// The same without a look at what is around the start.
pub(super) fn walk_to_kernel(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BcdStore,
    own: Extent,
) -> Option<()> {
    walk.step(StepId::BootManager, manager_names(store, names, own))?;
    entry::walk_entry(walk, disk, names, store)
}

fn manager_names(store: &BcdStore, names: &DiskNames, own: Extent) -> Found<()> {
    let fault = |evidence: Start| {
        let style = names.style();
        Fault::new(evidence, StartRemedy::ManagerDevice { style })
    };
    let manager = store.manager().ok_or_else(|| fault(Start::NoManager))?;
    let device = manager
        .device(element::DEVICE)
        .ok_or_else(|| fault(Start::ManagerWithoutDevice))?;
    if device.is_boot_device() {
        return holds(Start::ManagerWhereStarted, ());
    }
    let extent = names
        .resolve(&device)
        .map_err(|names| fault(Start::ManagerNames { fault: names }))?;
    match names.at(own).filter(|_| extent == own) {
        Some(part) => {
            let partition = part.number;
            holds(Start::ManagerHere { partition }, ())
        }
        None => Err(fault(Start::ManagerElsewhere { at: extent.first })),
    }
}

/// A BCD store that can be read.
pub(super) fn store_read(path: String, store: &BcdStore) -> Start {
    Start::StoreRead {
        path,
        objects: store.objects().count(),
        menu: store.menu().len(),
    }
}

/// A FAT32 volume that can be read, what is wrong with it as a whole, and what with single files.
pub(super) type OpenedFat<'w> = (FatVolume<'w>, Vec<FatFault>, Vec<FatFault>);

/// Opens a FAT32 volume as firmware does, and looks for faults.
pub(super) fn open_fat(window: &dyn ReadDevice) -> Result<OpenedFat<'_>, Start> {
    let unreadable = |error: FatError| Start::VolumeUnreadable {
        fault: error.into(),
    };
    let fat = FatVolume::open_leniently(window).map_err(unreadable)?;
    let faults = fat.check().map_err(unreadable)?;
    let (of_volume, of_files) = faults.into_iter().partition(FatFault::is_of_volume);
    Ok((fat, of_volume, of_files))
}
