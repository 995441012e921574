//! ext2, ext3 and ext4, read only.
//!
//! A Linux on a disk is looked into through a reader that others wrote (`ext4-view`); a journal that was not
//! replayed is applied to what is read, as a mount would. Here stand what that reader does not bound (superblock.rs:
//! how much a volume may claim) and the way from its owned source of bytes to a device that is borrowed
//! (served.rs). Not supported: what the reader does not know, as inline data in directories.

#![warn(clippy::indexing_slicing)]

mod served;
mod superblock;

use ext4_view::{Ext4, Ext4Error};
use uuid::Uuid;

use crate::cause::Cause;
use crate::device::{DeviceError, ReadDevice};

pub use superblock::Superblock;

/// Entries of a directory that are looked at, at most.
const MAX_ENTRIES: usize = 4096;

/// Why a volume, or something on it, cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ExtError {
    /// Its superblock is none, or claims more than there is.
    #[error("no ext volume: {0}")]
    Superblock(&'static str),
    /// It is damaged, or made in a way that is not known.
    #[error("{0}")]
    Unreadable(Cause),
    /// The file is longer than what is read of such a file.
    #[error("{path}: longer than {limit} bytes")]
    TooLong {
        /// Its path.
        path: String,
        /// The limit in bytes.
        limit: usize,
    },
    /// The reader gave up.
    #[error("the file system is made in a way that cannot be read")]
    GaveUp,
}

impl From<Ext4Error> for ExtError {
    fn from(error: Ext4Error) -> Self {
        Self::Unreadable(error.into())
    }
}

impl From<DeviceError> for ExtError {
    fn from(error: DeviceError) -> Self {
        Self::Unreadable(error.into())
    }
}

/// A file or folder in a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExtEntry {
    /// Its name; one that is not UTF-8 is left out of a listing.
    pub name: String,
    /// A folder, or a link to one.
    pub is_directory: bool,
    /// Length in bytes, of a file.
    pub len_bytes: u64,
}

/// An open volume.
#[derive(Debug)]
pub struct ExtVolume(Ext4);

impl ExtVolume {
    /// Opens the volume on `window`, and gives it to `look`.
    ///
    /// # Errors
    ///
    /// What cannot be read, and what `look` says.
    pub fn open<T: Send>(
        window: &dyn ReadDevice,
        look: impl FnOnce(&Self) -> Result<T, ExtError> + Send,
    ) -> Result<T, ExtError> {
        Superblock::read(window)?;
        served::serve(window, |source| look(&Self(Ext4::load(Box::new(source))?)))
    }

    /// The UUID of the file system.
    pub fn uuid(&self) -> Uuid {
        Uuid::from_bytes(*self.0.uuid().as_bytes())
    }

    /// What the file at `path` holds; links are followed. `None` where there is no such file.
    ///
    /// # Errors
    ///
    /// What cannot be read; a file longer than `limit` bytes.
    pub fn read_file(&self, path: &str, limit: usize) -> Result<Option<Vec<u8>>, ExtError> {
        let mut file = match self.0.open(path) {
            Ok(file) => file,
            Err(error) if is_absent(&error) => return Ok(None),
            Err(error) => return Err(error.into()),
        };
        let too_long = || ExtError::TooLong {
            path: path.to_owned(),
            limit,
        };
        let len = usize::try_from(file.metadata().len()).map_err(|_too_large| too_long())?;
        if len > limit {
            return Err(too_long());
        }
        let mut content = vec![0; len];
        let mut filled = 0;
        while let Some(rest) = content.get_mut(filled..).filter(|rest| !rest.is_empty()) {
            match file.read_bytes(rest)? {
                0 => return Err(ExtError::GaveUp),
                read => filled += read,
            }
        }
        Ok(Some(content))
    }

    /// Length in bytes of the file at `path`; links are followed. `None` where there is no such file.
    ///
    /// # Errors
    ///
    /// What cannot be read.
    pub fn file_len(&self, path: &str) -> Result<Option<u64>, ExtError> {
        match self.0.metadata(path) {
            Ok(metadata) => Ok(metadata
                .file_type()
                .is_regular_file()
                .then(|| metadata.len())),
            Err(error) if is_absent(&error) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// What lies in the folder at `path`, by name; empty where there is no such folder. Of a folder with thousands of
    /// entries only some are looked at.
    ///
    /// # Errors
    ///
    /// What cannot be read.
    pub fn list(&self, path: &str) -> Result<Vec<ExtEntry>, ExtError> {
        let entries = match self.0.read_dir(path) {
            Ok(entries) => entries,
            Err(error) if is_absent(&error) => return Ok(Vec::new()),
            Err(error) => return Err(error.into()),
        };
        let mut found = Vec::new();
        for entry in entries.take(MAX_ENTRIES) {
            let entry = entry?;
            let Ok(name) = entry.file_name().as_str().map(str::to_owned) else {
                continue;
            };
            // A link that leads nowhere is nothing.
            let Ok(metadata) = self.0.metadata(&entry.path()) else {
                continue;
            };
            if name != "." && name != ".." {
                found.push(ExtEntry {
                    name,
                    is_directory: metadata.is_dir(),
                    len_bytes: metadata.len(),
                });
            }
        }
        found.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(found)
    }
}

/// There is nothing of the kind at a path.
fn is_absent(error: &Ext4Error) -> bool {
    matches!(
        error,
        Ext4Error::NotFound
            | Ext4Error::NotADirectory
            | Ext4Error::IsADirectory
            | Ext4Error::IsASpecialFile
    )
}
