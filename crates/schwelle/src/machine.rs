//! `--machine FILE`: facts of the PC that a disk belongs to, where it is not this one.
//!
//! The file is described in `docs/machine.md`.

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::device::PowerSource;
use schwelle_core::firmware::{BootMode, Machine};
use serde::Deserialize;

use crate::error::{CliError, Kind};

/// Where the facts of the PC come from.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct MachineOptions {
    /// Facts of the PC that the disk belongs to, from a file [default: this PC for its own disks]
    #[arg(long = "machine", value_name = "FILE")]
    file: Option<PathBuf>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct MachineFile {
    firmware: FirmwareTable,
    power: PowerTable,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct FirmwareTable {
    uefi: Option<bool>,
    mode: Option<Mode>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct PowerTable {
    source: Option<Source>,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Mode {
    Uefi,
    Bios,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Source {
    Mains,
    Battery,
}

impl MachineOptions {
    /// The PC in the file, if one was named.
    pub(crate) fn read(&self) -> Result<Option<Machine>, CliError> {
        let Some(path) = &self.file else {
            return Ok(None);
        };
        let text = std::fs::read_to_string(path).map_err(|error| wrong(path, &error))?;
        let file: MachineFile =
            toml::from_str(&text).map_err(|error| wrong(path, &place(&text, &error)))?;
        let power = match file.power.source {
            Some(Source::Mains) => PowerSource::Mains,
            Some(Source::Battery) => PowerSource::Battery,
            None => PowerSource::Unknown,
        };
        let evidence = match file.firmware.uefi {
            Some(true) => "the machine file says that it can",
            Some(false) => "the machine file says that it cannot",
            None => "the machine file does not tell",
        };
        let uefi_evidence = evidence.to_owned();
        Ok(Some(Machine {
            uefi: file.firmware.uefi,
            uefi_evidence,
            mode_evidence: match file.firmware.mode {
                Some(_) => "the machine file says so".to_owned(),
                None => "the machine file does not tell".to_owned(),
            },
            mode: file.firmware.mode.map(|mode| match mode {
                Mode::Uefi => BootMode::Uefi,
                Mode::Bios => BootMode::Bios,
            }),
            power: Some(power),
        }))
    }
}

/// What is wrong in a file, with line and column.
fn place(text: &str, error: &toml::de::Error) -> String {
    let before = error
        .span()
        .and_then(|span| text.get(..span.start))
        .unwrap_or_default();
    let line = before.matches('\n').count() + 1;
    let column = before
        .rsplit('\n')
        .next()
        .unwrap_or_default()
        .chars()
        .count()
        + 1;
    format!("line {line}, column {column}: {}", error.message())
}

fn wrong(path: &Path, error: &dyn std::fmt::Display) -> CliError {
    CliError::new(
        Kind::Usage,
        format!("{}: {error}", path.display()),
        "A fact that is misread would give a wrong answer.",
        "The keys are described in docs/machine.md; the shortest file says [firmware] uefi = true",
    )
}
