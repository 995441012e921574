//! A hash that changes when the volume is used.

use std::ops::{ControlFlow, Range};

use super::NtfsError;
use super::volume::NtfsVolume;
use crate::bytes::ReadBytes;

const BITMAP_RECORD: u64 = 6;
const LOG_RECORD: u64 = 2;
/// As much of the log as its restart pages can take: they change whenever a system opens the
/// volume for writing.
const LOG_HEAD_BYTES: u64 = 128 << 10;

/// The files that it covers, and how many bytes of each at most.
const COVERED: [(u64, u64); 3] = [
    (0, u64::MAX),
    (BITMAP_RECORD, u64::MAX),
    (LOG_RECORD, LOG_HEAD_BYTES),
];

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
        for (record, limit) in COVERED {
            let file = self.open_file(record)?;
            let len_bytes = file.len_bytes().min(limit);
            file.read_in_chunks(len_bytes, |_, bytes| {
                hasher.update(bytes);
                ControlFlow::Continue(())
            })?;
        }
        Ok(hasher.finalize())
    }

    /// Where the bytes lie that the hash is made of, as ranges of bytes from the volume's start: whole clusters, and
    /// the boot sector. For those who can see no more of the volume than its bytes.
    pub fn fingerprint_places(&self) -> Result<Vec<Range<u64>>, NtfsError> {
        let shape = self.shape();
        let cluster = u64::from(shape.cluster_bytes);
        let mut places = Vec::new();
        places.push(0..u64::from(shape.sector_bytes));
        for (record, limit) in COVERED {
            let file = self.open_file(record)?;
            let mut left = file.len_bytes().min(limit).div_ceil(cluster);
            for run in file.runs() {
                let clusters = run.clusters.min(left);
                left -= clusters;
                if let Some(lcn) = run.lcn {
                    let first = lcn.0.saturating_mul(cluster);
                    let len = clusters.saturating_mul(cluster);
                    places.push(first..first.saturating_add(len));
                }
            }
        }
        Ok(places
            .into_iter()
            .filter(|place| !place.is_empty())
            .collect())
    }
}
