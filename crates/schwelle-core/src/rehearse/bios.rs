//! The walk of a start in BIOS mode: from sector 0 of an MBR disk to the boot store.

use super::names::DiskNames;
use super::walk::{Fault, Found, Rehearsal, StepId, walk_store};
use crate::bootstore::BootStore;
use crate::bytes::ReadBytes;
use crate::device::{Extent, HostFacts, Lba, ReadDevice};
use crate::fat::{FatEntry, FatKind, FatVolume, MAX_BOOT_MANAGER_BYTES, is_startable, recognise};
use crate::gpt::{GptPair, copy_present};
use crate::mbr::{BiosStart, BootRecord, MbrTable};
use crate::ntfs::NtfsVolume;
use crate::profile::{BIOS_STORE, BOOTMGR, Profile};

/// The boot manager's short name.
const SHORT_NAME: [u8; 11] = *b"BOOTMGR    ";
const NOT_READABLE: &str = "The disk cannot be read: check cable and health first.";

/// The steps that every MBR disk has.
pub(super) fn walk_table(walk: &mut Rehearsal, disk: &dyn ReadDevice) -> Option<MbrTable> {
    let table = walk.step(StepId::Mbr, mbr(disk))?;
    let pair = GptPair::read(disk);
    let left: Vec<&str> = [("primary", &pair.primary), ("backup", &pair.backup)]
        .into_iter()
        .filter(|(_, copy)| copy_present(copy))
        .map(|(name, _)| name)
        .collect();
    let evidence = match &left[..] {
        [] => "no copy of a GPT is left".to_owned(),
        some => format!("a GPT header is left ({})", some.join(", ")),
    };
    let remedy = "Some programs take the disk for a GPT disk by it. If a conversion was stopped: schwelle \
        resume --job DIR";
    walk.note(StepId::OldTable, left.is_empty(), evidence, remedy);
    Some(table)
}

pub(super) fn walk_steps(walk: &mut Rehearsal, disk: &dyn ReadDevice) -> Option<()> {
    let table = walk_table(walk, disk)?;
    boot_code(walk, &table)?;
    let active = walk.step(StepId::ActivePartition, active_partition(&table))?;
    let window = walk.window(StepId::BootRecord, disk, active)?;
    let is_ours = boot_record(walk, &window, active.first)?;
    let volume = walk.step(StepId::BootFileSystem, boot_volume(&window))?;
    walk.step(StepId::BootManagerFile, boot_manager(&volume, is_ours))?;
    let names = DiskNames::of_mbr(disk.geometry(), &table);
    let number = names.at(active).map_or(0, |part| part.number);
    let store = walk.step(StepId::BootStore, store_on(disk, number))?;
    walk_store(walk, disk, &names, &store, (active, None))
}

fn mbr(disk: &dyn ReadDevice) -> Found<MbrTable> {
    let read = |at: Lba| {
        disk.read_sector(at)
            .map_err(|error| Fault::new(error, NOT_READABLE))
    };
    let convert =
        "This is no MBR disk. Ask what stands against making it one: schwelle check DISK --to mbr";
    let record = BootRecord::parse(&read(Lba(0))?)
        .ok_or_else(|| Fault::new("LBA 0: no boot record", convert))?;
    if record.is_protective() {
        return Err(Fault::new(
            "LBA 0: the protective MBR of a GPT disk",
            convert,
        ));
    }
    let table = MbrTable::read(disk, record).map_err(|error| Fault::new(error, NOT_READABLE))?;
    if let Some(damage) = table.damage.first() {
        let remedy = "Do not write to this disk. Copy it sector by sector first, then have the table \
            repaired on the copy.";
        return Err(Fault::new(
            format!("{}: {}", damage.at, damage.kind),
            remedy,
        ));
    }
    let logical = table
        .partitions
        .iter()
        .filter(|part| part.named_at != Lba(0));
    let evidence = format!(
        "LBA 0: {} partitions, {} of them logical; disk signature {:08X}",
        table.partitions.len(),
        logical.count(),
        table.record.disk_signature
    );
    Ok((evidence, table))
}

/// Code that is not ours is taken as it is: it cannot be told what it does.
fn boot_code(walk: &mut Rehearsal, table: &MbrTable) -> Option<()> {
    let remedy = "Let the startup repair of Windows' recovery environment write its own boot code.";
    let fault = |what: &str| Fault::new(format!("LBA 0: {what}"), remedy);
    let record = &table.record;
    let found = match record.own_code {
        Some(BiosStart::ActivePartition) => Ok("boot code that goes to the active partition"),
        Some(_) => Err(fault("boot code that starts nothing from here")),
        None if !record.has_boot_code => Err(fault("no boot code")),
        None if record.has_windows_code => Ok("Windows' own boot code"),
        None => {
            let remedy = "See the PC start from this disk once.";
            let evidence = "LBA 0: boot code that is not known here; what it starts cannot be told";
            walk.note(StepId::BootCode, false, evidence.to_owned(), remedy);
            return Some(());
        }
    };
    walk.step(
        StepId::BootCode,
        found.map(|what| (format!("LBA 0: {what}"), ())),
    )
}

fn active_partition(table: &MbrTable) -> Found<Extent> {
    let active: Vec<_> = table.partitions.iter().filter(|part| part.active).collect();
    let remedy = "Mark the one partition active that holds \\bootmgr and \\Boot\\BCD.";
    match active[..] {
        [only] => Ok((
            format!(
                "partition {}, LBA {} to {}",
                only.slot.number(),
                only.extent.first.0,
                only.extent.last().0
            ),
            only.extent,
        )),
        [] => Err(Fault::new("LBA 0: no partition is active", remedy)),
        _ => {
            let what = format!("LBA 0: {} partitions are active", active.len());
            Err(Fault::new(what, remedy))
        }
    }
}

