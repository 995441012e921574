//! A sparse disk in memory, for tests and for building small images.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::{BlockDevice, DeviceError, Geometry, IoOp, ReadDevice};

/// What is kept in one piece, in bytes: far fewer pieces than sectors, and little kept for nothing.
const PIECE_BYTES: u32 = 64 << 10;

/// A disk in memory. Places never written read as zeros and take no memory.
#[derive(Debug)]
pub struct Memory {
    geometry: Geometry,
    pieces: Mutex<BTreeMap<u64, Box<[u8]>>>,
}

impl Memory {
    /// An empty disk of `sectors` logical sectors of `logical_sector` bytes.
    pub fn new(logical_sector: u32, sectors: u64) -> Self {
        let geometry = Geometry {
            logical_sector,
            physical_sector: logical_sector,
            sectors,
        };
        Self {
            geometry,
            pieces: Mutex::default(),
        }
    }

    /// The same disk with physical sectors of another size: of a drive that writes several logical ones at
    /// a time.
    pub fn with_physical(mut self, bytes: u32) -> Self {
        self.geometry.physical_sector = bytes;
        self
    }

    fn map(&self) -> MutexGuard<'_, BTreeMap<u64, Box<[u8]>>> {
        self.pieces.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn check(&self, operation: IoOp, offset: u64, len_bytes: usize) -> Result<(), DeviceError> {
        match offset.checked_add(len_bytes as u64) {
            Some(end) if end <= self.geometry.len_bytes() => Ok(()),
            _ => Err(DeviceError::out_of_bounds(operation, offset, len_bytes)),
        }
    }
}

impl ReadDevice for Memory {
    fn geometry(&self) -> Geometry {
        self.geometry
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.check(IoOp::Read, offset, buffer.len())?;
        buffer.fill(0);
        let map = self.map();
        for part in super::draft::parts(PIECE_BYTES, offset, buffer.len()) {
            if let Some(bytes) = map.get(&part.unit) {
                buffer[part.in_buffer].copy_from_slice(&bytes[part.in_unit]);
            }
        }
        Ok(())
    }
}

impl BlockDevice for Memory {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        self.check(IoOp::Write, offset, bytes.len())?;
        let mut map = self.map();
        for part in super::draft::parts(PIECE_BYTES, offset, bytes.len()) {
            let piece = map
                .entry(part.unit)
                .or_insert_with(|| vec![0; PIECE_BYTES as usize].into());
            piece[part.in_unit].copy_from_slice(&bytes[part.in_buffer]);
        }
        Ok(())
    }

    fn flush(&self) -> Result<(), DeviceError> {
        Ok(())
    }
}
