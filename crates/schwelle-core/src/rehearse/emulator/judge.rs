//! What a start in the emulator means, told from the sectors that were read and from the console.

use std::time::Duration;

use super::run::{Ending, Record};
use crate::bootstore::{BootStore, element};
use crate::device::{Extent, Lba, ReadDevice, Window};
use crate::fat::{FatEntry, FatVolume};
use crate::firmware::BootMode;
use crate::gpt::{GptPair, type_guid};
use crate::mbr::BootRecord;
use crate::ntfs::NtfsVolume;
use crate::profile::{BIOS_STORE, BOOTMGR, ESP_STORE, REMOVABLE_X64};
use crate::rehearse::names::DiskNames;
use crate::rehearse::walk::StepOutcome;

/// Firmware reads files in pieces of up to this many bytes around what it wants: what lies nearer to
/// something that it wanted may have been read by chance.
const READ_AHEAD_BYTES: u64 = 64 << 10;
const MAX_STORE_BYTES: u64 = 16 << 20;
/// Flag of the MBR partition that is started.
const ACTIVE: u8 = 0x80;

/// A step of a start on real firmware.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EmulatedStep {
    /// Its stable name.
    pub name: &'static str,
    /// Pass, fail, or a caution where it cannot be told.
    pub outcome: StepOutcome,
    /// What was seen.
    pub evidence: String,
}

/// A start on real firmware.
#[derive(Debug, Clone)]
pub struct Emulation {
    /// BIOS or UEFI.
    pub mode: BootMode,
    /// The steps, in order.
    pub steps: Vec<EmulatedStep>,
    /// How it ended, in a sentence.
    pub ending: String,
    /// The last lines of the console.
    pub last_lines: Vec<String>,
    /// How long it took.
    pub took: Duration,
}

impl Emulation {
    /// True when no step failed.
    pub fn passed(&self) -> bool {
        let mut steps = self.steps.iter();
        !steps.any(|step| step.outcome == StepOutcome::Fail)
    }
}

/// Judges the record of a start of `disk`, the disk or draft that was shown to the guest.
pub fn judge(disk: &dyn ReadDevice, mode: BootMode, record: &Record) -> Emulation {
    let mut steps = Vec::new();
    match mode {
        BootMode::Bios => bios(&mut steps, disk, record),
        BootMode::Uefi | BootMode::Both => uefi(&mut steps, disk, record),
    }
    let ending = match record.ending {
        Ending::Off => "the guest switched itself off or restarted",
        Ending::NothingLeft => "the firmware had nothing left to start",
        Ending::Limit => "it was still running at the time limit, and was ended",
    };
    let lines: Vec<&str> = record.console.lines().collect();
    let last = lines.len().saturating_sub(4);
    Emulation {
        mode,
        steps,
        ending: ending.to_owned(),
        last_lines: lines
            .iter()
            .skip(last)
            .map(|&line| line.to_owned())
            .collect(),
        took: record.took,
    }
}

/// Takes a step; false where it failed.
fn step(
    steps: &mut Vec<EmulatedStep>,
    name: &'static str,
    passed: bool,
    evidence: impl Into<String>,
) -> bool {
    let outcome = if passed {
        StepOutcome::Pass
    } else {
        StepOutcome::Fail
    };
    let evidence = evidence.into();
    steps.push(EmulatedStep {
        name,
        outcome,
        evidence,
    });
    passed
}

