//! The copy-on-write overlay: the finished disk before a byte of the real one has changed.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use super::{BlockDevice, DeviceError, Extent, Geometry, IoOp, Lba, ReadDevice};

/// Sectors whose content is elsewhere on the disk: `sectors` from `from` on are shown at `to`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Move {
    /// First sector of the source.
    pub from: Lba,
    /// First sector of the destination.
    pub to: Lba,
    /// Number of sectors.
    pub sectors: u64,
}

impl Move {
    /// The sectors moved.
    pub fn source(&self) -> Extent {
        Extent::between(self.from, Lba(self.from.0.saturating_add(self.sectors)))
    }

    /// Where they go.
    pub fn destination(&self) -> Extent {
        Extent::between(self.to, Lba(self.to.0.saturating_add(self.sectors)))
    }
}

/// What a stretch of the draft shows in place of the disk's own sectors.
#[derive(Debug, Clone, Copy)]
enum Piece {
    /// Sectors of the disk from this one on.
    Moved(Lba),
    /// This byte throughout.
    Filled(u8),
}

/// A disk with changes laid over it. Reads see the changes; the disk below is never written.
///
/// Bytes are kept by sector, so that only what really differs from the disk becomes part of a
/// change set. What moves, and what is filled, is kept as a reference: it may be gigabytes.
#[derive(Debug)]
pub struct Draft<'a> {
    base: Base<'a>,
    overlay: RwLock<Overlay>,
}

/// What a draft lies over.
#[derive(Debug)]
enum Base<'a> {
    Borrowed(&'a dyn ReadDevice),
    Shared(Arc<dyn ReadDevice + 'a>),
}

#[derive(Debug, Default)]
struct Overlay {
    /// By first sector; they do not overlap. Below `bytes`.
    pieces: BTreeMap<u64, (u64, Piece)>,
    bytes: BTreeMap<u64, Box<[u8]>>,
}

impl Overlay {
    /// The pieces that share sectors with `sectors`, with their ranges.
    fn pieces_in(&self, sectors: &Range<u64>) -> impl Iterator<Item = (Range<u64>, Piece)> + '_ {
        let before = self.pieces.range(..sectors.start).next_back();
        let inside = self.pieces.range(sectors.clone());
        let start = sectors.start;
        let all = before.into_iter().chain(inside);
        all.map(|(&first, &(len, piece))| (first..first.saturating_add(len), piece))
            .filter(move |(range, _)| range.end > start)
    }
}

impl<'a> Draft<'a> {
    /// A draft without changes.
    pub fn new(disk: &'a dyn ReadDevice) -> Self {
        Self {
            base: Base::Borrowed(disk),
            overlay: RwLock::default(),
        }
    }

    /// A draft without changes over a shared device: another draft that comes before it, as a rule.
    pub fn over(below: Arc<dyn ReadDevice + 'a>) -> Self {
        Self {
            base: Base::Shared(below),
            overlay: RwLock::default(),
        }
    }

    /// What lies below: the disk as it is, or the draft before this one.
    pub fn base(&self) -> &dyn ReadDevice {
        match &self.base {
            Base::Borrowed(disk) => *disk,
            Base::Shared(disk) => &**disk,
        }
    }

    /// Shows sectors of the disk at another place. The bytes are not read: they are a reference,
    /// and the commit copies them.
    pub fn move_sectors(&self, moved: Move) {
        let mut overlay = self.lay();
        let piece = Piece::Moved(moved.from);
        overlay.pieces.insert(moved.to.0, (moved.sectors, piece));
    }

    /// The first sector of an extent over which this draft lays something already; nothing of the drafts below.
    pub fn first_laid(&self, extent: Extent) -> Option<Lba> {
        let overlay = self.laid();
        let sectors = extent.first.0..extent.end.0;
        let piece = overlay.pieces_in(&sectors).map(|(range, _)| range.start);
        let byte = overlay
            .bytes
            .range(sectors.clone())
            .map(|(&first, _)| first);
        let first = piece.chain(byte).min()?;
        Some(Lba(first.max(extent.first.0)))
    }

    /// Fills an extent with a byte. Sectors that hold it already are not kept.
    pub fn fill(&self, extent: Extent, byte: u8) -> Result<(), DeviceError> {
        const AT_ONCE: usize = 2048;
        let sector_bytes = self.geometry().logical_sector as usize;
        let full = vec![byte; sector_bytes];
        let mut at = extent.first.0;
        while at < extent.end.0 {
            let left = usize::try_from(extent.end.0 - at);
            let sectors = left.map_or(AT_ONCE, |left| left.min(AT_ONCE));
            let offset = self.geometry().byte_of(Lba(at));
            let len = sectors * sector_bytes;
            let offset =
                offset.ok_or_else(|| DeviceError::out_of_bounds(IoOp::Read, u64::MAX, len))?;
            let now = self.base().read_vec(offset, len)?;
            let mut overlay = self.lay();
            for (sector, bytes) in (at..).zip(now.chunks(sector_bytes)) {
                overlay.bytes.remove(&sector);
                if bytes != full {
                    extend(&mut overlay.pieces, sector, Piece::Filled(byte));
                }
            }
            at += sectors as u64;
        }
        Ok(())
    }

