//! Whether a volume has been used.

use crate::commit::hash_of;
use crate::device::{DeviceError, Extent, Lba, ReadDevice, Window};
use crate::fat::{FatError, FatVolume};
use crate::ntfs::{NtfsError, NtfsVolume};

/// Bytes from the start of a volume that cannot be opened that are hashed: boot sectors, and the FATs of a volume
/// up to the usual size of an EFI system partition.
const HEAD_BYTES: u64 = 2 << 20;

/// Returns the BLAKE3 hash, in hex, over the metadata of the NTFS or FAT32 volume at `extent`, or over the first
/// 2 MiB of a volume that cannot be opened (an EFI system partition that is being repaired).
///
/// `None` if the metadata was read and is too inconsistent to be hashed, or if `extent` exceeds the device: no volume that a
/// job records is like that.
///
/// # Errors
///
/// A sector could not be read. Whether the volume has been used is unknown then.
pub fn fingerprint(device: &dyn ReadDevice, extent: Extent) -> Result<Option<String>, DeviceError> {
    let Some(window) = Window::new(device, extent) else {
        return Ok(None);
    };
    let hash = match NtfsVolume::open(&window) {
        Ok(volume) => match volume.fingerprint() {
            Ok(hash) => hash,
            Err(NtfsError::Device(error)) if !error.is_out_of_bounds() => return Err(error),
            Err(_inconsistent) => return Ok(None),
        },
        Err(NtfsError::Device(error)) if !error.is_out_of_bounds() => return Err(error),
        Err(_not_ntfs) => match fat_fingerprint(&window)? {
            Some(hash) => hash,
            None => head(&window)?,
        },
    };
    Ok(Some(hash.to_hex().to_string()))
}

/// The hash over the metadata of a FAT32 volume; `None` if it cannot be opened or is inconsistent.
fn fat_fingerprint(window: &dyn ReadDevice) -> Result<Option<blake3::Hash>, DeviceError> {
    let opened = FatVolume::open_leniently(window);
    match opened.and_then(|volume| volume.fingerprint()) {
        Ok(hash) => Ok(Some(hash)),
        Err(FatError::Device(error)) if !error.is_out_of_bounds() => Err(error),
        Err(_inconsistent) => Ok(None),
    }
}

/// Returns the BLAKE3 hash, in hex, over the sectors that hold the metadata of an encrypted volume, which need not
/// be unlocked.
///
/// # Errors
///
/// A sector could not be read.
pub(crate) fn sealed_fingerprint(
    device: &dyn ReadDevice,
    sectors: &[Extent],
) -> Result<String, DeviceError> {
    let mut hasher = blake3::Hasher::new();
    for extent in sectors {
        hasher.update(hash_of(device, *extent)?.as_bytes());
    }
    Ok(hasher.finalize().to_hex().to_string())
}

fn head(volume: &dyn ReadDevice) -> Result<blake3::Hash, DeviceError> {
    let geometry = volume.geometry();
    let bytes = HEAD_BYTES.min(geometry.bytes_in(&geometry.whole()));
    let head = Extent::between(Lba(0), Lba(bytes / u64::from(geometry.logical_sector)));
    hash_of(volume, head)
}
