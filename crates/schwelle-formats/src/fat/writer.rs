//! Makes a FAT32 volume and fills it, file by file.

#![expect(
    clippy::indexing_slicing,
    clippy::arithmetic_side_effects,
    reason = "sizes and places here are made by this file, none is read from a disk"
)]

use std::collections::{BTreeMap, BTreeSet};

use zerocopy::little_endian::U32;
use zerocopy::{FromZeros, Immutable, IntoBytes, KnownLayout, Unaligned};

use super::bpb::{BACKUP_SECTOR, FSINFO_SECTOR, FatShape};
use super::check::FatFault;
use super::dir_entry::{
    ATTR_ARCHIVE, ATTR_DIRECTORY, ATTR_VOLUME_ID, DosTime, ENTRY_BYTES, ShortEntry, write_long,
};
use super::name::{is_valid_long, same_name, short_name};
use super::volume::FatError;
use crate::device::{BlockDevice, DeviceError, Extent, Geometry};

pub(super) const END_OF_CHAIN: u32 = 0x0FFF_FFFF;
const ROOT: usize = 0;

/// Why a volume could not be made.
#[derive(Debug, thiserror::Error)]
pub enum FatWriteError {
    /// The place does not make a FAT32 volume.
    #[error("{len_bytes} bytes do not make a FAT32 volume")]
    Size {
        /// Bytes of the place.
        len_bytes: u64,
    },
    /// No cluster left.
    #[error("the volume is full: {path} does not fit")]
    Full {
        /// What did not fit.
        path: String,
    },
    /// A name that FAT cannot hold, or that is there already.
    #[error("the name {path:?} cannot be used on a FAT volume, or is there already")]
    Name {
        /// The path.
        path: String,
    },
    /// A volume that exists cannot be added to.
    #[error("{fault}")]
    Unfit {
        /// Why not.
        fault: &'static str,
    },
    /// A volume that exists is not sound.
    #[error("{0}")]
    NotSound(FatFault),
    /// A volume that exists could not be read.
    #[error(transparent)]
    Read(#[from] FatError),
    /// The device failed.
    #[error(transparent)]
    Device(#[from] DeviceError),
}

/// A volume label: eleven bytes, upper case, padded with blanks.
pub type FatLabel = [u8; 11];

#[derive(Debug, Clone, Copy, FromZeros, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawFsInfo {
    lead: [u8; 4],
    reserved: [u8; 480],
    signature: [u8; 4],
    free_clusters: U32,
    next_free: U32,
    reserved_2: [u8; 12],
    trail: U32,
}

const _: () = assert!(size_of::<RawFsInfo>() == 512);

#[derive(Debug)]
struct Folder {
    parent: usize,
    cluster: u32,
    entries: Vec<u8>,
    short_names: BTreeSet<[u8; 11]>,
    /// Long names with the folder after them, if it is one.
    names: BTreeMap<String, Option<usize>>,
}

/// A volume being made. Files are written as they come; directories, both FATs and the boot sectors
/// by [`finish`](Self::finish), so that a volume not finished is no volume.
#[derive(Debug)]
pub struct FatWriter<'a> {
    device: &'a dyn BlockDevice,
    shape: FatShape,
    label: FatLabel,
    time: DosTime,
    /// Entries of the FAT in use, from cluster 0 on.
    fat: Vec<u32>,
    folders: Vec<Folder>,
}

impl<'a> FatWriter<'a> {
    /// Begins a volume on `device`, the window on a partition that lies at `extent` of its disk.
    pub fn new(
        device: &'a dyn BlockDevice,
        extent: Extent,
        volume_id: u32,
        label: FatLabel,
        time: DosTime,
    ) -> Result<Self, FatWriteError> {
        let geometry: Geometry = device.geometry();
        let size = FatWriteError::Size {
            len_bytes: geometry.len_bytes(),
        };
        let shape = FatShape::plan(geometry, extent, volume_id).ok_or(size)?;
        let root = Folder {
            parent: ROOT,
            cluster: 2,
            entries: ShortEntry {
                name: label,
                attributes: ATTR_VOLUME_ID,
                cluster: 0,
                len_bytes: 0,
            }
            .write(time)
            .to_vec(),
            short_names: BTreeSet::new(),
            names: BTreeMap::new(),
        };
        // Entry 0 repeats the media byte, entry 1 says "cleanly closed, no errors".
        let fat = vec![0x0FFF_FFF8, END_OF_CHAIN, END_OF_CHAIN];
        Ok(Self {
            device,
            shape,
            label,
            time,
            fat,
            folders: vec![root],
        })
    }

