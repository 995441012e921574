//! A device that remembers which reads failed on it, and whether it was written.
//!
//! Code that interprets a disk sometimes has an answer for an unreadable sector: a second copy, "not an NTFS volume", an empty
//! list. Before a decision that leads to a write, the caller asks [`Tracked::first_failure`] as well: a sector that
//! could not be read is no answer, whatever was made of it on the way.

use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use super::{BlockDevice, DeviceError, Extent, Geometry, IoOp, Lba, ReadDevice, Retried};

/// Maximum number of failed reads that are remembered.
const MAX_FAILURES: usize = 1000;

/// A read that failed.
#[derive(Debug)]
struct FailedRead {
    offset: u64,
    len_bytes: usize,
    lba: Option<Lba>,
    kind: io::ErrorKind,
    message: String,
    /// The sectors that may be unreadable: from the first failing one, if it is known, to the end of the transfer.
    sectors: Extent,
}

impl FailedRead {
    fn error(&self) -> DeviceError {
        let source = io::Error::new(self.kind, self.message.clone());
        let error = DeviceError::new(IoOp::Read, self.offset, self.len_bytes, source);
        match self.lba {
            Some(lba) => error.at(lba),
            None => error,
        }
    }
}

/// A device that remembers failed reads and whether a write was attempted.
#[derive(Debug)]
pub struct Tracked<'a, D: ?Sized = dyn BlockDevice + 'a> {
    device: &'a D,
    failures: Mutex<Vec<FailedRead>>,
    wrote: AtomicBool,
}

impl<'a> Tracked<'a> {
    /// Tracks `device`, of which nothing has been read or written yet.
    pub fn new(device: &'a dyn BlockDevice) -> Self {
        Self::over(device)
    }

    /// True once a write was attempted, whether it succeeded or not.
    pub fn wrote(&self) -> bool {
        self.wrote.load(Ordering::Relaxed)
    }
}

impl<'a> Tracked<'a, dyn ReadDevice + 'a> {
    /// Tracks the reads of `device`, which is not written.
    pub fn reading(device: &'a dyn ReadDevice) -> Self {
        Self::over(device)
    }
}

impl<'a, D: ReadDevice + ?Sized> Tracked<'a, D> {
    fn over(device: &'a D) -> Self {
        Self {
            device,
            failures: Mutex::default(),
            wrote: AtomicBool::new(false),
        }
    }

    /// Returns the first failed read that is not entirely inside one of the extents in `except`.
    pub fn first_failure(&self, except: &[Extent]) -> Option<DeviceError> {
        let failures = self.failures.lock().unwrap_or_else(PoisonError::into_inner);
        let is_excepted = |failed: &FailedRead| {
            let mut except = except.iter();
            except.any(|extent| extent.contains(&failed.sectors))
        };
        let failed = failures.iter().find(|failed| !is_excepted(failed));
        failed.map(FailedRead::error)
    }

    /// Forgets the failed reads so far: each was taken into account for what it is.
    pub fn forget_failures(&self) {
        let mut failures = self.failures.lock().unwrap_or_else(PoisonError::into_inner);
        failures.clear();
    }

    fn remember(&self, offset: u64, len_bytes: usize, error: &DeviceError) {
        let sector = u64::from(self.geometry().logical_sector);
        let end = offset.saturating_add(len_bytes as u64);
        let sectors = match error.lba {
            Some(lba) => Extent::between(lba, Lba(lba.0.saturating_add(1))),
            None => Extent::between(Lba(offset / sector), Lba(end.div_ceil(sector))),
        };
        let mut failures = self.failures.lock().unwrap_or_else(PoisonError::into_inner);
        if failures.len() < MAX_FAILURES {
            failures.push(FailedRead {
                offset,
                len_bytes,
                lba: error.lba,
                kind: error.source.kind(),
                message: error.source.to_string(),
                sectors,
            });
        }
    }
}

impl<D: ReadDevice + ?Sized> ReadDevice for Tracked<'_, D> {
    fn geometry(&self) -> Geometry {
        self.device.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        let read = self.device.read_at(offset, buffer);
        if let Err(error) = &read
            && !error.is_out_of_bounds()
        {
            self.remember(offset, buffer.len(), error);
        }
        read
    }

    fn disk_offset(&self) -> u64 {
        self.device.disk_offset()
    }

    fn unreadable(&self) -> Vec<Extent> {
        self.device.unreadable()
    }

    fn retried(&self) -> Vec<Retried> {
        self.device.retried()
    }
}

impl BlockDevice for Tracked<'_> {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        // A write that fails may have written some of its sectors.
        self.wrote.store(true, Ordering::Relaxed);
        self.device.write_at(offset, bytes)
    }

    fn flush(&self) -> Result<(), DeviceError> {
        self.device.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::Memory;

    /// Sector 5 cannot be read.
    #[derive(Debug)]
    struct Spoilt(Memory);

    impl ReadDevice for Spoilt {
        fn geometry(&self) -> Geometry {
            self.0.geometry()
        }

        fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
            self.0.read_at(offset, buffer)?;
            if offset <= 5 * 512 && offset + buffer.len() as u64 > 5 * 512 {
                let source = io::Error::other("bad sector");
                return Err(DeviceError::new(IoOp::Read, offset, buffer.len(), source).at(Lba(5)));
            }
            Ok(())
        }
    }

    impl BlockDevice for Spoilt {
        fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
            self.0.write_at(offset, bytes)
        }

        fn flush(&self) -> Result<(), DeviceError> {
            Ok(())
        }
    }

    #[test]
    fn failed_reads_and_writes_are_remembered() {
        let disk = Spoilt(Memory::new(512, 16));
        let tracked = Tracked::new(&disk);
        tracked.read_vec(0, 512).unwrap();
        tracked.read_vec(16 * 512, 512).unwrap_err();
        assert!(tracked.first_failure(&[]).is_none(), "beyond the end");
        tracked.read_vec(4 * 512, 2048).unwrap_err();
        let error = tracked.first_failure(&[]).unwrap();
        assert_eq!(error.to_string(), "LBA 5: read failed: bad sector");
        let extent = |first, sectors| Extent::new(Lba(first), sectors).unwrap();
        assert!(tracked.first_failure(&[extent(4, 8)]).is_none());
        assert!(tracked.first_failure(&[extent(6, 8)]).is_some());
        assert!(!tracked.wrote());
        tracked.write_at(0, &[1; 512]).unwrap();
        assert!(tracked.wrote());
    }
}
