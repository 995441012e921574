//! An image file or a real disk, opened read-only or, for a commit, exclusively for writing.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{self, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, FileTypeExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use rustix::fs::{Advice, OFlags};

use super::host::lock_holder;
use super::{BlockDevice, DeviceError, Geometry, ReadDevice};

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
    /// Somebody else has it.
    #[error("{path} is in use by {holder}")]
    InUse {
        /// The path given.
        path: PathBuf,
        /// Who has it, as far as the system tells.
        holder: String,
    },
}

/// An opened image or disk. A shared lock is held for reading, an exclusive one for writing.
#[derive(Debug)]
pub struct DiskFile {
    file: File,
    geometry: Geometry,
    is_block_device: bool,
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
        let kind = std::fs::metadata(path).map_err(io_error)?.file_type();
        let not_a_disk = |found| {
            Err(OpenError::NotADisk {
                path: path.into(),
                found,
            })
        };
        if kind.is_dir() {
            return not_a_disk("a directory");
        }
        let is_block_device = kind.is_block_device();
        if !kind.is_file() && !is_block_device {
            return not_a_disk("a pipe, socket or character device");
        }
        let mut options = OpenOptions::new();
        options.read(true).write(write);
        if write && is_block_device {
            // On block devices O_EXCL means: fail when mounted or claimed by a driver (open(2)).
            options.custom_flags(OFlags::EXCL.bits().cast_signed());
        }
        let mut file = options.open(path).map_err(|source| match source.kind() {
            io::ErrorKind::ResourceBusy => in_use(path),
            _ => io_error(source),
        })?;
        let locked = if write {
            file.try_lock()
        } else {
            file.try_lock_shared()
        };
        match locked {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(in_use(path)),
            Err(TryLockError::Error(source)) => return Err(io_error(source)),
        }
        let (logical_sector, physical_sector) = if is_block_device {
            let logical = rustix::fs::ioctl_blksszget(&file).map_err(|e| io_error(e.into()))?;
            let physical = rustix::fs::ioctl_blkpbszget(&file).map_err(|e| io_error(e.into()))?;
            if sector_size.is_some_and(|given| given != logical) {
                return Err(OpenError::SectorSizeOfDisk {
                    path: path.into(),
                    actual: logical,
                });
            }
            (logical, physical)
        } else {
            let sector = sector_size.unwrap_or(512);
            (sector, sector)
        };
        // Seeking tells the size of files and block devices alike; metadata says 0 for the latter.
        let len_bytes = file.seek(SeekFrom::End(0)).map_err(io_error)?;
        if len_bytes == 0 || len_bytes % u64::from(logical_sector) != 0 {
            return Err(OpenError::Truncated {
                path: path.into(),
                len_bytes,
                sector: logical_sector,
            });
        }
        let sectors = len_bytes / u64::from(logical_sector);
        Ok(Self {
            file,
            geometry: Geometry {
                logical_sector,
                physical_sector,
                sectors,
            },
            is_block_device,
        })
    }

    /// The opened file, for requests to the kernel.
    pub fn file(&self) -> &File {
        &self.file
    }

    /// True for a real disk, false for an image.
    pub fn is_block_device(&self) -> bool {
        self.is_block_device
    }
}

impl Drop for DiskFile {
    /// Unlocks by name. Closing alone would leave the lock with whatever process was just being
    /// started when the file was closed, until that has begun to run.
    fn drop(&mut self) {
        self.file.unlock().ok();
    }
}

fn in_use(path: &Path) -> OpenError {
    let holder = lock_holder(Path::new("/"), path);
    OpenError::InUse {
        path: path.into(),
        holder: holder.unwrap_or_else(|| "another program".to_owned()),
    }
}

impl ReadDevice for DiskFile {
    fn geometry(&self) -> Geometry {
        self.geometry
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.file
            .read_exact_at(buffer, offset)
            .map_err(|source| DeviceError::new("read", offset, buffer.len(), source))
    }
}

impl BlockDevice for DiskFile {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        let end = offset.checked_add(bytes.len() as u64);
        if end.is_none_or(|end| end > self.geometry.len_bytes()) {
            // A file would grow instead of refusing.
            return Err(DeviceError::outside("write", offset, bytes.len()));
        }
        self.file
            .write_all_at(bytes, offset)
            .map_err(|source| DeviceError::new("write", offset, bytes.len(), source))
    }

    fn flush(&self) -> Result<(), DeviceError> {
        self.file
            .sync_all()
            .map_err(|source| DeviceError::new("flush", 0, 0, source))?;
        // Later reads, verification above all, should come from the medium and not from the page
        // cache. Advice only: where the system does not take it, the reads are still right.
        rustix::fs::fadvise(&self.file, 0, None, Advice::DontNeed).ok();
        Ok(())
    }
}
