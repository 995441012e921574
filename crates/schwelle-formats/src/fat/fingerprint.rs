//! How full a volume is, and a hash that changes when it is used.

use super::volume::{ChainDamage, FatEntry, FatError, FatVolume};

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
                    what: "the folders".to_owned(),
                    damage: ChainDamage::TooMany { most: MAX_FOLDERS },
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
        let mut free = 0_u64;
        self.for_each_entry(|_, entry| free += u64::from(entry == 0))?;
        Ok(free.saturating_mul(u64::from(self.shape().cluster_bytes())))
    }
}
