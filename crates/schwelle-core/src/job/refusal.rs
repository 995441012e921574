//! Why recovery refuses.

use crate::commit::{CommitError, Purpose, Undeclared};
use crate::device::{DeviceError, Lba};

use super::JobError;

/// Why a job cannot be finished or taken back.
#[derive(Debug, thiserror::Error)]
pub enum RecoverError {
    /// The disk was never touched.
    #[error("the job stopped before anything was written to the disk")]
    NeverBegan,
    /// The job has been taken back.
    #[error("the job has been taken back already")]
    TakenBack,
    /// The disk has another size or sector size.
    #[error("the job is about a disk of {expected} sectors of {sector_bytes} bytes, not this one")]
    OtherDisk {
        /// Sectors of the job's disk.
        expected: u64,
        /// Bytes in a sector of the job's disk.
        sector_bytes: u32,
    },
    /// The disk's GUID is neither the old nor the new GUID of the job's disk.
    #[error(
        "the disk's GUID is neither the one that the job's disk had before nor the one that it gets"
    )]
    OtherDiskId,
    /// The disk was written with another folder, or with this one before it was changed.
    #[error(
        "the disk says that another job folder belongs to it, or that this one has been changed since"
    )]
    OtherFolder,
    /// The folder would have something written where this disk has something else.
    #[error(
        "the job folder would write {at}, which is in partition {partition} of this disk and no part of the job"
    )]
    Foreign {
        /// The sector.
        at: Lba,
        /// Number of the partition in the disk's table.
        partition: usize,
    },
    /// A sector is neither what it was nor what it becomes.
    #[error("{at} ({what}) is neither what it was before nor what the job writes there")]
    Differs {
        /// What the sector is.
        what: Purpose,
        /// The sector.
        at: Lba,
    },
    /// A volume that is being shrunk has been used in between.
    #[error("the volume at {at} has been used since the job was stopped")]
    VolumeUsed {
        /// First sector of its partition.
        at: Lba,
    },
    /// The table names partitions that were made after the conversion.
    #[error("the disk has a partition at {at} that was made after the conversion")]
    PartitionSince {
        /// Its first sector.
        at: Lba,
    },
    /// Moved data is in neither of its places.
    #[error("what was moved from {at} is in neither of its places")]
    Lost {
        /// Where it was.
        at: Lba,
    },
    /// The job folder failed.
    #[error(transparent)]
    Job(#[from] JobError),
    /// The disk could not be read.
    #[error(transparent)]
    Device(#[from] DeviceError),
    /// The writing stopped.
    #[error(transparent)]
    Commit(#[from] CommitError),
}

impl From<Undeclared> for RecoverError {
    fn from(undeclared: Undeclared) -> Self {
        Self::Differs {
            what: Purpose::Unnamed,
            at: undeclared.at,
        }
    }
}