    /// Bytes that are still free, in whole clusters.
    pub fn free_bytes(&self) -> u64 {
        let used = (self.fat.len() as u64).saturating_sub(2);
        self.shape
            .clusters
            .saturating_sub(used)
            .saturating_mul(self.shape.cluster_bytes().into())
    }

    /// Writes a file. `path` is its names from the root on; folders on the way are made.
    pub fn write_file(&mut self, path: &[&str], content: &[u8]) -> Result<(), FatWriteError> {
        let joined = || path.join("\\");
        let (name, folders) = path
            .split_last()
            .ok_or_else(|| FatWriteError::Name { path: joined() })?;
        let folder = self.folder(folders)?;
        let len_bytes = u32::try_from(content.len())
            .map_err(|_too_large| FatWriteError::Full { path: joined() })?;
        let clusters = content.len().div_ceil(self.shape.cluster_bytes() as usize);
        let cluster = if clusters == 0 {
            0
        } else {
            self.allocate(clusters, &joined())?
        };
        if cluster != 0 {
            self.write_clusters(cluster, content)?;
        }
        self.add(folder, name, ATTR_ARCHIVE, cluster, len_bytes, None)
    }

    fn folder(&mut self, path: &[&str]) -> Result<usize, FatWriteError> {
        let mut at = ROOT;
        for name in path {
            let known = self.folders[at]
                .names
                .iter()
                .find(|(known, _)| same_name(known, name));
            at = match known {
                Some((_, Some(folder))) => *folder,
                Some((_, None)) => {
                    return Err(FatWriteError::Name {
                        path: path.join("\\"),
                    });
                }
                None => {
                    let cluster = self.allocate(1, name)?;
                    let folder = Folder {
                        parent: at,
                        cluster,
                        entries: Vec::new(),
                        short_names: BTreeSet::new(),
                        names: BTreeMap::new(),
                    };
                    self.folders.push(folder);
                    let index = self.folders.len() - 1;
                    self.add(at, name, ATTR_DIRECTORY, cluster, 0, Some(index))?;
                    index
                }
            };
        }
        Ok(at)
    }

    fn add(
        &mut self,
        folder: usize,
        name: &str,
        attributes: u8,
        cluster: u32,
        len_bytes: u32,
        behind: Option<usize>,
    ) -> Result<(), FatWriteError> {
        let time = self.time;
        let folder = &mut self.folders[folder];
        let refused = || FatWriteError::Name {
            path: name.to_owned(),
        };
        if !is_valid_long(name) || folder.names.keys().any(|known| same_name(known, name)) {
            return Err(refused());
        }
        let (short, says_all) = short_name(name, &folder.short_names).ok_or_else(refused)?;
        if !says_all {
            folder.entries.extend(write_long(name, &short).concat());
        }
        folder.entries.extend(
            ShortEntry {
                name: short,
                attributes,
                cluster,
                len_bytes,
            }
            .write(time),
        );
        folder.short_names.insert(short);
        folder.names.insert(name.to_owned(), behind);
        Ok(())
    }

    /// A chain of `count` clusters in a row; its first.
    fn allocate(&mut self, count: usize, path: &str) -> Result<u32, FatWriteError> {
        let full = || FatWriteError::Full {
            path: path.to_owned(),
        };
        let first = u32::try_from(self.fat.len()).map_err(|_too_large| full())?;
        let end = (self.fat.len() + count) as u64;
        if end > self.shape.clusters.saturating_add(2) {
            return Err(full());
        }
        let last = u32::try_from(end - 1).map_err(|_too_large| full())?;
        self.fat.extend((first..last).map(|cluster| cluster + 1));
        self.fat.push(END_OF_CHAIN);
        Ok(first)
    }

