//! Reads a FAT32 volume: directories, files, paths.

use std::collections::BTreeSet;

use super::bpb::{FatKind, FatShape};
use super::dir_entry::ENTRY_BYTES;
use super::directory::entries;
use super::name::same_name;
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

/// An opened FAT32 volume.
#[derive(Debug)]
pub struct FatVolume<'a> {
    pub(super) device: &'a dyn ReadDevice,
    shape: FatShape,
}

impl<'a> FatVolume<'a> {
    /// Opens the volume on `device`, a window on its partition.
    pub fn open(device: &'a dyn ReadDevice) -> Result<Self, FatError> {
        let geometry = device.geometry();
        let sector = device.read_vec(0, geometry.logical_sector as usize)?;
        let shape = FatShape::parse(&sector).map_err(|field| FatError::BootSector { field })?;
        let fault = if shape.kind() != FatKind::Fat32 {
            Some("cluster count (too few for FAT32)")
        } else if shape.sector_bytes != geometry.logical_sector {
            Some("bytes per sector")
        } else if shape.sectors > geometry.sectors {
            Some("total sectors")
        } else {
            None
        };
        match fault {
            Some(field) => Err(FatError::BootSector { field }),
            None => Ok(Self { device, shape }),
        }
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
        let broken = |cluster| FatError::Chain {
            what: what.to_owned(),
            cluster,
        };
        let (mut clusters, mut seen, mut at) = (Vec::new(), BTreeSet::new(), first);
        loop {
            if at < 2 || u64::from(at) >= self.shape.clusters + 2 || !seen.insert(at) {
                return Err(broken(at));
            }
            clusters.push(at);
            if clusters.len() as u64 > limit {
                return Err(broken(at));
            }
            match self.next(at)? {
                0x0FFF_FFF8.. => return Ok(clusters),
                next => at = next,
            }
        }
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

    /// Finds a file or directory by its path from the root, with backslashes, whatever the case.
    pub fn find(&self, path: &str) -> Result<Option<FatEntry>, FatError> {
        let mut at = self.root();
        for name in path.split('\\').filter(|name| !name.is_empty()) {
            if !at.is_directory {
                return Ok(None);
            }
            match self
                .read_dir(&at)?
                .into_iter()
                .find(|entry| same_name(&entry.name, name))
            {
                Some(entry) => at = entry,
                None => return Ok(None),
            }
        }
        Ok(Some(at))
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
            Extent {
                first: Lba(first),
                end: Lba(first + sectors),
            }
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
            let chain = self.chain(file.cluster, clusters, &file.name)?;
            if (chain.len() as u64) < clusters {
                return Err(FatError::Chain {
                    what: file.name.clone(),
                    cluster: file.cluster,
                });
            }
            for cluster in chain {
                content.extend(self.read_cluster(cluster)?);
            }
        }
        content.truncate(file.len_bytes as usize);
        Ok(content)
    }
}
