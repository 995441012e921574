//! The plan of a trim, and how it comes about.

use std::collections::BTreeMap;
use std::ops::Range;

use super::editor::{Editor, set_sizes, with_runs};
use super::list::Item;
use super::space::Space;
use crate::bytes::{ReadBytes, u64_at};
use crate::ntfs::NtfsError;
use crate::ntfs::attribute::{Attribute, Body, COMPRESSED, kind};
use crate::ntfs::file_record::FileRecord;
use crate::ntfs::runlist::{self, Lcn, Run, Vcn, join};
use crate::ntfs::stream::{Content, NtfsFile};
use crate::ntfs::volume::NtfsVolume;

pub(super) const TABLE: u64 = 0;
const MIRROR: u64 = 1;
const LOG: u64 = 2;
const BITMAP: u64 = 6;
const BAD_CLUSTERS: u64 = 8;
/// Records that belong to the file system itself.
const FIRST_USER_RECORD: u64 = 24;
const BAD_STREAM: &str = "$Bad";
/// Clusters of a compression unit.
const COMPRESSION_UNIT: u64 = 16;
/// Bitmap read at a time, in bytes.
const BITMAP_CHUNK: u64 = 1 << 20;
/// Patches of the bitmap are cut at this length.
const BITMAP_PATCH: usize = 512;

/// Clusters to be copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClusterMove {
    /// First cluster of the source: behind the new end.
    pub from: Lcn,
    /// First cluster of the destination: free, and in front of the new end.
    pub to: Lcn,
    /// Number of clusters.
    pub clusters: u64,
}

/// Bytes to be written once the clusters are copied.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Patch {
    /// Byte offset on the volume, as it will be.
    pub offset: u64,
    /// The bytes.
    pub bytes: Vec<u8>,
}

/// All that makes the volume smaller.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TrimPlan {
    /// Sectors of the partition afterwards.
    pub sectors: u64,
    /// What is copied, by source.
    pub moves: Vec<ClusterMove>,
    /// Metadata that changes. They do not overlap.
    pub patches: Vec<Patch>,
    /// Byte ranges on the volume that are filled with FFh: the log.
    pub emptied: Vec<Range<u64>>,
    /// Attributes whose clusters move.
    pub pieces: u64,
    /// Bytes that are free in front of the new end, before anything moves there.
    pub free_bytes: u64,
}

/// Why a volume cannot be trimmed to this size.
#[derive(Debug, thiserror::Error)]
pub enum TrimError {
    /// The volume could not be read.
    #[error(transparent)]
    Ntfs(#[from] NtfsError),
    /// The books do not balance: [`NtfsVolume::audit`] says where.
    #[error("{0}")]
    Unsound(String),
    /// The new size is none.
    #[error("a volume of {sectors} sectors cannot be")]
    Size {
        /// Sectors asked for.
        sectors: u64,
    },
    /// What must move does not fit in front of the new end.
    #[error("{needed} bytes lie behind the new end, but only {free} are free in front of it")]
    Full {
        /// Bytes to be moved.
        needed: u64,
        /// Bytes free.
        free: u64,
    },
    /// Clusters to be given up are known to be bad: nothing should be put there.
    #[error("{clusters} clusters behind the new end are marked bad")]
    BadClusters {
        /// How many.
        clusters: u64,
    },
    /// A file that cannot be moved.
    #[error("file record {record} ({name}) cannot be moved: {why}")]
    InTheWay {
        /// Its record.
        record: u64,
        /// Its name.
        name: String,
        /// Why.
        why: &'static str,
    },
}

/// An attribute with clusters behind the new end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Affected {
    record: u64,
    id: u16,
    kind: u32,
    clusters: u64,
}

impl Affected {
    /// The file table first, while there is the most room in one piece; then the rest of the file
    /// system, then the large pieces. Attribute lists last: others may still have rewritten them.
    fn order(&self) -> (u8, u64, std::cmp::Reverse<u64>, u64, u16) {
        let rank = match (self.kind, self.record) {
            (kind::ATTRIBUTE_LIST, _) => 3,
            (_, TABLE) => 0,
            (_, 1..FIRST_USER_RECORD) => 1,
            _ => 2,
        };
        let reverse = std::cmp::Reverse(self.clusters);
        (rank, 0, reverse, self.record, self.id)
    }
}

