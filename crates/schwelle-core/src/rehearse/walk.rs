//! The walk from sector 0 to the boot store. What the store leads to is in `entry.rs`.

use crate::bootstore::{BootStore, element};
use crate::crossing::Style;
use crate::device::{Extent, Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::{FatEntry, FatError, FatVolume};
use crate::gpt::{GptCopy, GptEntry, GptPair, type_guid};
use crate::mbr::{BootRecord, Kind};
use crate::pe::{EFI_APPLICATION, FileVersion, Machine, PeError, PeImage};
use crate::profile::{ESP_STORE, REMOVABLE_X64};

use super::names::DiskNames;
use super::{around, bios, entry, volumes};

/// A loader is read up to this length.
const MAX_LOADER_BYTES: u64 = 64 << 20;
const MAX_STORE_BYTES: u64 = 16 << 20;

/// The steps of the walk, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
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
    BootManagerFile,
}

/// How a step went.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
    pub evidence: String,
    /// What to do, when it does not hold.
    pub remedy: Option<String>,
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
    pub(super) evidence: String,
    pub(super) remedy: String,
}

impl Fault {
    pub(super) fn new(evidence: impl ToString, remedy: impl ToString) -> Self {
        Self {
            evidence: evidence.to_string(),
            remedy: remedy.to_string(),
        }
    }
}

/// What a step gives: its evidence and a value for the next, or the fault.
pub(super) type Found<T> = Result<(String, T), Fault>;

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
    pub(super) fn note(&mut self, id: StepId, is_good: bool, evidence: String, remedy: &str) {
        let outcome = if is_good {
            StepOutcome::Pass
        } else {
            StepOutcome::Caution
        };
        let remedy = (!is_good).then(|| remedy.to_owned());
        self.steps.push(Step {
            id,
            outcome,
            evidence,
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
            let evidence = format!(
                "LBA {} to {} leave the disk",
                extent.first.0,
                extent.last().0
            );
            let remedy = "The table names sectors that are not there: compare the disk's size \
                with the one it was copied from.";
            self.step::<()>(step, Err(Fault::new(evidence, remedy)));
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
    let table = walk.step(
        StepId::PrimaryTable,
        table_copy(primary, "primary", "backup"),
    )?;
    walk.step(StepId::BackupTable, table_copy(backup, "backup", "primary"))?;
    walk.step(
        StepId::TablesAgree,
        match disagreement {
            None => Ok(("both copies name the same partitions".to_owned(), ())),
            Some(what) => Err(Fault::new(
                what,
                "Find out which copy is right (compare with the \
            volumes on the disk) before the other is written anew from it.",
            )),
        },
    )?;
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
    const REMEDY: &str = "This is not a GPT disk yet. Ask what stands against converting it: schwelle check DISK; or whether a \
         BIOS would start it: schwelle rehearse DISK --to mbr";
    let sector = disk.read_sector(Lba(0)).map_err(|error| {
        Fault::new(
            error,
            "The disk cannot be read: check cable and health first.",
        )
    })?;
    let entries = BootRecord::parse(&sector)
        .map(|record| record.entries)
        .unwrap_or_default();
    let used: Vec<_> = entries.into_iter().flatten().collect();
    match used[..] {
        [only] if only.kind == Kind::PROTECTIVE && only.first == 1 => Ok((
            format!("LBA 0: one protective entry over {} sectors", only.sectors),
            (),
        )),
        [] => Err(Fault::new("LBA 0: no partition entry", REMEDY)),
        _ if used.iter().any(|entry| entry.kind == Kind::PROTECTIVE) => Err(Fault::new(
            "LBA 0: the protective entry is not the only one, or does not begin at LBA 1 (hybrid \
             table)",
            "Firmware differs in what it makes of this. Remove the additional MBR entries first.",
        )),
        _ => Err(Fault::new(
            "LBA 0: an MBR with partitions of its own, no protective entry",
            REMEDY,
        )),
    }
}

fn table_copy(
    copy: Result<GptCopy, crate::gpt::GptError>,
    name: &str,
    other: &str,
) -> Found<GptCopy> {
    match copy {
        Ok(copy) => {
            let at = copy.header.my_lba;
            let evidence = format!(
                "{at}: {name} header and {} partitions, both checksums hold",
                copy.entries.len()
            );
            Ok((evidence, copy))
        }
        Err(error) => Err(Fault::new(
            error,
            format!(
                "The {name} table must be written anew. If the disk was converted by Schwelle, \
                 its job folder's plan lists the partitions; the {other} copy of the table \
                 holds them too if it is sound."
            ),
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
            format!(
                "none of the {} partitions has the type EFI system",
                table.entries.len()
            ),
            "The disk needs an EFI system partition: give the right partition the type GUID \
             C12A7328-F81F-11D2-BA4B-00A0C93EC93B, or make one. A data disk needs none: schwelle \
             rehearse DISK --data-disk",
        )),
        [(number, entry), ..] => {
            let more = if of_type.len() > 1 {
                format!(" (the first of {})", of_type.len())
            } else {
                String::new()
            };
            Ok((
                format!(
                    "partition {number}{more}, LBA {} to {}",
                    entry.extent.first.0,
                    entry.extent.last().0
                ),
                entry.clone(),
            ))
        }
    }
}

fn open_esp<'w>(window: &'w Window<'_, dyn ReadDevice + '_>) -> Found<FatVolume<'w>> {
    const REMEDY: &str =
        "Run the file system checker on the EFI system partition, or make it anew.";
    let fault = |error: FatError| Fault::new(error, REMEDY);
    let fat = FatVolume::open(window).map_err(fault)?;
    let faults = fat.check().map_err(fault)?;
    if faults.is_empty() {
        let shape = fat.shape();
        let evidence = format!(
            "FAT32, {} clusters of {} bytes, both FATs agree, every chain is whole",
            shape.clusters,
            shape.cluster_bytes()
        );
        Ok((evidence, fat))
    } else {
        Err(Fault::new(faults.join("; "), REMEDY))
    }
}

