//! Block devices: what the rest of the crate reads from and, in one place, writes to.
//!
//! Reading code takes a [`ReadDevice`], which has no way to write, so "read-only" is checked by the
//! compiler. A [`BlockDevice`] is only ever made for a commit. The wrappers: [`Window`] shows a
//! partition as a device, [`Draft`] is the copy-on-write overlay, [`Guard`] refuses writes outside
//! the declared extents, [`Tracked`] remembers what failed, [`Memory`] is a sparse disk in memory, [`DiskFile`] an image or a real
//! disk.

mod buffer;
mod direct;
mod disk_file;
mod draft;
mod guard;
mod health;
mod memory;
mod tracked;
mod units;
mod window;

pub use buffer::Buffer;
pub use disk_file::{DiskFile, OpenError};
pub use draft::{Draft, Move};
pub use guard::Guard;
pub use health::{HealthWarning, nvme_warnings};
pub use memory::Memory;
pub use tracked::Tracked;
pub use units::{Extent, Geometry, Lba, MIB};
pub use window::Window;

use std::fmt::{self, Debug};
use std::io;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What was attempted on a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum IoOp {
    /// Reading.
    Read,
    /// Writing.
    Write,
    /// Waiting until everything written is on the medium.
    Flush,
}

impl fmt::Display for IoOp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Read => "read",
            Self::Write => "write",
            Self::Flush => "flush",
        })
    }
}

/// A transfer that failed at first and succeeded when it was repeated: an early sign of a failing disk, cable or port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Retried {
    /// What was attempted.
    pub operation: IoOp,
    /// The sectors of the transfer that failed.
    pub sectors: Extent,
}

/// A read, write or flush that failed, with where it was.
#[derive(Debug, thiserror::Error)]
#[error("{}", self.in_words())]
pub struct DeviceError {
    /// What was attempted.
    pub operation: IoOp,
    /// Byte offset on the device.
    pub offset: u64,
    /// The first sector that failed, where that was found out.
    pub lba: Option<Lba>,
    /// Length of the transfer, in bytes.
    pub len_bytes: usize,
    /// What the system said.
    pub source: io::Error,
}

/// Marks errors of operations that were not attempted.
#[derive(Debug, thiserror::Error)]
#[error("beyond the end of the device")]
struct OutOfBounds;

impl DeviceError {
    /// An operation that failed, at a byte offset of the device.
    pub fn new(operation: IoOp, offset: u64, len_bytes: usize, source: io::Error) -> Self {
        Self {
            operation,
            offset,
            lba: None,
            len_bytes,
            source,
        }
    }

    /// The same failure, which begins at this sector.
    pub fn at(self, lba: Lba) -> Self {
        let lba = Some(lba);
        Self { lba, ..self }
    }

    fn in_words(&self) -> String {
        let Self {
            operation,
            offset,
            len_bytes,
            source,
            ..
        } = self;
        match (*operation, self.lba) {
            (IoOp::Flush, _) => format!("flush failed: {source}"),
            (_, Some(lba)) => format!("{lba}: {operation} failed: {source}"),
            (_, None) => {
                format!("{operation} of {len_bytes} bytes at byte {offset} failed: {source}")
            }
        }
    }

    /// An operation beyond the end of the device: nothing was attempted.
    pub fn out_of_bounds(operation: IoOp, offset: u64, len_bytes: usize) -> Self {
        let source = io::Error::new(io::ErrorKind::UnexpectedEof, OutOfBounds);
        Self::new(operation, offset, len_bytes, source)
    }

    /// True if the failure is certain to lie inside one of these extents.
    pub fn is_inside(&self, geometry: Geometry, extents: &[Extent]) -> bool {
        let sector = u64::from(geometry.logical_sector);
        let failed = match self.lba {
            Some(lba) => Extent::new(lba, 1),
            None => {
                let end = self.offset.saturating_add(self.len_bytes as u64);
                let first = self.offset / sector;
                Extent::new(Lba(first), end.div_ceil(sector).saturating_sub(first))
            }
        };
        let mut extents = extents.iter();
        failed.is_some_and(|failed| extents.any(|extent| extent.contains(&failed)))
    }

    /// True if the operation was beyond the end of the device. A structure that leads there is damaged; the device
    /// is not.
    pub fn is_out_of_bounds(&self) -> bool {
        let inner = self.source.get_ref();
        inner.is_some_and(|inner| inner.is::<OutOfBounds>())
    }
}

/// A device that can be read. Whole buffer or error: no short reads, no position.
pub trait ReadDevice: Debug + Send + Sync {
    /// Sector sizes and size of the device.
    fn geometry(&self) -> Geometry;

    /// Fills `buffer` from byte `offset` on.
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError>;

    /// Where byte 0 of this device lies on the whole disk: 0 but for windows. Lets errors name the
    /// LBA on the disk.
    fn disk_offset(&self) -> u64 {
        0
    }

    /// What could not be read since it was opened, where the device keeps count.
    fn unreadable(&self) -> Vec<Extent> {
        Vec::new()
    }

    /// Transfers that failed and succeeded when they were repeated, since it was opened.
    fn retried(&self) -> Vec<Retried> {
        Vec::new()
    }

    /// Reads `len_bytes` bytes at `offset`. The caller has bounded the length.
    fn read_vec(&self, offset: u64, len_bytes: usize) -> Result<Vec<u8>, DeviceError> {
        let mut buffer = vec![0; len_bytes];
        self.read_at(offset, &mut buffer)?;
        Ok(buffer)
    }

    /// Reads one logical sector.
    fn read_sector(&self, lba: Lba) -> Result<Vec<u8>, DeviceError> {
        let sector = self.geometry().logical_sector as usize;
        let offset = self
            .geometry()
            .byte_of(lba)
            .ok_or_else(|| DeviceError::out_of_bounds(IoOp::Read, u64::MAX, sector))?;
        self.read_vec(offset, sector)
    }
}

impl<D: ReadDevice + ?Sized> ReadDevice for &D {
    fn geometry(&self) -> Geometry {
        (**self).geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        (**self).read_at(offset, buffer)
    }

    fn disk_offset(&self) -> u64 {
        (**self).disk_offset()
    }

    fn unreadable(&self) -> Vec<Extent> {
        (**self).unreadable()
    }

    fn retried(&self) -> Vec<Retried> {
        (**self).retried()
    }
}

/// A device that can be written, in whole logical sectors.
pub trait BlockDevice: ReadDevice {
    /// Writes `bytes` at byte `offset`; both are multiples of the logical sector.
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError>;

    /// Returns when all that was written is on the medium.
    fn flush(&self) -> Result<(), DeviceError>;
}

impl<D: BlockDevice + ?Sized> BlockDevice for &D {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        (**self).write_at(offset, bytes)
    }

    fn flush(&self) -> Result<(), DeviceError> {
        (**self).flush()
    }
}
