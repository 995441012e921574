//! The audit: walks every file record and proves that the volume is consistent.
//!
//! Each cluster in a runlist belongs to one file only and is marked in use; each cluster marked in
//! use belongs to a file; each record in use is whole and is marked so. Reads the MFT once
//! and the two bitmaps once; holds one bit a cluster in memory.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::NtfsError;
use super::attribute::{Body, kind};
use super::file_record::{FileRecord, NOT_IN_USE};
use super::index;
use super::requirements;
use super::runlist;
use super::stream::NtfsFile;
use super::volume::NtfsVolume;
use crate::bytes::ReadBytes;

const BITMAP_RECORD: u64 = 6;
/// The systems make no volumes with more clusters. Bounds the map of owned clusters.
const MAX_CLUSTERS: u64 = 1 << 32;
/// One bit a record: enough for half a thousand million files. Bounds the allocation.
const MAX_RECORD_MAP_BYTES: u64 = 64 << 20;
/// The audit ends after this many faults: a volume with so many is not judged by the next.
const MAX_FAULTS: usize = 50;

/// Something that does not balance.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum AuditFault {
    /// A record that is marked in use but is invalid.
    #[error("file record {record}: {fault}")]
    Record {
        /// Its number.
        record: u64,
        /// What is wrong.
        fault: Cow<'static, str>,
    },
    /// A record that is in use but marked free.
    #[error("file record {record} ({file_name}) is in use but marked free")]
    RecordMarkedFree {
        /// Its number.
        record: u64,
        /// The file's name.
        #[serde(alias = "name")]
        file_name: String,
    },
    /// Records that are free but marked in use: ordinary on old volumes, and no danger to any file.
    #[error("file record {first} and {more} more are free but marked in use")]
    RecordsMarkedInUse {
        /// The first such record.
        first: u64,
        /// How many more there are.
        more: u64,
    },
    /// A record that extends one that is not there or is no base record.
    #[error("file record {record} extends record {base}, which is no base record in use")]
    Orphan {
        /// Its number.
        record: u64,
        /// The base record that it names.
        base: u64,
    },
    /// An attribute list that does not name what is there.
    #[error("file record {record} ({file_name}): the attribute list {fault}")]
    List {
        /// The base record.
        record: u64,
        /// The file's name.
        #[serde(alias = "name")]
        file_name: String,
        /// What is wrong.
        fault: Cow<'static, str>,
    },
    /// A runlist that is damaged or leaves the volume.
    #[error("file record {record} ({file_name}): a runlist is damaged or leaves the volume")]
    Runlist {
        /// Its number.
        record: u64,
        /// The file's name.
        #[serde(alias = "name")]
        file_name: String,
    },
    /// A cluster with two owners.
    #[error(
        "cluster {cluster} belongs to file record {record} ({file_name}) and to record {other} as well"
    )]
    CrossLinked {
        /// The cluster.
        cluster: u64,
        /// The owner found second.
        record: u64,
        /// Its name.
        #[serde(alias = "name")]
        file_name: String,
        /// The owner found first.
        other: u64,
    },
    /// Clusters that belong to a file but are marked free.
    #[error("cluster {first} and {more} more belong to file record {record} but are marked free")]
    MarkedFree {
        /// The first such cluster.
        first: u64,
        /// How many more there are.
        more: u64,
        /// The owner of the first.
        record: u64,
    },
    /// Clusters that are marked in use but belong to no file. Lost space, and no danger to any
    /// file.
    #[error("cluster {first} and {more} more are marked in use but belong to no file")]
    Lost {
        /// The first such cluster.
        first: u64,
        /// How many more there are.
        more: u64,
    },
    /// A bitmap that is too short.
    #[error("{what} is {len_bytes} bytes long, but {needed} are needed")]
    ShortBitmap {
        /// Which.
        what: Cow<'static, str>,
        /// Its length.
        len_bytes: u64,
        /// The length needed.
        needed: u64,
    },
    /// More faults than are listed, or a volume larger than is audited.
    #[error("{why}")]
    GivenUp {
        /// Why.
        why: Cow<'static, str>,
    },
}

impl AuditFault {
    /// True when no file is in danger by it.
    pub fn is_harmless(&self) -> bool {
        matches!(self, Self::Lost { .. } | Self::RecordsMarkedInUse { .. })
    }
}

