//! Reads a FAT32 volume: directories, files, paths.

use std::collections::BTreeSet;

use super::bpb::{FatKind, FatShape, Oddity};
use super::dir_entry::ENTRY_BYTES;
use super::directory::{entries, has_end};
use super::name::{same_name, short_text};
use crate::device::{DeviceError, Extent, Lba, ReadDevice};

/// A directory is read up to this length; the specification allows 65,536 entries.
pub(super) const MAX_DIRECTORY_BYTES: u64 = 65_536 * ENTRY_BYTES as u64;

/// Why a FAT volume could not be read.
#[derive(Debug, thiserror::Error)]
pub enum FatError {
    /// The boot sector is not that of a FAT32 volume.
    #[error("no FAT32 volume: the boot sector's {field} is wrong")]
    BootSector {
        /// The field at fault.
        field: &'static str,
    },
    /// A chain of clusters that loops, leaves the volume, or ends too early.
    #[error("{what}: the chain of clusters is damaged at cluster {cluster}")]
    Chain {
        /// File or directory.
        what: String,
        /// The cluster.
        cluster: u32,
    },
    /// A file longer than the caller takes.
    #[error("{path} is {len_bytes} bytes long, more than the {limit} expected at most")]
    TooLong {
        /// The file.
        path: String,
        /// Its length.
        len_bytes: u64,
        /// The limit.
        limit: u64,
    },
    /// The device failed.
    #[error(transparent)]
    Device(#[from] DeviceError),
}

/// A chain of clusters being followed.
struct ChainWalk<'w> {
    clusters: Vec<u32>,
    seen: BTreeSet<u32>,
    at: u32,
    what: &'w str,
}

impl<'w> ChainWalk<'w> {
    fn new(at: u32, what: &'w str) -> Self {
        Self {
            clusters: Vec::new(),
            seen: BTreeSet::new(),
            at,
            what,
        }
    }

    fn broken(&self, cluster: u32) -> FatError {
        FatError::Chain {
            what: self.what.to_owned(),
            cluster,
        }
    }

    /// Takes the cluster that it has come to; what its entry of the FAT says.
    fn take(&mut self, volume: &FatVolume<'_>) -> Result<u32, FatError> {
        let at = self.at;
        if at < 2 || u64::from(at) >= volume.shape.clusters + 2 || !self.seen.insert(at) {
            return Err(self.broken(at));
        }
        self.clusters.push(at);
        volume.next(at)
    }
}

/// A file or directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FatEntry {
    /// Long name, else the short one.
    pub name: String,
    /// Short name as it stands on the medium: eight letters and three, filled with blanks.
    pub short_name: [u8; 11],
    /// A directory.
    pub is_directory: bool,
    /// First cluster; 0 for an empty file.
    pub cluster: u32,
    /// Length in bytes; 0 for directories.
    pub len_bytes: u32,
}

impl FatEntry {
    /// It is found by this name: its long one, or its short one, as firmware looks for both.
    pub(super) fn is_named(&self, name: &str) -> bool {
        same_name(&self.name, name) || same_name(&short_text(&self.short_name), name)
    }
}

/// An opened FAT32 volume.
#[derive(Debug)]
pub struct FatVolume<'a> {
    pub(super) device: &'a dyn ReadDevice,
    shape: FatShape,
    pub(super) oddities: Vec<Oddity>,
}

impl<'a> FatVolume<'a> {
    /// Opens the volume on `device`, a window on its partition.
    pub fn open(device: &'a dyn ReadDevice) -> Result<Self, FatError> {
        let volume = Self::open_leniently(device)?;
        match volume.oddities.first() {
            Some(oddity) => Err(FatError::BootSector {
                field: oddity.field(),
            }),
            None => Ok(volume),
        }
    }

