//! What the steps around a start find: the rest of the menu, drive letters, recovery.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::NameFault;
use crate::cause::Cause;
use crate::next::Next;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepAroundEvidence"))]
pub enum Evidence {
    /// The entries of the menu.
    Menu {
        /// Each with what it leads to; what does not hold stands first.
        entries: Vec<MenuEntry>,
    },
    /// The drive letters of each Windows installation.
    DriveLetters {
        /// Each; what does not hold stands first.
        systems: Vec<LettersOf>,
    },
    /// The recovery environment of each Windows installation.
    RecoveryOf {
        /// Each; what does not hold stands first.
        systems: Vec<RecoveryOf>,
    },
}

/// An entry of the menu.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct MenuEntry {
    /// Its title.
    pub title: String,
    /// What it leads to.
    pub leads: Leads,
}

/// What an entry leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Leads {
    /// A loader on this disk.
    Here {
        /// Its path.
        path: String,
        /// Number of its partition.
        partition: usize,
    },
    /// It runs in BIOS mode only.
    BiosOnly,
    /// It is no system loader.
    NoSystemLoader,
    /// It has no device.
    NoDevice,
    /// Its device names nothing here.
    Names {
        /// What it names.
        fault: NameFault,
    },
    /// It names no loader.
    NoLoader,
    /// Its partition leaves the disk.
    LeavesDisk,
    /// Its volume cannot be read.
    Unreadable {
        /// Why not.
        fault: Cause,
    },
    /// The loader is not there.
    NotThere {
        /// Its path.
        path: String,
        /// Number of the partition.
        partition: usize,
    },
    /// The loader is newer than the boot manager.
    Newer {
        /// Its path.
        path: String,
        /// Number of its partition.
        partition: usize,
        /// Its version.
        loader: String,
        /// The boot manager's.
        manager: String,
    },
}

/// The drive letters of an installed Windows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LettersOf {
    /// Number of its partition.
    pub partition: usize,
    /// What is known of them.
    pub letters: Letters,
}

/// What is known of drive letters.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Letters {
    /// They are given; none where Windows gives them when it starts.
    Given {
        /// Those on this disk.
        here: Vec<LetterHere>,
        /// Those on others.
        elsewhere: Vec<LetterElsewhere>,
    },
    /// None names the installed Windows' own partition.
    NotItsOwn {
        /// What they name.
        elsewhere: Vec<LetterElsewhere>,
    },
    /// One names the EFI system partition.
    OnEsp {
        /// The letter.
        letter: String,
    },
    /// There is no registry.
    NoRegistry,
    /// The registry cannot be read.
    Unreadable {
        /// Why not.
        fault: Cause,
    },
}

/// A letter of a partition of this disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LetterHere {
    /// The letter.
    pub letter: String,
    /// The partition's number.
    pub partition: usize,
}

/// A letter of a partition of another disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LetterElsewhere {
    /// The letter.
    pub letter: String,
    /// What it names.
    pub on: Elsewhere,
}

/// A place on another disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Elsewhere {
    /// A GPT partition, by its GUID.
    GptPartition(Uuid),
    /// An MBR disk, by its signature.
    MbrDisk(u32),
}

/// The recovery environment of an installed Windows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct RecoveryOf {
    /// Number of its partition.
    pub partition: usize,
    /// What is known of it.
    pub recovery: Recovery,
}

/// What is known of a recovery environment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Recovery {
    /// None is set up.
    NotSetUp,
    /// It is not switched on.
    Off,
    /// Its image is where it is looked for.
    Here {
        /// Path of the image.
        path: String,
        /// Number of its partition.
        partition: usize,
    },
    /// Its configuration cannot be read.
    Unreadable {
        /// Why not.
        fault: Cause,
    },
    /// It is looked for on an MBR disk, and this is a GPT disk.
    StillMbr {
        /// That disk's signature.
        signature: u32,
    },
    /// It is looked for on a GPT disk, and this is an MBR disk.
    StillGpt {
        /// That disk's GUID.
        disk: Uuid,
    },
    /// It is looked for on another disk.
    OtherDisk,
    /// It is looked for where no partition begins.
    NoPartitionAt {
        /// The byte.
        offset: u64,
    },
    /// Its partition leaves the disk.
    LeavesDisk,
    /// Its image is not there.
    ImageMissing {
        /// Path of the image.
        path: String,
        /// Number of the partition.
        partition: usize,
    },
    /// The BCD store has no entry for it.
    NoEntry,
    /// The BCD store's entry names nothing here.
    EntryNames {
        /// What it names.
        fault: NameFault,
    },
    /// The BCD store looks for it on another partition.
    EntryElsewhere,
}

impl Leads {
    /// It leads to what starts.
    pub fn holds(&self) -> bool {
        matches!(self, Self::Here { .. })
    }
}

impl Letters {
    /// The letters are as they should be.
    pub fn hold(&self) -> bool {
        matches!(self, Self::Given { .. })
    }
}

impl Recovery {
    /// It is as it should be.
    pub fn holds(&self) -> bool {
        matches!(self, Self::NotSetUp | Self::Off | Self::Here { .. })
    }
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepAroundRemedy"))]
pub enum Remedy {
    /// An entry does not start from here.
    EntryDoesNotStart,
    /// Look at the drives once Windows has started.
    LookAtDrives,
    /// Switch the recovery environment off and on again.
    SwitchRecovery,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        Vec::new()
    }
}
