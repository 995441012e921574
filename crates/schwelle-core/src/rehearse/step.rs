//! Steps, and a walk as the list of them.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::crossing::Style;
use crate::device::{Extent, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::pe::PeImage;

use super::answers::start::Evidence as Start;
use super::answers::{Evidence, Remedy, table};

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

/// A program that fits.
pub(super) fn program(path: String, image: &PeImage) -> Start {
    Start::Program {
        path,
        subsystem: image.subsystem,
        version: image.version.map(|version| version.to_string()),
    }
}
