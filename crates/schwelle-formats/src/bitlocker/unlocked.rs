//! A disk with its encrypted volumes open.

use std::fmt;
use std::ops::Range;

use super::cipher::Way;
use super::metadata::{COPY_BYTES, Metadata};
use super::secret::VolumeKey;
use crate::device::{DeviceError, Extent, Geometry, IoOp, Lba, ReadDevice, Retried};

/// An open volume.
pub struct UnlockedVolume {
    extent: Extent,
    first_byte: u64,
    metadata: Metadata,
    key: VolumeKey,
}

impl fmt::Debug for UnlockedVolume {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}, {:?}", self.metadata.id, self.key)
    }
}

/// What lies at a place of a volume, as its file system sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Content {
    /// Encrypted, at this byte of the volume.
    At(u64),
    /// Not encrypted, in its own place.
    Plain,
    /// The metadata, and where the first sectors are kept: zeros, as Windows shows them.
    Zeros,
}

impl UnlockedVolume {
    /// The volume in these sectors of a disk, with its key; `None` where what it says of itself leaves them.
    pub fn new(
        geometry: Geometry,
        extent: Extent,
        metadata: Metadata,
        key: VolumeKey,
    ) -> Option<Self> {
        let len_bytes = geometry.bytes_in(&extent);
        let sector = u64::from(metadata.sector);
        let fits = |(at, len): (u64, u64)| {
            let end = at.checked_add(len).filter(|&end| end <= len_bytes);
            end.is_some() && at % sector == 0 && len % sector == 0
        };
        let copies = metadata.copies.map(|copy| (copy, COPY_BYTES));
        let fits = copies.into_iter().all(fits)
            && fits(metadata.first_sectors)
            && fits((0, metadata.encrypted_bytes));
        let first_byte = geometry.byte_of(extent.first)?;
        fits.then_some(Self {
            extent,
            first_byte,
            metadata,
            key,
        })
    }

    /// Where it lies on the disk.
    pub fn extent(&self) -> Extent {
        self.extent
    }

    /// What it says of itself.
    pub fn metadata(&self) -> &Metadata {
        &self.metadata
    }

    /// What opened it.
    pub fn key(&self) -> &VolumeKey {
        &self.key
    }

    /// The sectors of the disk that hold these bytes of the volume, as its file system sees them.
    pub fn sectors_of(&self, bytes: Range<u64>, sector_bytes: u32) -> Vec<Extent> {
        let sector = u64::from(sector_bytes);
        let mut extents = Vec::new();
        let mut at = bytes.start;
        while at < bytes.end {
            let (content, until) = self.content(at);
            let until = until.min(bytes.end);
            let from = match content {
                Content::At(from) => Some(from),
                Content::Plain => Some(at),
                Content::Zeros => None,
            };
            extents.extend(from.map(|from| {
                Extent {
                    first: Lba(self.on_disk(from) / sector),
                    end: Lba(self
                        .on_disk(from.saturating_add(until - at))
                        .div_ceil(sector)),
                }
            }));
            at = until;
        }
        extents
    }

    /// The byte of the disk at which a byte of the volume lies.
    pub(super) fn on_disk(&self, byte: u64) -> u64 {
        self.first_byte.saturating_add(byte)
    }

    /// Decrypts or encrypts whole sectors in place, which lie at this byte of the volume.
    pub(super) fn change(&self, bytes: &mut [u8], at: u64, way: Way) {
        let sector = self.metadata.sector as usize;
        self.key.cipher.change(bytes, sector, at, way);
    }

    /// What is seen at a byte of the volume, and up to which byte that holds at least.
    pub(super) fn content(&self, byte: u64) -> (Content, u64) {
        let (moved_at, moved_len) = self.metadata.first_sectors;
        let moved = moved_at..moved_at.saturating_add(moved_len);
        let copies = self.metadata.copies.iter();
        let copies = copies.map(|&copy| copy..copy.saturating_add(COPY_BYTES));
        let bounds = copies
            .clone()
            .chain([moved.clone(), moved_len..self.metadata.encrypted_bytes])
            .flat_map(|range| [range.start, range.end]);
        let end = bounds.filter(|&bound| bound > byte).min();
        let content = if byte < moved_len {
            Content::At(moved.start.saturating_add(byte))
        } else if copies.chain([moved]).any(|range| range.contains(&byte)) {
            Content::Zeros
        } else if byte < self.metadata.encrypted_bytes {
            Content::At(byte)
        } else {
            Content::Plain
        };
        (content, end.unwrap_or(u64::MAX))
    }

