//! Compressed content: by the file system itself (LZNT1), or as an overlay in a named stream.
//!
//! The file system compresses units of (as a rule) 16 clusters: a unit with all of its clusters
//! is stored as it is, one without any is zeros, any other begins with LZNT1 data. An overlay is
//! named by a reparse point (published with the file system's control codes: provider "file",
//! version 1, an algorithm); its stream has the form of a resource in an image file: a table of
//! offsets, then units.

use super::NtfsError;
use super::attribute::kind;
use super::file_record::FileRecord;
use super::runlist::{Run, Vcn};
use super::stream::NtfsFile;
use super::volume::NtfsVolume;
use crate::bytes::{u32_at, u64_at};
use crate::unpack::{UnpackError, lznt1, lzx, xpress};

/// Reparse tag of overlay-compressed files (\[MS-FSCC\] §2.1.2.1, IO_REPARSE_TAG_WOF).
const OVERLAY_TAG: u32 = 0x8000_0017;
const OVERLAY_STREAM: &str = "WofCompressedData";
const MAX_REPARSE_BYTES: u64 = 16 << 10;
/// An overlay is held in memory while its file is open, up to this length.
const MAX_PACKED_BYTES: u64 = 64 << 20;
/// Longest compression unit read: 16 clusters of 64 KiB.
const MAX_UNIT_BYTES: u64 = 1 << 20;

/// Reads `buffer`, which begins at byte `offset` of a file, unit by unit, up to byte `end`; what
/// lies after stays as it is. `unit` gives so many bytes from the first byte of a unit on.
pub(super) fn read_by_units(
    offset: u64,
    end: u64,
    unit_bytes: u64,
    buffer: &mut [u8],
    unit: impl Fn(u64, usize) -> Result<Vec<u8>, NtfsError>,
) -> Result<(), NtfsError> {
    let mut first = offset - offset % unit_bytes;
    while first < end {
        let next = first.saturating_add(unit_bytes);
        let (from, to) = (first.max(offset), next.min(end));
        let place =
            |at: u64, base: u64| usize::try_from(at.saturating_sub(base)).unwrap_or(usize::MAX);
        let content = unit(first, place(to, first))?;
        if let (Some(part), Some(content)) = (
            buffer.get_mut(place(from, offset)..place(to, offset)),
            content.get(place(from, first)..place(to, first)),
        ) {
            part.copy_from_slice(content);
        }
        first = next;
    }
    Ok(())
}

/// How an overlay is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Algorithm {
    /// XPRESS in units of so many bytes.
    Xpress(u64),
    /// LZX in units of 32 KiB.
    Lzx,
}

/// A file's overlay: the compressed units in its named stream.
#[derive(Debug, Clone)]
pub(super) struct Overlay {
    algorithm: Algorithm,
    /// Length of the file.
    len_bytes: u64,
    /// The named stream's content.
    packed: Vec<u8>,
}

impl Overlay {
    pub(super) fn unit_bytes(&self) -> u64 {
        match self.algorithm {
            Algorithm::Xpress(bytes) => bytes,
            Algorithm::Lzx => 32 << 10,
        }
    }

    /// The unit that begins at byte `first` of the file: at least its first `len` bytes.
    pub(super) fn read_unit(
        &self,
        first: u64,
        len: usize,
        record: u64,
    ) -> Result<Vec<u8>, NtfsError> {
        let fail = |fault| NtfsError::Unpack {
            record,
            offset: first,
            source: UnpackError {
                format: "overlay",
                fault,
            },
        };
        let unit_bytes = self.unit_bytes();
        let units = self.len_bytes.div_ceil(unit_bytes);
        let index = first / unit_bytes;
        let whole = unit_bytes.min(self.len_bytes.saturating_sub(first));
        let whole = usize::try_from(whole).unwrap_or(usize::MAX);
        debug_assert!(len <= whole);
        // Offsets of all units but the first, from the end of the table on.
        let entry_bytes: u64 = if self.len_bytes > u64::from(u32::MAX) {
            8
        } else {
            4
        };
        let table_bytes = units.saturating_sub(1).saturating_mul(entry_bytes);
        let end_of_data = self.packed.len() as u64;
        let start_of = |index: u64| -> Option<u64> {
            let Some(entry) = index.checked_sub(1) else {
                return Some(table_bytes);
            };
            let at = usize::try_from(entry.checked_mul(entry_bytes)?).ok()?;
            let offset = match entry_bytes {
                8 => u64_at(&self.packed, at)?,
                _ => u32_at(&self.packed, at)?.into(),
            };
            table_bytes.checked_add(offset)
        };
        let start = start_of(index).ok_or_else(|| fail("its table is cut off"))?;
        let end = if index + 1 < units {
            start_of(index + 1).ok_or_else(|| fail("its table is cut off"))?
        } else {
            end_of_data
        };
        let place = |at: u64| usize::try_from(at).unwrap_or(usize::MAX);
        let packed = self
            .packed
            .get(place(start)..place(end))
            .filter(|packed| !packed.is_empty() && packed.len() <= whole)
            .ok_or_else(|| fail("its table names a place that cannot be"))?;
        // What did not get smaller is stored as it is.
        if packed.len() == whole {
            return Ok(packed.to_vec());
        }
        match self.algorithm {
            Algorithm::Xpress(_) => xpress(packed, whole),
            Algorithm::Lzx => lzx(packed, whole),
        }
        .map_err(|source| NtfsError::Unpack {
            record,
            offset: first,
            source,
        })
    }
}

