//! Answers about the partition table.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::device::Lba;
use crate::disk_use::DiskUse;
use crate::gpt::{Disagreement, TableCopy};
use crate::identities::Style;
use crate::mbr::{DamageKind, Kind};
use crate::next::Next;
use crate::profile::VolumeKind;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleTableEvidence"))]
pub enum Evidence {
    /// It is an MBR.
    Mbr {
        /// The disk signature.
        signature: u32,
    },
    /// It is an MBR, with what is left of a GPT after it.
    MbrOverGpt,
    /// It is a GPT already.
    GptAlready,
    /// Sector 0 names partitions beside the protective entry.
    Hybrid,
    /// A file system fills the whole disk.
    BareVolume,
    /// There is no partition table and no partition.
    Blank {
        /// What the disk is for.
        disk_use: DiskUse,
    },
    /// There is neither a table nor a file system that is known.
    UnknownTable,
    /// Content where a GPT lies, though sector 0 is empty.
    TraceOfTable {
        /// Its sector.
        at: Lba,
    },
    /// A volume begins where first partitions do, and no partition is named.
    TraceOfVolume {
        /// Its first sector.
        at: Lba,
        /// What it is.
        volume: VolumeKind,
    },
    /// Content that is not known begins where first partitions do, and no partition is named.
    TraceOfContent {
        /// Its first sector.
        at: Lba,
    },
    /// A copy of the GPT is damaged.
    CopyDamaged {
        /// Which.
        copy: TableCopy,
        /// What is wrong with it.
        fault: Cause,
    },
    /// The two copies of the GPT contradict each other.
    CopiesDisagree {
        /// In what.
        disagreement: Disagreement,
    },
    /// Something is wrong with the MBR.
    Damage {
        /// The sector that says so.
        at: Lba,
        /// What.
        damage: DamageKind,
    },
    /// A partition is a member of a dynamic disk.
    DynamicMember {
        /// The sector that names it.
        named_at: Lba,
    },
    /// The header of a dynamic disk's database.
    DynamicHeader {
        /// Its sector.
        at: Lba,
    },
    /// A type that a manufacturer uses for its own; it is kept.
    ManufacturersType {
        /// The sector that names it.
        named_at: Lba,
        /// The type.
        mbr_type: Kind,
    },
    /// A type without a GPT form.
    TypeNotKnown {
        /// The sector that names it.
        named_at: Lba,
        /// The type.
        mbr_type: Kind,
    },
    /// More partitions than the new table has entries.
    TooMany {
        /// How many there are.
        partitions: usize,
        /// One more is needed, for the EFI system partition.
        and_esp: bool,
        /// Entries of the table.
        entries: usize,
    },
    /// A partition begins between two multiples of 4096 bytes.
    Unaligned {
        /// Its first sector.
        first_lba: Lba,
        /// Bytes after the multiple.
        beyond_bytes: u64,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleTableRemedy"))]
pub enum Remedy {
    /// Make sure that the MBR's partitions are those in use.
    MbrInUse,
    /// Nothing to convert: ask whether it starts.
    NothingToConvert,
    /// Nothing to convert: one volume fills the disk.
    NoTableNeeded,
    /// See that this is the right disk, or say that it is for data.
    RightDiskOrData,
    /// See whether it is encrypted or damaged.
    EncryptedOrDamaged,
    /// Have the lost table restored on a copy.
    RestoreTable,
    /// Make sure that nothing needs what lies there.
    NobodyNeedsIt,
    /// Write the GPT anew from its sound copy.
    MendCopies,
    /// Have the table repaired on a copy of the disk.
    RepairOnCopy,
    /// Turn it into a basic disk.
    MakeBasic,
    /// What a key of the firmware starts may not start any more.
    ManufacturersKey,
    /// Find out what made the partition, and give its type a form.
    GiveTypeForm,
    /// Delete what is not needed.
    DeletePartitions,
    /// It is kept where it is.
    KeptUnaligned,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::NothingToConvert => vec![
                Next::Rehearse {
                    to: None,
                    disk_use: None,
                },
                Next::Mend,
                Next::Check {
                    to: Some(Style::Mbr),
                    disk_use: None,
                },
            ],
            Self::NoTableNeeded | Self::EncryptedOrDamaged => vec![Next::Survey],
            Self::RightDiskOrData => vec![
                Next::Survey,
                Next::Check {
                    to: None,
                    disk_use: Some(DiskUse::Data),
                },
            ],
            Self::MendCopies => vec![Next::Mend],
            _ => Vec::new(),
        }
    }
}
