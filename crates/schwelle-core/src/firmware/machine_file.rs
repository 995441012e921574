//! The machine file: facts of a PC that is not this one, and the settings of a simulated one.
//!
//! TOML, described in `docs/machine.md`. Paths in it are relative to the file.

use std::io;
use std::ops::Range;
use std::path::{Path, PathBuf};

use serde::Deserialize;
use toml_edit::DocumentMut;

use crate::bytes::read_file;
use crate::host::PowerSource;

use super::fact::{Fact, Ground};
use super::machine::{BootMode, Machine};
use super::smbios::Smbios;
use super::variables::Variables;

/// A longer SMBIOS table is not one.
const MAX_TABLE_BYTES: u64 = 1 << 20;
/// A longer file is not one.
const MAX_BYTES: u64 = 1 << 20;

/// Why a machine file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    /// It could not be read or written.
    #[error("{0}")]
    Io(#[from] io::Error),
    /// Its content is not as described; with line and column.
    #[error("line {line}, column {column}: {what}")]
    Content {
        /// Line, from 1.
        line: usize,
        /// Column, from 1.
        column: usize,
        /// What is wrong.
        what: String,
    },
    /// A folder or file that it names is not there.
    #[error("{0} is named in it and is not there")]
    Missing(PathBuf),
}

/// A machine file, as it was read.
#[derive(Debug, Clone)]
pub struct MachineFile {
    /// Folder that its paths are relative to.
    folder: PathBuf,
    /// Its text, for changing single values.
    text: String,
    pub(crate) content: Content,
}

#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct Content {
    pub(crate) pc: PcTable,
    pub(crate) firmware: FirmwareTable,
    pub(crate) power: PowerTable,
    pub(crate) disk: Vec<DiskTable>,
}

#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct PcTable {
    pub(crate) manufacturer: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) firmware: Option<String>,
    pub(crate) firmware_date: Option<String>,
    pub(crate) smbios: Option<PathBuf>,
}

#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct FirmwareTable {
    pub(crate) uefi: Option<bool>,
    pub(crate) bits: Option<Bits>,
    pub(crate) mode: Option<Mode>,
    pub(crate) session: Option<Session>,
    pub(crate) csm: Option<bool>,
    pub(crate) secure_boot: Option<bool>,
    pub(crate) setup_mode: Option<bool>,
    pub(crate) setup_password: Option<bool>,
    pub(crate) secure_boot_needs_password: Option<bool>,
    pub(crate) variables: Option<PathBuf>,
}

#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct PowerTable {
    pub(crate) source: Option<Power>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct DiskTable {
    pub(crate) image: PathBuf,
    pub(crate) sector_size: Option<u32>,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(try_from = "u32")]
pub(crate) struct Bits(pub(super) u32);

impl TryFrom<u32> for Bits {
    type Error = &'static str;

