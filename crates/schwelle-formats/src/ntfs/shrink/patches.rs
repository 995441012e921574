//! The bytes that change once the clusters are moved, each at its place on the new volume.

use std::collections::BTreeMap;
use std::ops::Range;

use super::plan::{BITMAP, MIRROR, Patch, Shrink, ShrinkError, TABLE};
use crate::bytes::ReadBytes;
use crate::ntfs::NtfsError;
use crate::ntfs::attribute::kind;
use crate::ntfs::runlist::{Lcn, Run, Vcn};
use crate::ntfs::stream::Content;

/// Patches of the bitmap are cut at this length.
const BITMAP_PATCH: usize = 512;

impl Shrink<'_> {
    /// Where a cluster of the old volume is afterwards.
    fn new_place(&self, Lcn(lcn): Lcn) -> u64 {
        match self.moved.range(..=lcn).next_back() {
            Some((&from, &(len, to))) if lcn - from < len => to.saturating_add(lcn - from),
            _ => lcn,
        }
    }

    /// Byte offset on the new volume of a byte of a stream with these (old) runs.
    fn new_offset(&self, runs: &[Run], at: u64) -> Option<u64> {
        let cluster = self.cluster_bytes();
        let vcn = Vcn(at / cluster);
        let run = runs.iter().find(|run| run.holds(vcn))?;
        let lcn = Lcn(run.lcn?.0.checked_add(vcn.0.checked_sub(run.vcn.0)?)?);
        self.new_place(lcn)
            .checked_mul(cluster)?
            .checked_add(at % cluster)
    }

    /// Puts bytes at a place of a stream, cluster by cluster.
    fn patch_stream(&mut self, runs: &[Run], at: u64, bytes: &[u8]) -> Option<()> {
        let cluster = self.cluster_bytes();
        let mut done = 0u64;
        while done < bytes.len() as u64 {
            let here = at.checked_add(done)?;
            let take = (cluster - here % cluster).min(bytes.len() as u64 - done);
            let from = usize::try_from(done).ok()?;
            let part = bytes.get(from..from.checked_add(usize::try_from(take).ok()?)?)?;
            self.plan.patches.push(Patch {
                offset: self.new_offset(runs, here)?,
                bytes: part.to_vec(),
            });
            done += take;
        }
        Some(())
    }

    pub(super) fn write_boot_sector(&mut self, total: u64) -> Result<(), ShrinkError> {
        let shape = *self.volume.shape();
        let sector_bytes = shape.sector_bytes as usize;
        let device = self.volume.device();
        let mut sector = device
            .read_vec(0, sector_bytes)
            .map_err(NtfsError::Device)?;
        for (at, value) in [
            (0x28, total),
            (0x30, self.new_place(shape.mft_lcn)),
            (0x38, self.new_place(shape.mirror_lcn)),
        ] {
            let place = sector.get_mut(at..at + 8);
            let place = place.ok_or(ShrinkError::Size { sectors: total })?;
            place.copy_from_slice(&value.to_le_bytes());
        }
        let behind = total.saturating_mul(shape.sector_bytes.into());
        for offset in [0, behind] {
            self.plan.patches.push(Patch {
                offset,
                bytes: sector.clone(),
            });
        }
        Ok(())
    }

    /// Writes the changed records to the table and its mirror, and marks new ones in use.
    pub(super) fn write_records(&mut self) -> Result<(), ShrinkError> {
        let record_bytes = u64::from(self.volume.shape().record_bytes);
        let table = self.volume.table().to_vec();
        let mirror = self.stream(MIRROR, kind::DATA, "")?;
        let (mirrored, mirror_runs) = (mirror.len_bytes() / record_bytes, mirror.runs().to_vec());
        for (number, editor) in std::mem::take(&mut self.editors) {
            let finished = editor.finish();
            let no_header = || self.in_the_way(number, "its header is invalid");
            let bytes = finished.ok_or_else(no_header)?;
            let at = number.saturating_mul(record_bytes);
            let mut done = self.patch_stream(&table, at, &bytes);
            if number < mirrored {
                done = done.and(self.patch_stream(&mirror_runs, at, &bytes));
            }
            done.ok_or_else(|| self.in_the_way(number, "its record is not where it was"))?;
        }
        if self.new_records.is_empty() {
            return Ok(());
        }
        let map = self.stream(TABLE, kind::BITMAP, "")?;
        let Content::Clusters { runs, .. } = &map.content else {
            return Err(self.in_the_way(TABLE, "its bitmap has no clusters"));
        };
        let runs = runs.clone();
        let mut bytes: BTreeMap<u64, u8> = BTreeMap::new();
        for number in &self.new_records {
            let mut now = [0];
            map.read_bytes(number / 8, &mut now)?;
            *bytes.entry(number / 8).or_insert(now[0]) |= 1 << (number % 8);
        }
        for (at, byte) in bytes {
            let done = self.patch_stream(&runs, at, &[byte]);
            done.ok_or_else(|| self.in_the_way(TABLE, "its bitmap is not where it was"))?;
        }
        Ok(())
    }

    pub(super) fn write_content(&mut self) {
        for (offset, bytes) in std::mem::take(&mut self.content) {
            self.plan.patches.push(Patch { offset, bytes });
        }
    }

    /// Marks what was taken, what was given back, and the bits after the last cluster, which are
    /// set by custom.
    pub(super) fn write_bitmap(&mut self) -> Result<(), ShrinkError> {
        let mut set: Vec<Range<u64>> = self.space.taken().collect();
        set.push(self.limit..self.bitmap_bytes().saturating_mul(8));
        set.sort_unstable_by_key(|range| range.start);
        let mut cleared = self.space.given_back().to_vec();
        cleared.sort_unstable_by_key(|range| range.start);
        let mut patches: Vec<(u64, Vec<u8>)> = Vec::new();
        self.walk_bitmap(&mut |at, old| {
            let mut new = old.clone();
            mark(&mut new, at, &set, true);
            mark(&mut new, at, &cleared, false);
            let chunks = old.chunks(BITMAP_PATCH).zip(new.chunks(BITMAP_PATCH));
            for ((old, new), index) in chunks.zip(0u64..) {
                if old != new {
                    patches.push((at + index * BITMAP_PATCH as u64, new.to_vec()));
                }
            }
        })?;
        let runs = self.stream(BITMAP, kind::DATA, "")?.runs().to_vec();
        for (at, bytes) in patches {
            let done = self.patch_stream(&runs, at, &bytes);
            done.ok_or_else(|| self.in_the_way(BITMAP, "it is not where it was"))?;
        }
        Ok(())
    }
}

/// Sets or clears the bits of `ranges`, ascending, in a chunk of the bitmap that begins at byte
/// `at`.
fn mark(bytes: &mut [u8], at: u64, ranges: &[Range<u64>], to: bool) {
    let first = at.saturating_mul(8);
    let end = first.saturating_add((bytes.len() as u64).saturating_mul(8));
    let from = ranges.partition_point(|range| range.end <= first);
    for range in ranges
        .iter()
        .skip(from)
        .take_while(|range| range.start < end)
    {
        for bit in range.start.max(first)..range.end.min(end) {
            let byte = usize::try_from((bit - first) / 8).unwrap_or(usize::MAX);
            if let Some(byte) = bytes.get_mut(byte) {
                let mask = 1u8 << (bit % 8);
                *byte = if to { *byte | mask } else { *byte & !mask };
            }
        }
    }
}
