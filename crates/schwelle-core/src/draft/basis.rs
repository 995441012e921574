//! What every part of a draft needs: identities and the time from outside, errors, the places of tables.

use uuid::Uuid;

use crate::cause::Cause;
use crate::commit::{Disorder, Undeclared};
use crate::device::{DeviceError, Extent, Geometry, Lba};
use crate::fat::{DosTime, FatError, FatWriteError};
use crate::gpt::{self, TypeTable};
use crate::ntfs::NtfsError;
use crate::placement::backup_region;
use crate::profile::SignedSet;

/// The time that new files and the new store carry; the caller has the clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// For FAT, local time.
    pub dos: DosTime,
    /// Windows time: 100 ns since 1601, UTC.
    pub windows: u64,
}

/// What the draft takes from outside: identities and the time.
pub(crate) struct Source<'a> {
    /// Gives a GUID that nothing else has.
    pub(crate) new_guid: &'a mut dyn FnMut() -> Uuid,
    /// The time.
    pub(crate) stamp: Stamp,
    /// Which of the system's signed sets of boot files is placed.
    pub(crate) set: SignedSet,
    /// Which partition types become which.
    pub(crate) types: &'a TypeTable,
    /// The partition of the system that firmware without a boot entry is to start, where the technician chose one.
    pub(crate) first: Option<usize>,
}

/// Why there is no draft. Most of these are found by a rule first; they are errors here because a
/// draft is not built on trust.
#[derive(Debug, thiserror::Error)]
pub enum DraftError {
    /// Something that the draft needs is missing from the profile.
    #[error("the disk has no {0}")]
    Missing(&'static str),
    /// A partition type that is not carried over.
    #[error("partition {number} has the type {kind:02X}h, which has no GPT form")]
    Type {
        /// The partition.
        number: usize,
        /// Its type byte.
        kind: u8,
    },
    /// An extent that leaves the disk.
    #[error("LBA {} to {} leave the disk", .0.first.0, .0.last().0)]
    Outside(Extent),
    /// A volume that did not prove sound after it was shrunk on the draft.
    #[error("partition {number}, shrunk, would not be sound: {fault}")]
    Shrunk {
        /// The partition.
        number: usize,
        /// What is wrong.
        fault: Cause,
    },
    /// A volume that lost or gained files when it was shrunk on the draft.
    #[error("partition {number}, shrunk, would not be sound: the number of files differs")]
    FilesDiffer {
        /// The partition.
        number: usize,
    },
    /// A file that names the disk and cannot be edited.
    #[error("{path} on partition {number} cannot be edited: {fault}")]
    Edits {
        /// The partition.
        number: usize,
        /// The file.
        path: String,
        /// Why not.
        fault: Cause,
    },
    /// A name in a file that was edited, and that is still the old one.
    #[error("{path} on partition {number} cannot be edited: {name} has not converted")]
    NotCarriedOver {
        /// The partition.
        number: usize,
        /// The file.
        path: String,
        /// The name.
        name: String,
    },
    /// A partition where a table must lie.
    #[error("partition {number} lies where the GPT must be written")]
    TableRoom {
        /// The partition.
        number: usize,
    },
    /// The boot files could not be read.
    #[error(transparent)]
    Ntfs(#[from] NtfsError),
    /// The EFI system partition could not be made.
    #[error(transparent)]
    FatWriter(#[from] FatWriteError),
    /// The EFI system partition just made cannot be read.
    #[error(transparent)]
    Fat(#[from] FatError),
    /// A copied file is not what its source is.
    #[error("{path} on the new EFI system partition is not what was copied")]
    Copy {
        /// The file.
        path: String,
    },
    /// The draft changes what it should not.
    #[error(transparent)]
    Undeclared(#[from] Undeclared),
    /// The change set breaks an invariant.
    #[error(transparent)]
    Disorder(#[from] Disorder),
    /// Two parts of the draft want the same sectors.
    #[error("the draft would lay something over {at} twice")]
    LaidTwice {
        /// The first of them.
        at: Lba,
    },
    /// The device failed.
    #[error(transparent)]
    Device(#[from] DeviceError),
}

/// Sector 0.
pub(crate) const SECTOR_0: Extent = Extent::between(Lba(0), Lba(1));

/// The sectors of both copies of the table, the primary one first.
pub(crate) fn table_extents(geometry: Geometry) -> [Extent; 2] {
    let primary = Extent::between(Lba(1), Lba(gpt::first_usable(geometry.logical_sector)));
    [primary, backup_region(geometry)]
}
