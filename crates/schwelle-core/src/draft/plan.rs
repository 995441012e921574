//! A plan: the finished disk on a draft, and what it takes to get there.

use std::sync::Arc;

use uuid::Uuid;

use crate::cause::Cause;
use crate::commit::{ChangeSet, Disorder, Drafts, Undeclared};
use crate::crossing::Style;
use crate::device::{DeviceError, Draft, Extent, Geometry, Lba, ReadDevice};
use crate::fat::{DosTime, FatError, FatWriteError};
use crate::gpt::{self, GptLayout, TypeTable};
use crate::job::{EditedVolume, Watched};
use crate::mbr::{self, MbrLayout};
use crate::ntfs::NtfsError;
use crate::placement::{Placement, backup_region};
use crate::profile::SignedSet;

use super::map::MapPart;
use super::settle::EditedFile;
use super::start::NewStart;

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
    /// Gives a GUID that nobody else has.
    pub(crate) new_guid: &'a mut dyn FnMut() -> Uuid,
    /// The time.
    pub(crate) stamp: Stamp,
    /// Which of the system's signed sets of boot files is placed.
    pub(crate) set: SignedSet,
    /// Which partition types become which.
    pub(crate) types: &'a TypeTable,
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
    /// A volume that did not prove sound after it was trimmed on the draft.
    #[error("partition {number}, trimmed, would not be sound: {fault}")]
    Trimmed {
        /// The partition.
        number: usize,
        /// What is wrong.
        fault: Cause,
    },
    /// A volume that lost or gained files when it was trimmed on the draft.
    #[error("partition {number}, trimmed, would not be sound: the number of files differs")]
    FilesDiffer {
        /// The partition.
        number: usize,
    },
    /// A file that names the disk and cannot be edited.
    #[error("{path} on partition {number} cannot be edited: {fault}")]
    Settled {
        /// The partition.
        number: usize,
        /// The file.
        path: String,
        /// Why not.
        fault: Cause,
    },
    /// A name in a file that was edited, and that is still the old one.
    #[error("{path} on partition {number} cannot be edited: {name} has not crossed")]
    NotCrossed {
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

/// The table of a finished disk.
#[derive(Debug)]
pub enum NewTable {
    /// GPT.
    Gpt(GptLayout),
    /// MBR.
    Mbr(MbrLayout),
}

impl NewTable {
    /// Its style.
    pub fn style(&self) -> Style {
        match self {
            Self::Gpt(_) => Style::Gpt,
            Self::Mbr(_) => Style::Mbr,
        }
    }
}

/// The finished disk, and what it takes to get there.
#[derive(Debug)]
#[non_exhaustive]
pub struct Plan<'a> {
    /// The disk when it has crossed; nothing is settled yet.
    pub crossed: Arc<Draft<'a>>,
    /// The finished disk.
    pub draft: Draft<'a>,
    /// The table it gets.
    pub table: NewTable,
    /// Where the room comes from.
    pub placement: Placement,
    /// The disk as it is.
    pub before: Vec<MapPart>,
    /// The disk as it will be.
    pub after: Vec<MapPart>,
    /// What a PC starts from it; `None` for a data disk.
    pub start: Option<NewStart>,
    /// Files on kept volumes that the job edits.
    pub files_edited: Vec<EditedFile>,
    /// Everything that will be written.
    pub changes: ChangeSet,
    /// Sectors that the new disk relies on and that are not written, and the volumes that become
    /// smaller: for the journal.
    pub relied_on: (Vec<Watched>, Vec<EditedVolume>),
}

impl Plan<'_> {
    /// Bytes behind the reach of an MBR, which partitions can take from now on.
    pub fn newly_usable_bytes(&self) -> u64 {
        if self.table.style() == Style::Mbr {
            return 0;
        }
        let geometry = self.draft.geometry();
        let table = gpt::backup_sectors(geometry.logical_sector);
        let sectors = geometry
            .sectors
            .saturating_sub(mbr::REACH.saturating_add(table));
        sectors.saturating_mul(geometry.logical_sector.into())
    }

    /// The drafts, for the commit.
    pub fn drafts(&self) -> Drafts<'_> {
        Drafts {
            crossed: &*self.crossed,
            finished: &self.draft,
        }
    }
}

/// Sector 0.
pub(crate) const SECTOR_0: Extent = Extent {
    first: Lba(0),
    end: Lba(1),
};

/// The sectors of both copies of the table, the primary one first.
pub(crate) fn table_extents(geometry: Geometry) -> [Extent; 2] {
    let primary = Extent {
        first: Lba(1),
        end: Lba(gpt::first_usable(geometry.logical_sector)),
    };
    [primary, backup_region(geometry)]
}