    /// Reads from byte `at` of the volume on, by a function that reads whole sectors of one kind of content.
    pub(super) fn read_by(
        &self,
        at: u64,
        buffer: &mut [u8],
        read: impl Fn(Content, u64, &mut [u8]) -> Result<(), DeviceError>,
    ) -> Result<(), DeviceError> {
        // Sectors of the cipher may be larger than those of the disk.
        let sector = u64::from(self.metadata.sector);
        let outside = || DeviceError::out_of_bounds(IoOp::Read, self.on_disk(at), buffer.len());
        let index = |bytes: u64| usize::try_from(bytes).map_err(|_too_large| outside());
        let first = at / sector * sector;
        let end = at.checked_add(buffer.len() as u64).ok_or_else(outside)?;
        let end = end.checked_next_multiple_of(sector).ok_or_else(outside)?;
        let is_whole = first == at && end - first == buffer.len() as u64;
        let mut more = vec![0; if is_whole { 0 } else { index(end - first)? }];
        let skipped = index(at - first)?;
        let len = buffer.len();
        let whole = if is_whole {
            &mut *buffer
        } else {
            &mut more[..]
        };
        let mut done = first;
        while done < end {
            let (content, until) = self.content(done);
            let until = until.min(end);
            let part = &mut whole[usize::try_from(done - first).unwrap_or(0)..];
            let (part, _) = part.split_at_mut(usize::try_from(until - done).unwrap_or(0));
            read(content, done, part)?;
            done = until;
        }
        if !is_whole {
            buffer.copy_from_slice(&more[skipped..skipped + len]);
        }
        Ok(())
    }
}

/// A disk whose open volumes are read decrypted. All else is as it is.
#[derive(Debug)]
pub struct Unlocked<D> {
    disk: D,
    volumes: Vec<UnlockedVolume>,
}

impl<D: ReadDevice> Unlocked<D> {
    /// The disk with these of its volumes open; they do not share sectors.
    pub fn new(disk: D, volumes: Vec<UnlockedVolume>) -> Self {
        Self { disk, volumes }
    }

    /// The disk as it is.
    pub fn disk(&self) -> &D {
        &self.disk
    }

    /// The open volumes.
    pub fn volumes(&self) -> &[UnlockedVolume] {
        &self.volumes
    }
}

/// A part of a transfer: within a volume (and at which byte of it), or outside of all.
pub(super) type Part<'v> = (Option<(&'v UnlockedVolume, u64)>, Range<usize>);

/// Splits a transfer at the bounds of volumes.
pub(super) fn parts(
    volumes: &[UnlockedVolume],
    geometry: Geometry,
    offset: u64,
    len_bytes: usize,
) -> Vec<Part<'_>> {
    let bytes_of = |volume: &UnlockedVolume| {
        let len = geometry.bytes_in(&volume.extent);
        volume.first_byte..volume.first_byte.saturating_add(len)
    };
    let mut parts = Vec::new();
    let mut done = 0;
    while done < len_bytes {
        let at = offset.saturating_add(done as u64);
        let volume = volumes.iter().find(|volume| bytes_of(volume).contains(&at));
        let end = match volume {
            Some(volume) => bytes_of(volume).end,
            None => {
                let starts = volumes.iter().map(|volume| volume.first_byte);
                starts.filter(|&start| start > at).min().unwrap_or(u64::MAX)
            }
        };
        let len = usize::try_from(end - at).unwrap_or(usize::MAX);
        let until = done.saturating_add(len).min(len_bytes);
        let within = volume.map(|volume| (volume, at - volume.first_byte));
        parts.push((within, done..until));
        done = until;
    }
    parts
}

impl<D: ReadDevice> ReadDevice for Unlocked<D> {
    fn geometry(&self) -> Geometry {
        self.disk.geometry()
    }

    fn disk_offset(&self) -> u64 {
        self.disk.disk_offset()
    }

    fn unreadable(&self) -> Vec<Extent> {
        self.disk.unreadable()
    }

    fn retried(&self) -> Vec<Retried> {
        self.disk.retried()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        for (within, range) in parts(&self.volumes, self.geometry(), offset, buffer.len()) {
            let part = &mut buffer[range.clone()];
            let Some((volume, at)) = within else {
                self.disk
                    .read_at(offset.saturating_add(range.start as u64), part)?;
                continue;
            };
            volume.read_by(at, part, |content, done, part| {
                match content {
                    Content::Zeros => part.fill(0),
                    Content::Plain => self.disk.read_at(volume.on_disk(done), part)?,
                    Content::At(from) => {
                        self.disk.read_at(volume.on_disk(from), part)?;
                        volume.change(part, from, Way::Decrypt);
                    }
                }
                Ok(())
            })?;
        }
        Ok(())
    }
}
