//! A hash that changes when the volume is used.

use std::ops::ControlFlow;

use super::NtfsError;
use super::volume::NtfsVolume;
use crate::bytes::ReadBytes;

const BITMAP_RECORD: u64 = 6;
const LOG_RECORD: u64 = 2;
/// As much of the log as its restart pages can take: they change whenever a system opens the
/// volume for writing.
const LOG_HEAD_BYTES: u64 = 128 << 10;

impl NtfsVolume<'_> {
    /// BLAKE3 hash over the volume's metadata: boot sector, MFT, cluster bitmap, and the
    /// head of the log. What writes to the volume changes one of them: a file's record has its
    /// time of change, and a system that opens the volume begins a log.
    pub fn fingerprint(&self) -> Result<blake3::Hash, NtfsError> {
        let mut hasher = blake3::Hasher::new();
        hasher.update(
            &self
                .device()
                .read_vec(0, self.shape().sector_bytes as usize)?,
        );
        for (record, limit) in [
            (0, u64::MAX),
            (BITMAP_RECORD, u64::MAX),
            (LOG_RECORD, LOG_HEAD_BYTES),
        ] {
            let file = self.open_file(record)?;
            let len_bytes = file.len_bytes().min(limit);
            file.read_in_chunks(len_bytes, |_, bytes| {
                hasher.update(bytes);
                ControlFlow::Continue(())
            })?;
        }
        Ok(hasher.finalize())
    }
}
