//! The walk from sector 0 to the boot store. What the store leads to is in `entry.rs`.

use crate::bootstore::BootStore;
use crate::cause::Cause;
use crate::crossing::Style;
use crate::device::{Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::{FatEntry, FatVolume};
use crate::gpt::{GptCopy, GptEntry, GptError, GptPair, TableCopy, type_guid};
use crate::mbr::{BootRecord, Kind};
use crate::pe::{EFI_APPLICATION, FileVersion, PeImage, ProgramFault};
use crate::profile::{ESP_STORE, REMOVABLE_X64};

use super::answers::start::{Evidence as Start, Remedy as StartRemedy};
use super::answers::table;
use super::names::DiskNames;
use super::step::{Fault, Found, Rehearsal, StepId, holds, program};
use super::store::{sound_fat, store_read, walk_store};
use super::{bios, volumes};

/// A loader is read up to this length.
const MAX_LOADER_BYTES: u64 = 64 << 20;
const MAX_STORE_BYTES: u64 = 16 << 20;

/// Walks the UEFI boot path of `disk`. `loader` is the path that a boot entry of the firmware
/// names; without one, firmware goes by the removable-media path.
pub fn walk(disk: &dyn ReadDevice, loader: Option<&str>) -> Rehearsal {
    let mut rehearsal = Rehearsal::default();
    // The walk ends where a step fails; the steps so far are the result.
    let _reached_the_end = walk_steps(&mut rehearsal, disk, loader);
    rehearsal
}

/// Walks `disk` to what it is for: to the kernel that a start reaches, in UEFI mode from a GPT disk and in BIOS
/// mode from an MBR disk; or to the volumes of a data disk.
pub fn walk_to(disk: &dyn ReadDevice, style: Style, disk_use: DiskUse) -> Rehearsal {
    let mut rehearsal = Rehearsal {
        style,
        disk_use,
        steps: Vec::new(),
    };
    let walk = &mut rehearsal;
    // As above: the steps so far are the result.
    let _reached_the_end = match (style, disk_use) {
        (Style::Gpt, DiskUse::System) => walk_steps(walk, disk, None),
        (Style::Mbr, DiskUse::System) => bios::walk_steps(walk, disk),
        (Style::Gpt, DiskUse::Data) => walk_table(walk, disk).and_then(|table| {
            let count = table.entries.len();
            walk.step(StepId::Volumes, volumes::all(disk, count))
        }),
        (Style::Mbr, DiskUse::Data) => bios::walk_table(walk, disk).and_then(|table| {
            let count = table.partitions.len();
            walk.step(StepId::Volumes, volumes::all(disk, count))
        }),
    };
    rehearsal
}

/// The steps up to the partitions, which every GPT disk has.
fn walk_table(walk: &mut Rehearsal, disk: &dyn ReadDevice) -> Option<GptCopy> {
    walk.step(StepId::ProtectiveMbr, protective_mbr(disk))?;
    let pair = GptPair::read(disk);
    let disagreement = pair.disagreement();
    let GptPair { primary, backup } = pair;
    let primary = table_copy(primary, TableCopy::Primary);
    let table = walk.step(StepId::PrimaryTable, primary)?;
    walk.step(StepId::BackupTable, table_copy(backup, TableCopy::Backup))?;
    let agree = match disagreement {
        None => holds(table::Evidence::CopiesAgree, ()),
        Some(disagreement) => Err(Fault::new(
            table::Evidence::CopiesContradict { disagreement },
            table::Remedy::WhichCopy,
        )),
    };
    walk.step(StepId::TablesAgree, agree)?;
    Some(table)
}

fn walk_steps(walk: &mut Rehearsal, disk: &dyn ReadDevice, loader: Option<&str>) -> Option<()> {
    let table = walk_table(walk, disk)?;
    let esp = walk.step(StepId::Esp, find_esp(&table))?;
    let window = walk.window(StepId::EspFileSystem, disk, esp.extent)?;
    let fat = walk.step(StepId::EspFileSystem, open_esp(&window))?;
    let loader = loader.unwrap_or(REMOVABLE_X64);
    let file = walk.step(StepId::Loader, find_loader(&fat, loader))?;
    let manager = walk.step(StepId::LoaderImage, loader_image(&fat, &file, loader))?;
    let store = walk.step(StepId::BootStore, read_store(&fat))?;
    walk_store(
        walk,
        disk,
        &DiskNames::of_gpt(disk.geometry(), &table),
        &store,
        (esp.extent, manager),
    )
}

fn protective_mbr(disk: &dyn ReadDevice) -> Found<()> {
    use table::{Evidence, Remedy};
    let sector = disk.read_sector(Lba(0)).map_err(Fault::unreadable)?;
    let entries = BootRecord::parse(&sector)
        .map(|record| record.entries)
        .unwrap_or_default();
    let used: Vec<_> = entries.into_iter().flatten().collect();
    match used[..] {
        [only] if only.kind == Kind::PROTECTIVE && only.first == 1 => {
            let sectors = only.sectors;
            holds(Evidence::Protective { sectors }, ())
        }
        [] => Err(Fault::new(Evidence::NoEntry, Remedy::NotGptYet)),
        _ if used.iter().any(|entry| entry.kind == Kind::PROTECTIVE) => Err(Fault::new(
            Evidence::ProtectiveNotAlone,
            Remedy::RemoveEntries,
        )),
        _ => Err(Fault::new(Evidence::PlainMbr, Remedy::NotGptYet)),
    }
}

fn table_copy(found: Result<GptCopy, GptError>, copy: TableCopy) -> Found<GptCopy> {
    match found {
        Ok(found) => {
            let evidence = table::Evidence::CopySound {
                copy,
                at: found.header.my_lba,
                partitions: found.entries.len(),
            };
            holds(evidence, found)
        }
        Err(error) => Err(Fault::new(
            table::Evidence::CopyFaulty {
                copy,
                fault: error.into(),
            },
            table::Remedy::WriteCopyAnew { copy },
        )),
    }
}

fn find_esp(table: &GptCopy) -> Found<GptEntry> {
    let of_type: Vec<_> = table
        .entries
        .iter()
        .filter(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM)
        .collect();
    match of_type[..] {
        [] => Err(Fault::new(
            Start::NoEsp {
                partitions: table.entries.len(),
            },
            table::Remedy::NeedsEsp,
        )),
        [(number, entry), ..] => {
            let evidence = Start::Esp {
                partition: *number,
                of: of_type.len(),
                sectors: entry.extent,
            };
            holds(evidence, entry.clone())
        }
    }
}

fn open_esp<'w>(window: &'w Window<'_, dyn ReadDevice + '_>) -> Found<FatVolume<'w>> {
    let fat = sound_fat(window).map_err(|fault| Fault::new(fault, StartRemedy::CheckEspOrMake))?;
    let shape = fat.shape();
    let evidence = Start::SoundFat {
        clusters: shape.clusters,
        cluster_bytes: shape.cluster_bytes(),
    };
    holds(evidence, fat)
}