/// True when the code is ours.
fn boot_record(walk: &mut Rehearsal, window: &dyn ReadDevice, first: Lba) -> Option<bool> {
    let remedy = "Let the startup repair of Windows' recovery environment write the partition's boot \
        record.";
    let sector = window.read_sector(Lba(0));
    let found = match sector {
        Err(error) => Err(Fault::new(error, NOT_READABLE)),
        Ok(sector)
            if !sector
                .get(..512)
                .is_some_and(|head| head.ends_with(&[0x55, 0xAA])) =>
        {
            Err(Fault::new(format!("{first}: no mark 55 AA"), remedy))
        }
        Ok(sector) if is_startable(&sector, first) => {
            let evidence = format!("{first}: boot code that loads {BOOTMGR}");
            Ok((evidence, true))
        }
        Ok(_) => {
            let evidence = format!("{first}: boot code that is not ours, taken as it is");
            Ok((evidence, false))
        }
    };
    walk.step(StepId::BootRecord, found)
}

/// The volume that a BIOS start goes on in.
enum BootVolume<'w> {
    Ntfs(Box<NtfsVolume<'w>>),
    Fat(FatVolume<'w>),
}

impl BootVolume<'_> {
    /// Length of the boot manager in bytes. Our boot record looks for it by its short name.
    fn boot_manager_bytes(&self, is_ours: bool) -> Result<Option<u64>, String> {
        match self {
            Self::Fat(volume) => {
                let entry = volume.find(BOOTMGR).map_err(|error| error.to_string())?;
                let file = entry.filter(|entry| !entry.is_directory);
                let is_found = |entry: &FatEntry| !is_ours || entry.short_name == SHORT_NAME;
                if file.as_ref().is_some_and(|file| !is_found(file)) {
                    return Err("its short name is not BOOTMGR, by which the boot record's code looks for it".to_owned());
                }
                Ok(file.map(|entry| entry.len_bytes.into()))
            }
            Self::Ntfs(volume) => {
                let entry = volume.find(BOOTMGR).map_err(|error| error.to_string())?;
                let Some(entry) = entry.filter(|entry| !entry.is_directory) else {
                    return Ok(None);
                };
                let file = volume.open_file(entry.record);
                let file = file.map_err(|error| error.to_string())?;
                Ok(Some(file.len_bytes()))
            }
        }
    }
}

fn boot_volume(window: &dyn ReadDevice) -> Found<BootVolume<'_>> {
    const REMEDY: &str = "Let the volume's own system check it, on a copy of the disk.";
    let fault = |what: String| Fault::new(what, REMEDY);
    let sector = window.read_sector(Lba(0));
    let sector = sector.map_err(|error| Fault::new(error, NOT_READABLE))?;
    if let Some((FatKind::Fat32, _)) = recognise(&sector) {
        let volume = FatVolume::open(window).map_err(|error| fault(error.to_string()))?;
        let faults = volume.check().map_err(|error| fault(error.to_string()))?;
        if !faults.is_empty() {
            return Err(fault(faults.join("; ")));
        }
        let evidence = "FAT32, both FATs agree, every chain is whole".to_owned();
        return Ok((evidence, BootVolume::Fat(volume)));
    }
    let volume = NtfsVolume::open(window).map_err(|error| fault(error.to_string()))?;
    Ok(("NTFS".to_owned(), BootVolume::Ntfs(Box::new(volume))))
}

/// `is_ours` is true for a boot record that loads the file whole, to where there is room for so much.
fn boot_manager(volume: &BootVolume<'_>, is_ours: bool) -> Found<()> {
    let remedy = "Copy \\Windows\\Boot\\PCAT\\bootmgr from the Windows volume to the root of the active \
        partition.";
    let fault = |what: &str| Fault::new(format!("{BOOTMGR}: {what}"), remedy);
    let bytes = volume.boot_manager_bytes(is_ours);
    match bytes.map_err(|error| fault(&error))? {
        None => Err(fault("is not there")),
        Some(0) => Err(fault("is empty")),
        Some(bytes) if is_ours && bytes > MAX_BOOT_MANAGER_BYTES => Err(fault(&format!(
            "has {bytes} bytes, and the boot record's code has room for {MAX_BOOT_MANAGER_BYTES}"
        ))),
        Some(bytes) => Ok((format!("{BOOTMGR}, {bytes} bytes"), ())),
    }
}

/// The store where the boot manager looks for it.
fn store_on(disk: &dyn ReadDevice, active: usize) -> Found<BootStore> {
    let remedy = "The boot store must lie beside the boot manager, on the active partition.";
    let fault = |what: String| Fault::new(format!("{BIOS_STORE}: {what}"), remedy);
    let profile = Profile::read(disk, HostFacts::default());
    let profile = profile.map_err(|error| Fault::new(error, NOT_READABLE))?;
    match profile.boot.store {
        Some(Ok(found)) if found.partition == active => {
            let evidence = format!(
                "{BIOS_STORE}, {} objects, {} in the menu",
                found.store.objects().count(),
                found.store.menu().len()
            );
            Ok((evidence, found.store))
        }
        Some(Err(error)) => Err(fault(error)),
        _ => Err(fault(format!("is not on partition {active}"))),
    }
}
