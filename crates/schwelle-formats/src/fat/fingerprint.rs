//! How full a volume is, and a hash that changes when it is used.

use super::volume::{FatEntry, FatError, FatVolume};

/// Directories looked at, at most: an EFI system partition has some dozens.
const MAX_FOLDERS: usize = 4096;
const CHUNK_BYTES: u64 = 1 << 18;

impl FatVolume<'_> {
    /// BLAKE3 hash over everything but the content of files: boot sectors, FATs, directories.
    /// What writes a file changes its entry.
    pub fn fingerprint(&self) -> Result<blake3::Hash, FatError> {
        let shape = self.shape();
        let mut hasher = blake3::Hasher::new();
        let head = shape
            .data_sector
            .saturating_mul(u64::from(shape.sector_bytes));
        let mut at = 0_u64;
        while at < head {
            let len = usize::try_from(CHUNK_BYTES.min(head.saturating_sub(at))).unwrap_or(0);
            hasher.update(&self.device.read_vec(at, len)?);
            at = at.saturating_add(CHUNK_BYTES);
        }
        let mut folders = vec![self.root()];
        let mut left = MAX_FOLDERS;
        while let Some(folder) = folders.pop() {
            let Some(less) = left.checked_sub(1) else {
                return Err(FatError::Chain {
                    what: "directories without end".to_owned(),
                    cluster: folder.cluster,
                });
            };
            left = less;
            hasher.update(&self.directory_bytes(&folder)?);
            let inside = self.read_dir(&folder)?.into_iter();
            folders.extend(inside.filter(|entry: &FatEntry| entry.is_directory));
        }
        Ok(hasher.finalize())
    }

    /// Bytes in clusters that belong to nothing.
    pub fn free_bytes(&self) -> Result<u64, FatError> {
        let shape = self.shape();
        let sector = u64::from(shape.sector_bytes);
        let first = u64::from(shape.reserved_sectors).saturating_mul(sector);
        // The first two entries are none of clusters.
        let end = shape.clusters.saturating_add(2).saturating_mul(4);
        let (mut at, mut free) = (8_u64, 0_u64);
        while at < end {
            let len = CHUNK_BYTES.min(end.saturating_sub(at));
            let bytes = self
                .device
                .read_vec(first.saturating_add(at), usize::try_from(len).unwrap_or(0))?;
            let entries = bytes.as_chunks::<4>().0.iter();
            let unused = entries.filter(|entry| u32::from_le_bytes(**entry) & 0x0FFF_FFFF == 0);
            free = free.saturating_add(unused.count() as u64);
            at = at.saturating_add(len);
        }
        Ok(free.saturating_mul(u64::from(shape.cluster_bytes())))
    }
}
