//! A plan: the finished disk on a draft, and what it takes to get there.

use std::sync::Arc;

use crate::commit::{ChangeSet, Drafts};
use crate::device::{BlockDevice, DeviceError, Draft, IoOp, Lba, ReadDevice};
use crate::gpt::{self, GptLayout};
use crate::identities::Style;
use crate::job::{JobFolder, ReliedOn};
use crate::mbr::{self, MbrLayout};
use crate::placement::Placement;

use super::edit::EditedFile;
use super::map::MapPart;
use super::start::NewStart;

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
    /// The disk when it is converted; nothing is edited yet.
    pub converted: Arc<Draft<'a>>,
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
    /// What the job relies on besides: for the journal.
    pub relied_on: ReliedOn,
}

impl Plan<'_> {
    /// Bytes beyond the reach of an MBR, which partitions can take from now on.
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

    /// Once all has been saved in `job`: the new disk says which folder can take it back.
    ///
    /// # Errors
    ///
    /// Those of the draft.
    pub fn bind(&self, job: &JobFolder) -> Result<(), DeviceError> {
        let Some(at) = self.relied_on.bound_at else {
            return Ok(());
        };
        let sector = u64::from(self.converted.geometry().logical_sector);
        let mut bytes = self.converted.read_sector(Lba(at / sector))?;
        let hash = job.state().journal.as_bytes();
        let begin = usize::try_from(at % sector).unwrap_or(usize::MAX);
        let place = begin.checked_add(hash.len());
        let place = place.and_then(|end| bytes.get_mut(begin..end));
        let outside = || DeviceError::out_of_bounds(IoOp::Write, at, hash.len());
        place.ok_or_else(outside)?.copy_from_slice(hash);
        self.converted.write_at(at - at % sector, &bytes)
    }

    /// The drafts, for the commit.
    pub fn drafts(&self) -> Drafts<'_> {
        Drafts {
            converted: &*self.converted,
            finished: &self.draft,
        }
    }
}
