//! The content of a file: one stream, resident or in clusters, plain or compressed.

use std::ops::ControlFlow;

use super::NtfsError;
use super::compressed::{Overlay, read_by_units};
use super::runlist::Run;
use super::volume::NtfsVolume;
use crate::bytes::ReadBytes;
use schwelle_disk::device::Buffer;
use schwelle_disk::read_ahead;

/// Read at a time. A whole number of file records.
const CHUNK_BYTES: u64 = 1 << 20;

#[derive(Debug, Clone)]
pub(super) enum Content {
    Resident(Vec<u8>),
    Clusters {
        runs: Vec<Run>,
        initialized_len: u64,
    },
    /// Compressed by the file system, in units.
    Compressed {
        runs: Vec<Run>,
        initialized_len: u64,
        unit_bytes: u64,
    },
    /// Compressed in a stream beside it.
    Overlay(Box<Overlay>),
}

/// An opened file. Reading is by offset; nothing is cached.
#[derive(Debug)]
pub struct NtfsFile<'v> {
    pub(super) volume: &'v NtfsVolume<'v>,
    pub(super) record: u64,
    pub(super) len_bytes: u64,
    pub(super) content: Content,
}

impl NtfsFile<'_> {
    /// Number of the file's base record.
    pub fn record(&self) -> u64 {
        self.record
    }

    /// Where the file's clusters lie; empty when it lies in its record.
    pub fn runs(&self) -> &[Run] {
        match &self.content {
            Content::Resident(_) | Content::Overlay(_) => &[],
            Content::Clusters { runs, .. } | Content::Compressed { runs, .. } => runs,
        }
    }

    /// True when the content is what lies in the clusters, byte for byte.
    pub fn is_plain(&self) -> bool {
        matches!(self.content, Content::Clusters { .. })
    }

    /// The whole content, at most `limit` bytes.
    pub fn read_all(&self, limit: u64) -> Result<Vec<u8>, NtfsError> {
        let too_long = NtfsError::Length {
            record: self.record,
            offset: 0,
            end: self.len_bytes,
            limit,
        };
        let len = match usize::try_from(self.len_bytes) {
            Ok(len) if self.len_bytes <= limit => len,
            _ => return Err(too_long),
        };
        let mut content = vec![0; len];
        self.read_bytes(0, &mut content)?;
        Ok(content)
    }

    /// Shows the first `len_bytes` in chunks of a MiB, with the offset of each, until `take` breaks
    /// off. While one is looked at, the next is read. A chunk may be changed: it is not kept.
    pub(super) fn read_in_chunks(
        &self,
        len_bytes: u64,
        mut take: impl FnMut(u64, &mut [u8]) -> ControlFlow<()>,
    ) -> Result<(), NtfsError> {
        let len_of = |at: u64| usize::try_from(CHUNK_BYTES.min(len_bytes - at)).unwrap_or(0);
        let read = |&at: &u64, buffer: &mut Buffer| self.read_bytes(at, buffer.of_len(len_of(at)));
        let step = usize::try_from(CHUNK_BYTES).unwrap_or(usize::MAX);
        let done = read_ahead((0..len_bytes).step_by(step), read, |at, chunk| {
            match take(at, chunk.map_err(Some)?) {
                ControlFlow::Continue(()) => Ok(()),
                ControlFlow::Break(()) => Err(None),
            }
        });
        match done {
            Err(Some(error)) => Err(error),
            Ok(()) | Err(None) => Ok(()),
        }
    }

    /// Reads the part of `buffer` that run `run` covers. What lies after the initialized length
    /// stays zero.
    pub(super) fn read_run(
        &self,
        run: &Run,
        offset: u64,
        buffer: &mut [u8],
        initialized: u64,
    ) -> Result<(), NtfsError> {
        let shape = self.volume.shape();
        let end = offset.saturating_add(buffer.len() as u64);
        let run_first = shape.byte_in_file(run.vcn).unwrap_or(u64::MAX);
        let run_end = shape.byte_in_file(run.end_vcn()).unwrap_or(u64::MAX);
        let (from, to) = (offset.max(run_first), end.min(run_end).min(initialized));
        let Some(start) = run
            .lcn
            .and_then(|lcn| shape.byte_of(lcn))
            .filter(|_| from < to)
        else {
            return Ok(());
        };
        let index = |at: u64| usize::try_from(at.saturating_sub(offset)).unwrap_or(usize::MAX);
        let place = start.saturating_add(from.saturating_sub(run_first));
        if let Some(part) = buffer.get_mut(index(from)..index(to)) {
            self.volume.device().read_at(place, part)?;
        }
        Ok(())
    }
}

impl ReadBytes for NtfsFile<'_> {
    type Error = NtfsError;

    fn len_bytes(&self) -> u64 {
        self.len_bytes
    }

    fn read_bytes(&self, offset: u64, buffer: &mut [u8]) -> Result<(), NtfsError> {
        let end = offset.saturating_add(buffer.len() as u64);
        if end > self.len_bytes {
            return Err(NtfsError::Length {
                record: self.record,
                offset,
                end,
                limit: self.len_bytes,
            });
        }
        buffer.fill(0);
        match &self.content {
            Content::Resident(value) => {
                let from = usize::try_from(offset).unwrap_or(usize::MAX);
                if let Some(part) = value.get(from..from.saturating_add(buffer.len())) {
                    buffer.copy_from_slice(part);
                }
            }
            Content::Clusters {
                runs,
                initialized_len,
            } => {
                for run in runs {
                    self.read_run(run, offset, buffer, *initialized_len)?;
                }
            }
            Content::Compressed {
                runs,
                initialized_len,
                unit_bytes,
            } => {
                let unit = |first: u64, len: usize| self.read_unit(runs, first, (*unit_bytes, len));
                let end = (*initialized_len).min(end);
                read_by_units(offset, end, *unit_bytes, buffer, unit)?;
            }
            Content::Overlay(overlay) => {
                let unit = |first: u64, len: usize| overlay.read_unit(first, len, self.record);
                read_by_units(offset, end, overlay.unit_bytes(), buffer, unit)?;
            }
        }
        Ok(())
    }
}
