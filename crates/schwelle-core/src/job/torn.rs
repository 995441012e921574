//! Physical sectors that a power cut has torn.
//!
//! A drive with logical sectors of 512 bytes and physical ones of 4096 ("512e") writes a logical sector by
//! reading the physical one around it and writing that. Power that goes meanwhile may take all of it: eight
//! logical sectors, of which the job wrote perhaps one. So the journal keeps the neighbours of what is
//! written as well, and before a job is finished or undone, the torn physical sectors are written whole with
//! what they held before. From then on the disk is one of the mixtures of old and new sectors that recovery
//! knows.
//!
//! Few physical sectors are being written when power fails. If many sectors differ, the disk has been used since; nothing
//! is repaired then, nor is anything repaired on a volume whose metadata has changed.
//!
//! A drive may report a torn physical sector as unreadable. So an unreadable one counts as torn, but only if the journal
//! knows what each of its logical sectors held; otherwise the read error is returned.

use std::collections::BTreeMap;

use crate::commit::{CommitError, StageKind};
use crate::device::{BlockDevice, DeviceError, Extent, Geometry, IoOp, Lba, ReadDevice};

use super::journal::Beside;
use super::refusal::RecoverError;
use super::undo;
use super::{JobFolder, Journal, JournalExtent, Side};

/// Torn physical sectors that are repaired, at most.
const MAX_TORN: usize = 4;

/// A disk as it is with its torn sectors repaired. Nothing is written before [`Repaired::write`].
#[derive(Debug)]
pub(super) struct Repaired<'a> {
    disk: &'a dyn ReadDevice,
    torn: Vec<(Extent, Vec<u8>)>,
}

impl<'a> Repaired<'a> {
    /// Looks for the torn sectors of an unfinished job, and of a renaming that is part of taking it back. The disk
    /// has been found to be of the job's size.
    ///
    /// # Errors
    ///
    /// The folder cannot be read, or a sector of the disk that is not known to be torn.
    pub(super) fn look(job: &JobFolder, disk: &'a dyn ReadDevice) -> Result<Self, RecoverError> {
        let mut repaired = Self::nothing(disk);
        for job in job.renaming().into_iter().chain([job]) {
            let more = Self::torn_of(job, &repaired)?;
            repaired.torn.extend(more);
            repaired.torn.sort_unstable_by_key(|(extent, _)| *extent);
        }
        Ok(repaired)
    }

    fn nothing(disk: &'a dyn ReadDevice) -> Self {
        Self {
            disk,
            torn: Vec::new(),
        }
    }

    /// The physical sectors that `job` has torn, with what they held before.
    fn torn_of(
        job: &JobFolder,
        disk: &dyn ReadDevice,
    ) -> Result<Vec<(Extent, Vec<u8>)>, RecoverError> {
        let geometry = disk.geometry();
        let step = u64::from(geometry.physical_sector / geometry.logical_sector);
        let Some(journal) = job.journal() else {
            return Ok(Vec::new());
        };
        let same =
            (geometry.logical_sector, geometry.sectors) == (journal.sector_bytes, journal.sectors);
        if !job.state().state.is_unfinished() || step < 2 || !same {
            return Ok(Vec::new());
        }
        let mut index = Index::new(job, journal);
        let mut torn = Vec::new();
        for first in physical_sectors(journal, step) {
            let end = first.saturating_add(step).min(geometry.sectors);
            let extent = Extent::between(Lba(first), Lba(end));
            torn.extend(torn_before(&mut index, disk, extent)?.map(|before| (extent, before)));
            if torn.len() > MAX_TORN {
                return Ok(Vec::new());
            }
        }
        if torn.is_empty() {
            return Ok(torn);
        }
        // Unexpected sectors on a volume that was used since belong to its user.
        let mut repaired = Repaired::nothing(disk);
        repaired.torn = torn;
        let used = undo::used_since(job, &repaired)?;
        let is_theirs = |extent: &Extent| used.iter().any(|volume| volume.overlaps(extent));
        repaired.torn.retain(|(extent, _)| !is_theirs(extent));
        Ok(repaired.torn)
    }

    /// The physical sectors that will be repaired.
    pub(super) fn extents(&self) -> Vec<Extent> {
        self.torn.iter().map(|(extent, _)| *extent).collect()
    }

