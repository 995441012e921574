//! Answers about the boot configuration.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bcd::Locator;
use crate::cause::Cause;
use crate::identities::Style;
use crate::next::Next;
use crate::rehearse::StepId;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleBootEvidence"))]
pub enum Evidence {
    /// The disk has all that a start in BIOS mode needs.
    StartsToday,
    /// Whether it starts in BIOS mode is not known.
    StartDependsToday {
        /// The first step that does not quite hold.
        step: StepId,
    },
    /// It does not start in BIOS mode.
    NoStartToday {
        /// The step at which a start ends.
        step: StepId,
    },
    /// A start cannot be followed into a volume that is closed.
    StartUnknown {
        /// The step at which the walk ends.
        step: StepId,
    },
    /// A BCD store on what should be a data disk.
    StoreOnDataDisk {
        /// Its path.
        path: String,
    },
    /// A BCD store that can be read.
    Store {
        /// Its path.
        path: String,
        /// Number of its partition.
        partition: usize,
        /// Objects in it.
        objects: usize,
        /// Entries in its menu.
        menu: usize,
        /// It was not closed cleanly, and its log is applied.
        pending: bool,
    },
    /// A BCD store that cannot be read.
    StoreFault {
        /// Its path.
        path: String,
        /// Number of its partition.
        partition: usize,
        /// Why not.
        fault: Cause,
        /// An installed Windows brings the files that a new one can be made for.
        can_be_made: bool,
    },
    /// No BCD store.
    NoStore {
        /// Where it would be.
        path: String,
        /// An installed Windows brings the files that a new one can be made for.
        can_be_made: bool,
    },
    /// The default leads to an installed Windows of this disk.
    LeadsToWindows {
        /// Number of its partition.
        partition: usize,
    },
    /// The default leads to a partition that cannot be looked into.
    LeadsToClosed {
        /// Its number.
        partition: usize,
    },
    /// The default leads to a partition without an installed Windows.
    LeadsToNoWindows {
        /// Its number.
        partition: usize,
    },
    /// The default leads to no partition of this disk.
    LeadsElsewhere {
        /// Where; none where it names no device.
        device: Option<Locator>,
    },
    /// The default cannot be started; another entry takes its place.
    OtherDefault {
        /// What is wrong with it.
        was: DefaultFault,
        /// The title of the entry that becomes the default.
        becomes: String,
    },
    /// The default cannot be started, and no entry starts Windows here.
    NoDefault {
        /// What is wrong with it.
        was: DefaultFault,
    },
    /// An entry that only a BIOS can start.
    BiosOnlyEntry,
    /// An entry whose device cannot be read.
    DeviceUnreadable,
    /// An entry for another disk or partition.
    NamesAnother {
        /// Which.
        device: Locator,
    },
    /// What is known of the recovery environment.
    Recovery {
        /// The state.
        state: RecoveryState,
        /// The images that are there.
        images: Vec<ImageOn>,
    },
    /// No FAT volume before the new EFI system partition holds a loader on the removable-media path.
    NoOtherLoader,
    /// A FAT volume before the new EFI system partition holds one.
    OtherLoader,
    /// A FAT volume before it could not be searched for one.
    OtherLoaderUnknown {
        /// Why not.
        fault: Cause,
    },
}

/// Why a default cannot be started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum DefaultFault {
    /// It leads to an installed Windows that does not start in UEFI mode.
    GivenUp {
        /// Its title.
        title: String,
    },
    /// Only a BIOS can start it.
    BiosOnly {
        /// Its title.
        title: String,
    },
    /// Its system lies in a file on a partition: a RAM disk, or a virtual disk.
    InFile {
        /// Its title.
        title: String,
    },
    /// It is not in the store.
    NotThere,
}

/// A recovery environment's image and where it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ImageOn {
    /// Its path.
    pub path: String,
    /// Number of its partition.
    pub partition: usize,
}

/// What an installed Windows' configuration says of its recovery environment, and what is true of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum RecoveryState {
    /// The configuration cannot be read.
    ConfigFault {
        /// Why not.
        fault: Cause,
    },
    /// There is neither a configuration nor an image.
    None,
    /// No configuration names one.
    NotNamed,
    /// It is not switched on.
    Off,
    /// It is switched on, and its folder is on no partition of this disk.
    Elsewhere {
        /// The folder.
        path: String,
    },
    /// It is switched on, and the image is not where it should be.
    ImageMissing {
        /// Path of the image.
        path: String,
        /// Number of the partition where it should be.
        partition: usize,
    },
    /// It is switched on, and its configuration cannot be edited.
    NotEditable {
        /// Path of the image.
        path: String,
        /// Number of its partition.
        partition: usize,
    },
    /// It is switched on, and is carried over.
    CarriedOver {
        /// Path of the image.
        path: String,
        /// Number of its partition.
        partition: usize,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleBootRemedy"))]
pub enum Remedy {
    /// Find out which system starts from here.
    WhichSystemStarts,
    /// Look at the menu: it is what the next start would show.
    LookAtNextMenu,
    /// A new store is made for the Windows installation found.
    NewStore,
    /// See that the PC starts from this disk.
    SeeItStart,
    /// See what keeps the disk from starting, and that the PC starts from it, before it is converted.
    SeeItStartFirst,
    /// Set the default to Windows on this disk.
    SetDefault,
    /// Set another default after the switch.
    SetDefaultAfterwards,
    /// The entry is taken out of the menu.
    EntryTakenOut,
    /// The entry is carried over, and does not start now either.
    EntryDead,
    /// The entry is carried over; see whether it still starts.
    EntryElsewhere,
    /// Switch the recovery environment off and on again.
    RecoveryAgain,
    /// Set a recovery environment up, if one is wanted.
    RecoveryIfWanted,
    /// Rename the other loader.
    RenameLoader,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::SeeItStartFirst => vec![Next::Rehearse {
                to: Some(Style::Mbr),
                disk_use: None,
            }],
            _ => Vec::new(),
        }
    }
}
