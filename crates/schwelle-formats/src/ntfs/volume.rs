//! An opened volume: records, directories, files by path.

use std::collections::BTreeSet;
use std::ops::ControlFlow;

use super::NtfsError;
use super::attribute::{Attribute, Body, COMPRESSED, ENCRYPTED, LZNT1, kind};
use super::attribute_list::{self, MAX_LIST_BYTES};
use super::boot_sector::NtfsShape;
use super::file_record::FileRecord;
use super::index::{self, DirEntry, Node};
use super::runlist::{self, Run, Vcn};
use super::stream::{Content, NtfsFile};
use crate::bytes::ReadBytes;
use crate::device::ReadDevice;

/// File record of the root directory.
pub const ROOT_RECORD: u64 = 5;
/// Nodes of one directory's index, at most: room for more than a million names.
const MAX_INDEX_NODES: usize = 1 << 16;
/// Names listed of one directory, at most. What is listed here are folders of boot files.
const MAX_LISTED: usize = 1 << 16;

/// An NTFS volume.
#[derive(Debug)]
pub struct NtfsVolume<'a> {
    device: &'a dyn ReadDevice,
    shape: NtfsShape,
    /// Where the MFT lies.
    table: Vec<Run>,
}

impl<'a> NtfsVolume<'a> {
    /// Opens the volume on `device`, a window on its partition.
    pub fn open(device: &'a dyn ReadDevice) -> Result<Self, NtfsError> {
        let geometry = device.geometry();
        let lba = device.disk_offset() / u64::from(geometry.logical_sector);
        let fault = |field| NtfsError::BootSector { lba, field };
        let sector = device.read_vec(0, geometry.logical_sector as usize)?;
        let shape = NtfsShape::parse(&sector).map_err(fault)?;
        if shape
            .total_sectors
            .saturating_mul(shape.sector_bytes.into())
            > geometry.len_bytes()
        {
            return Err(fault("total sectors"));
        }
        let records_per_cluster_run =
            u64::from(shape.record_bytes).div_ceil(shape.cluster_bytes.into());
        // The first record is at hand by the boot sector alone; it says where the rest of the table
        // lies.
        let first = Run {
            vcn: Vcn(0),
            clusters: records_per_cluster_run,
            lcn: Some(shape.mft_lcn),
        };
        let mut volume = Self {
            device,
            shape,
            table: vec![first],
        };
        let record = volume.record(0)?;
        let own = record
            .attributes
            .iter()
            .find(|attribute| attribute.kind == kind::DATA && attribute.name.is_empty());
        if let Some(Attribute {
            body:
                Body::NonResident {
                    lowest_vcn: Vcn(0),
                    runs,
                    ..
                },
            ..
        }) = own
        {
            volume.table = volume.decode(&record, 0, runs.clone(), Vcn(0))?;
        }
        // With an attribute list, further parts of the table are described in records of their own. The list is
        // in the order of clusters, and each of these records lies in the parts before its own.
        for entry in volume.attribute_list(0, &record)?.unwrap_or_default() {
            if entry.record == 0 || entry.kind != kind::DATA || !entry.name.is_empty() {
                continue;
            }
            let holder = volume.record(entry.record)?;
            let mut attributes = holder.attributes.iter();
            let part = attributes.find(|part| part.kind == kind::DATA && part.id == entry.id);
            if let Some(Body::NonResident {
                lowest_vcn, runs, ..
            }) = part.map(|part| &part.body)
            {
                let more = volume.decode(&holder, entry.record, runs.clone(), *lowest_vcn)?;
                volume.table.extend(more);
            }
        }
        let file = volume.stream(0, &record, kind::DATA, "")?;
        let Some(Content::Clusters { runs, .. }) = file.map(|(content, _)| content) else {
            return Err(volume.fault(0, "the MFT has no clusters"));
        };
        volume.table = runs;
        Ok(volume)
    }

    /// What the boot sector says.
    pub fn shape(&self) -> &NtfsShape {
        &self.shape
    }

    /// Where the MFT lies.
    pub(super) fn table(&self) -> &[Run] {
        &self.table
    }

