//! An image file or a real disk, opened read-only or, for a commit, exclusively for writing.

use std::fs::{File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use super::direct::Direct;
use super::{BlockDevice, DeviceError, Extent, Geometry, IoOp, Lba, ReadDevice, Retried};
use crate::host::{DiskSize, Kind, Opened, Process, User, this_pc};

/// Unreadable stretches that are remembered, at most.
const MAX_UNREADABLE: usize = 100;
/// Maximum number of repeated transfers that are remembered.
const MAX_RETRIED: usize = 100;

/// Why a disk could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// There is nothing of that name, or the system refuses.
    #[error("{path} cannot be opened: {source}")]
    Io {
        /// The path given.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// Neither a file nor a block device.
    #[error("{path} is {found}, not a disk or a disk image")]
    NotADisk {
        /// The path given.
        path: PathBuf,
        /// "a directory", …
        found: &'static str,
    },
    /// The image's length is not a whole number of sectors, or none at all.
    #[error(
        "{path} is {len_bytes} bytes long, which is not a whole number of {sector}-byte sectors: \
         the image is truncated or not a disk image"
    )]
    Truncated {
        /// The path given.
        path: PathBuf,
        /// Its length.
        len_bytes: u64,
        /// The sector size it was opened with.
        sector: u32,
    },
    /// A sector size was given for a real disk, which knows its own.
    #[error(
        "{path} is a real disk with {actual}-byte sectors; a sector size can only be given for \
         images"
    )]
    SectorSizeOfDisk {
        /// The path given.
        path: PathBuf,
        /// What the disk says.
        actual: u32,
    },
    /// Another program has it.
    #[error("{path} is in use{}", used_by(.holder, .users, .said))]
    InUse {
        /// The path given.
        path: PathBuf,
        /// The program that has locked it.
        holder: Option<Process>,
        /// What uses it or a partition of it.
        users: Vec<User>,
        /// What the host says of it.
        said: Option<String>,
    },
}

fn used_by(holder: &Option<Process>, users: &[User], said: &Option<String>) -> String {
    match (holder, users, said) {
        (Some(holder), _, _) => format!(" by {holder}"),
        (None, [], Some(said)) => format!(": {said}"),
        (None, [], None) => " by another program".to_owned(),
        (None, users, _) => {
            let users: Vec<String> = users.iter().map(User::to_string).collect();
            format!(": {}", users.join("; "))
        }
    }
}

/// An opened image or disk. A shared lock is held for reading, an exclusive one for writing.
#[derive(Debug)]
pub struct DiskFile {
    medium: Medium,
    geometry: Geometry,
    /// What keeps others away as long as it is open.
    held: Vec<File>,
    /// Where reading failed so far: physical sectors, ascending within each failure.
    unreadable: Mutex<Vec<Extent>>,
    /// Transfers that failed and succeeded when they were repeated.
    retried: Mutex<Vec<Retried>>,
}

#[derive(Debug)]
enum Medium {
    Image(File),
    /// A real disk, without the page cache in between.
    Device(Direct),
}

impl DiskFile {
    /// Opens read-only. `sector_size` is the logical sector of an image (default 512).
    pub fn open_read(path: &Path, sector_size: Option<u32>) -> Result<Self, OpenError> {
        Self::open(path, sector_size, false)
    }

    /// Opens for writing, exclusively: a disk that is mounted or held by a driver is refused by the
    /// kernel, and no other Schwelle can open it meanwhile.
    pub fn open_write(path: &Path, sector_size: Option<u32>) -> Result<Self, OpenError> {
        Self::open(path, sector_size, true)
    }

    fn open(path: &Path, sector_size: Option<u32>, write: bool) -> Result<Self, OpenError> {
        let io_error = |source| OpenError::Io {
            path: path.into(),
            source,
        };
        let host = this_pc();
        let kind = host.kind(path).map_err(io_error)?;
        let not_a_disk = |found| {
            Err(OpenError::NotADisk {
                path: path.into(),
                found,
            })
        };
        let is_block_device = match kind {
            Kind::Disk => true,
            Kind::Image => false,
            Kind::Folder => return not_a_disk("a directory"),
            Kind::Other => return not_a_disk("a pipe, socket or character device"),
        };
        let opened = host.open(path, kind, write);
        let Opened { file, held } = opened.map_err(|source| match source.kind() {
            io::ErrorKind::ResourceBusy => in_use(path, Some(&source)),
            _ => io_error(source),
        })?;
        match host.lock(&file, kind, write) {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(in_use(path, None)),
            Err(TryLockError::Error(source)) => return Err(io_error(source)),
        }
        let size = if is_block_device {
            let size = host.size_of_disk(&file).map_err(io_error)?;
            if sector_size.is_some_and(|given| given != size.logical_sector) {
                return Err(OpenError::SectorSizeOfDisk {
                    path: path.into(),
                    actual: size.logical_sector,
                });
            }
            size
        } else {
            let sector = sector_size.unwrap_or(512);
            DiskSize {
                logical_sector: sector,
                physical_sector: sector,
                len_bytes: file.metadata().map_err(io_error)?.len(),
            }
        };
        let DiskSize {
            logical_sector,
            physical_sector,
            len_bytes,
        } = size;
        if len_bytes == 0 || len_bytes % u64::from(logical_sector) != 0 {
            return Err(OpenError::Truncated {
                path: path.into(),
                len_bytes,
                sector: logical_sector,
            });
        }
        let sectors = len_bytes / u64::from(logical_sector);
        let medium = if is_block_device {
            Medium::Device(Direct::new(file, logical_sector, len_bytes))
        } else {
            Medium::Image(file)
        };
        Ok(Self {
            medium,
            geometry: Geometry {
                logical_sector,
                physical_sector,
                sectors,
            },
            held,
            unreadable: Mutex::default(),
            retried: Mutex::default(),
        })
    }

