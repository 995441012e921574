//! UEFI variables as files: the form in which Linux shows the firmware's own, and in which a folder
//! can stand in for them.
//!
//! Source: UEFI 2.10 §3.3 (names and meaning), §8.2 (attributes); Linux
//! `Documentation/filesystems/efivarfs.rst`: a file `NAME-GUID`, 4 bytes of attributes, then the
//! content; one write call replaces all of it.

#![warn(clippy::indexing_slicing)]

use std::fs::{self, File};
use std::io::{ErrorKind, Read, Write};
use std::path::{Path, PathBuf};

use uuid::{Uuid, uuid};

use crate::bytes::u32_at;

/// Namespace of the variables that the specification defines (`EFI_GLOBAL_VARIABLE`).
pub const GLOBAL: Uuid = uuid!("8be4df61-93ca-11d2-aa0d-00e098032b8c");
/// Namespace of `db` and `dbx` (`EFI_IMAGE_SECURITY_DATABASE_GUID`).
pub const IMAGE_SECURITY: Uuid = uuid!("d719b2cb-3d3a-4596-a3bc-dad00e67656f");

/// Non-volatile, readable before and after the system takes over.
pub(crate) const LASTING: u32 = 0b111;

/// A variable longer than this is not read; the longest known, `dbx`, has some ten KiB.
const MAX_BYTES: u64 = 1 << 20;
/// A folder with more files is not one of variables; firmware holds some hundreds.
const MAX_FILES: usize = 10_000;

/// A variable: attributes and content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Variable {
    /// Attribute bits.
    pub attributes: u32,
    /// Content.
    pub data: Vec<u8>,
}

/// A variable could not be read or written.
#[derive(Debug, thiserror::Error)]
#[error("variable {name}: {fault}")]
pub struct VariableError {
    /// Which.
    pub name: String,
    /// What is wrong.
    pub fault: VariableFault,
}

/// What is wrong with a variable.
#[derive(Debug, thiserror::Error)]
pub enum VariableFault {
    /// Shorter than its attributes.
    #[error("{0} bytes, shorter than the 4 of its attributes")]
    Short(usize),
    /// Longer than any variable.
    #[error("longer than {MAX_BYTES} bytes")]
    Long,
    /// Of a length that its content cannot have.
    #[error("its content has {found} bytes, not {expected}")]
    Length {
        /// Bytes found.
        found: usize,
        /// What it should be.
        expected: &'static str,
    },
    /// A folder or a pipe in its place.
    #[error("is no file")]
    NoFile,
    /// The firmware kept something else than what was written.
    #[error("reads back differently from what was written")]
    NotKept,
    /// Reading or writing failed.
    #[error("{0}")]
    Io(#[from] std::io::Error),
}

/// A folder of variables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Variables {
    folder: PathBuf,
}

impl Variables {
    /// The folder, where it is one.
    pub fn open(folder: &Path) -> Option<Self> {
        let folder = folder.to_owned();
        folder.is_dir().then_some(Self { folder })
    }

