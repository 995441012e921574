//! What the steps about the table and about a data disk's volumes find.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::device::{Extent, Lba};
use crate::disk_use::DiskUse;
use crate::gpt::{Disagreement, OddEntry, TableCopy};
use crate::identities::Style;
use crate::next::Next;
use crate::profile::{Titled, VolumeFault, VolumeKind};

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepTableEvidence"))]
pub enum Evidence {
    /// The disk cannot be read.
    DiskUnreadable {
        /// Why not.
        fault: Cause,
    },
    /// A partition leaves the disk.
    LeavesDisk {
        /// Its sectors.
        sectors: Extent,
    },
    /// Sector 0 protects the GPT.
    Protective {
        /// Sectors that its entry covers.
        sectors: u32,
    },
    /// Sector 0 names no partition.
    NoEntry,
    /// The protective entry begins at another sector than LBA 1.
    ProtectiveElsewhere {
        /// Where.
        at: Lba,
    },
    /// Sector 0 protects the GPT, but not as the specification wants it.
    ProtectiveOdd {
        /// In what.
        oddities: Vec<ProtectiveOddity>,
    },
    /// Sector 0 is an MBR with partitions of its own.
    PlainMbr,
    /// A copy of the table is sound.
    CopySound {
        /// Which.
        copy: TableCopy,
        /// Its header.
        at: Lba,
        /// Partitions that it names.
        partitions: usize,
    },
    /// A copy of the table is not sound.
    CopyFaulty {
        /// Which.
        copy: TableCopy,
        /// What is wrong.
        fault: Cause,
    },
    /// A copy of the table is sound but for single entries.
    CopyWithOddEntries {
        /// Which.
        copy: TableCopy,
        /// Those entries.
        entries: Vec<OddEntry>,
    },
    /// Both copies agree.
    CopiesAgree,
    /// The copies contradict each other.
    CopiesContradict {
        /// In what.
        disagreement: Disagreement,
    },
    /// All volumes can be looked into.
    Volumes {
        /// Which.
        volumes: Vec<VolumeOn>,
    },
    /// Some partitions could not be looked into.
    VolumesMissing {
        /// How many could.
        seen: usize,
        /// How many the table names.
        named: usize,
    },
    /// Some volumes cannot be read.
    VolumesFaulty {
        /// Which, and why not.
        faults: Vec<FaultOn>,
    },
}

/// In what a protective MBR is not as the specification wants it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum ProtectiveOddity {
    /// The signature 55 AA is missing.
    NoSignature,
    /// The protective entry has a flag: it is marked active, or damaged.
    Flag {
        /// The flag byte.
        flag: u8,
    },
    /// Other entries stand beside it.
    NotAlone {
        /// How many.
        others: usize,
    },
    /// It covers another number of sectors than the disk has after sector 0.
    Covers {
        /// Sectors that it covers.
        sectors: u32,
        /// Sectors that it should cover.
        expected: u32,
    },
}

/// A volume, and where it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct VolumeOn {
    /// Number of its partition.
    pub partition: usize,
    /// What it is.
    pub volume: VolumeKind,
}

/// A volume that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct FaultOn {
    /// Its partition.
    pub partition: Titled,
    /// Why not.
    pub fault: VolumeFault,
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepTableRemedy"))]
pub enum Remedy {
    /// Check cable and health.
    CheckCable,
    /// Compare the disk's size with the one that it was copied from.
    CompareSize,
    /// It is no GPT disk yet.
    NotGptYet,
    /// Sector 0 must hold one protective entry over the whole disk.
    Protect,
    /// Write this copy anew.
    WriteCopyAnew {
        /// Which.
        copy: TableCopy,
    },
    /// Write the backup copy anew from the primary one, by which firmware goes.
    GoByPrimary,
    /// Compare the partitions with what was planned.
    ComparePartitions,
    /// The disk needs an EFI system partition.
    NeedsEsp,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::NotGptYet => vec![
                Next::CHECK,
                Next::Rehearse {
                    to: Some(Style::Mbr),
                    disk_use: None,
                },
            ],
            Self::NeedsEsp => vec![
                Next::Mend,
                Next::Rehearse {
                    to: None,
                    disk_use: Some(DiskUse::Data),
                },
            ],
            Self::Protect | Self::WriteCopyAnew { .. } | Self::GoByPrimary => vec![Next::Mend],
            _ => Vec::new(),
        }
    }
}
