//! What a start in the emulator means, by the sectors that were read and from the console.

use std::time::Duration;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::run::{Ending, Record};
use schwelle_core::bcd::{BcdStore, element};
use schwelle_core::device::{Extent, Lba, ReadDevice, Window};
use schwelle_core::fat::{FatEntry, FatVolume};
use schwelle_core::firmware::BootMode;
use schwelle_core::gpt::{GptPair, type_guid};
use schwelle_core::mbr::BootRecord;
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::profile::{BIOS_STORE, BOOTMGR, ESP_STORE, REMOVABLE_X64};
use schwelle_core::rehearse::{StepOutcome, partition_named};

/// Firmware reads files in pieces of up to this many bytes around what it wants: what lies nearer to
/// something that it wanted may have been read by chance.
const READ_AHEAD_BYTES: u64 = 64 << 10;
const MAX_STORE_BYTES: u64 = 16 << 20;
/// Flag of the MBR partition that is started.
const ACTIVE: u8 = 0x80;

/// A step of a start on real firmware.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EmulatedStep {
    /// Which.
    pub id: EmulatedStepId,
    /// Pass, fail, or a caution where it is not known.
    pub outcome: StepOutcome,
    /// What was seen.
    pub seen: Seen,
}

/// The steps of a start on real firmware.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum EmulatedStepId {
    /// The firmware reads sector 0.
    #[serde(rename = "sector-0")]
    Sector0,
    /// Its code reads the active partition's boot record.
    BootRecord,
    /// The boot record's code reads the boot manager.
    BootManager,
    /// The firmware comes to the EFI system partition.
    Partition,
    /// It starts the loader.
    Loader,
    /// The BCD store is read.
    #[serde(alias = "boot-store")]
    BcdStore,
    /// The system's loader is read.
    SystemLoader,
}

impl EmulatedStepId {
    /// The step's stable name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sector0 => "sector-0",
            Self::BootRecord => "boot-record",
            Self::BootManager => "boot-manager",
            Self::Partition => "partition",
            Self::Loader => "loader",
            Self::BcdStore => "bcd-store",
            Self::SystemLoader => "system-loader",
        }
    }
}

/// What was seen of a start, by the sectors that were read and by the console.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Seen {
    /// There is no EFI system partition.
    NoEsp,
    /// The firmware came to it, or did not.
    Partition {
        /// Its number.
        partition: usize,
        /// It did.
        opened: bool,
    },
    /// The partition's file system cannot be read.
    NoFileSystem,
    /// The firmware started the loader.
    Started {
        /// Its path.
        path: String,
        /// The line of the console that says so.
        line: String,
    },
    /// The firmware did not start it.
    NotStarted {
        /// The line of the console that says so, where there is one.
        line: Option<String>,
    },
    /// The loader read the BCD store.
    StoreRead,
    /// It did, or it would not have found the system.
    StoreReadBySystem,
    /// The BCD store lies so near to the loader that it may have been read by chance.
    StoreByChance,
    /// The loader did not read the BCD store.
    StoreNotRead,
    /// The system's loader was read, or not.
    SystemLoader {
        /// It was.
        read: bool,
    },
    /// Sector 0 was read, or not.
    Sector0 {
        /// It was.
        read: bool,
    },
    /// No partition is active.
    NoneActive,
    /// The boot record of the active partition was read, or not.
    BootRecord {
        /// Its sector.
        at: Lba,
        /// It was.
        read: bool,
    },
    /// The boot record's code read on in its partition, or not.
    ReadOn {
        /// It did.
        read: bool,
    },
    /// The boot record's code read the boot manager, or not.
    BootManager {
        /// It did.
        read: bool,
    },
    /// The boot manager read the BCD store, or not.
    BcdStore {
        /// It did.
        read: bool,
    },
}

/// A start on real firmware.
#[derive(Debug, Clone)]
pub struct Emulation {
    /// BIOS or UEFI.
    pub mode: BootMode,
    /// The steps, in order.
    pub steps: Vec<EmulatedStep>,
    /// How it ended.
    pub ending: Ending,
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
    let lines: Vec<&str> = record.console.lines().collect();
    let last = lines.len().saturating_sub(4);
    Emulation {
        mode,
        steps,
        ending: record.ending,
        last_lines: lines
            .iter()
            .skip(last)
            .map(|&line| line.to_owned())
            .collect(),
        took: record.took,
    }
}