/// A trim being planned.
pub(super) struct Trim<'v> {
    pub(super) volume: &'v NtfsVolume<'v>,
    /// Clusters of the volume afterwards.
    pub(super) limit: u64,
    pub(super) space: Space,
    pub(super) editors: BTreeMap<u64, Editor>,
    /// Attribute lists that have been changed, by base record.
    pub(super) lists: BTreeMap<u64, Vec<Item>>,
    /// Clusters taken for attribute lists in this trim, by first cluster.
    pub(super) fresh: BTreeMap<u64, u64>,
    /// Content of those, by byte offset.
    pub(super) content: BTreeMap<u64, Vec<u8>>,
    /// Records newly put in use.
    pub(super) new_records: Vec<u64>,
    /// Where clusters behind the new end go: by old cluster, (length, new cluster).
    moved: BTreeMap<u64, (u64, u64)>,
    plan: TrimPlan,
}

impl NtfsVolume<'_> {
    /// Plans how the volume gets into a partition of `sectors` sectors (of the volume's own size;
    /// the last one is for the copy of the boot sector). The volume must have proven sound.
    pub fn plan_trim(&self, sectors: u64) -> Result<TrimPlan, TrimError> {
        let shape = *self.shape();
        let cluster_sectors = u64::from(shape.cluster_bytes / shape.sector_bytes);
        let total = sectors
            .checked_sub(1)
            .filter(|&total| total < shape.total_sectors && total > cluster_sectors)
            .ok_or(TrimError::Size { sectors })?;
        let limit = total / cluster_sectors;
        let mut trim = Trim {
            volume: self,
            limit,
            space: Space::default(),
            editors: BTreeMap::new(),
            lists: BTreeMap::new(),
            fresh: BTreeMap::new(),
            content: BTreeMap::new(),
            new_records: Vec::new(),
            moved: BTreeMap::new(),
            plan: TrimPlan {
                sectors,
                ..TrimPlan::default()
            },
        };
        let affected = trim.scan()?;
        trim.find_space()?;
        let needed: u64 = affected.iter().map(|found| found.clusters).sum();
        let bytes = |clusters: u64| clusters.saturating_mul(shape.cluster_bytes.into());
        trim.plan.free_bytes = bytes(trim.space.free());
        if needed > trim.space.free() {
            return Err(TrimError::Full {
                needed: bytes(needed),
                free: bytes(trim.space.free()),
            });
        }
        trim.shorten_bad_clusters()?;
        trim.shorten_bitmap()?;
        for found in affected {
            trim.move_attribute(found)?;
        }
        trim.empty_log()?;
        trim.write_boot_sector(total)?;
        trim.write_records()?;
        trim.write_content();
        trim.write_bitmap()?;
        Ok(trim.finish())
    }
}

