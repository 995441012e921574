//! The walk from sector 0 to the BCD store. What the store leads to is in `entry.rs`.

use crate::bcd::BcdStore;
use crate::cause::Cause;
use crate::device::{Lba, ReadDevice, Tracked};
use crate::disk_use::DiskUse;
use crate::fat::FatVolume;
use crate::gpt::{GptCopy, GptError, GptPair, OddEntry, TableCopy};
use crate::identities::Style;
use crate::mbr::Protection;
use crate::profile::{BOOTMGFW, ESP_STORE};

use super::answers::start::{Evidence as Start, Remedy as StartRemedy};
use super::answers::table;
use super::loader::{Loaders, walk_loader};
use super::names::DiskNames;
use super::step::{Fault, Found, Rehearsal, StepId, depends, holds};
use super::store::{store_read, walk_store};
use super::{bios, esp, linux, volumes};

const MAX_STORE_BYTES: u64 = 16 << 20;

/// Walks the UEFI boot path of `disk`. `loader` is the path that a boot entry of the firmware
/// names; without one, firmware goes by the removable-media path.
pub fn walk(disk: &dyn ReadDevice, loader: Option<&str>) -> Rehearsal {
    let disk = Tracked::reading(disk);
    let mut rehearsal = Rehearsal::default();
    // The walk ends where a step fails; the steps so far are the result.
    let _reached_the_end = walk_steps(&mut rehearsal, &disk, loader);
    rehearsal.unless_unread(&disk)
}

/// Walks `disk` to what it is for: to the kernel that a start reaches, in UEFI mode from a GPT disk and in BIOS
/// mode from an MBR disk; or to the volumes of a data disk.
pub fn walk_to(disk: &dyn ReadDevice, style: Style, disk_use: DiskUse) -> Rehearsal {
    let mut rehearsal = Rehearsal {
        style,
        disk_use,
        steps: Vec::new(),
    };
    let tracked = Tracked::reading(disk);
    let (walk, disk) = (&mut rehearsal, &tracked);
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
    rehearsal.unless_unread(&tracked)
}

/// The steps up to the partitions, which every GPT disk has.
fn walk_table(walk: &mut Rehearsal, disk: &dyn ReadDevice) -> Option<GptCopy> {
    walk.step(StepId::ProtectiveMbr, protective_mbr(disk))?;
    let (pair, [odd_in_primary, odd_in_backup]) = GptPair::read_as_firmware(disk);
    let GptPair { primary, backup } = &pair;
    let found = table_copy(TableCopy::Primary, (primary, odd_in_primary), backup);
    walk.step(StepId::PrimaryTable, found)?;
    let found = table_copy(TableCopy::Backup, (backup, odd_in_backup), primary);
    walk.step(StepId::BackupTable, found)?;
    if primary.is_ok() && backup.is_ok() {
        // Firmware goes by the primary copy as long as it is sound.
        let agree = match pair.disagreement() {
            None => holds(table::Evidence::CopiesAgree, ()),
            Some(disagreement) => depends(
                table::Evidence::CopiesContradict { disagreement },
                table::Remedy::GoByPrimary,
                (),
            ),
        };
        walk.step(StepId::TablesAgree, agree)?;
    }
    pair.primary.or(pair.backup).ok()
}

