//! What the steps of a start in BIOS mode find.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::device::{Extent, Lba};
use crate::gpt::TableCopy;
use crate::identities::Style;
use crate::mbr::DamageKind;
use crate::next::Next;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepBiosEvidence"))]
pub enum Evidence {
    /// Sector 0 is no boot record.
    NoBootRecord,
    /// Sector 0 protects a GPT.
    ProtectsGpt,
    /// Something is wrong with the table.
    MbrDamage {
        /// The sector that says so.
        at: Lba,
        /// What.
        damage: DamageKind,
    },
    /// The table is sound.
    MbrSound {
        /// Partitions that it names.
        partitions: usize,
        /// Logical ones among them.
        logical: usize,
        /// The disk signature.
        signature: u32,
    },
    /// No copy of a GPT is left.
    NoGptLeft,
    /// Headers of a GPT are left.
    GptLeft {
        /// Of which copies.
        copies: Vec<TableCopy>,
    },
    /// The code in sector 0.
    BootCode {
        /// What it is.
        code: BootCode,
    },
    /// GRUB's code, and its menu goes to the boot record of a partition.
    GrubGoesTo {
        /// The partition that the menu lies on.
        menu_on: usize,
        /// The one that it goes to.
        partition: usize,
        /// Without a key.
        by_default: bool,
    },
    /// GRUB's code, and its menu on this partition.
    GrubMenuOn {
        /// The partition.
        partition: usize,
    },
    /// The active partition.
    ActivePartition {
        /// Its number.
        partition: usize,
        /// Its sectors.
        sectors: Extent,
    },
    /// None is active.
    NoActive,
    /// Several are active.
    ManyActive {
        /// How many.
        count: usize,
    },
    /// A boot record without its signature 55 AA.
    NoSignature {
        /// Its sector.
        at: Lba,
    },
    /// A boot record of ours, which loads this file.
    OwnRecord {
        /// Its sector.
        at: Lba,
        /// Path of the file.
        path: String,
    },
    /// Windows' own boot record.
    WindowsRecord {
        /// Its sector.
        at: Lba,
    },
    /// An unknown boot record.
    OtherRecord {
        /// Its sector.
        at: Lba,
    },
    /// The volume is a sound FAT32 one.
    FatToStart,
    /// The volume is an NTFS one.
    NtfsToStart,
    /// The boot manager cannot be started.
    ManagerUnfit {
        /// Its path.
        path: String,
        /// Why not.
        why: ManagerFault,
    },
    /// The boot manager is as long as the one on the Windows volume, and not the same.
    ManagerDiffers {
        /// Its path.
        path: String,
    },
    /// The BCD store is not on the active partition.
    StoreElsewhere {
        /// Its path.
        path: String,
        /// The partition's number.
        partition: usize,
    },
}

/// The code in sector 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum BootCode {
    /// Ours, and it goes to the active partition.
    ToActive,
    /// Ours, and it starts nothing.
    StartsNothing,
    /// There is none.
    None,
    /// Windows' own.
    Windows,
    /// GRUB's, of which the menu is not known, or does not go to Windows.
    Grub,
    /// What it starts is not known.
    Unknown,
}

/// Why a boot manager cannot be started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum ManagerFault {
    /// It is not there.
    Missing,
    /// It is empty.
    Empty,
    /// It is too long for the boot record's code.
    TooLong {
        /// Its length in bytes.
        bytes: u64,
        /// What there is room for, in bytes.
        limit: u64,
    },
    /// Its short name is not the one that the boot record's code looks for.
    ShortName,
    /// It cannot be read.
    Unreadable {
        /// Why not.
        fault: Cause,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepBiosRemedy"))]
pub enum Remedy {
    /// It is no MBR disk.
    NotMbr,
    /// Have the table repaired on a copy.
    RepairTableOnCopy,
    /// Finish a conversion that was stopped.
    FinishStopped,
    /// Let Windows write its boot code.
    WriteBootCode,
    /// See the PC start from this disk.
    SeeItStart,
    /// Mark the right partition active.
    MarkRightActive,
    /// Let Windows write the partition's boot record.
    WriteBootRecord,
    /// Let the volume's own system check it.
    CheckOnCopy,
    /// Copy the boot manager to the active partition.
    CopyBootManager,
    /// The BCD store must lie beside the boot manager.
    StoreBesideManager,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::NotMbr => vec![Next::Check {
                to: Some(Style::Mbr),
                disk_use: None,
            }],
            Self::FinishStopped => vec![Next::Resume { job: None }],
            _ => Vec::new(),
        }
    }
}