    /// Opens a volume whose boot sector says where its parts lie, as firmware does that asks for no more than
    /// that. What else is wrong with the boot sector is among the faults that [`check`](Self::check) finds.
    ///
    /// # Errors
    ///
    /// No FAT32 volume, or the device's.
    pub fn open_leniently(device: &'a dyn ReadDevice) -> Result<Self, FatError> {
        let volume = Self::open_for_files(device)?;
        let mut oddities = volume.oddities.iter();
        match oddities.find(|oddity| matches!(oddity, Oddity::TooFewClusters { .. })) {
            Some(oddity) => Err(FatError::BootSector {
                field: oddity.field(),
            }),
            None => Ok(volume),
        }
    }

    /// Opens a volume to read its files, even one with fewer clusters than the specification asks of FAT32, which
    /// firmware takes for FAT16 ("FAT Type Determination"): its FAT and its folders are those of FAT32 all the same.
    ///
    /// # Errors
    ///
    /// No volume with the parameter block of FAT32, or the device's.
    pub fn open_for_files(device: &'a dyn ReadDevice) -> Result<Self, FatError> {
        let geometry = device.geometry();
        let sector = device.read_vec(0, geometry.logical_sector as usize)?;
        let parsed = FatShape::parse_leniently(&sector);
        let (shape, mut oddities) = parsed.map_err(|field| FatError::BootSector { field })?;
        let is_fat32 = shape.kind() == FatKind::Fat32
            || oddities
                .iter()
                .any(|oddity| matches!(oddity, Oddity::TooFewClusters { .. }));
        let fault = if !is_fat32 {
            Some("cluster count (too few for FAT32)")
        } else if shape.sector_bytes != geometry.logical_sector {
            Some("bytes per sector")
        } else {
            None
        };
        if let Some(field) = fault {
            return Err(FatError::BootSector { field });
        }
        if shape.sectors > geometry.sectors {
            oddities.push(Oddity::Sectors {
                named: shape.sectors,
                has: geometry.sectors,
            });
        }
        Ok(Self {
            device,
            shape,
            oddities,
        })
    }

    /// Where its parts lie.
    pub fn shape(&self) -> &FatShape {
        &self.shape
    }

    /// Entry of the first FAT for `cluster`.
    pub(super) fn next(&self, cluster: u32) -> Result<u32, FatError> {
        let at = u64::from(self.shape.reserved_sectors) * u64::from(self.shape.sector_bytes)
            + u64::from(cluster) * 4;
        let mut bytes = [0; 4];
        self.device.read_at(at, &mut bytes)?;
        Ok(u32::from_le_bytes(bytes) & 0x0FFF_FFFF)
    }

    /// The clusters of a chain of at most `limit` clusters.
    pub(super) fn chain(&self, first: u32, limit: u64, what: &str) -> Result<Vec<u32>, FatError> {
        let mut walk = ChainWalk::new(first, what);
        loop {
            let next = walk.take(self)?;
            if walk.clusters.len() as u64 > limit {
                return Err(walk.broken(next));
            }
            match next {
                0x0FFF_FFF8.. => return Ok(walk.clusters),
                next => walk.at = next,
            }
        }
    }

    /// The first `count` clusters of a chain, whatever comes after them: who reads a file looks no further.
    fn chain_start(&self, first: u32, count: u64, what: &str) -> Result<Vec<u32>, FatError> {
        let mut walk = ChainWalk::new(first, what);
        while (walk.clusters.len() as u64) < count {
            walk.at = walk.take(self)?;
        }
        Ok(walk.clusters)
    }

    fn read_cluster(&self, cluster: u32) -> Result<Vec<u8>, FatError> {
        let sector = self.shape.data_sector
            + (u64::from(cluster) - 2) * u64::from(self.shape.cluster_sectors);
        let at = sector * u64::from(self.shape.sector_bytes);
        Ok(self
            .device
            .read_vec(at, self.shape.cluster_bytes() as usize)?)
    }

    /// The entries of the root directory.
    pub fn root(&self) -> FatEntry {
        FatEntry {
            short_name: [b' '; 11],
            name: String::new(),
            is_directory: true,
            cluster: self.shape.root_cluster,
            len_bytes: 0,
        }
    }

    /// The entries of a directory, without "." and "..".
    pub fn read_dir(&self, folder: &FatEntry) -> Result<Vec<FatEntry>, FatError> {
        let bytes = self.directory_bytes(folder)?;
        Ok(entries(&bytes)
            .into_iter()
            .map(|placed| placed.entry)
            .collect())
    }

