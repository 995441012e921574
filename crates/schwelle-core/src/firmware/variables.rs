//! UEFI variables: the firmware's own as the host gives them, or a folder that stands in for them.
//!
//! Source: UEFI 2.10 §3.3 (names and meaning), §8.2 (attributes).

#![warn(clippy::indexing_slicing)]

use std::path::Path;
use std::sync::Arc;

use uuid::{Uuid, uuid};

use crate::bytes::u32_at;
use crate::host::{VariableFault as StoreFault, VariableFolder, VariableStore};

/// Namespace of the variables that the specification defines (`EFI_GLOBAL_VARIABLE`).
pub const GLOBAL: Uuid = uuid!("8be4df61-93ca-11d2-aa0d-00e098032b8c");
/// Namespace of `db` and `dbx` (`EFI_IMAGE_SECURITY_DATABASE_GUID`).
pub const IMAGE_SECURITY: Uuid = uuid!("d719b2cb-3d3a-4596-a3bc-dad00e67656f");

/// Non-volatile, readable before and after the system takes over.
pub(crate) const LASTING: u32 = 0b111;

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
    /// Of a length that its content cannot have.
    #[error("its content has {found} bytes, not {expected}")]
    Length {
        /// Bytes found.
        found: usize,
        /// What it should be.
        expected: &'static str,
    },
    /// The firmware kept something else than what was written.
    #[error("reads back differently from what was written")]
    NotKept,
    /// It could not be read or written.
    #[error("{0}")]
    Store(#[from] StoreFault),
}

/// The variables of a firmware.
#[derive(Debug, Clone)]
pub struct Variables {
    store: Arc<dyn VariableStore>,
}

impl Variables {
    /// Those that are kept there.
    pub fn new(store: Arc<dyn VariableStore>) -> Self {
        Self { store }
    }

    /// Those in a folder, where it is one.
    pub fn open(folder: &Path) -> Option<Self> {
        let folder = VariableFolder::open(folder)?;
        Some(Self::new(Arc::new(folder)))
    }

    /// Reads a variable; `None` where there is none of this name.
    pub fn read(&self, name: &str, space: Uuid) -> Result<Option<Variable>, VariableError> {
        let failed = |fault| VariableError {
            name: name.to_owned(),
            fault,
        };
        let read = self.store.read(name, &space.to_string());
        let Some(mut bytes) = read.map_err(|fault| failed(fault.into()))? else {
            return Ok(None);
        };
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
        let names = self.store.names("Boot", &GLOBAL.to_string()).into_iter();
        let number = |name: String| {
            let digits = name.strip_prefix("Boot")?;
            let number = u16::from_str_radix(digits, 16).ok()?;
            (entry_name(number) == name).then_some(number)
        };
        let mut numbers: Vec<u16> = names.filter_map(number).collect();
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
        let written = self.store.write(name, &space.to_string(), &bytes);
        written.map_err(|fault| failed(fault.into()))?;
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
    use std::fs;

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