fn find_loader(fat: &FatVolume<'_>, path: &str) -> Found<FatEntry> {
    let path = path.to_owned();
    match fat.find(&path) {
        Ok(Some(entry)) if !entry.is_directory => {
            let bytes = entry.len_bytes.into();
            holds(Start::File { path, bytes }, entry)
        }
        Ok(_) => Err(Fault::new(
            Start::FileMissing { path: path.clone() },
            StartRemedy::CopyLoader { path },
        )),
        Err(error) => {
            let fault = error.into();
            let evidence = Start::FileUnusable { path, fault };
            Err(Fault::new(evidence, StartRemedy::CheckEsp))
        }
    }
}

fn loader_image(fat: &FatVolume<'_>, file: &FatEntry, path: &str) -> Found<Option<FileVersion>> {
    let read = fat.read_file(file, MAX_LOADER_BYTES);
    let read = read.map_err(ProgramFault::unreadable);
    let image = read.and_then(|bytes| {
        let image = PeImage::read(&bytes[..]).map_err(ProgramFault::unreadable)?;
        image.fitting(Some(EFI_APPLICATION))
    });
    let path = path.to_owned();
    match image {
        Ok(image) => {
            let version = image.version;
            holds(program(path, &image), version)
        }
        Err(why) => Err(Fault::new(
            Start::ProgramUnfit {
                path: path.clone(),
                why,
            },
            StartRemedy::CopyLoaderAgain { path },
        )),
    }
}

fn read_store(fat: &FatVolume<'_>) -> Found<BootStore> {
    let path = || ESP_STORE.to_owned();
    let unusable = |fault: Cause| {
        let evidence = Start::FileUnusable {
            path: path(),
            fault,
        };
        Fault::new(evidence, StartRemedy::MakeStore)
    };
    let entry = fat
        .find(ESP_STORE)
        .map_err(|error| unusable(error.into()))?;
    let entry = entry.filter(|entry| !entry.is_directory).ok_or_else(|| {
        let evidence = Start::FileMissing { path: path() };
        Fault::new(evidence, StartRemedy::MakeStore)
    })?;
    let bytes = fat
        .read_file(&entry, MAX_STORE_BYTES)
        .map_err(|error| unusable(error.into()))?;
    let store = BootStore::read(&bytes[..]).map_err(|error| unusable(error.into()))?;
    let evidence = store_read(path(), &store);
    holds(evidence, store)
}
