//! Whether a volume has been used.

use crate::commit::hash_of;
use crate::device::{DeviceError, Extent, ReadDevice, Window};
use crate::fat::FatVolume;
use crate::ntfs::NtfsVolume;

/// Of a volume that cannot be opened, so much from its start on is hashed: boot sectors, and the FATs of one that is
/// no larger than an EFI system partition usually is.
const HEAD_BYTES: u64 = 2 << 20;

/// The hash over the metadata of the NTFS or FAT32 volume at `extent`, or over the first bytes of one that cannot be opened
/// (an EFI system partition that is being repaired); `None` where it cannot be read.
pub fn fingerprint(device: &dyn ReadDevice, extent: Extent) -> Option<String> {
    let window = Window::new(device, extent)?;
    let hash = match NtfsVolume::open(&window) {
        Ok(volume) => volume.fingerprint().ok()?,
        Err(_) => match FatVolume::open_leniently(&window) {
            Ok(volume) => volume.fingerprint().or_else(|_| head(&window)).ok()?,
            Err(_) => head(&window).ok()?,
        },
    };
    Some(hash.to_hex().to_string())
}

/// The same of an encrypted volume that may be closed: over the sectors that its metadata lies in; `None` where they
/// cannot be read.
pub(crate) fn sealed_fingerprint(device: &dyn ReadDevice, sectors: &[Extent]) -> Option<String> {
    let mut hasher = blake3::Hasher::new();
    for extent in sectors {
        let part = hash_of(device, *extent).ok()?;
        hasher.update(part.as_bytes());
    }
    Some(hasher.finalize().to_hex().to_string())
}

fn head(volume: &dyn ReadDevice) -> Result<blake3::Hash, DeviceError> {
    let geometry = volume.geometry();
    let bytes = HEAD_BYTES.min(geometry.bytes_in(&geometry.whole()));
    let head = volume.read_vec(0, usize::try_from(bytes).unwrap_or(0))?;
    Ok(blake3::hash(&head))
}