    /// The changed sectors as ascending ranges that do not touch. What is moved is not among them.
    pub fn changed(&self) -> Vec<Extent> {
        let overlay = self.laid();
        let is_filled = |piece: &Piece| matches!(piece, Piece::Filled(_));
        let filled = overlay
            .pieces
            .iter()
            .filter(|(_, (_, piece))| is_filled(piece))
            .map(|(&first, &(len, _))| first..first.saturating_add(len));
        let written = overlay.bytes.keys().map(|&first| first..first + 1);
        let mut all: Vec<Range<u64>> = filled.chain(written).collect();
        all.sort_unstable_by_key(|range| range.start);
        let mut extents: Vec<Extent> = Vec::new();
        for range in all {
            match extents.last_mut() {
                Some(last) if last.end.0 >= range.start => {
                    last.end = last.end.max(Lba(range.end));
                }
                _ => extents.push(Extent::between(Lba(range.start), Lba(range.end))),
            }
        }
        extents
    }

    /// What is moved, by source. Sectors that are changed at their new place are left out: they
    /// are among the changed ones.
    pub fn moves(&self) -> Vec<Move> {
        let overlay = self.laid();
        let mut moves = Vec::new();
        for (&first, &(len, piece)) in &overlay.pieces {
            let Piece::Moved(from) = piece else { continue };
            let end = first.saturating_add(len);
            let mut at = first;
            let changed = overlay.bytes.range(first..end).map(|(&sector, _)| sector);
            for stop in changed.chain([end]) {
                if at < stop {
                    moves.push(Move {
                        from: Lba(from.0.saturating_add(at - first)),
                        to: Lba(at),
                        sectors: stop - at,
                    });
                }
                at = stop.saturating_add(1);
            }
        }
        moves.sort_unstable();
        moves
    }

    /// The overlay to look at; the disk below is read by many at a time.
    fn laid(&self) -> RwLockReadGuard<'_, Overlay> {
        self.overlay.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// The overlay to change.
    fn lay(&self) -> RwLockWriteGuard<'_, Overlay> {
        self.overlay.write().unwrap_or_else(PoisonError::into_inner)
    }

    fn sector_of(&self, offset: u64) -> u64 {
        offset / u64::from(self.geometry().logical_sector)
    }

    /// Reads what lies below the changed bytes: the disk, with what is moved and filled.
    fn read_below(
        &self,
        overlay: &Overlay,
        offset: u64,
        buffer: &mut [u8],
    ) -> Result<(), DeviceError> {
        let sector = u64::from(self.geometry().logical_sector);
        let end = offset.saturating_add(buffer.len() as u64);
        let sectors = self.sector_of(offset)..end.div_ceil(sector);
        // What a piece covers whole need not be read from its own place first.
        let covers = |(range, _): (Range<u64>, Piece)| {
            range.start <= sectors.start && sectors.end <= range.end
        };
        if !overlay.pieces_in(&sectors).next().is_some_and(covers) {
            self.base().read_at(offset, buffer)?;
        }
        for (range, piece) in overlay.pieces_in(&sectors) {
            let first = range.start.saturating_mul(sector);
            let (from, to) = (offset.max(first), end.min(range.end.saturating_mul(sector)));
            let outside = || DeviceError::out_of_bounds(IoOp::Read, from, 0);
            let index = |at: u64| {
                at.checked_sub(offset)
                    .and_then(|at| usize::try_from(at).ok())
            };
            let within = index(from).zip(index(to));
            let (from_index, to_index) = within.ok_or_else(outside)?;
            let part = buffer.get_mut(from_index..to_index).ok_or_else(outside)?;
            match piece {
                Piece::Filled(byte) => part.fill(byte),
                Piece::Moved(source) => {
                    let at = source.0.saturating_mul(sector).saturating_add(from - first);
                    self.base().read_at(at, part)?;
                }
            }
        }
        Ok(())
    }
}

/// Adds a sector to the pieces; one that continues the piece before it makes that one longer.
fn extend(pieces: &mut BTreeMap<u64, (u64, Piece)>, sector: u64, piece: Piece) {
    let last = pieces.range_mut(..sector).next_back();
    match (last, piece) {
        (Some((first, (len, Piece::Filled(before)))), Piece::Filled(byte))
            if *before == byte && first.saturating_add(*len) == sector =>
        {
            *len += 1;
        }
        _ => {
            pieces.insert(sector, (1, piece));
        }
    }
}