    /// The opened file, for requests to the kernel.
    pub fn file(&self) -> &File {
        match &self.medium {
            Medium::Image(file) => file,
            Medium::Device(device) => device.file(),
        }
    }

    /// True where its volumes have been taken off, and stay so as long as it is open.
    pub fn has_taken_off(&self) -> bool {
        !self.held.is_empty()
    }

    /// True for a real disk, false for an image.
    pub fn is_block_device(&self) -> bool {
        matches!(self.medium, Medium::Device(_))
    }

    /// The first sector of a failed transfer at which it fails, tried one by one; `None` where all of
    /// them work now.
    fn first_failing(
        &self,
        offset: u64,
        len_bytes: usize,
        mut transfer: impl FnMut(u64, std::ops::Range<usize>) -> io::Result<()>,
    ) -> Option<(Lba, io::Error)> {
        let sector = u64::from(self.geometry.logical_sector);
        let end = offset + len_bytes as u64;
        let mut at = offset;
        while at < end {
            let next = end.min((at / sector + 1) * sector);
            let index =
                |at: u64| usize::try_from(at - offset).expect("a transfer fits into memory");
            if let Err(error) = transfer(at, index(at)..index(next)) {
                return Some((Lba(at / sector), error));
            }
            at = next;
        }
        None
    }

    fn sectors(&self, offset: u64, len_bytes: usize) -> Extent {
        let sector = u64::from(self.geometry.logical_sector);
        Extent::between(
            Lba(offset / sector),
            Lba((offset + len_bytes as u64).div_ceil(sector)),
        )
    }

    /// What has been written can be read again.
    fn forget_unreadable(&self, offset: u64, len_bytes: usize) {
        let sectors = self.sectors(offset, len_bytes);
        let mut known = self
            .unreadable
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        known.retain(|extent| !extent.overlaps(&sectors));
    }

    /// A sector of a transfer that could not be read before.
    fn known_unreadable(&self, offset: u64, len_bytes: usize) -> Option<Lba> {
        let sectors = self.sectors(offset, len_bytes);
        let known = self
            .unreadable
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        let mut overlapping = known.iter().filter(|extent| extent.overlaps(&sectors));
        overlapping
            .next()
            .map(|extent| extent.first.max(sectors.first))
    }

    /// A transfer failed, and succeeded when it was repeated.
    fn remember_retried(&self, operation: IoOp, offset: u64, len_bytes: usize) {
        let sectors = self.sectors(offset, len_bytes);
        let retried = Retried { operation, sectors };
        let mut known = self.retried.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() < MAX_RETRIED && !known.contains(&retried) {
            known.push(retried);
        }
    }

    fn remember_unreadable(&self, lba: Lba) {
        // The drive reads its own sectors, and loses them as a whole.
        let step = u64::from(self.geometry.physical_sector / self.geometry.logical_sector).max(1);
        let first = lba.0 / step * step;
        let end = (first + step).min(self.geometry.sectors);
        let extent = Extent::between(Lba(first), Lba(end));
        let mut known = self
            .unreadable
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        if known.len() < MAX_UNREADABLE && !known.contains(&extent) {
            known.push(extent);
        }
    }
}

impl Drop for DiskFile {
    /// Unlocks by name. Closing alone would leave the lock with whatever process was just being
    /// started when the file was closed, until that has begun to run.
    fn drop(&mut self) {
        self.file().unlock().ok();
    }
}

fn in_use(path: &Path, source: Option<&io::Error>) -> OpenError {
    let host = this_pc();
    let is_disk = host.kind(path).is_ok_and(|kind| kind == Kind::Disk);
    OpenError::InUse {
        path: path.into(),
        holder: host.lock_holder(path),
        users: host.facts(path, is_disk).users,
        // Only the host's own words; the system's just repeat that it is busy.
        said: source.and_then(|source| Some(source.get_ref()?.to_string())),
    }
}