    /// First sectors of the physical sectors that will be repaired.
    pub(super) fn torn(&self) -> impl Iterator<Item = Lba> + '_ {
        self.torn.iter().map(|(extent, _)| extent.first)
    }

    /// Writes the repaired sectors, each in one piece, and flushes them. A failure is reported as one of the
    /// stage `prepare`.
    pub(super) fn write(&self, disk: &dyn BlockDevice) -> Result<(), RecoverError> {
        if self.torn.is_empty() {
            return Ok(());
        }
        let stopped = |source| CommitError::Stopped {
            stage: StageKind::Prepare,
            source,
        };
        for (extent, bytes) in &self.torn {
            let offset = self.geometry().byte_of(extent.first);
            let outside = || {
                stopped(DeviceError::out_of_bounds(
                    IoOp::Write,
                    u64::MAX,
                    bytes.len(),
                ))
            };
            let offset = offset.ok_or_else(outside)?;
            disk.write_at(offset, bytes).map_err(stopped)?;
        }
        Ok(disk.flush().map_err(stopped)?)
    }
}

impl ReadDevice for Repaired<'_> {
    fn geometry(&self) -> Geometry {
        self.disk.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        let sector = u64::from(self.geometry().logical_sector);
        let end = offset.saturating_add(buffer.len() as u64);
        // What lies between the torn sectors comes from the disk.
        let mut at = offset;
        let mut torn = self.torn.iter();
        while at < end {
            let next = torn.find(|(extent, _)| extent.end.0.saturating_mul(sector) > at);
            let first = next.map_or(end, |(extent, _)| {
                extent.first.0.saturating_mul(sector).clamp(at, end)
            });
            let outside = || DeviceError::out_of_bounds(IoOp::Read, offset, 0);
            let index = |at: u64| usize::try_from(at - offset).map_err(|_too_large| outside());
            if at < first {
                let part = buffer.get_mut(index(at)?..index(first)?);
                self.disk.read_at(at, part.ok_or_else(outside)?)?;
            }
            at = first;
            let Some((extent, bytes)) = next.filter(|_| at < end) else {
                continue;
            };
            let begins = extent.first.0.saturating_mul(sector);
            let stop = end.min(extent.end.0.saturating_mul(sector));
            let from = usize::try_from(at - begins).map_err(|_too_large| outside())?;
            let part = buffer.get_mut(index(at)?..index(stop)?);
            let part = part.ok_or_else(outside)?;
            let bytes = bytes.get(from..from.saturating_add(part.len()));
            part.copy_from_slice(bytes.ok_or_else(outside)?);
            at = stop;
        }
        Ok(())
    }
}

/// First sectors of all physical sectors that the job writes to, ascending.
fn physical_sectors(journal: &Journal, step: u64) -> Vec<u64> {
    let moves = journal.moves.iter();
    let moves = moves.map(|moved| moved.as_move().destination());
    let written = journal.extents.iter().map(|entry| entry.extent());
    let mut all: Vec<u64> = written
        .chain(moves)
        .flat_map(|extent| {
            let first = extent.first.0 / step * step;
            (first..extent.end.0).step_by(usize::try_from(step).unwrap_or(1))
        })
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// What a logical sector may hold.
enum Sector {
    /// One of these; the first is what it held before.
    Known(Vec<Vec<u8>>),
    /// Anything: what comes there is copied again.
    Free,
    /// What was copied there. The journal has only its hash.
    Copied,
    /// Content that the journal has nothing of.
    Unknown,
}

/// Finds what the journal knows of a sector.
struct Index<'a> {
    job: &'a JobFolder,
    sector: usize,
    /// By first sector, those that are edited last: a sector may change twice.
    extents: BTreeMap<(u64, bool), &'a JournalExtent>,
    beside: BTreeMap<u64, &'a Beside>,
    moves: BTreeMap<u64, u64>,
    /// Extents whose bytes were looked at last.
    recent: Vec<((u64, bool, bool), Vec<u8>)>,
}

/// An extent of the journal has at most this many sectors.
const MAX_EXTENT_SECTORS: u64 = 2048;
/// Extents whose bytes are kept, each at most 1 MiB.
const RECENT: usize = 8;

/// Byte offset of a sector in an extent of the journal, which is in memory.
fn index_of(sectors: u64, sector_bytes: usize) -> Result<usize, DeviceError> {
    let offset = usize::try_from(sectors).ok();
    let offset = offset.and_then(|sectors| sectors.checked_mul(sector_bytes));
    offset.ok_or_else(|| DeviceError::out_of_bounds(IoOp::Read, u64::MAX, 0))
}

impl<'a> Index<'a> {
    fn new(job: &'a JobFolder, journal: &'a Journal) -> Self {
        let is_edit = |entry: &JournalExtent| entry.stage == StageKind::Edit;
        let entries = journal.extents.iter();
        let moves = journal.moves.iter();
        Self {
            job,
            sector: journal.sector_bytes as usize,
            extents: entries
                .map(|entry| ((entry.first_lba, is_edit(entry)), entry))
                .collect(),
            beside: journal.beside.iter().map(|b| (b.first_lba, b)).collect(),
            moves: moves.map(|moved| (moved.to_lba, moved.sectors)).collect(),
            recent: Vec::new(),
        }
    }

