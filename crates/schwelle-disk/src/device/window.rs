//! A partition shown as a device of its own.

use super::{BlockDevice, DeviceError, Extent, Geometry, IoOp, ReadDevice};

/// A range of sectors of a device, as a device. Reads and writes outside the range are errors.
#[derive(Debug)]
pub struct Window<'a, D: ?Sized> {
    device: &'a D,
    offset: u64,
    geometry: Geometry,
}

impl<'a, D: ReadDevice + ?Sized> Window<'a, D> {
    /// The window on `extent` of `device`; `None` when the extent leaves the device.
    pub fn new(device: &'a D, extent: Extent) -> Option<Self> {
        let outer = device.geometry();
        if !outer.whole().contains(&extent) {
            return None;
        }
        let geometry = Geometry {
            sectors: extent.sectors(),
            ..outer
        };
        Some(Self {
            device,
            offset: outer.byte_of(extent.first)?,
            geometry,
        })
    }

    fn outer(&self, operation: IoOp, offset: u64, len_bytes: usize) -> Result<u64, DeviceError> {
        let end = offset.checked_add(len_bytes as u64);
        match end {
            Some(end) if end <= self.geometry.len_bytes() => Ok(self.offset.saturating_add(offset)),
            _ => Err(DeviceError::out_of_bounds(
                operation,
                self.offset.saturating_add(offset),
                len_bytes,
            )),
        }
    }
}

impl<D: ReadDevice + ?Sized> ReadDevice for Window<'_, D> {
    fn geometry(&self) -> Geometry {
        self.geometry
    }

    fn disk_offset(&self) -> u64 {
        self.device.disk_offset().saturating_add(self.offset)
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.device
            .read_at(self.outer(IoOp::Read, offset, buffer.len())?, buffer)
    }
}

impl<D: BlockDevice + ?Sized> BlockDevice for Window<'_, D> {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        self.device
            .write_at(self.outer(IoOp::Write, offset, bytes.len())?, bytes)
    }

    fn flush(&self) -> Result<(), DeviceError> {
        self.device.flush()
    }
}
