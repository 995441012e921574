//! Answers about the systems on the disk.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::disk_use::DiskUse;
use crate::next::Next;
use crate::pe::ProgramFault;
use crate::profile::{BootFileFault, RegistryFault, Titled};
use crate::starts::{Afterwards, Today};

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleSystemEvidence"))]
pub enum Evidence {
    /// It is marked active.
    Active,
    /// It is marked active, and sector 0 has boot code, on a data disk.
    ActiveOnDataDisk,
    /// A BIOS starts nothing from here.
    NotStarted,
    /// No partition is active, and GRUB needs none.
    GrubNeedsNone,
    /// No partition is active.
    NoneActive,
    /// Several partitions are active.
    SeveralActive {
        /// Which.
        partitions: Vec<Titled>,
    },
    /// An installed Windows.
    Windows {
        /// Its name, version and build.
        name: String,
    },
    /// An installed Windows, on what should be a data disk.
    WindowsOnDataDisk {
        /// Its name, version and build.
        name: String,
    },
    /// No Windows that can be read; some volumes cannot be looked into.
    ClosedVolumes {
        /// Which.
        partitions: Vec<Titled>,
    },
    /// A Linux that starts afterwards, on a disk without Windows.
    Linux {
        /// What it calls itself.
        name: String,
    },
    /// A Linux that does not start afterwards, on a disk without Windows.
    LinuxStartsNoMore {
        /// What it calls itself.
        name: String,
        /// Why not.
        afterwards: Afterwards,
    },
    /// No volume holds an installed Windows.
    NoSystem,
    /// Its kernel is one for 64-bit PCs.
    X64,
    /// A program that the start needs does not start here.
    ProgramUnfit {
        /// Its path.
        path: String,
        /// Why not.
        why: ProgramFault,
    },
    /// A boot file cannot be taken.
    BootFileFault {
        /// Its path.
        path: String,
        /// Why not.
        why: BootFileFault,
    },
    /// All boot files for UEFI are there.
    UefiFiles {
        /// How many.
        files: usize,
        /// KiB together.
        kib: u64,
    },
    /// Something in the registry cannot be read.
    RegistryFault {
        /// What.
        fault: RegistryFault,
    },
    /// A hive was not closed cleanly.
    Pending {
        /// Its name.
        hive: String,
        /// Logs, or entries of logs, that are applied.
        applied: usize,
    },
    /// Another Windows keeps the letters of these volumes.
    LettersElsewhere {
        /// How many volumes.
        volumes: usize,
    },
    /// No drive letter is kept for this disk.
    NoLetters,
    /// The hive with the drive letters cannot be used.
    LettersFault {
        /// Why not.
        fault: Cause,
    },
    /// The letters are carried over.
    LettersCarriedOver {
        /// Drive letters.
        letters: Vec<String>,
        /// How many names of volumes beside them.
        names: usize,
    },
    /// The registry has no room for some letters.
    LettersLeft {
        /// Drive letters.
        letters: Vec<String>,
        /// How many names of volumes beside them.
        names: usize,
    },
    /// There are several systems.
    Several {
        /// Which.
        systems: Vec<SystemOn>,
    },
    /// What starts today starts afterwards.
    AllStart {
        /// What.
        names: Vec<String>,
    },
    /// It starts today, and not afterwards.
    StartsNoMore {
        /// How it starts today.
        today: Today,
        /// Why not afterwards.
        afterwards: Afterwards,
    },
}

/// A system and where it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct SystemOn {
    /// Its name, version and build.
    pub name: String,
    /// Its partition.
    pub on: Titled,
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleSystemRemedy"))]
pub enum Remedy {
    /// See whether a PC starts from this data disk.
    SeeWhetherStarted,
    /// Mark the right partition active.
    MarkActive,
    /// Mark only one partition active.
    MarkOneActive,
    /// Give the distribution's boot loaders.
    GiveLoaders,
    /// Let the system name its volumes by UUID.
    NameByUuid,
    /// Do not call it a data disk.
    NoDataDisk,
    /// See that this is the right disk, or say that it is for data.
    RightDiskOrSayData,
    /// This Windows starts in BIOS mode only.
    BiosOnly,
    /// Repair the system's files from its installation medium.
    RepairFromMedium,
    /// Repair the system's files.
    RepairFiles,
    /// Repair the system's files, or uncompress or decrypt this one.
    RepairOrUncompress,
    /// Start Windows and shut it down; what is shown may be out of date.
    OutOfDate,
    /// What is pending is applied where the job edits the file.
    PendingApplied,
    /// Note the letters down, and set them anew in the other Windows.
    NoteLettersElsewhere,
    /// Start Windows and shut it down.
    StartAndShutDown,
    /// The same; Windows makes room when it saves its registry.
    StartAndMakeRoom,
    /// Note the letters down: Windows gives them anew.
    NoteLetters,
    /// Convert only if it need not start any more, and say so by its name.
    GiveUpByName {
        /// Its name.
        name: String,
    },
    /// Look at the menu: the default starts by itself.
    LookAtMenu,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::RightDiskOrSayData => vec![
                Next::Survey,
                Next::Check {
                    to: None,
                    disk_use: Some(DiskUse::Data),
                },
            ],
            _ => Vec::new(),
        }
    }
}
