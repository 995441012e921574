//! Refuses every write outside the extents that were declared.

use std::io;

use super::{BlockDevice, DeviceError, Extent, Geometry, IoOp, ReadDevice};

/// A device that can be written only inside the declared extents.
#[derive(Debug)]
pub struct Guard<'a> {
    device: &'a dyn BlockDevice,
    declared: Vec<Extent>,
}

impl<'a> Guard<'a> {
    /// Guards `device`; `declared` may be in any order and touch.
    pub fn new(device: &'a dyn BlockDevice, mut declared: Vec<Extent>) -> Self {
        declared.sort_unstable();
        declared.dedup_by(|next, kept| {
            let touches = next.first <= kept.end;
            if touches {
                kept.end = kept.end.max(next.end);
            }
            touches
        });
        Self { device, declared }
    }
}

impl ReadDevice for Guard<'_> {
    fn geometry(&self) -> Geometry {
        self.device.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.device.read_at(offset, buffer)
    }
}

impl BlockDevice for Guard<'_> {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        let geometry = self.geometry();
        let end = offset.checked_add(bytes.len() as u64);
        let inside = |extent: &Extent| {
            geometry
                .byte_of(extent.first)
                .is_some_and(|first| first <= offset)
                && geometry
                    .byte_of(extent.end)
                    .zip(end)
                    .is_some_and(|(limit, end)| end <= limit)
        };
        if !self.declared.iter().any(inside) {
            let refused = io::Error::new(
                io::ErrorKind::PermissionDenied,
                "outside the declared extents",
            );
            return Err(DeviceError::new(IoOp::Write, offset, bytes.len(), refused));
        }
        self.device.write_at(offset, bytes)
    }

    fn flush(&self) -> Result<(), DeviceError> {
        self.device.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{Lba, Memory};

    #[test]
    fn only_declared_extents_are_written() {
        let disk = Memory::new(512, 64);
        let extent = |first, sectors| Extent::new(Lba(first), sectors).unwrap();
        let guard = Guard::new(&disk, vec![extent(10, 2), extent(4, 1), extent(12, 1)]);
        for (sector, count, allowed) in [
            (4, 1, true),
            (10, 3, true), // two declared extents that touch are one
            (3, 1, false),
            (4, 2, false),
            (9, 2, false),
            (12, 2, false),
        ] {
            let outcome = guard.write_at(sector * 512, &vec![0xAA; count * 512]);
            assert_eq!(outcome.is_ok(), allowed, "sectors {sector}+{count}");
        }
        assert_eq!(disk.read_vec(3 * 512, 512).unwrap(), [0; 512]);
        assert_eq!(disk.read_vec(13 * 512, 512).unwrap(), [0; 512]);
    }
}