impl ReadDevice for Draft<'_> {
    fn geometry(&self) -> Geometry {
        self.base().geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        let overlay = self.laid();
        self.read_below(&overlay, offset, buffer)?;
        let end = self.sector_of(offset + buffer.len() as u64);
        // A long transfer hardly ever meets one.
        let mut changed = overlay.bytes.range(self.sector_of(offset)..=end);
        if changed.next().is_none() {
            return Ok(());
        }
        for part in parts(self.geometry().logical_sector, offset, buffer.len()) {
            if let Some(bytes) = overlay.bytes.get(&part.unit) {
                buffer[part.in_buffer].copy_from_slice(&bytes[part.in_unit]);
            }
        }
        Ok(())
    }
}

impl BlockDevice for Draft<'_> {
    /// Takes the bytes into the draft; sectors that hold them already are not kept.
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        let mut overlay = self.lay();
        let mut below = vec![0; bytes.len()];
        self.read_below(&overlay, offset, &mut below)?;
        let sector_bytes = self.geometry().logical_sector as usize;
        for part in parts(self.geometry().logical_sector, offset, bytes.len()) {
            let new = &bytes[part.in_buffer.clone()];
            let whole = part.in_unit.len() == sector_bytes;
            assert!(
                whole,
                "writes to a draft are whole sectors: the writers of this crate work in sectors"
            );
            if below[part.in_buffer] == *new {
                overlay.bytes.remove(&part.unit);
            } else {
                overlay.bytes.insert(part.unit, new.into());
            }
        }
        Ok(())
    }

    fn flush(&self) -> Result<(), DeviceError> {
        Ok(())
    }
}

/// What of a transfer lies in one unit, a sector or a piece.
pub(super) struct Part {
    pub(super) unit: u64,
    pub(super) in_unit: Range<usize>,
    pub(super) in_buffer: Range<usize>,
}

/// Splits a transfer at the bounds of units of this size. The transfer has been checked to lie on the device.
pub(super) fn parts(unit_bytes: u32, offset: u64, len_bytes: usize) -> impl Iterator<Item = Part> {
    let unit_len = unit_bytes as usize;
    let mut done = 0;
    std::iter::from_fn(move || {
        if done >= len_bytes {
            return None;
        }
        let at = offset + done as u64;
        let in_unit =
            usize::try_from(at % u64::from(unit_bytes)).expect("a remainder of a u32 fits");
        let take = (unit_len - in_unit).min(len_bytes - done);
        let part = Part {
            unit: at / u64::from(unit_bytes),
            in_unit: in_unit..in_unit + take,
            in_buffer: done..done + take,
        };
        done += take;
        Some(part)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::Memory;
    use proptest::prelude::*;

    #[test]
    fn equal_writes_leave_no_trace_and_the_base_stays() {
        let base = Memory::new(512, 16);
        base.write_at(1024, &[7; 512]).unwrap();
        let draft = Draft::new(&base);
        draft.write_at(1024, &[7; 1024]).unwrap();
        assert_eq!(draft.changed(), [Extent::between(Lba(3), Lba(4))]);
        draft.write_at(1536, &[0; 512]).unwrap();
        assert_eq!(draft.changed(), []);
        assert!(draft.write_at(16 * 512, &[1; 512]).is_err());
    }

    #[test]
    fn what_is_laid_already_is_told() {
        let base = Memory::new(512, 100);
        let draft = Draft::new(&base);
        let extent = |first, end| Extent::between(Lba(first), Lba(end));
        draft.move_sectors(Move {
            from: Lba(80),
            to: Lba(10),
            sectors: 10,
        });
        draft.fill(extent(30, 40), 7).unwrap();
        draft.write_at(50 * 512, &[1; 512]).unwrap();
        for (asked, first) in [
            ((0, 10), None),
            ((0, 11), Some(10)),
            ((15, 16), Some(15)),
            ((19, 35), Some(19)),
            ((20, 30), None),
            ((39, 60), Some(39)),
            ((40, 60), Some(50)),
            ((51, 100), None),
        ] {
            let shown = draft.first_laid(extent(asked.0, asked.1));
            assert_eq!(shown, first.map(Lba), "{asked:?}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn reads_like_a_plain_copy(writes in prop::collection::vec((0u64..30, 1usize..4, any::<u8>()), 0..20),
                                   from in 0u64..10_000, len in 0usize..6000) {
            let base = Memory::new(512, 33);
            base.write_at(512, &[0x55; 4096]).unwrap();
            let mut model = base.read_vec(0, 33 * 512).unwrap();
            let draft = Draft::new(&base);
            for (sector, count, byte) in writes {
                draft.write_at(sector * 512, &vec![byte; count * 512]).unwrap();
                let at = usize::try_from(sector).unwrap() * 512;
                model[at..at + count * 512].fill(byte);
            }
            let mut got = vec![0; len];
            let at = usize::try_from(from).unwrap();
            draft.read_at(from, &mut got).unwrap();
            prop_assert_eq!(&got[..], &model[at..at + len]);
        }
    }
}
