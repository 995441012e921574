//! The copy-on-write overlay: the finished disk before a byte of the real one has changed.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::{BlockDevice, DeviceError, Extent, Geometry, Lba, ReadDevice};

/// A disk with changes laid over it. Reads see the changes; the disk below is never written.
///
/// Kept by sector, so that only what really differs from the disk becomes part of a change set.
#[derive(Debug)]
pub struct Draft<'a> {
    base: &'a dyn ReadDevice,
    changed: Mutex<BTreeMap<u64, Box<[u8]>>>,
}

impl<'a> Draft<'a> {
    /// A draft without changes.
    pub fn new(base: &'a dyn ReadDevice) -> Self {
        Self {
            base,
            changed: Mutex::default(),
        }
    }

    /// The disk as it is.
    pub fn base(&self) -> &'a dyn ReadDevice {
        self.base
    }

    /// The changed sectors as ascending ranges that do not touch.
    pub fn changed(&self) -> Vec<Extent> {
        let mut extents: Vec<Extent> = Vec::new();
        for &sector in self.map().keys() {
            let end = Lba(sector.saturating_add(1));
            match extents.last_mut() {
                Some(last) if last.end.0 == sector => last.end = end,
                _ => extents.push(Extent {
                    first: Lba(sector),
                    end,
                }),
            }
        }
        extents
    }

    fn map(&self) -> MutexGuard<'_, BTreeMap<u64, Box<[u8]>>> {
        self.changed.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl ReadDevice for Draft<'_> {
    fn geometry(&self) -> Geometry {
        self.base.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.base.read_at(offset, buffer)?;
        let map = self.map();
        for piece in pieces(self.geometry().logical_sector, offset, buffer.len()) {
            if let Some(bytes) = map.get(&piece.sector) {
                buffer[piece.in_buffer].copy_from_slice(&bytes[piece.in_sector]);
            }
        }
        Ok(())
    }
}

impl BlockDevice for Draft<'_> {
    /// Takes the bytes into the draft; sectors that equal the disk's are not kept.
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        let mut now = vec![0; bytes.len()];
        self.base.read_at(offset, &mut now)?;
        let sector_bytes = self.geometry().logical_sector as usize;
        let mut map = self.map();
        for piece in pieces(self.geometry().logical_sector, offset, bytes.len()) {
            let new = &bytes[piece.in_buffer.clone()];
            let whole = piece.in_sector.len() == sector_bytes;
            assert!(
                whole,
                "writes to a draft are whole sectors: the writers of this crate work in sectors"
            );
            if now[piece.in_buffer] == *new {
                map.remove(&piece.sector);
            } else {
                map.insert(piece.sector, new.into());
            }
        }
        Ok(())
    }

    fn flush(&self) -> Result<(), DeviceError> {
        Ok(())
    }
}

/// One sector's part of a transfer.
pub(super) struct Piece {
    pub(super) sector: u64,
    pub(super) in_sector: Range<usize>,
    pub(super) in_buffer: Range<usize>,
}

/// Splits a transfer at sector bounds. The transfer has been checked to lie on the device.
pub(super) fn pieces(
    sector_bytes: u32,
    offset: u64,
    len_bytes: usize,
) -> impl Iterator<Item = Piece> {
    let sector_len = sector_bytes as usize;
    let mut done = 0;
    std::iter::from_fn(move || {
        if done >= len_bytes {
            return None;
        }
        let at = offset + done as u64;
        let in_sector =
            usize::try_from(at % u64::from(sector_bytes)).expect("a remainder of a u32 fits");
        let take = (sector_len - in_sector).min(len_bytes - done);
        let piece = Piece {
            sector: at / u64::from(sector_bytes),
            in_sector: in_sector..in_sector + take,
            in_buffer: done..done + take,
        };
        done += take;
        Some(piece)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::Memory;
    use proptest::prelude::*;

    #[test]
    fn equal_writes_leave_no_trace_and_the_base_stays() {
        let base = Memory::new(512, 16);
        base.write_at(1024, &[7; 512]).unwrap();
        let draft = Draft::new(&base);
        draft.write_at(1024, &[7; 1024]).unwrap();
        assert_eq!(
            draft.changed(),
            [Extent {
                first: Lba(3),
                end: Lba(4)
            }]
        );
        draft.write_at(1536, &[0; 512]).unwrap();
        assert_eq!(draft.changed(), []);
        assert!(draft.write_at(16 * 512, &[1; 512]).is_err());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn reads_like_a_plain_copy(writes in prop::collection::vec((0u64..30, 1usize..4, any::<u8>()), 0..20),
                                   from in 0u64..10_000, len in 0usize..6000) {
            let base = Memory::new(512, 33);
            base.write_at(512, &[0x55; 4096]).unwrap();
            let mut model = base.read_vec(0, 33 * 512).unwrap();
            let draft = Draft::new(&base);
            for (sector, count, byte) in writes {
                draft.write_at(sector * 512, &vec![byte; count * 512]).unwrap();
                let at = usize::try_from(sector).unwrap() * 512;
                model[at..at + count * 512].fill(byte);
            }
            let mut got = vec![0; len];
            let at = usize::try_from(from).unwrap();
            draft.read_at(from, &mut got).unwrap();
            prop_assert_eq!(&got[..], &model[at..at + len]);
        }
    }
}
