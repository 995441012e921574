//! Answers about the way back, from GPT to MBR.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::device::Lba;
use crate::firmware::Ground;
use crate::fit::Tight;
use crate::identities::Style;
use crate::next::Next;
use crate::pe::ProgramFault;
use crate::placement::ExistingUnfit;
use crate::profile::BootFileFault;
use crate::profile::TableStyle;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleBackEvidence"))]
pub enum Evidence {
    /// It is an MBR already.
    MbrAlready,
    /// There is no GPT.
    NoGpt {
        /// What there is.
        table: TableStyle,
    },
    /// Both copies of the GPT are sound.
    GptSound {
        /// Partitions that they name.
        partitions: usize,
    },
    /// A partition ends beyond what an MBR reaches.
    BeyondReach {
        /// Its last sector.
        last_lba: Lba,
        /// The last that an MBR reaches.
        reach: Lba,
    },
    /// Too many partitions for the entries, and no place for the records of logical ones.
    TooManyForMbr {
        /// How many there are.
        partitions: usize,
        /// How many of them must become logical.
        logical: usize,
        /// Those that cannot.
        tight: Vec<Tight>,
    },
    /// How the partitions are shared out.
    Shares {
        /// Primary ones.
        primaries: usize,
        /// Logical ones.
        logical: usize,
    },
    /// Space that no MBR partition can use.
    LostSpace {
        /// In MiB.
        mib: u64,
        /// Where it begins.
        from: Lba,
    },
    /// A type without an MBR form.
    NoMbrType {
        /// The type.
        gpt_type: Uuid,
    },
    /// A reserved partition that holds something.
    ReservedInUse {
        /// The first sector that is not zero; none where it could not be looked through.
        at: Option<Lba>,
    },
    /// A reserved partition that is left out.
    LeftOut {
        /// Its type, in words of the field.
        name: String,
    },
    /// There is no EFI system partition.
    NoEspToStart,
    /// There are several.
    SeveralEsps {
        /// How many.
        count: usize,
    },
    /// No BIOS starts from sectors of this size.
    SectorsForBios {
        /// In bytes.
        bytes: u32,
    },
    /// The EFI system partition cannot take the boot files.
    EspCannotTake {
        /// Why not.
        why: ExistingUnfit,
    },
    /// The EFI system partition becomes the active one.
    EspBecomesActive,
    /// The loader for BIOS mode does not start here.
    LoaderUnfit {
        /// Its path.
        path: String,
        /// Why not.
        why: ProgramFault,
    },
    /// The boot manager for BIOS mode is missing.
    BiosFileMissing {
        /// Its path.
        path: String,
    },
    /// A boot file for BIOS mode is empty.
    BiosFileEmpty {
        /// Its path.
        path: String,
    },
    /// A boot file for BIOS mode cannot be taken.
    BiosFileFault {
        /// Its path.
        path: String,
        /// Why not.
        why: BootFileFault,
    },
    /// The boot manager for BIOS mode is too long.
    BiosFileTooLong {
        /// Its path.
        path: String,
        /// Its length in bytes.
        bytes: u64,
        /// What there is room for, in bytes.
        limit: u64,
    },
    /// All boot files for BIOS mode are there.
    BiosFiles {
        /// How many.
        files: usize,
        /// KiB together.
        kib: u64,
    },
    /// The PC has no other mode.
    BiosOnlyPc {
        /// Where that is known from.
        source: Ground,
    },
    /// The PC can start in BIOS mode.
    BiosAble {
        /// Where that is known from.
        source: Ground,
    },
    /// Whether it can is not known.
    BiosNotKnown,
    /// Secure Boot is on.
    SecureBootOn {
        /// Where that is known from.
        source: Ground,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleBackRemedy"))]
pub enum Remedy {
    /// Nothing to take back: ask whether it starts.
    NothingToTakeBack,
    /// Mend the table first.
    MendTable,
    /// Make the volume end before the reach.
    EndBefore,
    /// Make a volume a little smaller, or delete a partition.
    MakeRoomForRecords,
    /// Their numbers change.
    NumbersChange,
    /// The space is not used while the disk is MBR.
    NotUsedMeanwhile,
    /// Find out what made the partition, and give its type a form.
    GiveMbrForm,
    /// Find out what uses the reserved partition.
    WhoUsesReserved,
    /// There is nothing that a BIOS would start from.
    MendForUefi,
    /// See which of them the PC starts from.
    WhichEsp,
    /// Leave the disk GPT.
    LeaveGpt,
    /// Mend the EFI system partition, or make room on it.
    MendEsp,
    /// Take its letter away, where it gets one.
    TakeLetterAway,
    /// Repair the system's files.
    RepairBiosFiles,
    /// Look for a CSM.
    LookForCsm,
    /// Switch Secure Boot off first.
    SecureBootOff,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::NothingToTakeBack => vec![Next::Rehearse {
                to: Some(Style::Mbr),
                disk_use: None,
            }],
            Self::MendTable | Self::MendForUefi => vec![Next::Mend],
            _ => Vec::new(),
        }
    }
}