impl ReadDevice for DiskFile {
    fn geometry(&self) -> Geometry {
        self.geometry
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        let end = offset.checked_add(buffer.len() as u64);
        if end.is_none_or(|end| end > self.geometry.len_bytes()) {
            return Err(DeviceError::out_of_bounds(IoOp::Read, offset, buffer.len()));
        }
        // A drive tries for seconds, each time: a sector that is known to fail is not asked for once more.
        if let Some(lba) = self.known_unreadable(offset, buffer.len()) {
            let source = io::Error::other("it could not be read before");
            return Err(DeviceError::new(IoOp::Read, offset, buffer.len(), source).at(lba));
        }
        let read = |offset: u64, buffer: &mut [u8]| match &self.medium {
            Medium::Image(file) => this_pc().read_exact_at(file, buffer, offset),
            Medium::Device(device) => device.read_at(offset, buffer),
        };
        let Err(_) = read(offset, buffer) else {
            return Ok(());
        };
        let len_bytes = buffer.len();
        let one = |at: u64, part: std::ops::Range<usize>| read(at, &mut buffer[part]);
        match self.first_failing(offset, len_bytes, one) {
            None => {
                self.remember_retried(IoOp::Read, offset, len_bytes);
                Ok(())
            }
            Some((lba, source)) => {
                self.remember_unreadable(lba);
                Err(DeviceError::new(IoOp::Read, offset, len_bytes, source).at(lba))
            }
        }
    }

    /// Where reading has failed so far, ascending and apart; of many places the first hundred met.
    fn unreadable(&self) -> Vec<Extent> {
        let mut all = self
            .unreadable
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        all.sort_unstable_by_key(|extent| extent.first);
        let mut apart: Vec<Extent> = Vec::new();
        for extent in all {
            match apart.last_mut() {
                Some(last) if last.end >= extent.first => last.end = last.end.max(extent.end),
                _ => apart.push(extent),
            }
        }
        apart
    }

    /// The first hundred repeated transfers, and those pieces of the device that were read in smaller parts
    /// because a sector in them failed.
    fn retried(&self) -> Vec<Retried> {
        let known = self.retried.lock().unwrap_or_else(PoisonError::into_inner);
        let mut all = known.clone();
        drop(known);
        if let Medium::Device(device) = &self.medium {
            let unreadable = self.unreadable();
            let pieces = device
                .failed_pieces()
                .into_iter()
                .map(|(offset, len)| Retried {
                    operation: IoOp::Read,
                    sectors: self.sectors(offset, len),
                });
            // A piece with a sector that is known to be unreadable has that reason.
            let unexplained = |retried: &Retried| {
                let mut unreadable = unreadable.iter();
                !unreadable.any(|extent| extent.overlaps(&retried.sectors))
            };
            all.extend(pieces.filter(unexplained));
        }
        all
    }
}

impl DiskFile {
    /// True if the image or the disk has got another length since it was opened.
    ///
    /// # Errors
    ///
    /// The system does not tell the length.
    pub fn has_other_length(&self) -> io::Result<bool> {
        let len_bytes = match &self.medium {
            Medium::Image(file) => file.metadata()?.len(),
            Medium::Device(_) => this_pc().size_of_disk(self.file())?.len_bytes,
        };
        Ok(len_bytes / u64::from(self.geometry.logical_sector) != self.geometry.sectors)
    }
}

impl BlockDevice for DiskFile {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        let end = offset.checked_add(bytes.len() as u64);
        if end.is_none_or(|end| end > self.geometry.len_bytes()) {
            // A file would grow instead of refusing.
            return Err(DeviceError::out_of_bounds(IoOp::Write, offset, bytes.len()));
        }
        let write = |offset: u64, bytes: &[u8]| match &self.medium {
            Medium::Image(file) => this_pc().write_all_at(file, bytes, offset),
            Medium::Device(device) => device.write_at(offset, bytes),
        };
        let Err(_) = write(offset, bytes) else {
            self.forget_unreadable(offset, bytes.len());
            return Ok(());
        };
        // The same bytes again, to the same place: what is there already does no harm.
        let one = |at: u64, part: std::ops::Range<usize>| write(at, &bytes[part]);
        match self.first_failing(offset, bytes.len(), one) {
            None => {
                self.remember_retried(IoOp::Write, offset, bytes.len());
                Ok(())
            }
            Some((lba, source)) => {
                Err(DeviceError::new(IoOp::Write, offset, bytes.len(), source).at(lba))
            }
        }
    }

    fn flush(&self) -> Result<(), DeviceError> {
        let flushed = match &self.medium {
            Medium::Image(file) => file.sync_all(),
            Medium::Device(device) => device.flush(),
        };
        flushed.map_err(|source| DeviceError::new(IoOp::Flush, 0, 0, source))?;
        if let Medium::Image(file) = &self.medium {
            // Later reads, verification above all, should come from the medium and not from a cache.
            this_pc().forget_cached(file);
        }
        Ok(())
    }
}
