//! A plan: the finished disk on a draft, and what it takes to get there.

use std::sync::Arc;

use crate::commit::{ChangeSet, Drafts};
use crate::device::{Draft, ReadDevice};
use crate::gpt::{self, GptLayout};
use crate::identities::Style;
use crate::job::{EditedVolume, Watched};
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
    /// Sectors that the new disk relies on and that are not written, and the volumes that become
    /// smaller: for the journal.
    pub relied_on: (Vec<Watched>, Vec<EditedVolume>),
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

    /// The drafts, for the commit.
    pub fn drafts(&self) -> Drafts<'_> {
        Drafts {
            converted: &*self.converted,
            finished: &self.draft,
        }
    }
}
