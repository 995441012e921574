//! The superblock (the kernel's documentation of ext4, "Super Block"): what is asked of it before a volume is opened.

use uuid::Uuid;

use crate::bytes::{array_at, u16_at, u32_at};
use crate::device::{DeviceError, ReadDevice};

use super::ExtError;

/// It lies here on the volume.
const AT: u64 = 1024;
const BYTES: usize = 1024;
const MAGIC: u16 = 0xEF53;
/// The kernel mounts no volume with larger blocks.
const MAX_BLOCK_BYTES: u64 = 64 << 10;
/// Groups of blocks that a volume may have: those of 128 TiB, as volumes are made.
const MAX_GROUPS: u64 = 1 << 20;
/// The volume's blocks are counted in 64 bits.
const INCOMPAT_64BIT: u32 = 0x80;

/// What a superblock says of the volume's size.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Superblock {
    /// Bytes of a block.
    pub block_bytes: u64,
    /// Blocks of the volume.
    pub blocks: u64,
    /// Groups of blocks.
    pub groups: u64,
    /// UUID of the file system.
    pub uuid: Uuid,
}

impl Superblock {
    /// Reads the superblock of the volume on `window`, which must hold all that it claims.
    ///
    /// # Errors
    ///
    /// The device's; a superblock that no volume of this size has.
    pub fn read(window: &dyn ReadDevice) -> Result<Self, ExtError> {
        let len = window.geometry().len_bytes();
        if len < AT + BYTES as u64 {
            return Err(ExtError::Superblock("it is shorter than its superblock"));
        }
        let raw = window
            .read_vec(AT, BYTES)
            .map_err(|error: DeviceError| ExtError::from(error))?;
        let found = Self::parse(&raw).ok_or(ExtError::Superblock("its numbers contradict"))?;
        match found.blocks.checked_mul(found.block_bytes) {
            Some(bytes) if bytes <= len => Ok(found),
            _ => Err(ExtError::Superblock(
                "it claims more than its partition has",
            )),
        }
    }

    fn parse(raw: &[u8]) -> Option<Self> {
        if u16_at(raw, 0x38)? != MAGIC {
            return None;
        }
        let (first, per_group) = (u32_at(raw, 0x14)?, u32_at(raw, 0x20)?);
        let block_bytes = 1024_u64.checked_shl(u32_at(raw, 0x18)?)?;
        let high = match u32_at(raw, 0x60)? & INCOMPAT_64BIT {
            0 => 0,
            _ => u32_at(raw, 0x150)?,
        };
        let blocks = u64::from(high) << 32 | u64::from(u32_at(raw, 0x04)?);
        let data = blocks.checked_sub(u64::from(first))?;
        if per_group == 0 || !(1024..=MAX_BLOCK_BYTES).contains(&block_bytes) {
            return None;
        }
        let groups = data.div_ceil(u64::from(per_group));
        (groups <= MAX_GROUPS).then_some(Self {
            block_bytes,
            blocks,
            groups,
            uuid: Uuid::from_bytes(array_at(raw, 0x68)?),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{BlockDevice, Memory};

    fn volume(change: impl Fn(&mut [u8])) -> Result<Superblock, ExtError> {
        let disk = Memory::new(512, 16384);
        let mut raw = vec![0; BYTES];
        raw[0x38..0x3A].copy_from_slice(&MAGIC.to_le_bytes());
        raw[0x04..0x08].copy_from_slice(&8192_u32.to_le_bytes());
        raw[0x14] = 1;
        raw[0x20..0x24].copy_from_slice(&8192_u32.to_le_bytes());
        change(&mut raw);
        disk.write_at(AT, &raw).unwrap();
        Superblock::read(&disk)
    }

    #[test]
    fn a_volume_claims_no_more_than_there_is() {
        let sound = volume(|_| ()).unwrap();
        assert_eq!(
            (sound.block_bytes, sound.blocks, sound.groups),
            (1024, 8192, 1)
        );
        let refused: [fn(&mut [u8]); 7] = [
            |raw| raw[0x38] = 0,
            |raw| raw[0x18] = 7,
            |raw| raw[0x18] = 60,
            |raw| raw[0x20..0x24].fill(0),
            |raw| raw[0x05] = 0x21,
            |raw| raw[0x04..0x08].fill(0),
            |raw| {
                raw[0x60] = 0x80;
                raw[0x150] = 1;
            },
        ];
        for (index, change) in refused.into_iter().enumerate() {
            let refused = matches!(volume(change), Err(ExtError::Superblock(_)));
            assert!(refused, "{index}");
        }
        let short = Superblock::read(&Memory::new(512, 3));
        assert!(matches!(short, Err(ExtError::Superblock(_))));
    }
}
