//! The steps at the EFI system partition: which one it is, and its file system.

use crate::device::{Extent, ReadDevice, Window};
use crate::fat::{FatFault, FatVolume};
use crate::gpt::{GptCopy, GptEntry, attributes, type_guid};
use crate::profile::{BOOTMGFW, REMOVABLE_X64};

use super::answers::start::{Evidence as Start, Remedy as StartRemedy};
use super::answers::table;
use super::step::{Fault, Found, depends, holds};
use super::store::open_fat;

/// The partition that firmware starts from: the first EFI system partition with a loader on it, else the first.
/// Where no partition has that type, firmware that looks at every FAT volume finds the loader on another.
pub(super) fn find(disk: &dyn ReadDevice, table: &GptCopy, loader: Option<&str>) -> Found<Extent> {
    let entries = &table.entries;
    let is_esp = |(_, entry): &&(usize, GptEntry)| entry.kind == type_guid::EFI_SYSTEM;
    let has_loader = |(_, entry): &&(usize, GptEntry)| has_loader(disk, entry.extent, loader);
    let first = entries.iter().find(is_esp);
    let of = entries.iter().filter(is_esp).count();
    let chosen = match of {
        0 => entries.iter().find(has_loader),
        1 => first,
        _ => entries.iter().filter(is_esp).find(has_loader).or(first),
    };
    let Some((partition, entry)) = chosen else {
        let partitions = entries.len();
        let evidence = Start::NoEsp { partitions };
        return Err(Fault::new(evidence, table::Remedy::NeedsEsp));
    };
    let (partition, sectors) = (*partition, entry.extent);
    if entry.attributes & attributes::NO_BLOCK_DEVICE != 0 {
        let evidence = Start::EspWithoutDevice { partition };
        return Err(Fault::new(evidence, StartRemedy::ShowEsp));
    }
    let mut others = entries.iter().filter(|(number, _)| *number != partition);
    if let Some((other, _)) = others.find(|(_, other)| other.extent.overlaps(&sectors)) {
        let other = *other;
        let evidence = Start::EspOverlaps { partition, other };
        return Err(Fault::new(evidence, StartRemedy::NoOverlap));
    }
    match first {
        None => {
            let evidence = Start::EspByContent { partition, sectors };
            depends(evidence, StartRemedy::SetEspType, sectors)
        }
        Some(_) if entry.id.is_nil() => {
            let evidence = Start::EspWithoutGuid { partition, sectors };
            depends(evidence, StartRemedy::NewEspGuid, sectors)
        }
        Some((first, _)) if *first != partition => {
            let evidence = Start::EspNotFirst {
                partition,
                first: *first,
                sectors,
            };
            let path = loader.unwrap_or(REMOVABLE_X64).to_owned();
            depends(evidence, StartRemedy::CopyLoader { path }, sectors)
        }
        Some(_) => {
            let mut in_front = entries
                .iter()
                .take_while(|(number, _)| *number != partition);
            let other = match loader {
                None => in_front.find(has_loader).map(|(number, _)| *number),
                Some(_) => None,
            };
            match other {
                Some(other) => {
                    let evidence = Start::LoaderInFront {
                        partition,
                        other,
                        sectors,
                    };
                    depends(evidence, StartRemedy::NoLoaderInFront { other }, sectors)
                }
                None => {
                    let evidence = Start::Esp {
                        partition,
                        of,
                        sectors,
                    };
                    holds(evidence, sectors)
                }
            }
        }
    }
}

fn has_loader(disk: &dyn ReadDevice, extent: Extent, loader: Option<&str>) -> bool {
    let Some(window) = Window::new(disk, extent) else {
        return false;
    };
    let Ok(fat) = FatVolume::open_leniently(&window) else {
        return false;
    };
    let paths = match loader {
        Some(path) => vec![path],
        None => vec![REMOVABLE_X64, BOOTMGFW],
    };
    let is_file = |path: &str| {
        let found = fat.find(path);
        found.is_ok_and(|entry| entry.is_some_and(|entry| !entry.is_directory))
    };
    paths.into_iter().any(is_file)
}

/// Its file system, and what is wrong with single files there.
pub(super) fn open<'w>(
    window: &'w Window<'_, dyn ReadDevice + '_>,
) -> Found<(FatVolume<'w>, Vec<FatFault>)> {
    let opened = open_fat(window);
    let (fat, mut faults, of_files) =
        opened.map_err(|fault| Fault::new(fault, StartRemedy::CheckEspOrMake))?;
    let (on_the_way, of_files) = of_files.into_iter().partition(is_on_the_way);
    faults.extend::<Vec<FatFault>>(on_the_way);
    let shape = fat.shape();
    let sound = Start::SoundFat {
        fat: shape.kind(),
        clusters: shape.clusters,
        cluster_bytes: shape.cluster_bytes(),
    };
    if faults.is_empty() {
        return holds(sound, (fat, of_files));
    }
    let remedy = StartRemedy::RepairEsp;
    depends(Start::FatFaults { faults }, remedy, (fat, of_files))
}

/// A folder on the way to a loader is damaged. Some firmware reads folders to their last cluster, whatever their
/// entries say, and hangs in one that has no last cluster.
fn is_on_the_way(fault: &FatFault) -> bool {
    let FatFault::Folder { path, .. } = fault else {
        return false;
    };
    let folder = format!("{}\\", path.trim_end_matches('\\')).to_uppercase();
    let mut loaders = [REMOVABLE_X64, BOOTMGFW].into_iter();
    loaders.any(|loader| loader.to_uppercase().starts_with(&folder))
}
