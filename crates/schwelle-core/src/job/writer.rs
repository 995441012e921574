//! Writes a journal: saves the bytes before and after the job into the job folder.

use std::io;

use super::facts::JobFacts;
use super::journal::{
    Beside, FORMAT, Journal, JournalExtent, MAX_EXTENT_BYTES, MovedExtent, ReliedOn, Stored,
};
use super::storage::StoredFile;
use crate::commit::{ChangeSet, Drafts, StageKind};
use crate::device::{DeviceError, Extent, Geometry, IoOp, Lba, Move, ReadDevice};

/// Writes one side of the extents into its file.
struct Store<'a> {
    file: &'a dyn StoredFile,
    /// Bytes in the file.
    written: u64,
    /// What comes after them.
    buffer: Vec<u8>,
}

impl<'a> Store<'a> {
    fn new(file: &'a dyn StoredFile) -> Self {
        Self {
            file,
            written: 0,
            buffer: Vec::new(),
        }
    }

    fn put(&mut self, bytes: &[u8]) -> io::Result<Stored> {
        let blake3 = blake3::hash(bytes).to_hex().to_string();
        if let Some((&fill, rest)) = bytes.split_first()
            && rest.iter().all(|&byte| byte == fill)
        {
            return Ok(Stored {
                offset: None,
                fill: Some(fill),
                blake3,
            });
        }
        let offset = self.written + self.buffer.len() as u64;
        self.buffer.extend_from_slice(bytes);
        if self.buffer.len() as u64 >= MAX_EXTENT_BYTES {
            self.write_out()?;
        }
        Ok(Stored {
            offset: Some(offset),
            fill: None,
            blake3,
        })
    }

    fn write_out(&mut self) -> io::Result<()> {
        self.file.write_at(self.written, &self.buffer)?;
        self.written += self.buffer.len() as u64;
        self.buffer.clear();
        Ok(())
    }

    fn finish(mut self) -> io::Result<()> {
        self.write_out()?;
        self.file.sync()
    }
}

/// What stopped the making of a journal.
pub(super) enum WriteError {
    Io(io::Error),
    Device(DeviceError),
}

impl From<io::Error> for WriteError {
    fn from(error: io::Error) -> Self {
        Self::Io(error)
    }
}

impl From<DeviceError> for WriteError {
    fn from(error: DeviceError) -> Self {
        Self::Device(error)
    }
}

/// Makes the journal of `set`: the old bytes, from `disk`, go to `saved`, the new ones, from
/// `drafts`, to `new`. What is edited has its old bytes from the converted disk. Both files are on the medium when this returns.
pub(super) fn write(
    (saved, new): (&dyn StoredFile, &dyn StoredFile),
    disk: &dyn ReadDevice,
    drafts: Drafts<'_>,
    set: &ChangeSet,
    relied_on: ReliedOn,
    job: JobFacts,
) -> Result<Journal, WriteError> {
    let geometry = set.geometry;
    let (mut saved, mut new) = (Store::new(saved), Store::new(new));
    let mut extents = Vec::new();
    let sectors_at_once = MAX_EXTENT_BYTES / u64::from(geometry.logical_sector);
    for stage in set.stages.iter().filter(|s| s.kind != StageKind::Move) {
        let before = match stage.kind {
            StageKind::Edit => drafts.converted,
            _ => disk,
        };
        let after = drafts.of(stage.kind);
        for part in &stage.parts {
            for extent in &part.extents {
                let mut at = extent.first.0;
                while at < extent.end.0 {
                    let sectors = (extent.end.0 - at).min(sectors_at_once);
                    let end = Lba(at.saturating_add(sectors));
                    let (offset, len) = place(geometry, Extent::between(Lba(at), end))?;
                    extents.push(JournalExtent {
                        stage: stage.kind,
                        what: part.what.clone(),
                        first_lba: at,
                        sectors,
                        old: saved.put(&before.read_vec(offset, len)?)?,
                        new: new.put(&after.read_vec(offset, len)?)?,
                    });
                    at += sectors;
                }
            }
        }
    }
    let mut beside = Vec::new();
    for extent in extents_beside(set) {
        let (offset, len) = place(geometry, extent)?;
        beside.push(Beside {
            first_lba: extent.first.0,
            sectors: extent.sectors(),
            // Where clusters are copied, that is what is beside the later stages.
            old: saved.put(&drafts.converted.read_vec(offset, len)?)?,
        });
    }
    saved.finish()?;
    new.finish()?;
    let moved = |moved: &Move| MovedExtent {
        from_lba: moved.from.0,
        to_lba: moved.to.0,
        sectors: moved.sectors,
    };
    Ok(Journal {
        format: FORMAT,
        bound_at: relied_on.bound_at,
        job,
        disk_ids: relied_on.disk_ids,
        sector_bytes: geometry.logical_sector,
        sectors: geometry.sectors,
        watched: relied_on.watched,
        volumes: relied_on.volumes,
        moves: set.moves.iter().map(moved).collect(),
        extents,
        beside,
    })
}

