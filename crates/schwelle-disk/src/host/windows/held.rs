//! A folder that is held open, so that it cannot be renamed meanwhile.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::windows::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use super::volumes::Volume;
use super::{HeldFolder, SHARE_READ_AND_WRITE};

/// A folder is opened like a file.
const BACKUP_SEMANTICS: u32 = 0x0200_0000;

/// The folder, and what holds it.
#[derive(Debug)]
pub(super) struct Held {
    path: PathBuf,
    /// Not shared for renaming and deleting.
    _folder: File,
}

impl Held {
    pub(super) fn open(folder: &Path) -> io::Result<Self> {
        let mut options = OpenOptions::new();
        let options = options.read(true).share_mode(SHARE_READ_AND_WRITE);
        Ok(Self {
            path: folder.to_owned(),
            _folder: options.custom_flags(BACKUP_SEMANTICS).open(folder)?,
        })
    }

    /// Where a file is; an error where something else has its name.
    fn at(&self, name: &str) -> io::Result<PathBuf> {
        let path = self.path.join(name);
        match fs::symlink_metadata(&path)?.is_file() {
            true => Ok(path),
            false => Err(io::Error::other("it is no regular file")),
        }
    }
}

impl HeldFolder for Held {
    fn is_empty(&self) -> io::Result<bool> {
        Ok(fs::read_dir(&self.path)?.next().is_none())
    }

    fn open(&self, name: &str, write: bool) -> io::Result<File> {
        let mut options = OpenOptions::new();
        options.read(true).write(write).open(self.at(name)?)
    }

    fn create(&self, name: &str) -> io::Result<File> {
        let path = match self.at(name) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => self.path.join(name),
            found => found?,
        };
        let mut options = OpenOptions::new();
        let options = options.read(true).write(true).create(true).truncate(true);
        options.open(path)
    }

    /// Windows has no way to flush a folder. A file's name is on the medium when the file has been flushed.
    fn sync_names(&self) -> io::Result<()> {
        Ok(())
    }

    /// The volume is flushed where this user may; each file of a job has been flushed by itself before.
    fn sync_medium(&self) -> io::Result<()> {
        let Some(volume) = Volume::of_folder(&self.path) else {
            return Ok(());
        };
        let mut options = OpenOptions::new();
        match options.read(true).write(true).open(volume.device()) {
            Ok(volume) => volume.sync_all(),
            Err(_) => Ok(()),
        }
    }

    /// The folder cannot be renamed while it is held, but its medium can be taken away.
    fn is_at(&self, path: &Path) -> io::Result<bool> {
        Ok(self.path == path && fs::metadata(path)?.is_dir())
    }
}
