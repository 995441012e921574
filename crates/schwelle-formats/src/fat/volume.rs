//! Reads a FAT volume: directories, files, paths.

use std::collections::BTreeSet;

use super::bpb::{FatShape, Oddity};
use super::dir_entry::ENTRY_BYTES;
use super::directory::{entries, has_end};
use super::name::{same_name, short_text};
use crate::device::{DeviceError, Extent, Lba, ReadDevice};

/// A cluster that cannot be used ("FAT Data Structure"); what is larger ends a chain.
pub(super) const BAD: u32 = 0x0FFF_FFF7;
/// Entries of the FAT read at a time; an even number, since two of FAT12 share a byte.
const ENTRIES_AT_ONCE: u32 = 1 << 16;
/// A directory is read up to this length; the specification allows 65,536 entries.
pub(super) const MAX_DIRECTORY_BYTES: u64 = 65_536 * ENTRY_BYTES as u64;

/// Why a FAT volume could not be read.
#[derive(Debug, thiserror::Error)]
pub enum FatError {
    /// The boot sector is not that of a FAT volume.
    #[error("no FAT volume: the boot sector's {field} is wrong")]
    BootSector {
        /// The field at fault.
        field: &'static str,
    },
    /// The boot sector is odd in a way in which it is not read.
    #[error(transparent)]
    Odd(#[from] Oddity),
    /// A chain of clusters that cannot be followed.
    #[error("{what}: {damage}")]
    Chain {
        /// File or directory.
        what: String,
        /// What is wrong with it.
        damage: ChainDamage,
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

/// What is wrong with a chain of clusters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ChainDamage {
    /// Its entry in the directory names no cluster of the volume.
    #[error("its first cluster, {cluster}, is none of the volume's")]
    Begins {
        /// The one that is named.
        cluster: u32,
    },
    /// It comes back to a cluster that is in it already.
    #[error("its clusters go round in a circle from cluster {cluster} on")]
    Circle {
        /// The one that comes twice.
        cluster: u32,
    },
    /// The FAT calls a cluster of it free.
    #[error("cluster {cluster} of it is marked as free")]
    Free {
        /// Which.
        cluster: u32,
    },
    /// It leads to the number that marks bad clusters.
    #[error("cluster {cluster} of it leads to a bad cluster")]
    Bad {
        /// The last good one.
        cluster: u32,
    },
    /// It leads to a number that is too large.
    #[error("cluster {cluster} of it leads out of the volume")]
    Outside {
        /// The last one inside.
        cluster: u32,
    },
    /// It is shorter than the file.
    #[error("its clusters end too early, with cluster {cluster}")]
    EndsEarly {
        /// The last one.
        cluster: u32,
    },
    /// It is longer than a file or folder may be.
    #[error("it has more than {most} clusters")]
    TooLong {
        /// As many are followed.
        most: u64,
    },
    /// More directories than are looked into.
    #[error("there are more than {most}")]
    TooMany {
        /// As many are.
        most: usize,
    },
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

    fn damaged(&self, damage: ChainDamage) -> FatError {
        // The root directory has no name.
        let what = match self.what {
            "" => "the root folder",
            what => what,
        };
        FatError::Chain {
            what: what.to_owned(),
            damage,
        }
    }

    /// Takes the cluster that it has come to; what its entry of the FAT says.
    fn take(&mut self, volume: &FatVolume<'_>) -> Result<u32, FatError> {
        let at = self.at;
        let is_inside = at >= 2 && u64::from(at) < volume.shape.clusters + 2;
        let damage = match self.clusters.last() {
            None if !is_inside => Some(ChainDamage::Begins { cluster: at }),
            Some(&cluster) if at < 2 => Some(ChainDamage::Free { cluster }),
            Some(&cluster) if at == BAD => Some(ChainDamage::Bad { cluster }),
            Some(&cluster) if at > BAD => Some(ChainDamage::EndsEarly { cluster }),
            Some(&cluster) if !is_inside => Some(ChainDamage::Outside { cluster }),
            _ if !self.seen.insert(at) => Some(ChainDamage::Circle { cluster: at }),
            _ => None,
        };
        if let Some(damage) = damage {
            return Err(self.damaged(damage));
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

/// An entry of the FAT from the four bytes at it, its reserved values as those of FAT32.
fn entry_value(bytes: u32, bits: u64, cluster: u32) -> u32 {
    const RESERVED_32: u32 = 0x0FFF_FFF0;
    let (value, most) = match bits {
        12 if cluster.is_multiple_of(2) => (bytes & 0xFFF, 0xFFF),
        12 => (bytes >> 4 & 0xFFF, 0xFFF),
        16 => (bytes & 0xFFFF, 0xFFFF),
        _ => (bytes & 0x0FFF_FFFF, 0x0FFF_FFFF),
    };
    if value >= most & !0xF {
        RESERVED_32 | value & 0xF
    } else {
        value
    }
}

/// An opened FAT volume.
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
            Some(&oddity) => Err(oddity.into()),
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
        match oddities.find(|oddity| oddity.is_refused()) {
            Some(&oddity) => Err(oddity.into()),
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
        let (named, has) = (shape.sector_bytes, geometry.logical_sector);
        // Sectors of the disk that hold several of the volume's: no reader takes a part of one.
        if named < has {
            let field = "bytes per sector";
            return Err(FatError::BootSector { field });
        }
        if named > has {
            oddities.push(Oddity::SectorBytes { named, has });
        }
        let ratio = u64::from(named / has);
        if shape.sectors.saturating_mul(ratio) > geometry.sectors {
            oddities.push(Oddity::Sectors {
                named: shape.sectors,
                has: geometry.sectors / ratio,
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

    /// Entry for `cluster` of the FAT in use, its reserved values as those of FAT32.
    pub(super) fn next(&self, cluster: u32) -> Result<u32, FatError> {
        let bits = self.shape.entry_bits();
        let at = self.shape.fat_at() + u64::from(cluster) * bits / 8;
        let mut bytes = [0; 4];
        let len = usize::from(bits == 32) * 2 + 2;
        let (used, _) = bytes.split_at_mut(len);
        self.device.read_at(at, used)?;
        Ok(entry_value(u32::from_le_bytes(bytes), bits, cluster))
    }

    /// Calls `each` with every cluster of the volume and its entry of the FAT in use.
    pub(super) fn for_each_entry(&self, mut each: impl FnMut(u32, u32)) -> Result<(), FatError> {
        let bits = self.shape.entry_bits();
        let end = u32::try_from(self.shape.clusters + 2).unwrap_or(u32::MAX);
        let mut first = 0;
        while first < end {
            let count = ENTRIES_AT_ONCE.min(end - first);
            let at = self.shape.fat_at() + u64::from(first) * bits / 8;
            let len = (u64::from(count) * bits).div_ceil(8);
            let mut bytes = self
                .device
                .read_vec(at, usize::try_from(len).unwrap_or(0))?;
            // So that the last entry can be read as four bytes like all others.
            bytes.resize(bytes.len() + 4, 0);
            // The first two entries belong to no cluster.
            for cluster in (first..first + count).filter(|cluster| *cluster >= 2) {
                let within = u64::from(cluster - first) * bits / 8;
                let entry = usize::try_from(within)
                    .ok()
                    .and_then(|within| crate::bytes::array_at::<4>(&bytes, within));
                let entry = entry.map_or(0, u32::from_le_bytes);
                each(cluster, entry_value(entry, bits, cluster));
            }
            first += count;
        }
        Ok(())
    }

    /// The root directory where it has a place of its own: byte of the volume, and length.
    fn fixed_root(&self, folder: &FatEntry) -> Option<(u64, usize)> {
        let sector_bytes = u64::from(self.shape.sector_bytes);
        let sectors = u64::from(self.shape.root_sectors);
        let first = self.shape.data_sector.checked_sub(sectors)?;
        let len = usize::try_from(sectors * sector_bytes).ok()?;
        (sectors > 0 && *folder == self.root()).then_some((first * sector_bytes, len))
    }

    /// The clusters of a chain of at most `limit` clusters.
    pub(super) fn chain(&self, first: u32, limit: u64, what: &str) -> Result<Vec<u32>, FatError> {
        let mut walk = ChainWalk::new(first, what);
        loop {
            let next = walk.take(self)?;
            if walk.clusters.len() as u64 > limit {
                return Err(walk.damaged(ChainDamage::TooLong { most: limit }));
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
        if let Some((at, len)) = self.fixed_root(folder) {
            return Ok(self.device.read_vec(at, len)?);
        }
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
        if self.fixed_root(folder).is_some() {
            return Ok((self.read_dir(folder)?, None));
        }
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

    /// The sectors of a file or directory in the disk's own length, counted from the start of the volume, in the order
    /// of its clusters; at most those of a file of 4 GiB.
    ///
    /// # Errors
    ///
    /// Its chain of clusters is damaged, or the device's.
    pub fn extents_of(&self, entry: &FatEntry) -> Result<Vec<Extent>, FatError> {
        if entry.cluster == 0 {
            return Ok(Vec::new());
        }
        let limit = (1_u64 << 32).div_ceil(self.shape.cluster_bytes().into());
        let chain = self.chain(entry.cluster, limit, &entry.name)?;
        let ratio = u64::from(self.shape.sector_bytes / self.device.geometry().logical_sector);
        let sectors = u64::from(self.shape.cluster_sectors) * ratio;
        let place = |cluster: u32| {
            let first = self.shape.data_sector * ratio + (u64::from(cluster) - 2) * sectors;
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

#[cfg(test)]
mod tests {
    use super::super::bpb::{FatKind, RawBpb};
    use super::*;
    use crate::device::{BlockDevice, Memory};
    use zerocopy::{FromBytes, IntoBytes};

    /// A volume whose FAT holds these entries from cluster 2 on, as its kind packs them.
    fn volume(sectors: u16, fat: &[u8]) -> Memory {
        let disk = Memory::new(512, 70_000);
        let mut raw = RawBpb::read_from_bytes(&[0; 512]).unwrap();
        raw.jump = [0xEB, 0x3C, 0x90];
        raw.sector_bytes = 512.into();
        raw.cluster_sectors = 1;
        raw.reserved_sectors = 1.into();
        raw.fat_count = 1;
        raw.root_entries = 512.into();
        raw.sectors_16 = sectors.into();
        raw.media = 0xF8;
        raw.fat_sectors_16 = 240.into();
        raw.signature = [0x55, 0xAA];
        disk.write_at(0, raw.as_bytes()).unwrap();
        disk.write_at(512, fat).unwrap();
        disk
    }

    #[test]
    fn entries_of_every_kind_are_read_as_the_specification_packs_them() {
        // Three bytes hold two entries of FAT12 ("FAT Data Structure"): 123h and 456h, then FF7h and FFFh.
        let twelve = [0xF8, 0xFF, 0xFF, 0x23, 0x61, 0x45, 0xF7, 0xFF, 0xFF];
        let sixteen = [
            0xF8, 0xFF, 0xFF, 0xFF, 0x23, 0x01, 0x56, 0x04, 0xF7, 0xFF, 0xFF, 0xFF,
        ];
        for (sectors, fat, kind) in [
            (3000, &twelve[..], FatKind::Fat12),
            (60_000, &sixteen[..], FatKind::Fat16),
        ] {
            let disk = volume(sectors, fat);
            let volume = FatVolume::open(&disk).unwrap();
            assert_eq!(volume.shape().kind(), kind);
            let mut all = Vec::new();
            volume
                .for_each_entry(|cluster, entry| all.push((cluster, entry)))
                .unwrap();
            assert_eq!(all.len() as u64, volume.shape().clusters);
            for (cluster, entry) in [(2, 0x123), (3, 0x456), (4, BAD), (5, 0x0FFF_FFFF), (6, 0)] {
                assert_eq!(volume.next(cluster).unwrap(), entry, "{kind:?}, {cluster}");
                assert_eq!(all[cluster as usize - 2], (cluster, entry));
            }
            assert_eq!(
                volume.free_bytes().unwrap(),
                (volume.shape().clusters - 4) * 512
            );
        }
    }
}
