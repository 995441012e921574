//! The walk from sector 0 to the boot store. What the store leads to is in `entry.rs`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bootstore::{BootStore, element};
use crate::cause::Cause;
use crate::crossing::Style;
use crate::device::{Extent, Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::{FatEntry, FatError, FatVolume};
use crate::gpt::{GptCopy, GptEntry, GptError, GptPair, TableCopy, type_guid};
use crate::mbr::{BootRecord, Kind};
use crate::pe::{EFI_APPLICATION, FileVersion, PeImage, ProgramFault};
use crate::profile::{ESP_STORE, REMOVABLE_X64};

use super::answers::start::{Evidence as Start, Remedy as StartRemedy};
use super::answers::{Evidence, Remedy, table};
use super::names::DiskNames;
use super::{around, bios, entry, volumes};

/// A loader is read up to this length.
const MAX_LOADER_BYTES: u64 = 64 << 20;
const MAX_STORE_BYTES: u64 = 16 << 20;

/// The steps of the walk, in order.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum StepId {
    /// Sector 0 protects the GPT.
    ProtectiveMbr,
    /// The primary copy of the table is sound.
    PrimaryTable,
    /// The backup copy is sound.
    BackupTable,
    /// The copies agree.
    TablesAgree,
    /// There is an EFI system partition.
    Esp,
    /// It holds a sound FAT32 volume.
    EspFileSystem,
    /// The loader is there.
    Loader,
    /// The loader's image fits the firmware.
    LoaderImage,
    /// The boot store lies beside it.
    BootStore,
    /// The boot manager's own object names this partition.
    BootManager,
    /// The default entry is there.
    DefaultEntry,
    /// Its devices are partitions of this disk.
    EntryDevices,
    /// The system's loader is there and fits.
    SystemLoader,
    /// The kernel is there and fits.
    Kernel,
    /// Each entry of the menu leads to a loader on this disk.
    Menu,
    /// The drive letters name this disk's partitions.
    #[serde(rename = "drive-letters")]
    Letters,
    /// The recovery environment is where it is looked for.
    Recovery,
    /// The partitions of a data disk hold sound volumes.
    Volumes,
    /// The MBR and its chain of extended boot records are sound.
    Mbr,
    /// No copy of a GPT is left.
    OldTable,
    /// Sector 0 has code for a BIOS.
    BootCode,
    /// Exactly one partition is active.
    ActivePartition,
    /// It has a boot record with code.
    BootRecord,
    /// It holds a sound file system.
    BootFileSystem,
    /// The boot manager is there.
    #[serde(rename = "bootmgr-file")]
    BootManagerFile,
}

/// How a step went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepOutcome {
    /// It holds.
    Pass,
    /// The disk starts all the same; the technician must know.
    Caution,
    /// The walk ends here.
    Fail,
}

impl StepOutcome {
    /// The word in reports and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::Caution => "caution",
            Self::Fail => "fail",
        }
    }
}

impl StepId {
    /// The step's stable name.
    pub fn name(self) -> &'static str {
        match self {
            Self::ProtectiveMbr => "protective-mbr",
            Self::PrimaryTable => "primary-table",
            Self::BackupTable => "backup-table",
            Self::TablesAgree => "tables-agree",
            Self::Esp => "esp",
            Self::EspFileSystem => "esp-file-system",
            Self::Loader => "loader",
            Self::LoaderImage => "loader-image",
            Self::BootStore => "boot-store",
            Self::BootManager => "boot-manager",
            Self::DefaultEntry => "default-entry",
            Self::EntryDevices => "entry-devices",
            Self::SystemLoader => "system-loader",
            Self::Kernel => "kernel",
            Self::Menu => "menu",
            Self::Letters => "drive-letters",
            Self::Recovery => "recovery",
            Self::Volumes => "volumes",
            Self::Mbr => "mbr",
            Self::OldTable => "old-table",
            Self::BootCode => "boot-code",
            Self::ActivePartition => "active-partition",
            Self::BootRecord => "boot-record",
            Self::BootFileSystem => "boot-file-system",
            Self::BootManagerFile => "bootmgr-file",
        }
    }
}

/// One step taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// Which.
    pub id: StepId,
    /// How it went.
    pub outcome: StepOutcome,
    /// What was found, with the place.
    pub evidence: Evidence,
    /// What to do, when it does not hold.
    pub remedy: Option<Remedy>,
}

/// The steps taken, up to the first that failed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Rehearsal {
    /// The table that the disk should have, and with it the mode that it starts in.
    pub style: Style,
    /// What the disk is for.
    pub disk_use: DiskUse,
    /// Steps in order.
    pub steps: Vec<Step>,
}

impl Rehearsal {
    /// True when the walk reached the kernel.
    pub fn starts(&self) -> bool {
        self.disk_use == DiskUse::System && self.passed()
    }