fn walk_steps(walk: &mut Rehearsal, disk: &dyn ReadDevice, loader: Option<&str>) -> Option<()> {
    let table = walk_table(walk, disk)?;
    let own = walk.step(StepId::Esp, esp::find(disk, &table, loader))?;
    let window = walk.window(StepId::EspFileSystem, disk, own)?;
    let (fat, faults) = walk.step(StepId::EspFileSystem, esp::open(&window))?;
    let others = table.entries.iter().map(|(_, entry)| entry.extent);
    let loaders = Loaders::new(&fat, disk, others.filter(|extent| *extent != own));
    let manager = walk_loader(walk, &loaders, loader)?;
    let folders = linux::folders(&fat);
    // A boot entry that names the loader of a Linux starts that, and nothing else.
    let named = loader.and_then(|path| linux::folder_of(&folders, path));
    let wanted = named.map_or(&folders[..], std::slice::from_ref);
    let has_windows = [ESP_STORE, BOOTMGFW]
        .iter()
        .any(|path| fat.find(path).is_ok_and(|file| file.is_some()));
    if named.is_none() && (has_windows || folders.is_empty()) {
        let store = walk.step(StepId::BcdStore, read_store(&fat))?;
        let names = DiskNames::of_gpt(disk.geometry(), &table);
        walk_store(walk, disk, &names, &store, (own, manager))?;
        linux::note_folders(walk, disk, (&fat, &table.entries), wanted);
    } else {
        linux::walk_folders(walk, disk, (&fat, &table.entries), wanted)?;
    }
    if !faults.is_empty() {
        let evidence = Start::FatFaults { faults };
        walk.note(StepId::OtherFiles, false, evidence, StartRemedy::CheckEsp);
    }
    Some(())
}

fn protective_mbr(disk: &dyn ReadDevice) -> Found<()> {
    use table::{Evidence, ProtectiveOddity, Remedy};
    let sector = disk.read_sector(Lba(0)).map_err(Fault::unreadable)?;
    let found = Protection::of(&sector);
    let others = found.as_ref().map_or(0, |found| found.others.len());
    let Some((has_signature, entry)) =
        found.and_then(|found| Some((found.has_signature, found.entry?)))
    else {
        let evidence = match others {
            0 => Evidence::NoEntry,
            _ => Evidence::PlainMbr,
        };
        return Err(Fault::new(evidence, Remedy::NotGptYet));
    };
    if entry.first != 1 {
        let at = Lba(entry.first.into());
        let evidence = Evidence::ProtectiveElsewhere { at };
        return Err(Fault::new(evidence, Remedy::Protect));
    }
    let behind = disk.geometry().sectors.saturating_sub(1);
    let expected = u32::try_from(behind).unwrap_or(u32::MAX);
    let sectors = entry.sectors;
    // Windows writes the largest number on disks of every size.
    let covers_all = sectors == expected || sectors == u32::MAX;
    let flag = entry.flag;
    let oddities = [
        (!has_signature, ProtectiveOddity::NoSignature),
        (flag != 0, ProtectiveOddity::Flag { flag }),
        (others > 0, ProtectiveOddity::NotAlone { others }),
        (!covers_all, ProtectiveOddity::Covers { sectors, expected }),
    ];
    let oddities = oddities.into_iter().filter(|(is_so, _)| *is_so);
    let oddities: Vec<ProtectiveOddity> = oddities.map(|(_, oddity)| oddity).collect();
    match oddities.is_empty() {
        true => holds(Evidence::Protective { sectors }, ()),
        false => depends(Evidence::ProtectiveOdd { oddities }, Remedy::Protect, ()),
    }
}

/// A copy of the table with its odd entries; one that is not sound does as long as `other` is.
fn table_copy(
    copy: TableCopy,
    (found, odd): (&Result<GptCopy, GptError>, Vec<OddEntry>),
    other: &Result<GptCopy, GptError>,
) -> Found<()> {
    let error = match found {
        Ok(_) if !odd.is_empty() => {
            let evidence = table::Evidence::CopyWithOddEntries { copy, entries: odd };
            return depends(evidence, table::Remedy::ComparePartitions, ());
        }
        Ok(found) => {
            let evidence = table::Evidence::CopySound {
                copy,
                at: found.header.my_lba,
                partitions: found.entries.len(),
            };
            return holds(evidence, ());
        }
        Err(error) => error,
    };
    let evidence = table::Evidence::CopyFaulty {
        copy,
        fault: error.into(),
    };
    let remedy = table::Remedy::WriteCopyAnew { copy };
    match other {
        Ok(_) => depends(evidence, remedy, ()),
        Err(_) => Err(Fault::new(evidence, remedy)),
    }
}

fn read_store(fat: &FatVolume<'_>) -> Found<BcdStore> {
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
    let store = BcdStore::read(&bytes[..]).map_err(|error| unusable(error.into()))?;
    let evidence = store_read(path(), &store);
    holds(evidence, store)
}