    /// All clusters of a directory.
    pub(super) fn directory_bytes(&self, folder: &FatEntry) -> Result<Vec<u8>, FatError> {
        let limit = MAX_DIRECTORY_BYTES.div_ceil(self.shape.cluster_bytes().into());
        let mut bytes = Vec::new();
        for cluster in self.chain(folder.cluster, limit, &folder.name)? {
            bytes.extend(self.read_cluster(cluster)?);
        }
        Ok(bytes)
    }

    /// Finds a file or directory by its path from the root, with backslashes, whatever the case. Damage after the
    /// entry in its directory does not matter.
    pub fn find(&self, path: &str) -> Result<Option<FatEntry>, FatError> {
        let mut at = self.root();
        for name in path.split('\\').filter(|name| !name.is_empty()) {
            if !at.is_directory {
                return Ok(None);
            }
            match self.find_in(&at, name)? {
                Some(entry) => at = entry,
                None => return Ok(None),
            }
        }
        Ok(Some(at))
    }

    fn find_in(&self, folder: &FatEntry, name: &str) -> Result<Option<FatEntry>, FatError> {
        let (entries, fault) = self.read_dir_in_front(folder)?;
        match (
            entries.into_iter().find(|entry| entry.is_named(name)),
            fault,
        ) {
            (None, Some(fault)) => Err(fault),
            (found, _) => Ok(found),
        }
    }

    /// The entries of a directory as far as its chain of clusters can be followed, and where that is damaged.
    pub fn read_dir_in_front(
        &self,
        folder: &FatEntry,
    ) -> Result<(Vec<FatEntry>, Option<FatError>), FatError> {
        let limit = MAX_DIRECTORY_BYTES.div_ceil(self.shape.cluster_bytes().into());
        let mut walk = ChainWalk::new(folder.cluster, &folder.name);
        let mut bytes = Vec::new();
        let fault = loop {
            let next = match walk.take(self) {
                Ok(next) => next,
                Err(FatError::Device(error)) => return Err(error.into()),
                Err(fault) => break Some(fault),
            };
            let cluster = self.read_cluster(walk.at)?;
            let is_last = next >= 0x0FFF_FFF8 || has_end(&cluster);
            bytes.extend(cluster);
            if is_last || walk.clusters.len() as u64 >= limit {
                break None;
            }
            walk.at = next;
        };
        let entries = entries(&bytes).into_iter().map(|placed| placed.entry);
        Ok((entries.collect(), fault))
    }

    /// The sectors of a file or directory, counted from the start of the volume, in the order of its
    /// clusters; at most those of a file of 4 GiB.
    pub fn extents_of(&self, entry: &FatEntry) -> Result<Vec<Extent>, FatError> {
        if entry.cluster == 0 {
            return Ok(Vec::new());
        }
        let limit = (1_u64 << 32).div_ceil(self.shape.cluster_bytes().into());
        let chain = self.chain(entry.cluster, limit, &entry.name)?;
        let sectors = u64::from(self.shape.cluster_sectors);
        let place = |cluster: u32| {
            let first = self.shape.data_sector + (u64::from(cluster) - 2) * sectors;
            Extent::between(Lba(first), Lba(first + sectors))
        };
        Ok(chain.into_iter().map(place).collect())
    }

    /// The content of a file of at most `limit` bytes.
    pub fn read_file(&self, file: &FatEntry, limit: u64) -> Result<Vec<u8>, FatError> {
        let len_bytes = u64::from(file.len_bytes);
        if len_bytes > limit {
            return Err(FatError::TooLong {
                path: file.name.clone(),
                len_bytes,
                limit,
            });
        }
        let clusters = len_bytes.div_ceil(self.shape.cluster_bytes().into());
        let mut content = Vec::new();
        if clusters > 0 {
            for cluster in self.chain_start(file.cluster, clusters, &file.name)? {
                content.extend(self.read_cluster(cluster)?);
            }
        }
        content.truncate(file.len_bytes as usize);
        Ok(content)
    }
}
