//! What sectors are written for.

use std::fmt;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What sectors are written for, or why a job relies on them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Purpose {
    /// Sector 0.
    Sector0,
    /// Sector 0, which becomes the protective MBR.
    ProtectiveMbr,
    /// Sector 0, which becomes an MBR.
    Mbr,
    /// The sectors of an MBR table: sector 0 and the chain of logical partitions.
    MbrTable,
    /// A record of that chain.
    ExtendedBootRecord,
    /// Records of that chain which are no more.
    OldBootRecords,
    /// The primary copy of the GPT.
    PrimaryTable,
    /// The backup copy of the GPT.
    BackupTable,
    /// The EFI system partition.
    Esp,
    /// The marker there, which says which job folder belongs to the disk.
    Marker,
    /// The partition that a BIOS starts from.
    ActivePartition,
    /// Clusters that move.
    MovedClusters,
    /// Clusters that move back.
    ClustersMovedBack,
    /// The file system of a partition.
    FileSystem {
        /// The partition's number.
        partition: usize,
    },
    /// The header of a swap area.
    SwapArea {
        /// The partition's number.
        partition: usize,
    },
    /// A file on a partition.
    File {
        /// Its name.
        name: String,
        /// The partition's number.
        partition: usize,
    },
    /// Sectors that no part of a job names.
    Unnamed,
}

/// The thing's name, as it stands in errors.
impl fmt::Display for Purpose {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Sector0 => "sector 0",
            Self::ProtectiveMbr => "sector 0: the protective MBR",
            Self::Mbr => "sector 0: the MBR",
            Self::MbrTable => "MBR table",
            Self::ExtendedBootRecord => "extended boot record",
            Self::OldBootRecords => "the old boot records",
            Self::PrimaryTable => "primary table",
            Self::BackupTable => "backup table",
            Self::Marker => "marker of the job folder",
            Self::Esp => "EFI system partition",
            Self::ActivePartition => "active partition",
            Self::MovedClusters => "moved clusters",
            Self::ClustersMovedBack => "clusters moved back",
            Self::FileSystem { partition } => {
                return write!(f, "file system of partition {partition}");
            }
            Self::SwapArea { partition } => return write!(f, "swap area of partition {partition}"),
            Self::File { name, partition } => return write!(f, "{name} on partition {partition}"),
            Self::Unnamed => "outside the journal",
        })
    }
}
