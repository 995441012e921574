//! What has been changed on open volumes, as it comes to the disk: encrypted again.

use super::cipher::Way;
use super::unlocked::{Content, UnlockedVolume, parts};
use crate::device::{DeviceError, Extent, Geometry, Lba, ReadDevice};

/// A change that cannot be encrypted in its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{first}: the metadata and the first sectors of an encrypted volume are never changed")]
pub struct NotSealed {
    /// The first sector of the change.
    pub first: Lba,
}

/// A changed disk with its open volumes shown encrypted, as the disk below holds them.
#[derive(Debug)]
pub struct Sealed<'d> {
    changed: &'d dyn ReadDevice,
    disk: &'d dyn ReadDevice,
    volumes: &'d [UnlockedVolume],
}

impl<'d> Sealed<'d> {
    /// `changed` lies over `disk` with these volumes open.
    pub fn new(
        changed: &'d dyn ReadDevice,
        disk: &'d dyn ReadDevice,
        volumes: &'d [UnlockedVolume],
    ) -> Self {
        Self {
            changed,
            disk,
            volumes,
        }
    }
}

/// Whether changes in these places can be encrypted: each lies in its own place on its volume.
///
/// # Errors
///
/// The first one that does not.
pub fn can_be_sealed(
    geometry: Geometry,
    volumes: &[UnlockedVolume],
    places: impl IntoIterator<Item = Extent>,
) -> Result<(), NotSealed> {
    for place in places {
        let first = place.first;
        let offset = geometry.byte_of(first).ok_or(NotSealed { first })?;
        let len =
            usize::try_from(geometry.bytes_in(&place)).map_err(|_too_large| NotSealed { first })?;
        for (within, range) in parts(volumes, geometry, offset, len) {
            let Some((volume, mut at)) = within else {
                continue;
            };
            let end = at.saturating_add(range.len() as u64);
            while at < end {
                match volume.content(at) {
                    (Content::At(from), until) if from == at => at = until,
                    (Content::Plain, until) => at = until,
                    (Content::At(_) | Content::Zeros, _) => return Err(NotSealed { first }),
                }
            }
        }
    }
    Ok(())
}

impl ReadDevice for Sealed<'_> {
    fn geometry(&self) -> Geometry {
        self.disk.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        for (within, range) in parts(self.volumes, self.geometry(), offset, buffer.len()) {
            let part = &mut buffer[range.clone()];
            let Some((volume, at)) = within else {
                self.changed
                    .read_at(offset.saturating_add(range.start as u64), part)?;
                continue;
            };
            volume.read_by(at, part, |content, done, part| match content {
                Content::At(from) if from == done => {
                    self.changed.read_at(volume.on_disk(done), part)?;
                    volume.change(part, done, Way::Encrypt);
                    Ok(())
                }
                Content::Plain => self.changed.read_at(volume.on_disk(done), part),
                Content::At(_) | Content::Zeros => self.disk.read_at(volume.on_disk(done), part),
            })?;
        }
        Ok(())
    }
}
