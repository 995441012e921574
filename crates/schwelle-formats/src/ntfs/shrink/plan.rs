//! The plan of a shrink, and how it comes about.

use std::collections::{BTreeMap, BTreeSet};

use super::editor::Editor;
use super::list::Item;
use super::space::Space;
use crate::bytes::ReadBytes;
use crate::ntfs::NtfsError;
use crate::ntfs::attribute::{Attribute, Body, kind};
use crate::ntfs::runlist::{self, Lcn, Run};
use crate::ntfs::shadow::is_store;
use crate::ntfs::stream::NtfsFile;
use crate::ntfs::volume::NtfsVolume;

pub(super) const TABLE: u64 = 0;
pub(super) const MIRROR: u64 = 1;
pub(super) const BITMAP: u64 = 6;
pub(super) const BAD_CLUSTERS: u64 = 8;
/// Records that belong to the file system itself.
pub(super) const FIRST_USER_RECORD: u64 = 24;
pub(super) const BAD_STREAM: &str = "$Bad";
/// Bitmap read at a time, in bytes.
const BITMAP_CHUNK: usize = 1 << 20;

/// Clusters to be copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClusterMove {
    /// First cluster of the source: beyond the new end.
    pub from: Lcn,
    /// First cluster of the destination: free, and before the new end.
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
pub struct ShrinkPlan {
    /// Sectors of the partition afterwards.
    pub sectors: u64,
    /// What is copied, by source.
    pub moves: Vec<ClusterMove>,
    /// Metadata that changes. They do not overlap.
    pub patches: Vec<Patch>,
    /// Attributes whose clusters move.
    pub pieces: u64,
    /// Bytes that are free before the new end, before anything moves there.
    pub free_bytes: u64,
}

/// Why a volume cannot be shrunk to this size.
#[derive(Debug, thiserror::Error)]
pub enum ShrinkError {
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
    /// What must move does not fit before the new end.
    #[error("{needed} bytes lie beyond the new end, but only {free} are free before it")]
    Full {
        /// Bytes to be moved.
        needed: u64,
        /// Bytes free.
        free: u64,
    },
    /// Clusters to be given up are known to be bad: nothing should be put there.
    #[error("{clusters} clusters beyond the new end are marked bad")]
    BadClusters {
        /// How many.
        clusters: u64,
    },
    /// What shadow copies remember lies there. The catalog names it by its place, so it cannot be moved.
    #[error("restore points (shadow copies) lie there, which cannot be moved")]
    ShadowCopies,
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

/// An attribute with clusters beyond the new end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Affected {
    pub(super) record: u64,
    pub(super) id: u16,
    pub(super) kind: u32,
    clusters: u64,
}

impl Affected {
    /// The MFT first, while there is the most room in one piece; then the rest of the file
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

/// A shrink being planned.
pub(super) struct Shrink<'v> {
    pub(super) volume: &'v NtfsVolume<'v>,
    /// Clusters of the volume afterwards.
    pub(super) limit: u64,
    pub(super) space: Space,
    pub(super) editors: BTreeMap<u64, Editor>,
    /// Attribute lists that have been changed, by base record.
    pub(super) lists: BTreeMap<u64, Vec<Item>>,
    /// Clusters taken for attribute lists in this shrink, by first cluster.
    pub(super) fresh: BTreeMap<u64, u64>,
    /// Content of those, by byte offset.
    pub(super) content: BTreeMap<u64, Vec<u8>>,
    /// Records newly put in use.
    pub(super) new_records: Vec<u64>,
    /// Where clusters beyond the new end go: by old cluster, (length, new cluster).
    pub(super) moved: BTreeMap<u64, (u64, u64)>,
    pub(super) plan: ShrinkPlan,
}

impl NtfsVolume<'_> {
    /// Plans how the volume gets into a partition of `sectors` sectors (of the volume's own size;
    /// the last one is for the copy of the boot sector). The volume must have proven sound.
    pub fn plan_shrink(&self, sectors: u64) -> Result<ShrinkPlan, ShrinkError> {
        let shape = *self.shape();
        let cluster_sectors = u64::from(shape.cluster_bytes / shape.sector_bytes);
        let total = sectors
            .checked_sub(1)
            .filter(|&total| total < shape.total_sectors && total > cluster_sectors)
            .ok_or(ShrinkError::Size { sectors })?;
        let limit = total / cluster_sectors;
        let mut shrink = Shrink {
            volume: self,
            limit,
            space: Space::default(),
            editors: BTreeMap::new(),
            lists: BTreeMap::new(),
            fresh: BTreeMap::new(),
            content: BTreeMap::new(),
            new_records: Vec::new(),
            moved: BTreeMap::new(),
            plan: ShrinkPlan {
                sectors,
                ..ShrinkPlan::default()
            },
        };
        let affected = shrink.scan()?;
        shrink.find_space()?;
        let needed: u64 = affected.iter().map(|found| found.clusters).sum();
        let bytes = |clusters: u64| clusters.saturating_mul(shape.cluster_bytes.into());
        shrink.plan.free_bytes = bytes(shrink.space.free());
        if needed > shrink.space.free() {
            return Err(ShrinkError::Full {
                needed: bytes(needed),
                free: bytes(shrink.space.free()),
            });
        }
        shrink.shorten_bad_clusters()?;
        shrink.shorten_bitmap()?;
        for found in affected {
            shrink.move_attribute(found)?;
        }
        shrink.write_boot_sector(total)?;
        shrink.write_records()?;
        shrink.write_content();
        shrink.write_bitmap()?;
        Ok(shrink.finish())
    }
}