/// What the audit found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Audit {
    /// Files and directories (base records in use).
    pub files: u64,
    /// Clusters that belong to one.
    pub clusters: u64,
    /// What does not balance.
    pub faults: Vec<AuditFault>,
}

/// One bit a cluster, or a file record.
struct Owned(Vec<u64>);

impl Owned {
    fn new(clusters: u64) -> Self {
        // Pages that are never written cost nothing: the allocation is of zeros.
        Self(vec![0; usize::try_from(clusters.div_ceil(64)).unwrap_or(0)])
    }

    /// Marks a cluster; `false` when it was marked already.
    fn mark(&mut self, cluster: u64) -> bool {
        let (word, bit) = (
            usize::try_from(cluster / 64).unwrap_or(usize::MAX),
            1u64 << (cluster % 64),
        );
        match self.0.get_mut(word) {
            Some(word) if *word & bit == 0 => {
                *word |= bit;
                true
            }
            _ => false,
        }
    }

    /// True when it is marked.
    fn holds(&self, cluster: u64) -> bool {
        let byte = self.byte(cluster / 8);
        byte >> (cluster % 8) & 1 == 1
    }

    /// Eight clusters from `8 * index` on.
    fn byte(&self, index: u64) -> u8 {
        let word = usize::try_from(index / 8)
            .ok()
            .and_then(|word| self.0.get(word))
            .copied()
            .unwrap_or(0);
        word.to_le_bytes()
            .get((index % 8) as usize)
            .copied()
            .unwrap_or(0)
    }
}

