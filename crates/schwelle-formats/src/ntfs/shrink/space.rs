//! The free clusters below a shrunk volume's new end, and the choice among them.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use crate::ntfs::runlist::Lcn;

/// Stretches kept in memory, at most: the largest ones. A volume with more is so fragmented that
/// the rest would not help.
const MAX_STRETCHES: usize = 1 << 20;

/// Free clusters, and what was taken and given back since.
#[derive(Debug, Default)]
pub(super) struct Space {
    /// First cluster -> length.
    stretches: BTreeMap<u64, u64>,
    /// (length, first cluster), the same stretches.
    by_len: BTreeSet<(u64, u64)>,
    free: u64,
    taken: BTreeMap<u64, u64>,
    given_back: Vec<Range<u64>>,
}

impl Space {
    /// Adds free clusters found in the bitmap.
    pub(super) fn add(&mut self, stretch: Range<u64>) {
        let len = stretch.end.saturating_sub(stretch.start);
        if len == 0 {
            return;
        }
        self.insert(stretch.start, len);
        if self.stretches.len() > MAX_STRETCHES
            && let Some(&(len, first)) = self.by_len.first()
        {
            self.remove(first, len);
        }
    }

    fn insert(&mut self, first: u64, len: u64) {
        self.stretches.insert(first, len);
        self.by_len.insert((len, first));
        self.free = self.free.saturating_add(len);
    }

    fn remove(&mut self, first: u64, len: u64) {
        self.stretches.remove(&first);
        self.by_len.remove(&(len, first));
        self.free = self.free.saturating_sub(len);
    }

    /// Free clusters left.
    pub(super) fn free(&self) -> u64 {
        self.free
    }

    /// Clusters taken, as ascending stretches that may touch.
    pub(super) fn taken(&self) -> impl Iterator<Item = Range<u64>> + '_ {
        self.taken
            .iter()
            .map(|(&first, &len)| first..first.saturating_add(len))
    }

    /// Clusters that were in use before and are free now.
    pub(super) fn given_back(&self) -> &[Range<u64>] {
        &self.given_back
    }

    /// Takes `clusters` in one stretch: the smallest that holds them, so that the large ones stay.
    pub(super) fn take_whole(&mut self, clusters: u64) -> Option<Lcn> {
        let &(len, first) = self.by_len.range((clusters, 0)..).next()?;
        self.remove(first, len);
        if len > clusters {
            self.insert(first.saturating_add(clusters), len - clusters);
        }
        self.taken.insert(first, clusters);
        Some(Lcn(first))
    }

    /// Takes `clusters` in as few stretches as there are: one, or the largest first. All but the
    /// last are multiples of `grain`. `None`, and nothing taken, when there is not enough.
    pub(super) fn take(&mut self, clusters: u64, grain: u64) -> Option<Vec<(Lcn, u64)>> {
        let grain = grain.max(1);
        let mut pieces = Vec::new();
        let mut left = clusters;
        while left > 0 {
            if let Some(lcn) = self.take_whole(left) {
                pieces.push((lcn, left));
                return Some(pieces);
            }
            let largest = self
                .by_len
                .last()
                .map_or(0, |&(len, _)| len / grain * grain);
            let Some(lcn) = Some(largest)
                .filter(|&len| len > 0)
                .and_then(|len| self.take_whole(len))
            else {
                for (Lcn(first), len) in pieces {
                    self.undo_take(first, len);
                }
                return None;
            };
            pieces.push((lcn, largest));
            left -= largest;
        }
        Some(pieces)
    }

    /// Gives back clusters taken before in one piece.
    pub(super) fn undo_take(&mut self, first: u64, len: u64) {
        self.taken.remove(&first);
        self.insert(first, len);
    }

    /// Notes clusters of the old volume that no file owns any more. They are not handed out again:
    /// what lies there is still needed if the shrink is taken back.
    pub(super) fn give_back(&mut self, clusters: Range<u64>) {
        if clusters.start < clusters.end {
            self.given_back.push(clusters);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_smallest_fitting_stretch_is_taken_else_the_largest_in_turn() {
        let mut space = Space::default();
        for stretch in [10..14, 20..50, 60..70] {
            space.add(stretch);
        }
        assert_eq!(space.take(9, 1), Some(vec![(Lcn(60), 9)]));
        assert_eq!(space.take(4, 1), Some(vec![(Lcn(10), 4)]));
        assert_eq!(space.take(31, 1), Some(vec![(Lcn(20), 30), (Lcn(69), 1)]));
        assert_eq!((space.free(), space.take(1, 1)), (0, None));
        let taken: Vec<_> = space.taken().collect();
        assert_eq!(taken, [10..14, 20..50, 60..69, 69..70]);
    }

    #[test]
    fn grains_stay_whole_and_what_does_not_fit_is_not_taken() {
        let mut space = Space::default();
        space.add(0..20);
        space.add(30..47);
        assert_eq!(space.take(33, 16), Some(vec![(Lcn(30), 16), (Lcn(0), 17)]));
        space.add(100..118);
        assert_eq!(space.take(34, 16), None);
        assert_eq!(space.free(), 22);
    }
}
