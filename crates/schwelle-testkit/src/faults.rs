//! Input and output that fails: one operation of a run, once or for good, on a disk or in a folder.

use std::io;
use std::sync::{Arc, Mutex};

use schwelle_disk::device::{BlockDevice, DeviceError, Extent, Geometry, IoOp, Lba, ReadDevice};

/// How an operation fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// Once.
    Once,
    /// It and every operation after it: the disk or the folder's medium is gone.
    FromThenOn,
    /// A read: the sector it begins with stays unreadable until it is written. Any other operation: once.
    BadSector,
}

/// Numbers the operations of a run, and lets one fail. Nothing is counted, and nothing fails, before [`Faults::arm`].
#[derive(Debug, Clone, Default)]
pub struct Faults(Arc<Mutex<Inside>>);

#[derive(Debug, Default)]
struct Inside {
    is_armed: bool,
    fails: Option<(Fault, usize)>,
    count: usize,
    /// Operations on the disk that write to it.
    writes: usize,
    bad_sector: Option<Lba>,
    /// The operation that failed first.
    failed: Option<String>,
}

impl Faults {
    /// Lets nothing fail.
    pub fn none() -> Self {
        Self::default()
    }

    /// Lets the operation with this number fail.
    pub fn at(fault: Fault, number: usize) -> Self {
        let faults = Self::default();
        faults.inside().fails = Some((fault, number));
        faults
    }

    /// Begins to count.
    pub fn arm(&self) {
        self.inside().is_armed = true;
    }

    /// Operations so far.
    pub fn count(&self) -> usize {
        self.inside().count
    }

    /// True once a write to the disk was attempted.
    pub fn wrote(&self) -> bool {
        self.inside().writes > 0
    }

    /// The operation that failed first.
    pub fn failed(&self) -> Option<String> {
        self.inside().failed.clone()
    }

    fn inside(&self) -> std::sync::MutexGuard<'_, Inside> {
        self.0.lock().unwrap()
    }

    /// Counts an operation; an error if it fails.
    pub fn step(&self, operation: impl FnOnce() -> String) -> io::Result<()> {
        self.inside().step(operation)
    }
}

impl Inside {
    fn step(&mut self, operation: impl FnOnce() -> String) -> io::Result<()> {
        if !self.is_armed {
            return Ok(());
        }
        let number = self.count;
        self.count += 1;
        let fails = match self.fails {
            Some((Fault::Once | Fault::BadSector, at)) => number == at,
            Some((Fault::FromThenOn, at)) => number >= at,
            None => false,
        };
        if !fails {
            return Ok(());
        }
        self.failed.get_or_insert_with(operation);
        // A short transfer now and then, in place of an error.
        Err(match number % 5 {
            4 => io::ErrorKind::UnexpectedEof.into(),
            _ => io::Error::from_raw_os_error(5),
        })
    }
}

/// A disk with faults.
#[derive(Debug)]
pub struct FaultyDisk<'a> {
    disk: &'a dyn BlockDevice,
    faults: Faults,
    unreadable: Mutex<Vec<Extent>>,
}

impl<'a> FaultyDisk<'a> {
    /// Puts faults before a disk.
    pub fn new(disk: &'a dyn BlockDevice, faults: &Faults) -> Self {
        Self {
            disk,
            faults: faults.clone(),
            unreadable: Mutex::default(),
        }
    }

    fn sectors(&self, offset: u64, len_bytes: usize) -> Extent {
        let sector = u64::from(self.geometry().logical_sector);
        let end = offset + len_bytes as u64;
        Extent::between(Lba(offset / sector), Lba(end.div_ceil(sector)))
    }
}

impl ReadDevice for FaultyDisk<'_> {
    fn geometry(&self) -> Geometry {
        self.disk.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        let sectors = self.sectors(offset, buffer.len());
        let mut inside = self.faults.inside();
        let mut done = inside.step(|| format!("disk: read of {sectors:?}"));
        if done.is_err() && matches!(inside.fails, Some((Fault::BadSector, _))) {
            inside.bad_sector = Some(sectors.first);
        }
        let bad = inside.bad_sector;
        let is_bad = bad.is_some_and(|bad| (sectors.first..sectors.end).contains(&bad));
        if is_bad && inside.is_armed {
            done = Err(io::Error::from_raw_os_error(5));
        }
        drop(inside);
        done.map_err(|source| {
            let lba = bad.filter(|_| is_bad).unwrap_or(sectors.first);
            let one = Extent::new(lba, 1).unwrap();
            self.unreadable.lock().unwrap().push(one);
            DeviceError::new(IoOp::Read, offset, buffer.len(), source).at(lba)
        })?;
        self.disk.read_at(offset, buffer)
    }

    fn unreadable(&self) -> Vec<Extent> {
        self.unreadable.lock().unwrap().clone()
    }
}

impl BlockDevice for FaultyDisk<'_> {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        let sectors = self.sectors(offset, bytes.len());
        let mut inside = self.faults.inside();
        inside.writes += usize::from(inside.is_armed);
        inside
            .step(|| format!("disk: write of {sectors:?}"))
            .map_err(|source| DeviceError::new(IoOp::Write, offset, bytes.len(), source))?;
        if let Some(bad) = inside.bad_sector
            && (sectors.first..sectors.end).contains(&bad)
        {
            inside.bad_sector = None;
        }
        drop(inside);
        self.disk.write_at(offset, bytes)
    }

    fn flush(&self) -> Result<(), DeviceError> {
        self.faults
            .step(|| "disk: flush".to_owned())
            .map_err(|source| DeviceError::new(IoOp::Flush, 0, 0, source))?;
        self.disk.flush()
    }
}