impl NtfsVolume<'_> {
    /// Audits the volume. An error only where the MFT or a bitmap cannot be read at all.
    pub fn audit(&self) -> Result<Audit, NtfsError> {
        let mut audit = Audit::default();
        let clusters = self.shape().clusters();
        if clusters > MAX_CLUSTERS {
            audit.faults.push(AuditFault::GivenUp {
                why: "the volume has more clusters than any system makes".into(),
            });
            return Ok(audit);
        }
        let mut owned = Owned::new(clusters);
        // By base record: (base, extension).
        let mut extensions: BTreeSet<(u64, u64)> = BTreeSet::new();
        let table = self.open_file(0)?;
        let mut bases = Owned::new(table.len_bytes() / u64::from(self.shape().record_bytes));
        let mut listed = Vec::new();
        self.walk_records(&mut audit.faults, &mut |number, record, faults| {
            if !record.is_extension {
                audit.files += 1;
                bases.mark(number);
                if has_list(record) {
                    listed.push(number);
                }
            } else {
                extensions.insert((record.base_record, number));
            }
            let shape = self.shape();
            let sizes = (shape.record_bytes, shape.cluster_bytes, shape.clusters());
            if let Some(fault) = requirements::fault(number, record, sizes) {
                let fault = fault.into();
                faults.push(AuditFault::Record {
                    record: number,
                    fault,
                });
            }
            audit.clusters += self.claim(number, record, &mut owned, faults);
        })?;
        for record in listed {
            if audit.faults.len() >= MAX_FAULTS {
                break;
            }
            if let Some((file_name, fault)) = self.list_fault(record, &extensions) {
                audit.faults.push(AuditFault::List {
                    record,
                    file_name,
                    fault: fault.into(),
                });
            }
        }
        let orphans = extensions
            .into_iter()
            .filter(|(base, _)| !bases.holds(*base));
        audit
            .faults
            .extend(orphans.map(|(base, record)| AuditFault::Orphan { record, base }));
        if audit.faults.len() < MAX_FAULTS {
            self.compare_bitmap(&owned, &mut audit.faults)?;
        } else {
            audit.faults.truncate(MAX_FAULTS);
            audit.faults.push(AuditFault::GivenUp {
                why: "there are more faults than are listed".into(),
            });
        }
        Ok(audit)
    }

    /// Shows every record in use to `visit`; what is wrong with records themselves becomes a fault.
    pub(super) fn walk_records(
        &self,
        faults: &mut Vec<AuditFault>,
        visit: &mut dyn FnMut(u64, &FileRecord, &mut Vec<AuditFault>),
    ) -> Result<(), NtfsError> {
        let table = self.open_file(0)?;
        let record_bytes = u64::from(self.shape().record_bytes);
        let count = table.len_bytes() / record_bytes;
        let in_use = self.record_map(count, faults)?;
        let mut only_marked = None::<(u64, u64)>;
        table.read_in_chunks(count * record_bytes, |at, chunk| {
            let records = chunk.chunks_exact_mut(self.shape().record_bytes as usize);
            for (number, bytes) in (at / record_bytes..).zip(records) {
                let marked = in_use.get(usize::try_from(number / 8).unwrap_or(usize::MAX));
                let marked = marked.is_some_and(|byte| byte >> (number % 8) & 1 == 1);
                match (FileRecord::parse_in_place(bytes), marked) {
                    (Ok(record), true) => visit(number, &record, faults),
                    (Ok(record), false) => {
                        faults.push(AuditFault::RecordMarkedFree {
                            record: number,
                            file_name: name_of(&record),
                        });
                    }
                    // The first records of the table are reserved, whether or not they are filled
                    // in.
                    (Err(_), true) if (12..24).contains(&number) => {}
                    (Err(NOT_IN_USE), true) => match &mut only_marked {
                        Some((_, more)) => *more += 1,
                        None => only_marked = Some((number, 0)),
                    },
                    (Err(fault), true) => faults.push(AuditFault::Record {
                        record: number,
                        fault: fault.into(),
                    }),
                    (Err(_), false) => {}
                }
            }
            if faults.len() < MAX_FAULTS {
                ControlFlow::Continue(())
            } else {
                ControlFlow::Break(())
            }
        })?;
        faults.extend(
            only_marked.map(|(first, more)| AuditFault::RecordsMarkedInUse { first, more }),
        );
        Ok(())
    }

    /// What is wrong with the attribute list of a base record, with the file's name: it must name
    /// attributes of this file that are there, and every extension of it. `extensions` are all
    /// (base, extension) of the volume.
    fn list_fault(
        &self,
        number: u64,
        extensions: &BTreeSet<(u64, u64)>,
    ) -> Option<(String, &'static str)> {
        let base = self.record(number).ok()?;
        let fault = |fault| Some((name_of(&base), fault));
        let Ok(Some(list)) = self.attribute_list(number, &base) else {
            return fault("cannot be read");
        };
        let mut by_record: BTreeMap<u64, Vec<(u32, u16)>> = BTreeMap::new();
        for entry in list {
            let named = by_record.entry(entry.record).or_default();
            named.push((entry.kind, entry.id));
        }
        for (&record, named) in &by_record {
            let Ok(holder) = self.record(record) else {
                return fault("names a record that cannot be read");
            };
            let belongs = record == number || (holder.is_extension && holder.base_record == number);
            if !belongs || (record != number && has_list(&holder)) {
                return fault("names a record of another file");
            }
            let there = |(kind, id): &(u32, u16)| {
                let mut attributes = holder.attributes.iter();
                attributes.any(|found| (found.kind, found.id) == (*kind, *id))
            };
            if !named.iter().all(there) {
                return fault("names an attribute that is not there");
            }
        }
        let unnamed = extensions
            .range((number, 0)..=(number, u64::MAX))
            .any(|(_, record)| !by_record.contains_key(record));
        if unnamed {
            return fault("leaves out a record that extends this one");
        }
        None
    }

    /// The bitmap of records in use.
    fn record_map(&self, count: u64, faults: &mut Vec<AuditFault>) -> Result<Vec<u8>, NtfsError> {
        let record = self.record(0)?;
        let found = self.stream(0, &record, kind::BITMAP, "")?;
        let (content, len_bytes) = found.ok_or_else(|| self.fault(0, "the MFT has no bitmap"))?;
        let map = NtfsFile {
            volume: self,
            record: 0,
            len_bytes,
            content,
        }
        .read_all(MAX_RECORD_MAP_BYTES)?;
        let needed = count.div_ceil(8);
        if len_bytes < needed {
            faults.push(AuditFault::ShortBitmap {
                what: "the MFT's bitmap".into(),
                len_bytes,
                needed,
            });
        }
        Ok(map)
    }

    /// Takes the clusters of a record's attributes into `owned`; how many.
    fn claim(
        &self,
        number: u64,
        record: &FileRecord,
        owned: &mut Owned,
        faults: &mut Vec<AuditFault>,
    ) -> u64 {
        let mut taken = 0;
        for attribute in &record.attributes {
            let Body::NonResident {
                lowest_vcn,
                runs,
                allocated_len,
                data_len,
                initialized_len,
                ..
            } = &attribute.body
            else {
                continue;
            };
            if lowest_vcn.0 == 0 && (initialized_len > data_len || data_len > allocated_len) {
                faults.push(AuditFault::Record {
                    record: number,
                    fault: "the sizes of an attribute contradict one another".into(),
                });
            }
            let bytes = record.bytes.get(runs.clone()).unwrap_or_default();
            let Some(runs) = runlist::decode(bytes, *lowest_vcn, self.shape().clusters()) else {
                faults.push(AuditFault::Runlist {
                    record: number,
                    file_name: name_of(record),
                });
                continue;
            };
            for run in runs {
                let mut clusters = run.volume_clusters();
                match clusters.find(|&cluster| !owned.mark(cluster)) {
                    None if run.lcn.is_none() => {}
                    None => taken += run.clusters,
                    Some(cluster) => {
                        let other = self.owner_of(cluster).unwrap_or(number);
                        faults.push(AuditFault::CrossLinked {
                            cluster,
                            record: number,
                            file_name: name_of(record),
                            other,
                        });
                    }
                }
                if faults.len() >= MAX_FAULTS {
                    return taken;
                }
            }
        }
        taken
    }

    /// The first record that names a cluster. Walks the table again: only for the message about a
    /// fault.
    fn owner_of(&self, cluster: u64) -> Option<u64> {
        let volume_clusters = self.shape().clusters();
        let holds = |record: &FileRecord, body: &Body| {
            let Body::NonResident {
                lowest_vcn, runs, ..
            } = body
            else {
                return false;
            };
            let bytes = record.bytes.get(runs.clone()).unwrap_or_default();
            let runs = runlist::decode(bytes, *lowest_vcn, volume_clusters).unwrap_or_default();
            runs.iter()
                .any(|run| run.volume_clusters().contains(&cluster))
        };
        let mut owner = None;
        let walked = self.walk_records(&mut Vec::new(), &mut |number, record, _| {
            if owner.is_none()
                && record
                    .attributes
                    .iter()
                    .any(|attribute| holds(record, &attribute.body))
            {
                owner = Some(number);
            }
        });
        walked.ok().and(owner)
    }

    /// Compares the owned clusters with the volume's bitmap.
    fn compare_bitmap(&self, owned: &Owned, faults: &mut Vec<AuditFault>) -> Result<(), NtfsError> {
        let clusters = self.shape().clusters();
        let bitmap = self.open_file(BITMAP_RECORD)?;
        let needed = clusters.div_ceil(8);
        if bitmap.len_bytes() < needed {
            let len_bytes = bitmap.len_bytes();
            faults.push(AuditFault::ShortBitmap {
                what: "the cluster bitmap".into(),
                len_bytes,
                needed,
            });
            return Ok(());
        }
        let (mut lost, mut free) = (None::<(u64, u64)>, None::<(u64, u64)>);
        let count = |found: &mut Option<(u64, u64)>, cluster: u64| match found {
            Some((_, more)) => *more += 1,
            None => *found = Some((cluster, 0)),
        };
        bitmap.read_in_chunks(needed, |at, chunk| {
            for (index, &marked) in (at..).zip(chunk.iter()) {
                let ours = owned.byte(index);
                // The last byte may have bits for clusters that are not there; they are set by
                // custom.
                for bit in (0..8).filter(|bit| (marked ^ ours) >> bit & 1 == 1) {
                    let cluster = index * 8 + bit;
                    match marked >> bit & 1 {
                        _ if cluster >= clusters => {}
                        1 => count(&mut lost, cluster),
                        _ => count(&mut free, cluster),
                    }
                }
            }
            ControlFlow::Continue(())
        })?;
        if let Some((first, more)) = free {
            let record = self.owner_of(first).unwrap_or(0);
            faults.push(AuditFault::MarkedFree {
                first,
                more,
                record,
            });
        }
        faults.extend(lost.map(|(first, more)| AuditFault::Lost { first, more }));
        Ok(())
    }
}

fn has_list(record: &FileRecord) -> bool {
    let mut attributes = record.attributes.iter();
    attributes.any(|attribute| attribute.kind == kind::ATTRIBUTE_LIST)
}

/// A file's name, from its record; empty where it has none there.
pub(super) fn name_of(record: &FileRecord) -> String {
    record
        .resident(kind::FILE_NAME)
        .and_then(index::file_name)
        .unwrap_or_default()
}