impl Trim<'_> {
    pub(super) fn cluster_bytes(&self) -> u64 {
        self.volume.shape().cluster_bytes.into()
    }

    pub(super) fn in_the_way(&self, record: u64, why: &'static str) -> TrimError {
        let found = self.volume.record(record);
        let name = found.map(|found| crate::ntfs::audit::name_of(&found));
        TrimError::InTheWay {
            record,
            name: name.unwrap_or_default(),
            why,
        }
    }

    /// Finds every attribute with clusters behind the new end.
    fn scan(&self) -> Result<Vec<Affected>, TrimError> {
        let mut affected = Vec::new();
        let mut bad = 0u64;
        let mut faults = Vec::new();
        let clusters = self.volume.shape().clusters();
        self.volume
            .walk_records(&mut faults, &mut |number, record, faults| {
                for attribute in &record.attributes {
                    let Body::NonResident {
                        lowest_vcn, runs, ..
                    } = &attribute.body
                    else {
                        continue;
                    };
                    let bytes = record.bytes.get(runs.clone()).unwrap_or_default();
                    let Some(runs) = runlist::decode(bytes, *lowest_vcn, clusters) else {
                        faults.push(crate::ntfs::AuditFault::Runlist {
                            record: number,
                            name: crate::ntfs::audit::name_of(record),
                        });
                        continue;
                    };
                    let behind: u64 = runs.iter().map(|run| self.behind(run)).sum();
                    let is_bad_list = number == BAD_CLUSTERS && attribute.name == BAD_STREAM;
                    if is_bad_list {
                        bad = bad.saturating_add(behind);
                    } else if behind > 0 {
                        affected.push(Affected {
                            record: number,
                            id: attribute.id,
                            kind: attribute.kind,
                            clusters: behind,
                        });
                    }
                }
            })?;
        if let Some(fault) = faults.first() {
            return Err(TrimError::Unsound(fault.to_string()));
        }
        if bad > 0 {
            return Err(TrimError::BadClusters { clusters: bad });
        }
        affected.sort_unstable_by_key(Affected::order);
        Ok(affected)
    }

    /// Clusters of a run behind the new end.
    fn behind(&self, run: &Run) -> u64 {
        let clusters = run.volume_clusters();
        clusters.end.saturating_sub(clusters.start.max(self.limit))
    }

    fn stream(&self, record: u64, wanted: u32, name: &str) -> Result<NtfsFile<'_>, TrimError> {
        let base = self.volume.record(record)?;
        let found = self.volume.stream(record, &base, wanted, name)?;
        let (content, len_bytes) =
            found.ok_or_else(|| self.in_the_way(record, "it lacks an attribute it must have"))?;
        Ok(NtfsFile {
            volume: self.volume,
            record,
            len_bytes,
            content,
        })
    }

    /// Shows the bitmap up to the new end, in chunks with their first byte's number.
    fn walk_bitmap(&self, visit: &mut dyn FnMut(u64, Vec<u8>)) -> Result<(), TrimError> {
        let bitmap = self.stream(BITMAP, kind::DATA, "")?;
        let len_bytes = self.bitmap_bytes().min(bitmap.len_bytes());
        let mut at = 0;
        while at < len_bytes {
            let take = BITMAP_CHUNK.min(len_bytes - at);
            let mut bytes = vec![0; usize::try_from(take).unwrap_or(0)];
            bitmap.read_bytes(at, &mut bytes)?;
            visit(at, bytes);
            at += take;
        }
        Ok(())
    }

    /// Length of the bitmap afterwards: a bit for each cluster, in whole groups of eight bytes.
    fn bitmap_bytes(&self) -> u64 {
        self.limit.div_ceil(64).saturating_mul(8)
    }

    fn find_space(&mut self) -> Result<(), TrimError> {
        let mut space = Space::default();
        let mut open: Option<u64> = None;
        let limit = self.limit;
        self.walk_bitmap(&mut |at, bytes| {
            for (byte, first) in bytes.iter().zip((at * 8..).step_by(8)) {
                // Most bytes are all of one kind.
                if (*byte == 0xFF && open.is_none()) || (*byte == 0 && open.is_some()) {
                    continue;
                }
                for cluster in first..first + 8 {
                    let free = byte >> (cluster % 8) & 1 == 0 && cluster < limit;
                    match open {
                        None if free => open = Some(cluster),
                        Some(from) if !free => {
                            space.add(from..cluster.min(limit));
                            open = None;
                        }
                        _ => {}
                    }
                }
            }
        })?;
        if let Some(from) = open {
            space.add(from..limit);
        }
        self.space = space;
        Ok(())
    }

    pub(super) fn editor(&mut self, number: u64) -> Result<&mut Editor, TrimError> {
        if !self.editors.contains_key(&number) {
            let record = self.volume.record(number)?;
            self.editors.insert(number, Editor::new(record.bytes));
        }
        self.editors
            .get_mut(&number)
            .ok_or(TrimError::Size { sectors: 0 })
    }

    /// An attribute as its record has it now, with its runs.
    pub(super) fn attribute(
        &mut self,
        number: u64,
        id: u16,
    ) -> Result<(Attribute, Vec<Run>), TrimError> {
        let clusters = self.volume.shape().clusters();
        let lost = self.in_the_way(number, "an attribute is not where it was");
        let editor = self.editor(number)?;
        let Some(attribute) = editor.attribute(id) else {
            return Err(lost);
        };
        let Body::NonResident {
            lowest_vcn, runs, ..
        } = &attribute.body
        else {
            return Ok((attribute, Vec::new()));
        };
        match runlist::decode(editor.part(runs.clone()), *lowest_vcn, clusters) {
            Some(runs) => Ok((attribute, runs)),
            None => Err(lost),
        }
    }

    fn move_attribute(&mut self, found: Affected) -> Result<(), TrimError> {
        let (attribute, runs) = self.attribute(found.record, found.id)?;
        let whole = found.record == MIRROR;
        if runs.iter().all(|run| self.behind(run) == 0) {
            return Ok(());
        }
        let grain = if found.record == TABLE && found.kind == kind::DATA {
            let shape = self.volume.shape();
            u64::from(shape.record_bytes / shape.cluster_bytes.min(shape.record_bytes))
        } else if attribute.flags & COMPRESSED != 0 {
            COMPRESSION_UNIT
        } else {
            1
        };
        // The boot code and the first steps of a mount follow simple runlists only.
        let in_one = whole || found.kind == kind::ATTRIBUTE_LIST;
        let copied = !(found.record == LOG && found.kind == kind::DATA);
        let new = self.relocate(&runs, grain, (whole, in_one), copied);
        let new = new.ok_or_else(|| {
            self.in_the_way(
                found.record,
                "there is no free stretch for it in front of the new end",
            )
        })?;
        self.plan.pieces += 1;
        self.put_runs(found.record, found.id, &new)
    }

    /// Finds new places for all clusters behind the new end. `whole`: for all clusters of a file
    /// that has any there. `in_one`: in one stretch or not at all.
    fn relocate(
        &mut self,
        runs: &[Run],
        grain: u64,
        (whole, in_one): (bool, bool),
        copied: bool,
    ) -> Option<Vec<Run>> {
        let limit = self.limit;
        // Each run in two: what stays, and what goes.
        let mut parts: Vec<(Run, bool)> = Vec::new();
        for run in runs {
            let Some(Lcn(first)) = run.lcn else {
                parts.push((*run, false));
                continue;
            };
            let mut stays = limit.saturating_sub(first).min(run.clusters);
            if whole {
                stays = 0;
            } else if stays < run.clusters {
                // A grain is not torn where that can be helped.
                let over = run.vcn.0.saturating_add(stays) % grain;
                stays = stays.saturating_sub(over);
            }
            let cut = |from: u64, clusters: u64| Run {
                vcn: Vcn(run.vcn.0.saturating_add(from)),
                clusters,
                lcn: Some(Lcn(first.saturating_add(from))),
            };
            parts.push((cut(0, stays), false));
            parts.push((cut(stays, run.clusters - stays), true));
        }
        parts.retain(|(run, _)| run.clusters > 0);
        let mut new: Vec<Run> = Vec::new();
        let mut rest = &parts[..];
        while let Some(((run, goes), tail)) = rest.split_first() {
            if !goes {
                new.push(*run);
                rest = tail;
                continue;
            }
            // Parts that go and follow one another in the file go into one stretch.
            let len = rest.iter().take_while(|(_, goes)| *goes).count();
            let (going, tail) = rest.split_at_checked(len)?;
            rest = tail;
            for (run, _) in going {
                let old = run.volume_clusters();
                self.space
                    .give_back(old.start.min(limit)..old.end.min(limit));
            }
            let clusters = going.iter().map(|(run, _)| run.clusters).sum();
            let places = if in_one {
                vec![(self.space.take_whole(clusters)?, clusters)]
            } else {
                let pieces = self.space.take(clusters, grain);
                // A compression unit in pieces is read right as well; a file record is not by all.
                let mut torn = || {
                    self.space
                        .take(clusters, 1)
                        .filter(|_| copied && grain == COMPRESSION_UNIT)
                };
                match pieces {
                    Some(pieces) => pieces,
                    None => torn()?,
                }
            };
            self.assign(going, &places, copied, &mut new);
        }
        Some(join(new))
    }

    /// Puts runs into places of the same total length, and notes what moves.
    fn assign(
        &mut self,
        going: &[(Run, bool)],
        places: &[(Lcn, u64)],
        copied: bool,
        new: &mut Vec<Run>,
    ) {
        let mut places = places.iter().copied();
        let mut place = places.next();
        for (run, _) in going {
            let mut done = 0;
            while done < run.clusters {
                let Some((Lcn(to), room)) = place else { return };
                let take = room.min(run.clusters - done);
                let from = run.volume_clusters().start.saturating_add(done);
                new.push(Run {
                    vcn: Vcn(run.vcn.0.saturating_add(done)),
                    clusters: take,
                    lcn: Some(Lcn(to)),
                });
                if copied {
                    self.moved.insert(from, (take, to));
                }
                done += take;
                place = if take == room {
                    places.next()
                } else {
                    Some((Lcn(to.saturating_add(take)), room - take))
                };
            }
        }
    }

    /// Gives an attribute its new runs, in its record where there is room.
    fn put_runs(&mut self, number: u64, id: u16, runs: &[Run]) -> Result<(), TrimError> {
        let (attribute, _) = self.attribute(number, id)?;
        let editor = self.editor(number)?;
        let new = with_runs(editor.part(attribute.place.clone()), id, runs);
        if let Some(new) = new
            && editor.replace(attribute.place, &new)
        {
            return Ok(());
        }
        self.spill(number, id, runs)
    }

    /// The runs of the bitmap up to its new length.
    fn within_bitmap(&self, runs: &[Run]) -> Vec<Run> {
        let clusters = self.bitmap_bytes().div_ceil(self.cluster_bytes());
        let short = runs.iter().map(|run| Run {
            clusters: run.clusters.min(clusters.saturating_sub(run.vcn.0)),
            ..*run
        });
        join(short)
    }

    fn shorten_bitmap(&mut self) -> Result<(), TrimError> {
        let number = BITMAP;
        let (attribute, runs) = self.only_part(number, "")?;
        let short = self.within_bitmap(&runs);
        let kept = short.last().map_or(0, |run| run.end_vcn().0);
        for run in &runs {
            let from = kept.clamp(run.vcn.0, run.end_vcn().0) - run.vcn.0;
            let clusters = run.volume_clusters();
            self.space
                .give_back(clusters.start.saturating_add(from)..clusters.end.min(self.limit));
        }
        let (len_bytes, cluster) = (self.bitmap_bytes(), self.cluster_bytes());
        self.resize(
            number,
            &attribute,
            &short,
            kept.saturating_mul(cluster),
            len_bytes,
        )
    }

    fn shorten_bad_clusters(&mut self) -> Result<(), TrimError> {
        let number = BAD_CLUSTERS;
        let (attribute, runs) = self.only_part(number, BAD_STREAM)?;
        let limit = self.limit;
        let short = join(runs.iter().map(|run| Run {
            clusters: run.clusters.min(limit.saturating_sub(run.vcn.0)),
            ..*run
        }));
        let bytes = limit.saturating_mul(self.cluster_bytes());
        self.resize(number, &attribute, &short, bytes, bytes)
    }

    fn resize(
        &mut self,
        number: u64,
        attribute: &Attribute,
        runs: &[Run],
        allocated: u64,
        len_bytes: u64,
    ) -> Result<(), TrimError> {
        let full = self.in_the_way(number, "its record has no room");
        let editor = self.editor(number)?;
        let pattern = editor.part(attribute.place.clone());
        let Some(mut new) = with_runs(pattern, attribute.id, runs) else {
            return Err(full);
        };
        set_sizes(&mut new, allocated, len_bytes);
        if editor.replace(attribute.place.clone(), &new) {
            Ok(())
        } else {
            Err(full)
        }
    }

    /// A data stream of the file system's own that is whole in its base record, as it always is.
    fn only_part(&mut self, number: u64, name: &str) -> Result<(Attribute, Vec<Run>), TrimError> {
        let strange = "its clusters are described in a form not known here";
        let strange = self.in_the_way(number, strange);
        let attributes = self.editor(number)?.attributes();
        let in_parts = attributes
            .iter()
            .any(|attribute| attribute.kind == kind::ATTRIBUTE_LIST);
        let found = attributes
            .into_iter()
            .find(|found| found.kind == kind::DATA && found.name == name);
        match found {
            Some(found) if !in_parts && matches!(found.body, Body::NonResident { .. }) => {
                self.attribute(number, found.id)
            }
            _ => Err(strange),
        }
    }

    /// The log is empty afterwards, wherever it lies then.
    fn empty_log(&mut self) -> Result<(), TrimError> {
        let cluster = self.cluster_bytes();
        let (attribute, runs) = self.only_part(LOG, "")?;
        let Body::NonResident { data_len, .. } = attribute.body else {
            return Ok(());
        };
        for run in runs {
            let (Some(Lcn(lcn)), first) = (run.lcn, run.vcn.0.saturating_mul(cluster)) else {
                return Err(self.in_the_way(LOG, "it has holes"));
            };
            let len = run
                .clusters
                .saturating_mul(cluster)
                .min(data_len.saturating_sub(first));
            let at = lcn.saturating_mul(cluster);
            self.plan.emptied.push(at..at.saturating_add(len));
        }
        Ok(())
    }

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

    fn write_boot_sector(&mut self, total: u64) -> Result<(), TrimError> {
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
            if let Some(place) = sector.get_mut(at..at + 8) {
                place.copy_from_slice(&value.to_le_bytes());
            }
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
    fn write_records(&mut self) -> Result<(), TrimError> {
        let record_bytes = u64::from(self.volume.shape().record_bytes);
        let table = self.volume.table().to_vec();
        let mirror = self.stream(MIRROR, kind::DATA, "")?;
        let (mirrored, mirror_runs) = (mirror.len_bytes() / record_bytes, mirror.runs().to_vec());
        for (number, editor) in std::mem::take(&mut self.editors) {
            let bytes = editor.finish();
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

    fn write_content(&mut self) {
        for (offset, bytes) in std::mem::take(&mut self.content) {
            self.plan.patches.push(Patch { offset, bytes });
        }
    }

    /// Marks what was taken, what was given back, and the bits behind the last cluster, which are
    /// set by custom.
    fn write_bitmap(&mut self) -> Result<(), TrimError> {
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

    fn finish(self) -> TrimPlan {
        let mut plan = self.plan;
        // Moves that follow one another at both ends are one.
        for (from, (clusters, to)) in self.moved {
            match plan.moves.last_mut() {
                Some(last)
                    if last.from.0 + last.clusters == from && last.to.0 + last.clusters == to =>
                {
                    last.clusters += clusters;
                }
                _ => plan.moves.push(ClusterMove {
                    from: Lcn(from),
                    to: Lcn(to),
                    clusters,
                }),
            }
        }
        plan
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

/// Capacity and identity of a record that is not in use.
impl Trim<'_> {
    /// The number of a file record that is free, and its use count.
    pub(super) fn free_record(&mut self) -> Result<Option<(u64, u16)>, TrimError> {
        let map = self.stream(TABLE, kind::BITMAP, "")?;
        let table = self.volume.open_file(TABLE)?;
        let record_bytes = u64::from(self.volume.shape().record_bytes);
        let count = (table.len_bytes() / record_bytes).min(map.len_bytes().saturating_mul(8));
        let first = self
            .new_records
            .last()
            .map_or(FIRST_USER_RECORD, |last| last + 1);
        let mut chunk = vec![0; 4096];
        let mut byte_at = first / 8;
        while byte_at.saturating_mul(8) < count {
            let take = (map.len_bytes() - byte_at).min(4096);
            let part = chunk
                .get_mut(..usize::try_from(take).unwrap_or(0))
                .unwrap_or_default();
            map.read_bytes(byte_at, part)?;
            for (byte, base) in part.iter().zip((byte_at * 8..).step_by(8)) {
                for number in (base..base + 8).filter(|&number| number >= first && number < count) {
                    if byte >> (number % 8) & 1 == 0 {
                        return Ok(Some((number, self.use_count(&table, number)?)));
                    }
                }
            }
            byte_at += take;
        }
        Ok(None)
    }

    /// The use count of a record that is not in use: the old one is kept, since it was raised when
    /// the record was given up.
    fn use_count(&self, table: &NtfsFile<'_>, number: u64) -> Result<u16, TrimError> {
        let record_bytes = u64::from(self.volume.shape().record_bytes);
        let mut head = [0; 0x18];
        table.read_bytes(number.saturating_mul(record_bytes), &mut head)?;
        let old = u64_at(&head, 0x10).map_or(0, |field| field & 0xFFFF);
        let old = u16::try_from(old).unwrap_or(0);
        Ok(if head.starts_with(b"FILE") && old != 0 {
            old
        } else {
            1
        })
    }

    /// The record as it was read, for its name and for what it lists.
    pub(super) fn read(&self, number: u64) -> Result<FileRecord, TrimError> {
        Ok(self.volume.record(number)?)
    }
}
