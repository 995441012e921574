//! What the steps from the EFI system partition to the kernel find.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::NameFault;
use crate::cause::Cause;
use crate::device::{Extent, Lba};
use crate::fat::{FatFault, FatKind};
use crate::identities::Style;
use crate::next::Next;
use crate::pe::ProgramFault;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepStartEvidence"))]
pub enum Evidence {
    /// No partition is an EFI system partition.
    NoEsp {
        /// How many partitions there are.
        partitions: usize,
    },
    /// The EFI system partition.
    Esp {
        /// Its number.
        partition: usize,
        /// How many there are.
        of: usize,
        /// Its sectors.
        sectors: Extent,
    },
    /// No partition has the type of an EFI system partition, but one holds the loader.
    EspByContent {
        /// Its number.
        partition: usize,
        /// Its sectors.
        sectors: Extent,
    },
    /// Not the first EFI system partition holds the loader, but another.
    EspNotFirst {
        /// The number of the one that does.
        partition: usize,
        /// The number of the first.
        first: usize,
        /// Its sectors.
        sectors: Extent,
    },
    /// The EFI system partition has the attribute that hides it from firmware.
    EspWithoutDevice {
        /// Its number.
        partition: usize,
    },
    /// The EFI system partition overlaps another partition.
    EspOverlaps {
        /// Its number.
        partition: usize,
        /// The other's number.
        other: usize,
    },
    /// The EFI system partition has no GUID of its own.
    EspWithoutGuid {
        /// Its number.
        partition: usize,
        /// Its sectors.
        sectors: Extent,
    },
    /// Another FAT volume with a loader on the removable-media path comes before the EFI system partition.
    LoaderInFront {
        /// The number of the EFI system partition.
        partition: usize,
        /// The number of the other one.
        other: usize,
        /// The EFI system partition's sectors.
        sectors: Extent,
    },
    /// A sound FAT volume.
    SoundFat {
        /// Which FAT it is.
        fat: FatKind,
        /// Its clusters.
        clusters: u64,
        /// Bytes of a cluster.
        cluster_bytes: u32,
    },
    /// A FAT volume with faults.
    FatFaults {
        /// Which.
        faults: Vec<FatFault>,
    },
    /// A volume that is encrypted, and not open here.
    VolumeEncrypted {
        /// Its first sector.
        at: Lba,
    },
    /// A volume that cannot be read.
    VolumeUnreadable {
        /// Why not.
        fault: Cause,
    },
    /// A file is there.
    File {
        /// Its path.
        path: String,
        /// Its length in bytes.
        bytes: u64,
    },
    /// A file is not there.
    FileMissing {
        /// Its path.
        path: String,
    },
    /// A file cannot be used.
    FileUnusable {
        /// Its path.
        path: String,
        /// Why not.
        fault: Cause,
    },
    /// The loader is only where a boot entry looks for it, not on the removable-media path.
    OnlyByEntry {
        /// Its path.
        path: String,
        /// What is wrong with the one on the removable-media path.
        why: ProgramFault,
    },
    /// The loader that a boot entry names is as good as the one on the removable-media path.
    SameLoader {
        /// Its path.
        path: String,
    },
    /// A program fits.
    Program {
        /// Its path.
        path: String,
        /// The subsystem that its header names.
        subsystem: u16,
        /// Its version, where it says so.
        version: Option<String>,
        /// By what its content was judged; none for a program that only its system loads.
        origin: Option<Origin>,
    },
    /// A program does not fit.
    ProgramUnfit {
        /// Its path.
        path: String,
        /// Why not.
        why: ProgramFault,
    },
    /// A BCD store.
    StoreRead {
        /// Its path.
        path: String,
        /// Objects in it.
        objects: usize,
        /// Entries in its menu.
        menu: usize,
    },
    /// The store has no object of the boot manager.
    NoManager,
    /// That object names no device.
    ManagerWithoutDevice,
    /// Its device is where it was started from.
    ManagerWhereStarted,
    /// Its device is the right partition.
    ManagerHere {
        /// Its number.
        partition: usize,
    },
    /// Its device is another partition.
    ManagerElsewhere {
        /// Where that begins.
        at: Lba,
    },
    /// Its device names nothing here.
    ManagerNames {
        /// What it names.
        fault: NameFault,
    },
    /// The default entry is not in the store.
    DefaultMissing,
    /// The default entry.
    Default {
        /// Its title.
        title: String,
        /// Its identifier.
        id: String,
    },
    /// The default entry is no system loader.
    DefaultNoLoader {
        /// Its identifier.
        id: String,
        /// What it is; none where that is not known.
        object: Option<String>,
    },
    /// A device of the entry is missing.
    DeviceMissing {
        /// Which.
        device: EntryDevice,
        /// The entry's title.
        title: String,
    },
    /// A device of the entry names nothing here.
    DeviceNames {
        /// Which.
        device: EntryDevice,
        /// The entry's title.
        title: String,
        /// What it names.
        fault: NameFault,
    },
    /// Loader and system lie on different partitions.
    DevicesDiffer,
    /// Both lie here.
    Devices {
        /// The partition's sectors.
        sectors: Extent,
    },
    /// The entry names no loader.
    NoLoaderNamed,
    /// The entry names no system folder.
    NoFolderNamed,
    /// The kernel fits.
    Kernel {
        /// Its path.
        path: String,
    },
}

/// By what the content of a loader was judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "LoaderOrigin"))]
pub enum Origin {
    /// It is what was signed.
    Signed,
    /// It is the same as on the Windows volume.
    AsOnWindows,
    /// It is neither: another system's, or a build of its own.
    Unknown,
}

/// A device of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum EntryDevice {
    /// Where the loader lies.
    Loader,
    /// Where the system lies.
    System,
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepStartRemedy"))]
pub enum Remedy {
    /// Let the file system checker run on the EFI system partition, or make it anew.
    CheckEspOrMake,
    /// Let the file system checker run on the EFI system partition.
    CheckEsp,
    /// Copy the boot manager to this path.
    CopyLoader {
        /// The path.
        path: String,
    },
    /// Give the EFI system partition its type.
    SetEspType,
    /// Take away the attribute that hides it.
    ShowEsp,
    /// Give it a GUID.
    NewEspGuid,
    /// The partitions must be distinguished first.
    NoOverlap,
    /// Repair the EFI system partition's file system.
    RepairEsp,
    /// Nothing on the other partition may be taken for the loader.
    NoLoaderInFront {
        /// Its number.
        other: usize,
    },
    /// Copy it again, or repair the system's files.
    CopyLoaderAgain {
        /// The path.
        path: String,
    },
    /// The BCD store must be made anew.
    MakeStore,
    /// The boot manager's device must be another.
    ManagerDevice {
        /// The table that the disk has.
        style: Style,
    },
    /// Correct the entry, or make the store anew.
    CorrectEntry,
    /// Windows must bring its loader.
    BringLoader {
        /// The table that the disk has.
        style: Style,
    },
    /// Repair the system's files.
    RepairSystem,
    /// Open the encrypted volume.
    Unlock,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::SetEspType
            | Self::ShowEsp
            | Self::NewEspGuid
            | Self::RepairEsp
            | Self::CheckEspOrMake
            | Self::CopyLoader { .. }
            | Self::CopyLoaderAgain { .. }
            | Self::MakeStore => vec![Next::Mend],
            _ => Vec::new(),
        }
    }
}