fn uefi(steps: &mut Vec<EmulatedStep>, disk: &dyn ReadDevice, record: &Record) {
    let pair = GptPair::read(disk);
    let mut entries = pair
        .best()
        .map(|copy| copy.entries.iter())
        .into_iter()
        .flatten();
    let esp = entries.find(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM);
    let Some((number, esp)) = esp else {
        step(
            steps,
            "partition",
            false,
            "the disk has no EFI system partition",
        );
        return;
    };
    let found =
        was_read(record, &[sector(Lba(1))]) && was_read(record, &[sector(esp.extent.first)]);
    let evidence = if found {
        format!("the firmware read the GPT and opened partition {number}")
    } else {
        format!("the firmware did not come to partition {number}")
    };
    if !step(steps, "partition", found, evidence) {
        return;
    }
    let files = Window::new(disk, esp.extent)
        .and_then(|window| Some(Files::of(&window)?.on_disk(esp.extent)));
    let Some(files) = files else {
        step(
            steps,
            "loader",
            false,
            "the file system of the partition cannot be read",
        );
        return;
    };
    let started = record.console.lines().find(|line| {
        // The firmware's own programs are named by where they lie in it, disks by their path.
        line.starts_with("BdsDxe: starting") && line.contains("PciRoot")
    });
    let evidence = match started {
        Some(line) => format!("the firmware started {REMOVABLE_X64} (\"{line}\")"),
        None => {
            let mut lines = record.console.lines();
            let refused =
                lines.find(|line| line.starts_with("BdsDxe: failed") && line.contains("PciRoot"));
            refused.map_or("the firmware did not start it".to_owned(), |line| {
                format!("the firmware did not start it (\"{line}\")")
            })
        }
    };
    let read = was_read(record, &files.loader);
    if !step(steps, "loader", started.is_some() && read, evidence) {
        return;
    }
    let system = system_loader(disk, files.content.as_deref());
    let system_read = system
        .as_ref()
        .is_some_and(|extents| was_read(record, extents));
    let store_read = was_read(record, &files.store);
    let passed = store_read || system_read;
    let (outcome, evidence) = match (passed, files.store_is_apart) {
        (true, true) => (StepOutcome::Pass, "the loader read the boot store"),
        (true, false) if system_read => (
            StepOutcome::Pass,
            "the loader read the boot store, or it would not have found the system",
        ),
        (true, false) => (
            StepOutcome::Caution,
            "the boot store lies so near to the loader that the firmware may have read it by chance",
        ),
        (false, _) => (StepOutcome::Fail, "the loader did not read the boot store"),
    };
    steps.push(EmulatedStep {
        name: "boot-store",
        outcome,
        evidence: evidence.to_owned(),
    });
    let (outcome, evidence) = if system_read {
        (
            StepOutcome::Pass,
            "the system's loader was read from the Windows volume",
        )
    } else {
        (
            StepOutcome::Caution,
            "the system's loader was not read: the boot manager ended before (a stand-in does), or \
             there was not time enough",
        )
    };
    steps.push(EmulatedStep {
        name: "system-loader",
        outcome,
        evidence: evidence.to_owned(),
    });
}

fn bios(steps: &mut Vec<EmulatedStep>, disk: &dyn ReadDevice, record: &Record) {
    let boot_record = disk.read_sector(Lba(0)).ok();
    let boot_record = boot_record.and_then(|sector| BootRecord::parse(&sector));
    let read = was_read(record, &[sector(Lba(0))]);
    let evidence = if read {
        "the firmware read sector 0"
    } else {
        "the firmware did not read sector 0"
    };
    if !step(steps, "sector-0", read, evidence) {
        return;
    }
    let entries = boot_record
        .iter()
        .flat_map(|record| record.entries.iter().flatten());
    let mut active = entries.filter(|entry| entry.flag == ACTIVE);
    let Some(active) = active.next() else {
        step(steps, "boot-record", false, "no partition is active");
        return;
    };
    let first = Lba(active.first.into());
    let read = was_read(record, &[sector(first)]);
    let evidence = if read {
        format!("its boot code read the boot record of the active partition ({first})")
    } else {
        format!("its boot code did not read the boot record of the active partition ({first})")
    };
    if !step(steps, "boot-record", read, evidence) {
        return;
    }
    let partition = Extent {
        first,
        end: Lba(first.0.saturating_add(active.sectors.into())),
    };
    if let Some((manager, store)) = fat_files(disk, partition) {
        return boot_files(steps, record, &manager, &store);
    }
    // What the boot record's own code, sixteen sectors at most, does not hold.
    let inside = Extent {
        first: Lba(first.0.saturating_add(16)),
        end: partition.end,
    };
    let read = was_read(record, &[inside]);
    let evidence = if read {
        "the boot record's code read on in its partition"
    } else {
        "the boot record's code read nothing more of its partition"
    };
    step(steps, "boot-manager", read, evidence);
}

/// Where the boot manager and the boot store lie on a FAT32 partition that a BIOS starts from.
fn fat_files(disk: &dyn ReadDevice, partition: Extent) -> Option<(Vec<Extent>, Vec<Extent>)> {
    let window = Window::new(disk, partition)?;
    let fat = FatVolume::open(&window).ok()?;
    let place = |path: &str| {
        let entry = fat.find(path).ok()??;
        let extents = fat.extents_of(&entry).ok()?.into_iter();
        Some(
            extents
                .map(|extent| moved(extent, partition.first.0))
                .collect(),
        )
    };
    Some((place(BOOTMGR)?, place(BIOS_STORE).unwrap_or_default()))
}