impl Shrink<'_> {
    pub(super) fn cluster_bytes(&self) -> u64 {
        self.volume.shape().cluster_bytes.into()
    }

    pub(super) fn in_the_way(&self, record: u64, why: &'static str) -> ShrinkError {
        let found = self.volume.record(record);
        let name = found.map(|found| crate::ntfs::audit::name_of(&found));
        ShrinkError::InTheWay {
            record,
            name: name.unwrap_or_default(),
            why,
        }
    }

    /// Finds every attribute with clusters beyond the new end.
    fn scan(&self) -> Result<Vec<Affected>, ShrinkError> {
        let mut affected = Vec::new();
        let mut holders = BTreeSet::new();
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
                            file_name: crate::ntfs::audit::name_of(record),
                        });
                        continue;
                    };
                    let behind: u64 = runs.iter().map(|run| self.behind(run)).sum();
                    let is_bad_list = number == BAD_CLUSTERS && attribute.name == BAD_STREAM;
                    if is_bad_list {
                        bad = bad.saturating_add(behind);
                    } else if behind > 0 {
                        holders.insert(if record.is_extension {
                            record.base_record
                        } else {
                            number
                        });
                        affected.push(Affected {
                            record: number,
                            id: attribute.id,
                            kind: attribute.kind,
                            clusters: behind,
                        });
                    }
                }
            })?;
        if let Some(fault) = faults.iter().find(|fault| !fault.is_harmless()) {
            return Err(ShrinkError::Unsound(fault.to_string()));
        }
        if bad > 0 {
            return Err(ShrinkError::BadClusters { clusters: bad });
        }
        for base in holders {
            if is_store(&self.volume.record(base)?) {
                return Err(ShrinkError::ShadowCopies);
            }
        }
        affected.sort_unstable_by_key(Affected::order);
        Ok(affected)
    }

    /// Clusters of a run beyond the new end.
    pub(super) fn behind(&self, run: &Run) -> u64 {
        let clusters = run.volume_clusters();
        clusters.end.saturating_sub(clusters.start.max(self.limit))
    }

    pub(super) fn stream(
        &self,
        record: u64,
        wanted: u32,
        name: &str,
    ) -> Result<NtfsFile<'_>, ShrinkError> {
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
    pub(super) fn walk_bitmap(
        &self,
        visit: &mut dyn FnMut(u64, Vec<u8>),
    ) -> Result<(), ShrinkError> {
        let bitmap = self.stream(BITMAP, kind::DATA, "")?;
        let len_bytes = self.bitmap_bytes().min(bitmap.len_bytes());
        let mut at = 0;
        while at < len_bytes {
            let left = usize::try_from(len_bytes - at);
            let take = left.map_or(BITMAP_CHUNK, |left| left.min(BITMAP_CHUNK));
            let mut bytes = vec![0; take];
            bitmap.read_bytes(at, &mut bytes)?;
            visit(at, bytes);
            at += take as u64;
        }
        Ok(())
    }

    /// Length of the bitmap afterwards: a bit for each cluster, in whole groups of eight bytes.
    pub(super) fn bitmap_bytes(&self) -> u64 {
        self.limit.div_ceil(64).saturating_mul(8)
    }

    fn find_space(&mut self) -> Result<(), ShrinkError> {
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

    pub(super) fn editor(&mut self, number: u64) -> Result<&mut Editor, ShrinkError> {
        if !self.editors.contains_key(&number) {
            let record = self.volume.record(number)?;
            let editor = Editor::new(record.bytes.into_owned());
            let editor = editor.ok_or_else(|| self.in_the_way(number, "its header is invalid"))?;
            self.editors.insert(number, editor);
        }
        self.editors
            .get_mut(&number)
            .ok_or(ShrinkError::Size { sectors: 0 })
    }

    /// An attribute as its record has it now, with its runs.
    pub(super) fn attribute(
        &mut self,
        number: u64,
        id: u16,
    ) -> Result<(Attribute, Vec<Run>), ShrinkError> {
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

    fn finish(self) -> ShrinkPlan {
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