fn find_loader(fat: &FatVolume<'_>, path: &str) -> Found<FatEntry> {
    match fat.find(path) {
        Ok(Some(entry)) if !entry.is_directory => {
            Ok((format!("{path}, {} bytes", entry.len_bytes), entry))
        }
        Ok(_) => Err(Fault::new(
            format!("{path} is not there"),
            format!(
                "Copy \\Windows\\Boot\\EFI\\bootmgfw.efi from the Windows volume to {path} on \
                 the EFI system partition."
            ),
        )),
        Err(error) => Err(Fault::new(
            error,
            "Run the file system checker on the EFI system partition.",
        )),
    }
}

fn loader_image(fat: &FatVolume<'_>, file: &FatEntry, path: &str) -> Found<Option<FileVersion>> {
    let remedy = || {
        format!(
            "Copy \\Windows\\Boot\\EFI\\bootmgfw.efi from the Windows volume to {path} again; if \
             it is the same there, that system's files are damaged or made for another \
             processor."
        )
    };
    let fault = |what: &dyn std::fmt::Display| Fault::new(format!("{path}: {what}"), remedy());
    let bytes = fat
        .read_file(file, MAX_LOADER_BYTES)
        .map_err(|error| fault(&error))?;
    check_image(PeImage::read(&bytes[..]), Some(EFI_APPLICATION)).map_err(|text| fault(&text))
}

/// What the headers must say to be started here: 64-bit x86, the right subsystem, whole. What they say, and which
/// build it is.
pub(super) fn check_image(
    image: Result<PeImage, PeError>,
    subsystem: Option<u16>,
) -> Result<(String, Option<FileVersion>), String> {
    let image = image.map_err(|error| error.to_string())?;
    if image.machine != Machine::X64 || !image.is_64_bit_form {
        return Err(format!("made for {}, not for x64", image.machine));
    }
    if let Some(subsystem) = subsystem.filter(|&subsystem| subsystem != image.subsystem) {
        return Err(format!("subsystem {}, not {subsystem}", image.subsystem));
    }
    match image.cut_off {
        Some((section, end)) => Err(format!(
            "truncated: section {section} ends at byte {end}, behind the file"
        )),
        None => {
            let version = image.version;
            let version_told = version.map(|version| format!("version {version}, "));
            let text = format!(
                "x64, subsystem {}, {}all sections inside the file",
                image.subsystem,
                version_told.unwrap_or_default()
            );
            Ok((text, version))
        }
    }
}

fn read_store(fat: &FatVolume<'_>) -> Found<BootStore> {
    const REMEDY: &str = "The boot store must be made anew from the system's old one, which lies \
        on the old boot partition (\\Boot\\BCD).";
    let fault = |what: &dyn std::fmt::Display| Fault::new(format!("{ESP_STORE}: {what}"), REMEDY);
    let entry = fat.find(ESP_STORE).map_err(|error| fault(&error))?;
    let entry = entry
        .filter(|entry| !entry.is_directory)
        .ok_or_else(|| fault(&"is not there"))?;
    let bytes = fat
        .read_file(&entry, MAX_STORE_BYTES)
        .map_err(|error| fault(&error))?;
    let store = BootStore::read(&bytes[..]).map_err(|error| fault(&error))?;
    Ok((
        format!(
            "{ESP_STORE}, {} objects, {} in the menu",
            store.objects().count(),
            store.menu().len()
        ),
        store,
    ))
}

fn manager_names(store: &BootStore, names: &DiskNames, own: Extent) -> Found<()> {
    let remedy = match names.style() {
        Style::Gpt => {
            "The boot manager's device in the boot store must be the EFI system partition."
        }
        Style::Mbr => "The boot manager's device in the boot store must be the active partition.",
    };
    let manager = store
        .manager()
        .ok_or_else(|| Fault::new("the boot store has no boot manager object", remedy))?;
    let device = manager
        .device(element::DEVICE)
        .ok_or_else(|| Fault::new("the boot manager has no device", remedy))?;
    if device.is_boot_device() {
        return Ok((
            "the boot manager's device is \"where we were started from\"".to_owned(),
            (),
        ));
    }
    let extent = names
        .resolve(&device)
        .map_err(|text| Fault::new(format!("the boot manager's device {text}"), remedy))?;
    if extent == own {
        let number = names.at(own).map_or(0, |part| part.number);
        Ok((
            format!("the boot manager's device is partition {number}"),
            (),
        ))
    } else {
        Err(Fault::new(
            format!(
                "the boot manager's device is another partition (LBA {})",
                extent.first.0
            ),
            remedy,
        ))
    }
}