    /// Where the variables lie.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    fn path(&self, name: &str, space: Uuid) -> PathBuf {
        self.folder.join(format!("{name}-{space}"))
    }

    /// Reads a variable; `None` where there is none of this name.
    pub fn read(&self, name: &str, space: Uuid) -> Result<Option<Variable>, VariableError> {
        let failed = |fault| VariableError {
            name: name.to_owned(),
            fault,
        };
        let path = self.path(name, space);
        match fs::metadata(&path) {
            Ok(about) if about.is_file() => {}
            // A pipe in its place would be waited for without end.
            Ok(_) => return Err(failed(VariableFault::NoFile)),
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(failed(error.into())),
        }
        let file = File::open(path).map_err(|error| failed(error.into()))?;
        let mut bytes = Vec::new();
        let read = file.take(MAX_BYTES + 1).read_to_end(&mut bytes);
        read.map_err(|error| failed(error.into()))?;
        if bytes.len() as u64 > MAX_BYTES {
            return Err(failed(VariableFault::Long));
        }
        let attributes =
            u32_at(&bytes, 0).ok_or_else(|| failed(VariableFault::Short(bytes.len())))?;
        let data = bytes.split_off(4);
        Ok(Some(Variable { attributes, data }))
    }

    /// Reads a variable whose content is one byte, yes or no.
    pub fn read_flag(&self, name: &str, space: Uuid) -> Result<Option<bool>, VariableError> {
        let Some(variable) = self.read(name, space)? else {
            return Ok(None);
        };
        match variable.data[..] {
            [value] => Ok(Some(value != 0)),
            _ => Err(wrong_length(name, variable.data.len(), "1")),
        }
    }

    /// Reads a variable whose content is 8 bytes of flags.
    pub fn read_bits(&self, name: &str) -> Result<Option<u64>, VariableError> {
        let Some(variable) = self.read(name, GLOBAL)? else {
            return Ok(None);
        };
        match <[u8; 8]>::try_from(&variable.data[..]) {
            Ok(bytes) => Ok(Some(u64::from_le_bytes(bytes))),
            Err(_) => Err(wrong_length(name, variable.data.len(), "8")),
        }
    }

    /// The numbers in `BootOrder`, in order; empty where there is none.
    pub fn boot_order(&self) -> Result<Vec<u16>, VariableError> {
        let Some(order) = self.read("BootOrder", GLOBAL)? else {
            return Ok(Vec::new());
        };
        let (pairs, rest) = order.data.as_chunks();
        if rest.is_empty() {
            Ok(pairs.iter().map(|&pair| u16::from_le_bytes(pair)).collect())
        } else {
            Err(wrong_length(
                "BootOrder",
                order.data.len(),
                "an even number",
            ))
        }
    }

    /// The numbers of all boot entries, in the order or not, ascending.
    pub(crate) fn boot_numbers(&self) -> Vec<u16> {
        let suffix = format!("-{GLOBAL}");
        let entries = fs::read_dir(&self.folder).into_iter().flatten();
        let mut numbers: Vec<u16> = entries
            .take(MAX_FILES)
            .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
            .filter_map(|name| {
                let digits = name.strip_prefix("Boot")?.strip_suffix(&suffix)?;
                let number = u16::from_str_radix(digits, 16).ok()?;
                (entry_name(number) == format!("Boot{digits}")).then_some(number)
            })
            .collect();
        numbers.sort_unstable();
        numbers
    }

    /// Writes a variable whole, and reads it back.
    pub fn write(&self, name: &str, space: Uuid, variable: &Variable) -> Result<(), VariableError> {
        let failed = |fault| VariableError {
            name: name.to_owned(),
            fault,
        };
        let bytes = [&variable.attributes.to_le_bytes()[..], &variable.data].concat();
        let written = File::create(self.path(name, space)).and_then(|mut file| {
            // All in one call: the kernel hands each call to the firmware as a whole variable.
            file.write_all(&bytes)?;
            // The kernel's own file system has nothing to flush and says so; a folder has.
            file.sync_all().ok();
            Ok(())
        });
        written.map_err(|error| failed(error.into()))?;
        match self.read(name, space)? {
            Some(found) if found == *variable => Ok(()),
            _ => Err(failed(VariableFault::NotKept)),
        }
    }
}

fn wrong_length(name: &str, found: usize, expected: &'static str) -> VariableError {
    VariableError {
        name: name.to_owned(),
        fault: VariableFault::Length { found, expected },
    }
}

/// The name of the variable of a boot entry.
pub(super) fn entry_name(number: u16) -> String {
    format!("Boot{number:04X}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_wrong_sizes_are_told() {
        let dir = tempfile::tempdir().unwrap();
        let variables = Variables::open(dir.path()).unwrap();
        assert_eq!(variables.read("SecureBoot", GLOBAL).unwrap(), None);
        let variable = Variable {
            attributes: LASTING,
            data: vec![3, 0, 1, 0],
        };
        variables.write("BootOrder", GLOBAL, &variable).unwrap();
        assert_eq!(variables.boot_order().unwrap(), [3, 1]);
        for name in ["Boot0003", "Boot00ff", "Boot00FE", "Boot1", "BootXXXX"] {
            variables.write(name, GLOBAL, &variable).unwrap();
        }
        // Digits are written in capitals (UEFI 2.10 §3.3.2), so the lower-case one is no entry.
        assert_eq!(variables.boot_numbers(), [3, 0xFE]);

        let file = dir.path().join(format!("Odd-{GLOBAL}"));
        type Read = fn(&Variables) -> Option<String>;
        let text = |error: VariableError| error.to_string();
        let cases: [(usize, Read, &str); 5] = [
            (
                3,
                |v| v.read("Odd", GLOBAL).err().map(|e| e.to_string()),
                "3 bytes, shorter",
            ),
            (
                4,
                |v| v.read_flag("Odd", GLOBAL).err().map(|e| e.to_string()),
                "0 bytes, not 1",
            ),
            (
                6,
                |v| v.read_flag("Odd", GLOBAL).err().map(|e| e.to_string()),
                "2 bytes, not 1",
            ),
            (
                11,
                |v| v.read_bits("Odd").err().map(|e| e.to_string()),
                "7 bytes, not 8",
            ),
            (
                (1 << 20) + 1,
                |v| v.read("Odd", GLOBAL).err().map(|e| e.to_string()),
                "longer than",
            ),
        ];
        for (len, read, expected) in cases {
            fs::write(&file, vec![1; len]).unwrap();
            let error = read(&variables).unwrap();
            assert!(error.contains(expected), "{error}");
        }
        fs::remove_file(&file).unwrap();
        fs::create_dir(&file).unwrap();
        assert!(text(variables.read("Odd", GLOBAL).unwrap_err()).contains("is no file"));
        let odd = Variable {
            attributes: LASTING,
            data: vec![1; 3],
        };
        variables.write("BootOrder", GLOBAL, &odd).unwrap();
        assert!(text(variables.boot_order().unwrap_err()).contains("3 bytes, not an even number"));
    }
}
