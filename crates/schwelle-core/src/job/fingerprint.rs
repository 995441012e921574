//! Whether a volume has been used.

use crate::device::{Extent, ReadDevice, Window};
use crate::fat::FatVolume;
use crate::ntfs::NtfsVolume;

/// The hash over the metadata of the NTFS or FAT32 volume at `extent`; `None` where there is none
/// that makes sense.
pub fn fingerprint(device: &dyn ReadDevice, extent: Extent) -> Option<String> {
    let window = Window::new(device, extent)?;
    let hash = match NtfsVolume::open(&window) {
        Ok(volume) => volume.fingerprint().ok()?,
        Err(_) => FatVolume::open(&window).ok()?.fingerprint().ok()?,
    };
    Some(hash.to_hex().to_string())
}
