//! What was looked at, and what came of it.

use std::borrow::Cow;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::in_words;
use crate::cause::Cause;
use crate::ntfs::ShrinkError;
use crate::profile::VolumeKind;

/// A place that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Considered {
    /// The place.
    pub place: Place,
    /// What came of it.
    pub verdict: PlaceVerdict,
    /// This is the one.
    pub chosen: bool,
}

/// A place for the EFI system partition. Partitions are named by their numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Place {
    /// Unused space.
    Gap,
    /// What a partition has beyond its volume.
    BeyondVolume {
        /// The partition.
        partition: usize,
    },
    /// The tail of a volume.
    Tail {
        /// Its partition.
        partition: usize,
    },
    /// A partition that becomes it as it is.
    Existing {
        /// The partition.
        partition: usize,
    },
    /// The place of a partition that is no more afterwards.
    Takeover {
        /// The partition.
        partition: usize,
    },
    /// The place of the boot partition, of which there is none.
    NoBootPartition,
}

/// What came of a place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum PlaceVerdict {
    /// Nothing has to move.
    Free {
        /// What it gives, in MiB.
        mib: u64,
        /// Windows can then not enlarge the recovery partition after it.
        before_recovery: bool,
    },
    /// The largest stretch of unused space is too small.
    StretchTooSmall {
        /// MiB needed.
        needed_mib: u64,
        /// MiB of the largest stretch.
        largest_mib: u64,
    },
    /// What is beyond the volume is too small.
    BeyondTooSmall {
        /// MiB needed.
        needed_mib: u64,
        /// MiB that are there.
        has_mib: u64,
    },
    /// The volume can be shrunk.
    Shrinks {
        /// What that gives, in MiB.
        mib: u64,
        /// Bytes that must move.
        moved_bytes: u64,
        /// Bytes that are free for them.
        free_bytes: u64,
        /// Its restore points are lost.
        loses_restore_points: bool,
        /// Windows can then not enlarge the recovery partition after it.
        before_recovery: bool,
    },
    /// The whole partition is too small.
    PartitionTooSmall {
        /// MiB needed.
        needed_mib: u64,
        /// MiB of the partition.
        has_mib: u64,
    },
    /// The volume cannot be shrunk.
    CannotShrink {
        /// MiB needed.
        needed_mib: u64,
        /// Why not.
        why: CannotShrink,
    },
    /// It is used as it is.
    UsedAsItIs {
        /// It is the boot partition of a BIOS start.
        is_boot: bool,
        /// Its size in bytes.
        size_bytes: u64,
        /// Bytes that are free on it.
        free_bytes: u64,
    },
    /// It cannot be used as it is.
    Unfit {
        /// Why not.
        why: ExistingUnfit,
    },
    /// The boot files lie on the Windows volume.
    NoBootPartition,
    /// The place is taken over.
    TakenOver {
        /// What it gives, in bytes.
        size_bytes: u64,
    },
    /// The place is too small.
    PlaceTooSmall {
        /// Bytes needed, in whole MiB.
        needed_bytes: u64,
        /// Bytes of the partition.
        has_bytes: u64,
    },
    /// The recovery image on it would be lost.
    HoldsRecoveryImage {
        /// Its path.
        path: String,
        /// Its length in bytes.
        image_bytes: u64,
        /// Bytes of the partition.
        has_bytes: u64,
        /// Bytes that the EFI system partition needs.
        needed_bytes: u64,
    },
    /// Files on it are no boot files, and would be lost.
    HoldsFiles {
        /// How many.
        count: usize,
        /// The names of some.
        file_names: Vec<String>,
    },
    /// It cannot be looked into.
    Unreadable {
        /// Why not.
        fault: Cause,
    },
    /// It leaves the disk.
    LeavesDisk,
}

/// Why a volume cannot be shrunk.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum CannotShrink {
    /// It holds another file system.
    #[error("holds {}; only sound NTFS volumes are shrunk", .volume.name())]
    NotNtfs {
        /// Which.
        volume: VolumeKind,
    },
    /// It is encrypted.
    #[error(
        "the volume is encrypted, and such volumes are shrunk by Windows alone (Disk Management)"
    )]
    Encrypted,
    /// Something is in the way.
    #[error("the volume must be sound and closed cleanly first")]
    NotSound,
    /// Its own size of sectors is another.
    #[error("the volume was made for another sector size")]
    OtherSectorSize,
    /// It leaves the disk.
    #[error("the partition leaves the disk")]
    LeavesDisk,
    /// What must move does not fit before the new end.
    #[error(
        "{} in use would have to move, but only {} are free before it",
        in_words(*.needed_bytes),
        in_words(*.free_bytes)
    )]
    Full {
        /// Bytes to be moved.
        needed_bytes: u64,
        /// Bytes free.
        free_bytes: u64,
    },
    /// What shadow copies remember lies there.
    #[error(
        "restore points (shadow copies) lie there, which cannot be moved: delete them in Windows first (System \
         Protection)"
    )]
    ShadowCopies,
    /// A file that cannot be moved.
    #[error("file record {record} ({file_name}) cannot be moved: {why}")]
    InTheWay {
        /// Its record.
        record: u64,
        /// Its name.
        file_name: String,
        /// Why not.
        why: Cow<'static, str>,
    },
    /// Something else.
    #[error("{fault}")]
    Other {
        /// What.
        fault: Cause,
    },
}

impl From<ShrinkError> for CannotShrink {
    fn from(error: ShrinkError) -> Self {
        match error {
            ShrinkError::Full { needed, free } => Self::Full {
                needed_bytes: needed,
                free_bytes: free,
            },
            ShrinkError::ShadowCopies => Self::ShadowCopies,
            ShrinkError::InTheWay { record, name, why } => Self::InTheWay {
                record,
                file_name: name,
                why: why.into(),
            },
            other => Self::Other {
                fault: other.into(),
            },
        }
    }
}

/// Why a partition that is there cannot take the boot files.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum ExistingUnfit {
    /// There is another one.
    #[error("partition {partition} is one as well, and it is not clear which is meant")]
    Second {
        /// Its number.
        partition: usize,
    },
    /// It is too small.
    #[error("it has {}, and needs {}", in_words(*.has_bytes), in_words(*.needed_bytes))]
    TooSmall {
        /// Its size in bytes.
        has_bytes: u64,
        /// Bytes needed.
        needed_bytes: u64,
    },
    /// It holds another file system.
    #[error("it holds {}, and not FAT32", .volume.name())]
    NotFat32 {
        /// Which.
        volume: VolumeKind,
    },
    /// It leaves the disk.
    #[error("it leaves the disk")]
    LeavesDisk,
    /// Its file system cannot be written.
    #[error("{fault}")]
    Fault {
        /// Why not.
        fault: Cause,
    },
    /// Too little is free on it.
    #[error("{} are free on it, and {} are needed", in_words(*.free_bytes), in_words(*.needed_bytes))]
    Full {
        /// Bytes free.
        free_bytes: u64,
        /// Bytes needed.
        needed_bytes: u64,
    },
}
