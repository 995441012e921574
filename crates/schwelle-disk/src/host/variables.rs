//! UEFI variables, wherever they are kept.
//!
//! As files they have the form in which Linux shows the firmware's own, and in which a folder can stand in for
//! them (Linux, `Documentation/filesystems/efivarfs.rst`): a file `NAME-GUID`, 4 bytes of attributes, then the
//! content; one write call replaces all of it.

use std::fmt::Debug;
use std::fs::{self, File};
use std::io::{ErrorKind, Read, Write};
use std::path::{Path, PathBuf};

/// A variable longer than this is not read; the longest known, `dbx`, has some ten KiB.
const MAX_BYTES: u64 = 1 << 20;
/// A folder with more files is not one of variables; firmware holds some hundreds.
const MAX_FILES: usize = 10_000;

/// Why a variable could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum VariableFault {
    /// Longer than any variable.
    #[error("longer than {MAX_BYTES} bytes")]
    Long,
    /// A folder or a pipe in its place.
    #[error("is no file")]
    NoFile,
    /// Reading or writing failed.
    #[error("{0}")]
    Io(#[from] std::io::Error),
}

/// Variables by name and GUID (as text, in small letters). Their bytes: 4 of attributes, little-endian, then
/// the content.
pub trait VariableStore: Debug + Send + Sync {
    /// Reads a variable; `None` where there is none of this name.
    fn read(&self, name: &str, space: &str) -> Result<Option<Vec<u8>>, VariableFault>;

    /// Writes a variable whole.
    fn write(&self, name: &str, space: &str, bytes: &[u8]) -> Result<(), VariableFault>;

    /// The names of all variables of this GUID that begin so.
    fn names(&self, prefix: &str, space: &str) -> Vec<String>;
}

/// Variables as files of a folder.
#[derive(Debug)]
pub struct VariableFolder(PathBuf);

impl VariableFolder {
    /// The folder, where it is one.
    pub fn open(folder: &Path) -> Option<Self> {
        folder.is_dir().then(|| Self(folder.to_owned()))
    }

    fn path(&self, name: &str, space: &str) -> PathBuf {
        self.0.join(format!("{name}-{space}"))
    }
}

impl VariableStore for VariableFolder {
    fn read(&self, name: &str, space: &str) -> Result<Option<Vec<u8>>, VariableFault> {
        let path = self.path(name, space);
        match fs::metadata(&path) {
            Ok(about) if about.is_file() => {}
            // A pipe in its place would be waited for without end.
            Ok(_) => return Err(VariableFault::NoFile),
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error.into()),
        }
        let mut bytes = Vec::new();
        File::open(path)?
            .take(MAX_BYTES + 1)
            .read_to_end(&mut bytes)?;
        if bytes.len() as u64 > MAX_BYTES {
            return Err(VariableFault::Long);
        }
        Ok(Some(bytes))
    }

    fn write(&self, name: &str, space: &str, bytes: &[u8]) -> Result<(), VariableFault> {
        let mut file = File::create(self.path(name, space))?;
        // All in one call: the kernel hands each call to the firmware as a whole variable.
        file.write_all(bytes)?;
        // The kernel's own file system has nothing to flush and says so; a folder has.
        file.sync_all().ok();
        Ok(())
    }

    fn names(&self, prefix: &str, space: &str) -> Vec<String> {
        let suffix = format!("-{space}");
        let entries = fs::read_dir(&self.0).into_iter().flatten();
        entries
            .take(MAX_FILES)
            .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
            .filter_map(|name| Some(name.strip_suffix(&suffix)?.to_owned()))
            .filter(|name| name.starts_with(prefix))
            .collect()
    }
}