    fn byte_of_cluster(&self, cluster: u32) -> u64 {
        let sector =
            self.shape.data_sector + u64::from(cluster - 2) * u64::from(self.shape.cluster_sectors);
        sector * u64::from(self.shape.sector_bytes)
    }

    /// Writes `content` from `cluster` on, the last cluster filled with zeros.
    fn write_clusters(&self, cluster: u32, content: &[u8]) -> Result<(), FatWriteError> {
        let cluster_bytes = self.shape.cluster_bytes() as usize;
        let (whole, rest) = content.split_at(content.len() / cluster_bytes * cluster_bytes);
        let at = self.byte_of_cluster(cluster);
        self.device.write_at(at, whole)?;
        if !rest.is_empty() {
            let mut last = rest.to_vec();
            last.resize(cluster_bytes, 0);
            self.device.write_at(at + whole.len() as u64, &last)?;
        }
        Ok(())
    }

    /// Writes directories, FATs, FSInfo and both boot sectors.
    pub fn finish(mut self) -> Result<(), FatWriteError> {
        self.write_folders()?;
        let sector_bytes = self.shape.sector_bytes as usize;
        let fat_bytes = self.shape.fat_sectors as usize * sector_bytes;
        let mut fat: Vec<u8> = self
            .fat
            .iter()
            .flat_map(|entry| entry.to_le_bytes())
            .collect();
        fat.resize(fat_bytes, 0);
        for copy in 0..2 {
            let at = self.shape.reserved_sectors as usize * sector_bytes + copy * fat_bytes;
            self.device.write_at(at as u64, &fat)?;
        }
        let mut reserved = vec![0; self.shape.reserved_sectors as usize * sector_bytes];
        let boot = self.shape.boot_sector(&self.label);
        let info = self.fsinfo();
        for base in [0, usize::from(BACKUP_SECTOR)] {
            let at = base * sector_bytes;
            reserved[at..at + sector_bytes].copy_from_slice(&boot);
            let at = at + usize::from(FSINFO_SECTOR) * sector_bytes;
            reserved[at..at + info.len()].copy_from_slice(&info);
        }
        self.device.write_at(0, &reserved)?;
        Ok(())
    }

    fn write_folders(&mut self) -> Result<(), FatWriteError> {
        let cluster_bytes = self.shape.cluster_bytes() as usize;
        for index in 0..self.folders.len() {
            let Folder {
                parent, cluster, ..
            } = self.folders[index];
            let mut bytes = Vec::new();
            if index != ROOT {
                // The parent's cluster is written as 0 when it is the root ("." and ".." come
                // first, short names only).
                let up = if parent == ROOT {
                    0
                } else {
                    self.folders[parent].cluster
                };
                for (name, cluster) in [(*b".          ", cluster), (*b"..         ", up)] {
                    let entry = ShortEntry {
                        name,
                        attributes: ATTR_DIRECTORY,
                        cluster,
                        len_bytes: 0,
                    };
                    bytes.extend(entry.write(self.time));
                }
            }
            bytes.extend(std::mem::take(&mut self.folders[index].entries));
            debug_assert_eq!(bytes.len() % ENTRY_BYTES, 0);
            bytes.resize(bytes.len().max(1).next_multiple_of(cluster_bytes), 0);
            let (first, more) = bytes.split_at(cluster_bytes);
            self.write_clusters(cluster, first)?;
            if !more.is_empty() {
                let next = self.allocate(more.len() / cluster_bytes, "directory")?;
                self.fat[cluster as usize] = next;
                self.write_clusters(next, more)?;
            }
        }
        Ok(())
    }

    fn fsinfo(&self) -> Vec<u8> {
        let mut raw = RawFsInfo::new_zeroed();
        let used = self.fat.len() as u64 - 2;
        raw.lead = *b"RRaA";
        raw.signature = *b"rrAa";
        raw.free_clusters = U32::new(u32::try_from(self.shape.clusters - used).unwrap_or(u32::MAX));
        raw.next_free = U32::new(u32::try_from(self.fat.len()).unwrap_or(u32::MAX));
        raw.trail = U32::new(0xAA55_0000);
        raw.as_bytes().to_vec()
    }
}