    fn try_from(bits: u32) -> Result<Self, Self::Error> {
        match bits {
            32 | 64 => Ok(Self(bits)),
            _ => Err("firmware works with 32 or 64 bits"),
        }
    }
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Mode {
    Uefi,
    Bios,
    Both,
}

impl From<Mode> for BootMode {
    fn from(mode: Mode) -> Self {
        match mode {
            Mode::Uefi => Self::Uefi,
            Mode::Bios => Self::Bios,
            Mode::Both => Self::Both,
        }
    }
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Session {
    Uefi,
    Bios,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Power {
    Mains,
    Battery,
}

impl MachineFile {
    /// Reads a machine file.
    pub fn read(path: &Path) -> Result<Self, FileError> {
        let text = String::from_utf8(read_file(path, MAX_BYTES)?).map_err(io::Error::other)?;
        let folder = path.parent().unwrap_or(Path::new("")).to_owned();
        Self::parse(text, folder)
    }

    fn parse(text: String, folder: PathBuf) -> Result<Self, FileError> {
        let content: Content =
            toml::from_str(&text).map_err(|error| fault(&text, error.span(), error.message()))?;
        let file = Self {
            folder,
            text,
            content,
        };
        // A path that leads nowhere would make "not reported" of what the technician meant to tell.
        let firmware = &file.content.firmware;
        let paths = [&firmware.variables, &file.content.pc.smbios];
        let paths: Vec<PathBuf> = paths
            .into_iter()
            .flatten()
            .map(|path| file.path(path))
            .collect();
        let missing = paths.into_iter().find(|path| !path.exists());
        match missing {
            Some(path) => Err(FileError::Missing(path)),
            None => Ok(file),
        }
    }

    /// A path that the file names.
    pub(crate) fn path(&self, path: &Path) -> PathBuf {
        self.folder.join(path)
    }

    /// The folder that stands in for the firmware's variables.
    pub fn variables(&self) -> Option<Variables> {
        let folder = self.content.firmware.variables.as_ref()?;
        Variables::open(&self.path(folder))
    }

    /// The disks that are attached: image and sector size.
    pub fn disks(&self) -> Vec<(PathBuf, Option<u32>)> {
        let disks = self.content.disk.iter();
        disks
            .map(|disk| (self.path(&disk.image), disk.sector_size))
            .collect()
    }

    /// The facts that the file tells. What a key says counts more than what a copied table or
    /// variable says.
    pub fn machine(&self) -> Machine {
        let Content {
            pc,
            firmware,
            power,
            ..
        } = &self.content;
        let mut machine = Machine::unknown(Ground::MachineFileSilent);
        if let Some(table) = &pc.smbios {
            let table = read_file(&self.path(table), MAX_TABLE_BYTES).ok();
            let table = table.map(Smbios::parse).unwrap_or_default();
            machine.take_smbios(&table, &Ground::SmbiosOfFile);
        }
        if let Some(variables) = self.variables() {
            machine.take_variables(&variables);
        }
        take(&mut machine.manufacturer, pc.manufacturer.clone());
        take(&mut machine.model, pc.model.clone());
        take(&mut machine.firmware, pc.firmware.clone());
        take(&mut machine.firmware_date, pc.firmware_date.clone());
        if let Some(uefi) = firmware.uefi {
            let source = match uefi {
                true => Ground::MachineFileAble,
                false => Ground::MachineFileUnable,
            };
            machine.uefi = Fact::known(uefi, source);
        }
        take(&mut machine.bits, firmware.bits.map(|bits| bits.0));
        take(&mut machine.mode, firmware.mode.map(BootMode::from));
        take(&mut machine.csm, firmware.csm);
        take(&mut machine.secure_boot, firmware.secure_boot);
        take(&mut machine.setup_mode, firmware.setup_mode);
        let power = power.source.map(|source| match source {
            Power::Mains => PowerSource::Mains,
            Power::Battery => PowerSource::Battery,
        });
        take(&mut machine.power, power);
        let session = firmware.session.map(|session| match session {
            Session::Uefi => BootMode::Uefi,
            Session::Bios => BootMode::Bios,
        });
        take(&mut machine.session, session);
        machine
    }

    /// The file's text with one value of the table `firmware` changed; everything else, comments
    /// too, stays.
    pub(crate) fn set(&mut self, key: &str, value: toml_edit::Value) -> Result<(), FileError> {
        let mut document: DocumentMut =
            self.text.parse().map_err(|error: toml_edit::TomlError| {
                fault(&self.text, error.span(), error.message())
            })?;
        // A file without the table gets one of its own, not one in a line.
        let table = document
            .entry("firmware")
            .or_insert_with(|| toml_edit::Item::Table(toml_edit::Table::new()));
        let item = &mut table[key];
        let mut value = toml_edit::Item::Value(value);
        if let (Some(old), Some(new)) = (item.as_value(), value.as_value_mut()) {
            *new.decor_mut() = old.decor().clone();
        }
        *item = value;
        *self = Self::parse(document.to_string(), self.folder.clone())?;
        Ok(())
    }

    /// Writes the file, whole or not at all.
    pub(crate) fn save(&self, path: &Path) -> Result<(), FileError> {
        let folder = path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty());
        let folder = folder.unwrap_or(Path::new("."));
        let mut file = tempfile::NamedTempFile::new_in(folder)?;
        std::io::Write::write_all(&mut file, self.text.as_bytes())?;
        file.as_file().sync_all()?;
        file.persist(path).map_err(|error| error.error)?;
        Ok(())
    }
}

fn take<T>(fact: &mut Fact<T>, value: Option<T>) {
    if let Some(value) = value {
        *fact = Fact::known(value, Ground::MachineFile);
    }
}

/// What is wrong in a file, with line and column.
fn fault(text: &str, span: Option<Range<usize>>, what: &str) -> FileError {
    let before = span
        .and_then(|span| text.get(..span.start))
        .unwrap_or_default();
    let last = before.rsplit('\n').next().unwrap_or_default();
    FileError::Content {
        line: before.matches('\n').count() + 1,
        column: last.chars().count() + 1,
        what: what.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_is_changed_and_all_else_stays() {
        let text = "# the lamp room's PC\n[firmware]\nmode = \"bios\" # as found\n\n[power]\n";
        let mut file = MachineFile::parse(text.to_owned(), PathBuf::new()).unwrap();
        file.set("mode", "uefi".into()).unwrap();
        file.set("secure_boot", true.into()).unwrap();
        assert_eq!(
            file.text,
            "# the lamp room's PC\n[firmware]\nmode = \"uefi\" # as found\nsecure_boot = \
             true\n\n[power]\n"
        );
        assert_eq!(file.machine().mode.value(), Some(&BootMode::Uefi));
        let mut empty = MachineFile::parse(String::new(), PathBuf::new()).unwrap();
        empty.set("mode", "both".into()).unwrap();
        assert_eq!(empty.text, "[firmware]\nmode = \"both\"\n");
    }

    #[test]
    fn wrong_content_is_told_with_its_place() {
        for (text, expected) in [
            (
                "[firmware]\nmode = \"fast\"",
                "line 2, column 8: unknown variant",
            ),
            (
                "[firmware]\nbits = 16",
                "line 2, column 8: firmware works with 32 or 64 bits",
            ),
            (
                "[pc]\ncolour = 1",
                "line 2, column 1: unknown field `colour`",
            ),
            ("[[disk]]\n", "missing field `image`"),
            (
                "[firmware]\nvariables = \"no such folder\"",
                "no such folder is named in it",
            ),
            ("[firmware", "line 1"),
        ] {
            let error = MachineFile::parse(text.to_owned(), PathBuf::new()).unwrap_err();
            assert!(error.to_string().contains(expected), "{error}");
        }
    }
}
