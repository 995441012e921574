//! Looking at a disk as it was before its files were edited.
//!
//! What the stage `edit` writes may lie on sectors that other stages have written before: on
//! clusters that were moved, or on a file record that was patched. So recovery first takes these
//! edits off, sector by sector, and judges all else on what is below.

use std::sync::Arc;

use crate::commit::{Purpose, StageKind};
use crate::device::{BlockDevice, Draft, Extent, Lba, ReadDevice};

use super::refusal::RecoverError;
use super::{JobFolder, Journal, Side};

/// A disk with its edits taken off.
#[derive(Debug)]
pub(super) struct WithoutEdits<'a> {
    pub(super) disk: Arc<Draft<'a>>,
    /// Some sector is not edited yet.
    pub(super) anything_old: bool,
    /// Some sector is edited.
    pub(super) anything_new: bool,
    /// Sectors that are neither: the first of each extent.
    pub(super) unexpected: Vec<(StageKind, Purpose, Lba)>,
}

/// Takes off what has been edited, on a draft without changes over the disk.
///
/// # Errors
///
/// The disk or the job folder cannot be read.
pub(super) fn take_edits_off<'a>(
    job: &JobFolder,
    journal: &Journal,
    below: Draft<'a>,
) -> Result<WithoutEdits<'a>, RecoverError> {
    let mut seen = (false, false);
    let mut unexpected = Vec::new();
    let sector = journal.sector_bytes as usize;
    let written = written_before(job, journal);
    let settling = |entry: &&super::JournalExtent| entry.stage == StageKind::Edit;
    for entry in journal.extents.iter().filter(settling) {
        let (old, new) = (job.bytes(entry, Side::Old)?, job.bytes(entry, Side::New)?);
        let offset = journal.byte_of(entry.first_lba);
        let found = below.read_vec(offset, old.len())?;
        let mut first_unexpected = None;
        let sides = old.chunks(sector).zip(new.chunks(sector));
        for (at, (found, (old, new))) in (entry.first_lba..).zip(found.chunks(sector).zip(sides)) {
            if found == new {
                below.write_at(journal.byte_of(at), old)?;
                seen.1 = true;
            } else if found == old || has(&written, Lba(at)) {
                seen.0 = true;
            } else {
                first_unexpected = first_unexpected.or(Some(Lba(at)));
            }
        }
        if let Some(at) = first_unexpected {
            unexpected.push((entry.stage, entry.what.clone(), at));
        }
    }
    Ok(WithoutEdits {
        disk: Arc::new(below),
        anything_old: seen.0,
        anything_new: seen.1,
        unexpected,
    })
}

/// What the earlier stages write, ascending: such a sector may hold what was there before that.
fn written_before(job: &JobFolder, journal: &Journal) -> Vec<Extent> {
    let is_moving = job.state().moved.is_none();
    let moves = journal.moves.iter().filter(|_| is_moving);
    let others = journal
        .extents
        .iter()
        .filter(|entry| entry.stage != StageKind::Edit);
    let mut all: Vec<Extent> = others
        .map(|entry| entry.extent())
        .chain(moves.map(|moved| moved.as_move().destination()))
        .collect();
    all.sort_unstable();
    all
}

/// True when one of the extents, which are apart, has this sector.
fn has(extents: &[Extent], at: Lba) -> bool {
    let after = extents.partition_point(|extent| extent.end <= at);
    extents.get(after).is_some_and(|extent| extent.first <= at)
}