/// Takes a step; false where it failed.
fn step(steps: &mut Vec<EmulatedStep>, id: EmulatedStepId, passed: bool, seen: Seen) -> bool {
    let outcome = match passed {
        true => StepOutcome::Pass,
        false => StepOutcome::Fail,
    };
    steps.push(EmulatedStep { id, outcome, seen });
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
        step(steps, EmulatedStepId::Partition, false, Seen::NoEsp);
        return;
    };
    let opened =
        was_read(record, &[sector(Lba(1))]) && was_read(record, &[sector(esp.extent.first)]);
    let partition = *number;
    let seen = Seen::Partition { partition, opened };
    if !step(steps, EmulatedStepId::Partition, opened, seen) {
        return;
    }
    let files = Window::new(disk, esp.extent)
        .and_then(|window| Some(Files::of(&window)?.on_disk(esp.extent)));
    let Some(files) = files else {
        step(steps, EmulatedStepId::Loader, false, Seen::NoFileSystem);
        return;
    };
    let started = record.console.lines().find(|line| {
        // The firmware's own programs are named by where they lie in it, disks by their path.
        line.starts_with("BdsDxe: starting") && line.contains("PciRoot")
    });
    let seen = match started {
        Some(line) => Seen::Started {
            path: REMOVABLE_X64.to_owned(),
            line: line.to_owned(),
        },
        None => {
            let mut lines = record.console.lines();
            let refused =
                lines.find(|line| line.starts_with("BdsDxe: failed") && line.contains("PciRoot"));
            let line = refused.map(str::to_owned);
            Seen::NotStarted { line }
        }
    };
    let read = was_read(record, &files.loader);
    let passed = started.is_some() && read;
    if !step(steps, EmulatedStepId::Loader, passed, seen) {
        return;
    }
    let system = system_loader(disk, files.content.as_deref());
    let system_read = system
        .as_ref()
        .is_some_and(|extents| was_read(record, extents));
    let store_read = was_read(record, &files.store);
    let passed = store_read || system_read;
    let (outcome, seen) = match (passed, files.store_is_apart) {
        (true, true) => (StepOutcome::Pass, Seen::StoreRead),
        (true, false) if system_read => (StepOutcome::Pass, Seen::StoreReadBySystem),
        (true, false) => (StepOutcome::Caution, Seen::StoreByChance),
        (false, _) => (StepOutcome::Fail, Seen::StoreNotRead),
    };
    let id = EmulatedStepId::BcdStore;
    steps.push(EmulatedStep { id, outcome, seen });
    steps.push(EmulatedStep {
        id: EmulatedStepId::SystemLoader,
        outcome: match system_read {
            true => StepOutcome::Pass,
            false => StepOutcome::Caution,
        },
        seen: Seen::SystemLoader { read: system_read },
    });
}

fn bios(steps: &mut Vec<EmulatedStep>, disk: &dyn ReadDevice, record: &Record) {
    let boot_record = disk.read_sector(Lba(0)).ok();
    let boot_record = boot_record.and_then(|sector| BootRecord::parse(&sector));
    let read = was_read(record, &[sector(Lba(0))]);
    if !step(steps, EmulatedStepId::Sector0, read, Seen::Sector0 { read }) {
        return;
    }
    let entries = boot_record
        .iter()
        .flat_map(|record| record.entries.iter().flatten());
    let mut active = entries.filter(|entry| entry.flag == ACTIVE);
    let Some(active) = active.next() else {
        step(steps, EmulatedStepId::BootRecord, false, Seen::NoneActive);
        return;
    };
    let first = Lba(active.first.into());
    let read = was_read(record, &[sector(first)]);
    let seen = Seen::BootRecord { at: first, read };
    if !step(steps, EmulatedStepId::BootRecord, read, seen) {
        return;
    }
    let partition = Extent::between(first, Lba(first.0.saturating_add(active.sectors.into())));
    if let Some((manager, store)) = fat_files(disk, partition) {
        return boot_files(steps, record, &manager, &store);
    }
    // What the boot record's own code, sixteen sectors at most, does not hold.
    let inside = Extent::between(Lba(first.0.saturating_add(16)), partition.end);
    let read = was_read(record, &[inside]);
    step(
        steps,
        EmulatedStepId::BootManager,
        read,
        Seen::ReadOn { read },
    );
}

/// Where the boot manager and the BCD store lie on a FAT32 partition that a BIOS starts from.
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
    let read = manager.iter().all(|extent| {
        let last = sector(extent.last());
        was_read(record, &[sector(extent.first)]) && was_read(record, &[last])
    });
    let seen = Seen::BootManager { read };
    if step(steps, EmulatedStepId::BootManager, read, seen) {
        let read = was_read(record, store);
        step(
            steps,
            EmulatedStepId::BcdStore,
            read,
            Seen::BcdStore { read },
        );
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
            let around = Extent::between(
                Lba(own.first.0.saturating_sub(near)),
                Lba(own.end.0.saturating_add(near)),
            );
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
    let store = BcdStore::read(store?).ok()?;
    let entry = store.default_entry()?;
    let path = entry.text(element::PATH)?;
    let pair = GptPair::read(disk);
    let device = store.effective(&entry, |object| object.device(element::DEVICE))?;
    let partition = partition_named(disk.geometry(), pair.best()?, &device)?;
    let window = Window::new(disk, partition)?;
    let volume = NtfsVolume::open(&window).ok()?;
    let file = volume.open_file(volume.find(&path).ok()??.record).ok()?;
    let shape = volume.shape();
    let sector = u64::from(disk.geometry().logical_sector);
    let place = |run: &schwelle_core::ntfs::Run| {
        let first = shape.byte_of(run.lcn?)? / sector;
        let sectors = run.clusters.checked_mul(shape.cluster_bytes.into())? / sector;
        Some(moved(Extent::new(Lba(first), sectors)?, partition.first.0))
    };
    Some(file.runs().iter().filter_map(place).collect())
}

fn moved(extent: Extent, by: u64) -> Extent {
    Extent::between(
        Lba(extent.first.0.saturating_add(by)),
        Lba(extent.end.0.saturating_add(by)),
    )
}

fn sector(lba: Lba) -> Extent {
    Extent::between(lba, Lba(lba.0.saturating_add(1)))
}

/// True when any of these sectors was read.
fn was_read(record: &Record, wanted: &[Extent]) -> bool {
    let mut reads = record.reads.iter();
    reads.any(|read| wanted.iter().any(|wanted| wanted.overlaps(read)))
}