/// The sectors that share a physical sector with what is written, and are not written themselves: each within
/// one physical sector. What the stage `move` writes counts as not written for the later stages: it is on the
/// medium before them, and they may take it with them.
fn extents_beside(set: &ChangeSet) -> Vec<Extent> {
    let geometry = set.geometry;
    let step = u64::from(geometry.physical_sector / geometry.logical_sector).max(1);
    let in_stages = |is_moving: bool| {
        let stages = set.stages.iter();
        let stages = stages.filter(move |stage| (stage.kind == StageKind::Move) == is_moving);
        let mut extents: Vec<Extent> = stages.flat_map(|stage| stage.extents()).collect();
        extents.sort_unstable_by_key(|extent| extent.first);
        extents
    };
    let written = in_stages(false);
    let mut beside: Vec<Extent> = Vec::new();
    let mut add = |first: u64, end: u64| {
        // Cut where physical sectors end.
        let mut at = first;
        while step > 1 && at < end.min(geometry.sectors) {
            let next = end.min((at / step + 1) * step).min(geometry.sectors);
            beside.push(Extent::between(Lba(at), Lba(next)));
            at = next;
        }
    };
    // Up to where all is either written or beside.
    let mut done = 0;
    for extent in &written {
        let first = (extent.first.0 / step * step).max(done);
        // The rest of the physical sector in which the one before ended, too.
        let rest = done.next_multiple_of(step).min(extent.first.0);
        if rest > done {
            add(done, rest);
        }
        add(first.max(rest), extent.first.0);
        done = done.max(extent.end.0);
    }
    add(done, done.next_multiple_of(step));

    let moved = in_stages(true);
    let ends = moved
        .iter()
        .flat_map(|extent| [extent.first.0, extent.end.0.saturating_sub(1)]);
    let mut physical: Vec<u64> = ends.map(|at| at / step * step).collect();
    physical.dedup();
    for first in physical {
        let end = first.saturating_add(step).min(geometry.sectors);
        let whole = Extent::between(Lba(first), Lba(end));
        if is_in(&written, &whole) {
            continue;
        }
        for at in first..end {
            let one = Extent::between(Lba(at), Lba(at.saturating_add(1)));
            if !is_in(&moved, &one) {
                beside.push(one);
            }
        }
    }
    beside
}

/// True when one of the extents, ascending and apart, shares a sector with this one.
fn is_in(extents: &[Extent], wanted: &Extent) -> bool {
    let after = extents.partition_point(|extent| extent.end <= wanted.first);
    extents
        .get(after)
        .is_some_and(|extent| extent.overlaps(wanted))
}

/// Byte offset and length of an extent.
fn place(geometry: Geometry, extent: Extent) -> Result<(u64, usize), DeviceError> {
    let len = usize::try_from(geometry.bytes_in(&extent)).ok();
    let place = geometry.byte_of(extent.first).zip(len);
    place.ok_or_else(|| DeviceError::out_of_bounds(IoOp::Read, u64::MAX, 0))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::commit::{Purpose, Region};
    use crate::device::{BlockDevice, Draft, Memory};

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn what_is_written_and_what_is_beside_fill_physical_sectors(
            writes in prop::collection::vec((0u64..200, 1usize..12), 1..20),
        ) {
            let disk = Memory::new(512, 203).with_physical(4096);
            let draft = Draft::new(&disk);
            // Clusters of one and a half physical sectors are copied there.
            let copied = crate::device::Move { from: Lba(0), to: Lba(100), sectors: 12 };
            draft.move_sectors(copied);
            for (first, count) in writes {
                let count = count.min(usize::try_from(203 - first).unwrap());
                draft.write_at(first * 512, &vec![1; count * 512]).unwrap();
            }
            let all = Extent::between(Lba(0), Lba(203));
            let region = Region::new(StageKind::Prepare, Purpose::Esp, all);
            let set = ChangeSet::of(&draft, Purpose::MovedClusters, &[region]).unwrap();
            let mut holds = vec![0_u8; 203];
            let later = set.stages.iter().filter(|stage| stage.kind != StageKind::Move);
            let later: Vec<Extent> = later.flat_map(|stage| stage.extents()).collect();
            let mut all = later.clone();
            all.extend(extents_beside(&set));
            // What is copied is there once more, but where a later stage shares its physical sector.
            for moved in set.moves.iter().map(Move::destination) {
                for at in moved.first.0..moved.end.0 {
                    let first = at / 8 * 8;
                    let whole = Extent::between(Lba(first), Lba(first + 8));
                    if !is_in(&later, &whole) {
                        all.push(Extent::between(Lba(at), Lba(at + 1)));
                    }
                }
            }
            for extent in all {
                for at in extent.first.0..extent.end.0 {
                    holds[usize::try_from(at).unwrap()] += 1;
                }
            }
            // Each physical sector is there once as a whole, or not at all.
            for physical in holds.chunks(8) {
                prop_assert!(physical.iter().all(|&count| count == 1) || physical.iter().all(|&count| count == 0));
            }
        }
    }
}