    fn bytes(&mut self, entry: &JournalExtent, side: Side) -> Result<&[u8], RecoverError> {
        let is_edit = entry.stage == StageKind::Edit;
        let key = (entry.first_lba, is_edit, side == Side::Old);
        if !self.recent.iter().any(|(known, _)| *known == key) {
            if self.recent.len() >= RECENT {
                self.recent.remove(0);
            }
            self.recent.push((key, self.job.bytes(entry, side)?));
        }
        let found = self.recent.iter().find(|(known, _)| *known == key);
        Ok(found.map_or(&[], |(_, bytes)| bytes))
    }

    fn sector(&mut self, at: u64) -> Result<Sector, RecoverError> {
        let one = Extent::between(Lba(at), Lba(at.saturating_add(1)));
        let mut may_hold = Vec::new();
        let near = at.saturating_sub(MAX_EXTENT_SECTORS);
        let near = self.extents.range((near, false)..=(at, true));
        let mut entries: Vec<&JournalExtent> = near
            .map(|(_, entry)| *entry)
            .filter(|entry| entry.extent().contains(&one))
            .collect();
        entries.sort_by_key(|entry| entry.stage == StageKind::Edit);
        let sector = self.sector;
        for entry in entries {
            let from = index_of(at - entry.first_lba, sector)?;
            for side in [Side::Old, Side::New] {
                let bytes = self.bytes(entry, side)?.get(from..from + sector);
                may_hold.extend(bytes.map(<[u8]>::to_vec));
            }
        }
        if let Some((_, beside)) = self.beside.range(..=at).next_back()
            && beside.extent().contains(&one)
        {
            let from = index_of(at - beside.first_lba, sector)?;
            let bytes = self.job.bytes_beside(beside)?;
            may_hold.extend(bytes.get(from..from + sector).map(<[u8]>::to_vec));
        }
        let moved = self.moves.range(..=at).next_back();
        let is_copied = moved.is_some_and(|(first, sectors)| at - first < *sectors);
        Ok(match (is_copied, self.job.state().moved.is_some()) {
            (true, false) => Sector::Free,
            _ if !may_hold.is_empty() => Sector::Known(may_hold),
            (true, true) => Sector::Copied,
            (false, _) => Sector::Unknown,
        })
    }
}

/// Returns what the physical sector held before, if it is torn.
///
/// # Errors
///
/// The job folder cannot be read, or the sector cannot and the journal does not know all that it held.
fn torn_before(
    index: &mut Index<'_>,
    disk: &dyn ReadDevice,
    extent: Extent,
) -> Result<Option<Vec<u8>>, RecoverError> {
    let geometry = disk.geometry();
    let len = usize::try_from(geometry.bytes_in(&extent)).ok();
    let place = geometry.byte_of(extent.first).zip(len);
    let outside = || DeviceError::out_of_bounds(IoOp::Read, u64::MAX, 0);
    let (offset, len) = place.ok_or_else(outside)?;
    match disk.read_vec(offset, len) {
        Ok(found) => torn_content(index, extent, &found),
        Err(error) => {
            let mut before = Vec::with_capacity(len);
            let (mut is_written, mut is_known) = (false, true);
            for at in extent.first.0..extent.end.0 {
                match index.sector(at)? {
                    Sector::Known(known) => {
                        is_written = true;
                        before.extend_from_slice(known.first().map_or(&[][..], |bytes| bytes));
                    }
                    Sector::Free => before.extend(std::iter::repeat_n(0, index.sector)),
                    Sector::Copied | Sector::Unknown => is_known = false,
                }
            }
            match (is_written, is_known) {
                (_, true) => Ok(Some(before)),
                // Only copied data: the plan decides whether it is needed, and reads it again.
                (false, false) => Ok(None),
                (true, false) => Err(error.into()),
            }
        }
    }
}

/// The same of a physical sector that can be read.
fn torn_content(
    index: &mut Index<'_>,
    extent: Extent,
    found: &[u8],
) -> Result<Option<Vec<u8>>, RecoverError> {
    let mut is_torn = false;
    let mut before = Vec::with_capacity(found.len());
    for (at, now) in (extent.first.0..extent.end.0).zip(found.chunks(index.sector)) {
        match index.sector(at)? {
            Sector::Known(known) if !known.iter().any(|bytes| bytes == now) => {
                is_torn = true;
                before.extend_from_slice(known.first().map_or(&[][..], |bytes| bytes));
            }
            // A sector that is as expected stays as it is.
            _ => before.extend_from_slice(now),
        }
    }
    Ok(is_torn.then_some(before))
}