    /// True when the walk reached what the disk is for: the kernel, or all volumes.
    pub fn passed(&self) -> bool {
        let goal = match self.disk_use {
            DiskUse::System => StepId::Kernel,
            DiskUse::Data => StepId::Volumes,
        };
        let failed = |step: &Step| step.outcome == StepOutcome::Fail;
        let reached = self.steps.iter().any(|step| step.id == goal);
        reached && !self.steps.iter().any(failed)
    }

    /// How many steps tell something that the technician must know.
    pub fn cautions(&self) -> usize {
        let outcomes = self.steps.iter().map(|step| step.outcome);
        outcomes
            .filter(|outcome| *outcome == StepOutcome::Caution)
            .count()
    }
}

/// A step that failed: evidence and remedy.
pub(super) struct Fault {
    pub(super) evidence: Evidence,
    pub(super) remedy: Remedy,
}

impl Fault {
    pub(super) fn new(evidence: impl Into<Evidence>, remedy: impl Into<Remedy>) -> Self {
        Self {
            evidence: evidence.into(),
            remedy: remedy.into(),
        }
    }

    /// The disk itself cannot be read.
    pub(super) fn unreadable(error: impl std::error::Error) -> Self {
        let fault = error.into();
        Self::new(
            table::Evidence::DiskUnreadable { fault },
            table::Remedy::CheckCable,
        )
    }
}

/// What a step gives: its evidence and a value for the next, or the fault.
pub(super) type Found<T> = Result<(Evidence, T), Fault>;

/// A step that holds.
pub(super) fn holds<T>(evidence: impl Into<Evidence>, value: T) -> Found<T> {
    Ok((evidence.into(), value))
}

impl Rehearsal {
    /// Takes a step; `None` ends the walk.
    pub(super) fn step<T>(&mut self, id: StepId, found: Found<T>) -> Option<T> {
        let (outcome, evidence, remedy, value) = match found {
            Ok((evidence, value)) => (StepOutcome::Pass, evidence, None, Some(value)),
            Err(Fault { evidence, remedy }) => (StepOutcome::Fail, evidence, Some(remedy), None),
        };
        self.steps.push(Step {
            id,
            outcome,
            evidence,
            remedy,
        });
        value
    }

    /// Takes a step that does not decide whether the disk starts.
    pub(super) fn note(
        &mut self,
        id: StepId,
        is_good: bool,
        evidence: impl Into<Evidence>,
        remedy: impl Into<Remedy>,
    ) {
        let (outcome, remedy) = match is_good {
            true => (StepOutcome::Pass, None),
            false => (StepOutcome::Caution, Some(remedy.into())),
        };
        self.steps.push(Step {
            id,
            outcome,
            evidence: evidence.into(),
            remedy,
        });
    }

    /// The window on a partition that `step` is about; where it leaves the disk, the step has
    /// failed.
    pub(super) fn window<'d>(
        &mut self,
        step: StepId,
        disk: &'d dyn ReadDevice,
        extent: Extent,
    ) -> Option<Window<'d, dyn ReadDevice + 'd>> {
        let window = Window::new(disk, extent);
        if window.is_none() {
            let evidence = table::Evidence::LeavesDisk { sectors: extent };
            let fault = Fault::new(evidence, table::Remedy::CompareSize);
            self.step::<()>(step, Err(fault));
        }
        window
    }
}

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

/// The steps from the boot store on; `own` is the partition that it must name as the boot manager's, and which
/// build that is, where it says so.
pub(super) fn walk_store(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    names: &DiskNames,
    store: &BootStore,
    (own, manager): (Extent, Option<FileVersion>),
) -> Option<()> {
    walk.step(StepId::BootManager, manager_names(store, names, own))?;
    entry::walk_entry(walk, disk, names, store)?;
    around::walk_around(walk, disk, names, store, manager);
    Some(())
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

/// A FAT32 volume that is sound.
pub(super) fn sound_fat<'w>(window: &'w dyn ReadDevice) -> Result<FatVolume<'w>, Start> {
    let unreadable = |error: FatError| Start::VolumeUnreadable {
        fault: error.into(),
    };
    let fat = FatVolume::open(window).map_err(unreadable)?;
    let faults = fat.check().map_err(unreadable)?;
    match faults.is_empty() {
        true => Ok(fat),
        false => Err(Start::FatFaults { faults }),
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

/// A program that fits.
pub(super) fn program(path: String, image: &PeImage) -> Start {
    Start::Program {
        path,
        subsystem: image.subsystem,
        version: image.version.map(|version| version.to_string()),
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

/// A boot store that can be read.
pub(super) fn store_read(path: String, store: &BootStore) -> Start {
    Start::StoreRead {
        path,
        objects: store.objects().count(),
        menu: store.menu().len(),
    }
}

fn manager_names(store: &BootStore, names: &DiskNames, own: Extent) -> Found<()> {
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
