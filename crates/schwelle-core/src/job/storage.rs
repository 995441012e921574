//! Where the files of a job folder lie, and what it takes to have them on the medium.
//!
//! The order of writes in [`super::JobFolder`] is made for the weakest file system it may meet, FAT:
//!
//! - A name is created empty. Its length and first cluster reach the medium when the file is
//!   synced, and not when the folder is (Linux, fs/fat/inode.c: they are written with the inode).
//! - A rename leaves an entry of length 0 until the inode is written, up to 30 s later, so a rename
//!   replaces nothing atomically there.
//!
//! So no file that the way back needs is ever renamed or replaced: it is created, written and synced
//! once, or overwritten in place while another file holds the last whole version. exFAT and ext4
//! ask for no more than that. NTFS, which Linux writes without its journal, may have to be repaired
//! after a cut while a file is added; what was synced is there then.

use std::fmt::Debug;
use std::fs::{self, File};
use std::io;
use std::path::Path;
use std::sync::Arc;

use crate::host::{HeldFolder, this_pc};

/// A folder of files.
pub trait Storage: Debug + Send + Sync {
    /// Opens a file, for reading, or for writing as well. `NotFound` where there is none.
    fn open(&self, name: &str, write: bool) -> io::Result<Box<dyn StoredFile>>;

    /// Creates a file, or empties the one that is there.
    fn create(&self, name: &str) -> io::Result<Box<dyn StoredFile>>;

    /// Returns when all names created are on the medium.
    fn sync_names(&self) -> io::Result<()>;

    /// Returns when all that was written to the folder's file system is on the medium.
    fn sync_all(&self) -> io::Result<()>;
}

/// An opened file of a folder.
pub trait StoredFile: Debug + Send + Sync {
    /// Its length in bytes.
    fn len_bytes(&self) -> io::Result<u64>;

    /// Fills `buffer` from byte `offset` on.
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()>;

    /// Writes `bytes` at byte `offset`; the file grows where they reach beyond its end.
    fn write_at(&self, offset: u64, bytes: &[u8]) -> io::Result<()>;

    /// Returns when content and length are on the medium.
    fn sync(&self) -> io::Result<()>;
}

/// A folder of the running system, held from the first look to the last write.
#[derive(Debug)]
pub(super) struct Directory(Box<dyn HeldFolder>);

impl Directory {
    /// Holds a folder that is there.
    pub(super) fn open(path: &Path) -> io::Result<Self> {
        this_pc().hold_folder(or_current(path)).map(Self)
    }

    /// True if the path still leads to this folder.
    pub(super) fn is_at(&self, path: &Path) -> io::Result<bool> {
        self.0.is_at(or_current(path))
    }

    /// Makes the folder, or takes an empty one; `None` where something is in it. All folders made on
    /// the way are on the medium afterwards.
    pub(super) fn make(path: &Path) -> io::Result<Option<Self>> {
        // From the first folder that is there down to the new one.
        let mut made = Vec::new();
        for folder in path.ancestors() {
            let folder = or_current(folder);
            made.push(folder);
            if folder.exists() {
                break;
            }
        }
        if let Some(parent) = path
            .parent()
            .filter(|parent| !parent.as_os_str().is_empty())
        {
            fs::create_dir_all(parent)?;
        }
        // It holds parts of a customer's disk.
        let folder = Self(this_pc().make_private_folder(path)?);
        if !folder.0.is_empty()? {
            return Ok(None);
        }
        folder.sync_names()?;
        for above in made.iter().skip(1).rev() {
            Self::open(above)?.sync_names()?;
        }
        Ok(Some(folder))
    }
}

/// Returns the path of a folder, with `.` for the empty path that ends the ancestors of a relative path.
fn or_current(folder: &Path) -> &Path {
    if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    }
}

impl Storage for Directory {
    fn open(&self, name: &str, write: bool) -> io::Result<Box<dyn StoredFile>> {
        Ok(Box::new(self.0.open(name, write)?))
    }

    fn create(&self, name: &str) -> io::Result<Box<dyn StoredFile>> {
        Ok(Box::new(self.0.create(name)?))
    }

    fn sync_names(&self) -> io::Result<()> {
        self.0.sync_names()
    }

    fn sync_all(&self) -> io::Result<()> {
        self.0.sync_medium()
    }
}

/// The files of a folder whose names have a prefix in common, shown without it. It is used in place of a subfolder,
/// which would be one more directory entry that a power cut can lose.
#[derive(Debug)]
pub(super) struct PrefixedStorage {
    pub(super) folder: Arc<dyn Storage>,
    pub(super) prefix: String,
}

impl PrefixedStorage {
    fn name(&self, name: &str) -> String {
        format!("{}{name}", self.prefix)
    }
}

impl Storage for PrefixedStorage {
    fn open(&self, name: &str, write: bool) -> io::Result<Box<dyn StoredFile>> {
        self.folder.open(&self.name(name), write)
    }

    fn create(&self, name: &str) -> io::Result<Box<dyn StoredFile>> {
        self.folder.create(&self.name(name))
    }

    fn sync_names(&self) -> io::Result<()> {
        self.folder.sync_names()
    }

    fn sync_all(&self) -> io::Result<()> {
        self.folder.sync_all()
    }
}

impl StoredFile for File {
    fn len_bytes(&self) -> io::Result<u64> {
        Ok(self.metadata()?.len())
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        this_pc().read_exact_at(self, buffer, offset)
    }

    fn write_at(&self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        this_pc().write_all_at(self, bytes, offset)
    }

    fn sync(&self) -> io::Result<()> {
        self.sync_all()
    }
}