impl NtfsVolume<'_> {
    /// Bytes of a compression unit of 2 to the power of `power` clusters.
    pub(super) fn unit_bytes(&self, record: u64, power: u16) -> Result<u64, NtfsError> {
        u64::from(self.shape().cluster_bytes)
            .checked_shl(power.into())
            .filter(|bytes| power < 16 && *bytes <= MAX_UNIT_BYTES)
            .ok_or_else(|| self.fault(record, "has an impossible compression unit"))
    }

    /// The overlay that holds a file's content; `None` for a file without a reparse point. Any other
    /// reparse point is a link, and an error.
    pub(super) fn overlay(
        &self,
        number: u64,
        record: &FileRecord<'_>,
        len_bytes: u64,
    ) -> Result<Option<Overlay>, NtfsError> {
        let Some(point) = self.named_stream(number, record, kind::REPARSE_POINT, "")? else {
            return Ok(None);
        };
        let point = point.read_all(MAX_REPARSE_BYTES)?;
        let unsupported = |what| NtfsError::Unsupported {
            record: number,
            what,
        };
        // Tag, length; then: version, provider, version of its part, algorithm.
        let field = |index: usize| u32_at(&point, index.saturating_mul(4));
        if field(0) != Some(OVERLAY_TAG) {
            return Err(unsupported("the file is a link elsewhere"));
        }
        let algorithm = match (field(2), field(3), field(4), field(5)) {
            (Some(1), Some(2), Some(1), Some(0)) => Algorithm::Xpress(4 << 10),
            (Some(1), Some(2), Some(1), Some(1)) => Algorithm::Lzx,
            (Some(1), Some(2), Some(1), Some(2)) => Algorithm::Xpress(8 << 10),
            (Some(1), Some(2), Some(1), Some(3)) => Algorithm::Xpress(16 << 10),
            (Some(1), Some(1), ..) => {
                return Err(unsupported(
                    "the file's content lies in an image file elsewhere",
                ));
            }
            _ => {
                return Err(unsupported(
                    "the file is overlay-compressed in an unknown way",
                ));
            }
        };
        let packed = self
            .named_stream(number, record, kind::DATA, OVERLAY_STREAM)?
            .ok_or_else(|| self.fault(number, "has lost the stream with its compressed content"))?;
        // A unit is never longer than what it gives, and the table has 8 bytes for each at most.
        let limit = len_bytes.saturating_add(len_bytes / 512).saturating_add(8);
        let packed = packed.read_all(limit.min(MAX_PACKED_BYTES))?;
        Ok(Some(Overlay {
            algorithm,
            len_bytes,
            packed,
        }))
    }

    fn named_stream(
        &self,
        number: u64,
        record: &FileRecord<'_>,
        wanted: u32,
        name: &str,
    ) -> Result<Option<NtfsFile<'_>>, NtfsError> {
        let stream = self.stream(number, record, wanted, name)?;
        Ok(stream.map(|(content, len_bytes)| NtfsFile {
            volume: self,
            record: number,
            len_bytes,
            content,
        }))
    }
}

impl NtfsFile<'_> {
    /// The first `len` bytes of the compression unit at byte `first` of the file.
    pub(super) fn read_unit(
        &self,
        runs: &[Run],
        first: u64,
        (unit_bytes, len): (u64, usize),
    ) -> Result<Vec<u8>, NtfsError> {
        let cluster = u64::from(self.volume.shape().cluster_bytes);
        let clusters = unit_bytes / cluster;
        let unit = Vcn(first / cluster)..Vcn((first / cluster).saturating_add(clusters));
        let mut held = 0;
        for run in runs.iter().filter(|run| run.lcn.is_some()) {
            let (from, to) = (run.vcn.max(unit.start), run.end_vcn().min(unit.end));
            // The clusters of a unit come first, what was saved is a hole after them.
            if from < to {
                if from.0 != unit.start.0.saturating_add(held) {
                    return Err(self
                        .volume
                        .fault(self.record, "a compression unit has a hole in front"));
                }
                held = held.saturating_add(to.0.saturating_sub(from.0));
            }
        }
        if held == 0 {
            return Ok(vec![0; len]);
        }
        let bytes = usize::try_from(held.saturating_mul(cluster)).unwrap_or(0);
        let mut packed = vec![0; bytes];
        for run in runs {
            self.read_run(run, first, &mut packed, u64::MAX)?;
        }
        if held == clusters {
            packed.truncate(len);
            return Ok(packed);
        }
        let whole = usize::try_from(unit_bytes).unwrap_or(0);
        let mut content = lznt1(&packed, whole).map_err(|source| NtfsError::Unpack {
            record: self.record,
            offset: first,
            source,
        })?;
        content.truncate(len);
        Ok(content)
    }
}
