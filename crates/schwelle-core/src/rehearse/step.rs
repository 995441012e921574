//! Steps, and a walk as the list of them.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::device::{Extent, ReadDevice, Tracked, Window};
use crate::disk_use::DiskUse;
use crate::identities::Style;
use crate::pe::PeImage;

use super::answers::start::{Evidence as Start, Origin};
use super::answers::{Evidence, Remedy, table};

/// The steps of the walk, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
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
    /// The loader that a boot entry names, where it is another, fits as well.
    EntryLoader,
    /// The BCD store lies beside it.
    BcdStore,
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
    /// The other files of the partition that the start begins on are sound.
    OtherFiles,
    /// The loaders of a Linux are in a folder of their own, and fit.
    LinuxLoader,
    /// The configuration there leads to a menu on the Linux's volume.
    LinuxMenu,
    /// Kernel and initial RAM disks of the menu's entry are there.
    LinuxKernel,
    /// Beside Windows, a Linux starts from a folder of its own.
    OtherSystem,
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
    /// All that the walk looked at could be read; this step is taken only if not.
    Readable,
}

/// How a step went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StepOutcome {
    /// It holds.
    Pass,
    /// The technician must know. On the way of a start: it is outside the specification, or only a backup copy
    /// serves, so that some firmware starts the disk and some does not. Around it: the disk starts all the same.
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
    /// A start goes through this step: where it does not hold, whether the disk starts is in question. The others
    /// look at what is around a start.
    pub fn is_on_the_way(self) -> bool {
        !matches!(
            self,
            Self::OldTable
                | Self::Menu
                | Self::Letters
                | Self::Recovery
                | Self::OtherFiles
                | Self::OtherSystem
        )
    }

    /// The step is the firmware's own: it comes before the loader runs.
    pub fn is_firmwares(self) -> bool {
        matches!(
            self,
            Self::ProtectiveMbr
                | Self::PrimaryTable
                | Self::BackupTable
                | Self::TablesAgree
                | Self::Esp
                | Self::EspFileSystem
                | Self::Loader
                | Self::LoaderImage
                | Self::EntryLoader
        )
    }

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
            Self::EntryLoader => "entry-loader",
            Self::BcdStore => "bcd-store",
            Self::BootManager => "boot-manager",
            Self::DefaultEntry => "default-entry",
            Self::EntryDevices => "entry-devices",
            Self::SystemLoader => "system-loader",
            Self::Kernel => "kernel",
            Self::Menu => "menu",
            Self::Letters => "drive-letters",
            Self::Recovery => "recovery",
            Self::OtherFiles => "other-files",
            Self::LinuxLoader => "linux-loader",
            Self::LinuxMenu => "linux-menu",
            Self::LinuxKernel => "linux-kernel",
            Self::OtherSystem => "other-system",
            Self::Volumes => "volumes",
            Self::Mbr => "mbr",
            Self::OldTable => "old-table",
            Self::BootCode => "boot-code",
            Self::ActivePartition => "active-partition",
            Self::BootRecord => "boot-record",
            Self::BootFileSystem => "boot-file-system",
            Self::BootManagerFile => "bootmgr-file",
            Self::Readable => "readable",
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

/// What a rehearsal says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RehearsalAnswer"))]
pub enum Answer {
    /// Every step on the way holds: the disk starts; of a data disk, all volumes are there.
    Starts,
    /// Nothing fails, but something on the way is outside the specification: some firmware starts it, some does
    /// not, or it starts from a backup copy. Or the walk ends at an encrypted volume that is not open here.
    Depends,
    /// A step on the way fails.
    DoesNotStart,
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
    /// Whether the disk starts, or a data disk is sound.
    pub fn answer(&self) -> Answer {
        let is_goal = |step: &Step| match self.disk_use {
            DiskUse::System => matches!(step.id, StepId::Kernel | StepId::LinuxKernel),
            DiskUse::Data => step.id == StepId::Volumes,
        };
        let reached = self.steps.iter().any(is_goal) || self.ends_closed();
        match self.first_fault().map(|step| step.outcome) {
            None if reached => Answer::Starts,
            Some(StepOutcome::Caution) if reached && !self.failed() => Answer::Depends,
            _ => Answer::DoesNotStart,
        }
    }

    /// The walk ends at a volume that is encrypted and not open here: what is on it cannot be seen.
    pub fn ends_closed(&self) -> bool {
        let last = self.steps.last().map(|step| &step.evidence);
        matches!(last, Some(Evidence::Start(Start::VolumeEncrypted { .. })))
    }

    fn failed(&self) -> bool {
        let mut steps = self.steps.iter();
        steps.any(|step| step.outcome == StepOutcome::Fail)
    }

    /// The first step on the way that does not hold.
    pub fn first_fault(&self) -> Option<&Step> {
        let mut steps = self.steps.iter();
        steps.find(|step| match step.outcome {
            StepOutcome::Pass => false,
            StepOutcome::Caution => step.id.is_on_the_way(),
            StepOutcome::Fail => true,
        })
    }

    /// Every system that the disk was given must start, and not the first alone.
    pub(crate) fn require_other_systems(&mut self) {
        let others = self.steps.iter_mut();
        let others = others.filter(|step| step.id == StepId::OtherSystem);
        for step in others.filter(|step| step.outcome != StepOutcome::Pass) {
            step.outcome = StepOutcome::Fail;
        }
    }

    /// True of a system disk when all of the way to the kernel holds.
    pub fn starts(&self) -> bool {
        self.disk_use == DiskUse::System && self.passed()
    }

    /// True when all of the way to what the disk is for holds: to the kernel, or to all volumes.
    pub fn passed(&self) -> bool {
        self.answer() == Answer::Starts
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

/// What a step gives: its evidence, what to do where it does not quite hold, and a value for the next; or the
/// fault.
pub(super) type Found<T> = Result<(Evidence, Option<Remedy>, T), Fault>;

/// A step that holds.
pub(super) fn holds<T>(evidence: impl Into<Evidence>, value: T) -> Found<T> {
    Ok((evidence.into(), None, value))
}

/// A step after which a start goes on with some firmware, and with some it does not.
pub(super) fn depends<T>(
    evidence: impl Into<Evidence>,
    remedy: impl Into<Remedy>,
    value: T,
) -> Found<T> {
    Ok((evidence.into(), Some(remedy.into()), value))
}

impl Rehearsal {
    /// The same, with a step that says so if no step fails and something could not be read all the same: a step may
    /// have an answer without it, a second copy for one.
    pub(super) fn unless_unread(mut self, disk: &Tracked<'_, dyn ReadDevice + '_>) -> Self {
        if !self.failed()
            && let Some(error) = disk.first_failure(&[])
        {
            let Fault { evidence, remedy } = Fault::unreadable(error);
            self.step(StepId::Readable, depends(evidence, remedy, ()));
        }
        self
    }

    /// Takes a step; `None` ends the walk.
    pub(super) fn step<T>(&mut self, id: StepId, found: Found<T>) -> Option<T> {
        let (outcome, evidence, remedy, value) = match found {
            Ok((evidence, None, value)) => (StepOutcome::Pass, evidence, None, Some(value)),
            Ok((evidence, remedy, value)) => (StepOutcome::Caution, evidence, remedy, Some(value)),
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
pub(super) fn program(path: String, image: &PeImage, origin: Option<Origin>) -> Start {
    Start::Program {
        path,
        origin,
        subsystem: image.subsystem,
        version: image.version.map(|version| version.to_string()),
    }
}
