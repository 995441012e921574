//! The two images that a BIOS start goes through: the boot image in sector 0, and the core image that it loads.

use crate::bytes::{u16_at, u32_at, u64_at};
use crate::device::{DeviceError, Extent, Lba, ReadDevice};

/// Both count in sectors of this size, whatever the disk's are.
const SECTOR_BYTES: usize = 512;
/// Sector of the core image, in the boot image.
const KERNEL_SECTOR: usize = 0x5C;
/// Address that it is loaded to, in the boot image.
const KERNEL_ADDRESS: usize = 0x5A;
const LOADED_TO: u16 = 0x8000;
/// Its messages; a boot image has the same in each version.
const MESSAGES: &[u8] = b"GRUB \0Geom\0Hard Disk\0Read\0 Error";
/// In the first sector of the core image, from its end towards its start: where the rest of it lies.
const FIRST_LIST: usize = SECTOR_BYTES - LIST_BYTES;
const LIST_BYTES: usize = 12;
/// Runs of sectors that a core image is read from, at most.
const MAX_RUNS: usize = 32;
/// No core image is longer: it is loaded below 640 KiB.
const MAX_CORE_BYTES: usize = 1 << 20;
/// At the start of its second sector the core image keeps what its installer wrote: how much of it is protected
/// against bit errors, and the disk that it was started from. A copy in a file has other numbers there.
const INSTALLED: std::ops::Range<usize> = SECTOR_BYTES..SECTOR_BYTES + 0x20;

/// The boot image in sector 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BootImage {
    /// First sector of the core image; of GRUB 0.97 and older, which is not looked into, `None`.
    pub core: Option<Lba>,
}

impl BootImage {
    /// The boot image in this sector 0; `None` where its code is another's.
    pub fn of(sector: &[u8]) -> Option<Self> {
        let code = sector.get(..440)?;
        let has = |name: &[u8]| code.windows(name.len()).any(|part| part == name);
        if !has(MESSAGES) {
            return None;
        }
        let is_second = u16_at(code, KERNEL_ADDRESS) == Some(LOADED_TO);
        let core = u64_at(code, KERNEL_SECTOR).filter(|lba| is_second && *lba > 0);
        Some(Self {
            core: core.map(Lba),
        })
    }
}

/// The core image as it lies on a disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CoreImage {
    /// Its sectors, in their order.
    pub extents: Vec<Extent>,
    content: Vec<u8>,
}

impl CoreImage {
    /// Reads the core image that begins at `first`; `None` where none does, or where it leaves the disk.
    ///
    /// # Errors
    ///
    /// The device's.
    pub fn read(disk: &dyn ReadDevice, first: Lba) -> Result<Option<Self>, DeviceError> {
        let geometry = disk.geometry();
        if geometry.logical_sector as usize != SECTOR_BYTES || first.0 >= geometry.sectors {
            return Ok(None);
        }
        let head = disk.read_sector(first)?;
        let Some(runs) = runs(&head) else {
            return Ok(None);
        };
        let Some(mut extents) = Extent::new(first, 1).map(|head| vec![head]) else {
            return Ok(None);
        };
        let mut content = head;
        for (lba, sectors) in runs {
            let extent = Extent::new(Lba(lba), sectors.into());
            let Some(extent) = extent.filter(|extent| extent.end.0 <= geometry.sectors) else {
                return Ok(None);
            };
            let bytes = usize::from(sectors) * SECTOR_BYTES;
            if content.len() + bytes > MAX_CORE_BYTES {
                return Ok(None);
            }
            let Some(at) = geometry.byte_of(extent.first) else {
                return Ok(None);
            };
            content.extend(disk.read_vec(at, bytes)?);
            match extents.last_mut() {
                Some(last) if last.end == extent.first => last.end = extent.end,
                _ => extents.push(extent),
            }
        }
        Ok(Some(Self { extents, content }))
    }

    /// True where this is what `file` holds, a `core.img`, but for what its installer wrote into it.
    pub fn is_copy_of(&self, file: &[u8]) -> bool {
        let (len, start) = (file.len(), INSTALLED.end);
        // The last sector is filled up; after it may lie what repairs bit errors.
        let is_long = len > start && self.content.len() >= len;
        // The sectors of the list are the file's own place, or the disk's.
        let head = |image: &[u8]| {
            image
                .get(..FIRST_LIST - (MAX_RUNS - 1) * LIST_BYTES)
                .map(<[u8]>::to_vec)
        };
        is_long
            && head(&self.content) == head(file)
            && self.content.get(start..len) == file.get(start..)
    }
}

/// The runs of sectors that the first sector of a core image names.
fn runs(head: &[u8]) -> Option<Vec<(u64, u16)>> {
    let mut runs = Vec::new();
    for index in 0..MAX_RUNS {
        let at = FIRST_LIST.checked_sub(index * LIST_BYTES)?;
        let (lba, sectors) = (u64_at(head, at)?, u16_at(head, at + 8)?);
        if sectors == 0 {
            break;
        }
        // Each is loaded after the one before; segments are addresses of 16 bytes.
        u32_at(head, at + 8)?;
        runs.push((lba, sectors));
    }
    (!runs.is_empty()).then_some(runs)
}