/// What the boot record's code and the boot manager read. A BIOS reads nothing ahead.
fn boot_files(
    steps: &mut Vec<EmulatedStep>,
    record: &Record,
    manager: &[Extent],
    store: &[Extent],
) {
    let whole = manager.iter().all(|extent| {
        let last = sector(extent.last());
        was_read(record, &[sector(extent.first)]) && was_read(record, &[last])
    });
    let evidence = if whole {
        "the boot record's code read the boot manager"
    } else {
        "the boot record's code did not read the boot manager"
    };
    if step(steps, "boot-manager", whole, evidence) {
        let read = was_read(record, store);
        let evidence = if read {
            "the boot manager read the boot store"
        } else {
            "the boot manager did not read the boot store"
        };
        step(steps, "boot-store", read, evidence);
    }
}

/// Where the files of the start lie.
struct Files {
    loader: Vec<Extent>,
    store: Vec<Extent>,
    /// Nothing that the firmware reads by itself lies near to the store.
    store_is_apart: bool,
    content: Option<Vec<u8>>,
}

impl Files {
    /// Looks at the EFI system partition; sectors count from its start.
    fn of(esp: &dyn ReadDevice) -> Option<Self> {
        let fat = FatVolume::open(esp).ok()?;
        let find = |path: &str| fat.find(path).ok().flatten();
        let place = |entry: &FatEntry| fat.extents_of(entry).unwrap_or_default();
        let (loader, store) = (find(REMOVABLE_X64)?, find(ESP_STORE));
        let folders = ["\\EFI", "\\EFI\\BOOT"].map(find).into_iter().flatten();
        let mut by_firmware: Vec<Extent> = folders
            .chain([fat.root()])
            .flat_map(|folder| place(&folder))
            .collect();
        let loader = place(&loader);
        by_firmware.extend(&loader);
        let near = READ_AHEAD_BYTES / u64::from(esp.geometry().logical_sector);
        let content = store
            .as_ref()
            .and_then(|store| fat.read_file(store, MAX_STORE_BYTES).ok());
        let store = store.map(|store| place(&store)).unwrap_or_default();
        let is_near = |own: &Extent| {
            let around = Extent {
                first: Lba(own.first.0.saturating_sub(near)),
                end: Lba(own.end.0.saturating_add(near)),
            };
            by_firmware.iter().any(|other| other.overlaps(&around))
        };
        Some(Self {
            store_is_apart: !store.iter().any(is_near),
            loader,
            store,
            content,
        })
    }

    /// The same, with sectors counting from the start of the disk.
    fn on_disk(mut self, esp: Extent) -> Self {
        for extent in self.loader.iter_mut().chain(&mut self.store) {
            *extent = moved(*extent, esp.first.0);
        }
        self
    }
}

/// Where the loader of the store's default system lies on the disk.
fn system_loader(disk: &dyn ReadDevice, store: Option<&[u8]>) -> Option<Vec<Extent>> {
    let store = BootStore::read(store?).ok()?;
    let entry = store.default_entry()?;
    let path = entry.text(element::PATH)?;
    let pair = GptPair::read(disk);
    let device = store.effective(&entry, |object| object.device(element::DEVICE))?;
    let names = DiskNames::of_gpt(disk.geometry(), pair.best()?);
    let partition = names.resolve(&device).ok()?;
    let window = Window::new(disk, partition)?;
    let volume = NtfsVolume::open(&window).ok()?;
    let file = volume.open_file(volume.find(&path).ok()??.record).ok()?;
    let shape = volume.shape();
    let sector = u64::from(disk.geometry().logical_sector);
    let place = |run: &crate::ntfs::Run| {
        let first = shape.byte_of(run.lcn?)? / sector;
        let sectors = run.clusters.checked_mul(shape.cluster_bytes.into())? / sector;
        Some(moved(Extent::new(Lba(first), sectors)?, partition.first.0))
    };
    Some(file.runs().iter().filter_map(place).collect())
}

fn moved(extent: Extent, by: u64) -> Extent {
    Extent {
        first: Lba(extent.first.0.saturating_add(by)),
        end: Lba(extent.end.0.saturating_add(by)),
    }
}

fn sector(lba: Lba) -> Extent {
    Extent {
        first: lba,
        end: Lba(lba.0.saturating_add(1)),
    }
}

/// True when any of these sectors was read.
fn was_read(record: &Record, wanted: &[Extent]) -> bool {
    let mut reads = record.reads.iter();
    reads.any(|read| wanted.iter().any(|wanted| wanted.overlaps(read)))
}
