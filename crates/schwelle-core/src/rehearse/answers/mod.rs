//! What the steps of a walk find, and what to do, as values. The sentences made of them are the command line's.
//!
//! One file per family of steps. Kinds are unique over all families, so that a value that was stored is read
//! back as what it was.

pub mod around;
pub mod bios;
pub mod linux;
pub mod start;
pub mod table;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::families::families;
use crate::next::Next;

families! {
    "StepEvidence", "StepRemedy":
    Table table,
    Start start,
    Bios bios,
    Linux linux,
    Around around,
}

/// Why a name leads to no partition of this disk.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum NameFault {
    /// It names none.
    #[error("names no partition")]
    None,
    /// It names a partition that is not there.
    #[error("names the partition {partition}, which this disk does not have")]
    NoSuchPartition {
        /// Its GUID.
        partition: Uuid,
    },
    /// It names another GPT disk.
    #[error("names the disk {disk}, but this is {own}")]
    OtherGptDisk {
        /// That disk's GUID.
        disk: Uuid,
        /// This one's.
        own: Uuid,
    },
    /// It names a place where no partition begins.
    #[error("names byte {offset}, where no partition begins")]
    NoPartitionAt {
        /// The place.
        offset: u64,
    },
    /// It names another MBR disk.
    #[error("names the disk with the signature {signature:08X}, but this is {own:08X}")]
    OtherMbrDisk {
        /// That disk's signature.
        signature: u32,
        /// This one's.
        own: u32,
    },
    /// It names an MBR disk, and this is a GPT disk.
    #[error("still names an MBR disk (signature {signature:08X}, byte {offset})")]
    StillMbr {
        /// That disk's signature.
        signature: u32,
        /// Where the partition begins.
        offset: u64,
    },
    /// It names a GPT disk, and this is an MBR disk.
    #[error("still names a GPT disk ({disk}, partition {partition})")]
    StillGpt {
        /// That disk's GUID.
        disk: Uuid,
        /// The partition's GUID.
        partition: Uuid,
    },
}