    /// The device below: a window on the partition.
    pub(super) fn device(&self) -> &'a dyn ReadDevice {
        self.device
    }

    /// Byte offset on the volume of a record; `None` when the table does not reach so far.
    pub fn record_offset(&self, number: u64) -> Option<u64> {
        self.table_offset(number.checked_mul(self.shape.record_bytes.into())?)
    }

    /// Byte offset on the volume of a byte of the MFT.
    pub(super) fn table_offset(&self, at: u64) -> Option<u64> {
        let vcn = Vcn(at / u64::from(self.shape.cluster_bytes));
        let run = self.table.iter().find(|run| run.holds(vcn))?;
        let within = at.checked_sub(self.shape.byte_in_file(run.vcn)?)?;
        self.shape.byte_of(run.lcn?)?.checked_add(within)
    }

    pub(super) fn fault(&self, record: u64, fault: &'static str) -> NtfsError {
        let at = self
            .record_offset(record)
            .unwrap_or(0)
            .saturating_add(self.device.disk_offset());
        let lba = at / u64::from(self.device.geometry().logical_sector);
        NtfsError::Record { lba, record, fault }
    }

    pub(super) fn record(&self, number: u64) -> Result<FileRecord<'static>, NtfsError> {
        let outside = || self.fault(number, "outside the MFT");
        let record_bytes = self.shape.record_bytes;
        let first = number
            .checked_mul(record_bytes.into())
            .ok_or_else(outside)?;
        // A record larger than a cluster may lie in pieces; none of the utilities makes such a
        // table, but it is read right.
        let piece = record_bytes.min(self.shape.cluster_bytes);
        let mut bytes = Vec::new();
        for done in (0..record_bytes).step_by(piece as usize) {
            let at = first
                .checked_add(done.into())
                .and_then(|at| self.table_offset(at));
            bytes.extend(
                self.device
                    .read_vec(at.ok_or_else(outside)?, piece as usize)?,
            );
        }
        FileRecord::parse(bytes).map_err(|fault| self.fault(number, fault))
    }

    fn decode(
        &self,
        record: &FileRecord,
        number: u64,
        runs: std::ops::Range<usize>,
        vcn: Vcn,
    ) -> Result<Vec<Run>, NtfsError> {
        let bytes = record.bytes.get(runs).unwrap_or_default();
        runlist::decode(bytes, vcn, self.shape.clusters())
            .ok_or_else(|| self.fault(number, "a runlist is damaged"))
    }

    /// A stream of a file: joins its parts by type, name and first cluster, over all records the
    /// file has. `None` when there is no such attribute. The length is that of the data.
    pub(super) fn stream(
        &self,
        number: u64,
        base: &FileRecord,
        wanted: u32,
        name: &str,
    ) -> Result<Option<(Content, u64)>, NtfsError> {
        let fits = |attribute: &&Attribute| attribute.kind == wanted && attribute.name == name;
        let mut parts: Vec<(Vec<Run>, Attribute)> = Vec::new();
        let mut take = |number: u64,
                        record: &FileRecord,
                        attribute: &Attribute|
         -> Result<Option<Vec<u8>>, NtfsError> {
            if attribute.flags & COMPRESSED > LZNT1 {
                return Err(NtfsError::Unsupported {
                    record: number,
                    what: "the file is compressed in an unknown way",
                });
            }
            if wanted == kind::DATA && attribute.flags & ENCRYPTED != 0 {
                return Err(NtfsError::Unsupported {
                    record: number,
                    what: "the file is encrypted",
                });
            }
            match &attribute.body {
                Body::Resident(range) => Ok(Some(
                    record.bytes.get(range.clone()).unwrap_or_default().to_vec(),
                )),
                Body::NonResident {
                    lowest_vcn, runs, ..
                } => {
                    parts.push((
                        self.decode(record, number, runs.clone(), *lowest_vcn)?,
                        attribute.clone(),
                    ));
                    Ok(None)
                }
            }
        };
        let resident = |value: Vec<u8>| {
            let len_bytes = value.len() as u64;
            Some((Content::Resident(value), len_bytes))
        };
        if let Some(list) = self.attribute_list(number, base)? {
            for entry in list
                .iter()
                .filter(|entry| entry.kind == wanted && entry.name == name)
            {
                let other;
                let holder = if entry.record == number {
                    base
                } else {
                    other = self.record(entry.record)?;
                    if other.base_record != number {
                        return Err(
                            self.fault(entry.record, "does not belong to the record that names it")
                        );
                    }
                    &other
                };
                let attribute = holder
                    .attributes
                    .iter()
                    .filter(fits)
                    .find(|attribute| attribute.id == entry.id);
                let attribute = attribute.ok_or_else(|| {
                    self.fault(entry.record, "lacks an attribute that the list names")
                })?;
                if let Some(value) = take(entry.record, holder, attribute)? {
                    return Ok(resident(value));
                }
            }
        } else if let Some(attribute) = base.attributes.iter().find(fits)
            && let Some(value) = take(number, base, attribute)?
        {
            return Ok(resident(value));
        }
        parts.sort_by_key(|(runs, _)| runs.first().map(|run| run.vcn));
        let Some((
            _,
            Attribute {
                body:
                    Body::NonResident {
                        lowest_vcn: Vcn(0),
                        data_len,
                        initialized_len,
                        unit_power,
                        ..
                    },
                flags,
                ..
            },
        )) = parts.first()
        else {
            return if parts.is_empty() {
                Ok(None)
            } else {
                Err(self.fault(number, "the first part of a runlist is missing"))
            };
        };
        let (len_bytes, initialized_len) = (*data_len, *initialized_len);
        let unit_bytes = match (flags & COMPRESSED, *unit_power) {
            (0, _) | (_, 0) => None,
            (_, power) => Some(self.unit_bytes(number, power)?),
        };
        let runs: Vec<Run> = parts.into_iter().flat_map(|(runs, _)| runs).collect();
        let gapless = runs
            .iter()
            .try_fold(Vcn(0), |vcn, run| (run.vcn == vcn).then(|| run.end_vcn()));
        let covered = gapless.and_then(|vcn| self.shape.byte_in_file(vcn));
        if covered.is_none_or(|covered| covered < len_bytes) || initialized_len > len_bytes {
            return Err(self.fault(number, "a runlist does not cover its file"));
        }
        let content = match unit_bytes {
            None => Content::Clusters {
                runs,
                initialized_len,
            },
            Some(unit_bytes) => Content::Compressed {
                runs,
                initialized_len,
                unit_bytes,
            },
        };
        Ok(Some((content, len_bytes)))
    }

    pub(super) fn attribute_list(
        &self,
        number: u64,
        base: &FileRecord,
    ) -> Result<Option<Vec<attribute_list::ListEntry>>, NtfsError> {
        let Some(bytes) = self.attribute_list_bytes(number, base)? else {
            return Ok(None);
        };
        attribute_list::parse(&bytes)
            .map(Some)
            .ok_or_else(|| self.fault(number, "the attribute list is damaged"))
    }

    /// The attribute list of a file as it lies on the volume; `None` where it has none.
    pub(super) fn attribute_list_bytes(
        &self,
        number: u64,
        base: &FileRecord,
    ) -> Result<Option<Vec<u8>>, NtfsError> {
        let Some(attribute) = base
            .attributes
            .iter()
            .find(|attribute| attribute.kind == kind::ATTRIBUTE_LIST)
        else {
            return Ok(None);
        };
        let bytes = match &attribute.body {
            Body::Resident(range) => base.bytes.get(range.clone()).unwrap_or_default().to_vec(),
            Body::NonResident {
                runs,
                data_len,
                initialized_len,
                lowest_vcn,
                ..
            } => {
                let runs = self.decode(base, number, runs.clone(), *lowest_vcn)?;
                let content = Content::Clusters {
                    runs,
                    initialized_len: *initialized_len,
                };
                NtfsFile {
                    volume: self,
                    record: number,
                    len_bytes: *data_len,
                    content,
                }
                .read_all(MAX_LIST_BYTES)?
            }
        };
        Ok(Some(bytes))
    }

    /// Opens the unnamed stream of the file with this record number.
    pub fn open_file(&self, number: u64) -> Result<NtfsFile<'_>, NtfsError> {
        let record = self.record(number)?;
        if record.base_record != 0 {
            return Err(self.fault(number, "is only the extension of another record"));
        }
        let stream = self.stream(number, &record, kind::DATA, "")?;
        let (content, len_bytes) = stream.ok_or_else(|| self.fault(number, "has no content"))?;
        let content = match self.overlay(number, &record, len_bytes)? {
            Some(overlay) => Content::Overlay(Box::new(overlay)),
            None => content,
        };
        Ok(NtfsFile {
            volume: self,
            record: number,
            len_bytes,
            content,
        })
    }

    /// The names in the directory with this record number; at most 65,536, or it is an error.
    pub fn read_dir(&self, number: u64) -> Result<Vec<DirEntry>, NtfsError> {
        let mut entries = Vec::new();
        self.walk_dir(number, &mut |entry| {
            entries.push(entry);
            if entries.len() > MAX_LISTED {
                ControlFlow::Break(())
            } else {
                ControlFlow::Continue(())
            }
        })?;
        match entries.len() {
            0..=MAX_LISTED => Ok(entries),
            _ => Err(self.fault(number, "has more names than are listed")),
        }
    }

    /// The names in the root directory.
    pub fn root(&self) -> Result<Vec<DirEntry>, NtfsError> {
        self.read_dir(ROOT_RECORD)
    }

    /// Shows every name in a directory to `visit`, node by node, until it breaks off. Holds no more
    /// than a node in memory.
    fn walk_dir(
        &self,
        number: u64,
        visit: &mut dyn FnMut(DirEntry) -> ControlFlow<()>,
    ) -> Result<(), NtfsError> {
        let record = self.record(number)?;
        if !record.is_directory {
            return Err(self.fault(number, "is not a directory"));
        }
        let damaged = |fault| self.fault(number, fault);
        let root = self.stream(number, &record, kind::INDEX_ROOT, index::NAME)?;
        let (content, len_bytes) = root.ok_or_else(|| damaged("has no index"))?;
        let root = NtfsFile {
            volume: self,
            record: number,
            len_bytes,
            content,
        };
        let root = root.read_all(self.shape.record_bytes.into())?;
        let (
            Node {
                entries,
                mut children,
            },
            block_bytes,
        ) = index::parse_root(&root).map_err(damaged)?;
        if entries.into_iter().try_for_each(&mut *visit).is_break() || children.is_empty() {
            return Ok(());
        }
        let blocks = self.stream(number, &record, kind::INDEX_ALLOCATION, index::NAME)?;
        let (content, len_bytes) =
            blocks.ok_or_else(|| damaged("has index children but no index blocks"))?;
        let blocks = NtfsFile {
            volume: self,
            record: number,
            len_bytes,
            content,
        };
        // Children are counted in clusters, or in 512-byte units where a cluster is larger than a
        // block.
        let unit = if self.shape.cluster_bytes <= block_bytes {
            u64::from(self.shape.cluster_bytes)
        } else {
            512
        };
        let mut seen = BTreeSet::new();
        while let Some(place) = children.pop() {
            if !seen.insert(place) || seen.len() > MAX_INDEX_NODES {
                return Err(damaged("the index loops"));
            }
            let mut block = vec![0; block_bytes as usize];
            blocks.read_bytes(place.saturating_mul(unit), &mut block)?;
            let node = index::parse_block(block).map_err(damaged)?;
            if node
                .entries
                .into_iter()
                .try_for_each(&mut *visit)
                .is_break()
            {
                return Ok(());
            }
            children.extend(node.children);
        }
        Ok(())
    }

    /// Finds a file or directory by its path from the root, with backslashes, whatever the case.
    pub fn find(&self, path: &str) -> Result<Option<DirEntry>, NtfsError> {
        let mut at = DirEntry {
            name: String::new(),
            record: ROOT_RECORD,
            is_directory: true,
        };
        for name in path.split('\\').filter(|name| !name.is_empty()) {
            if !at.is_directory {
                return Ok(None);
            }
            let wanted = name.to_uppercase();
            let mut found = None;
            self.walk_dir(at.record, &mut |entry| {
                if entry.name.to_uppercase() == wanted {
                    found = Some(entry);
                    return ControlFlow::Break(());
                }
                ControlFlow::Continue(())
            })?;
            match found {
                Some(entry) => at = entry,
                None => return Ok(None),
            }
        }
        Ok(Some(at))
    }
}
