//! `--machine FILE`: facts of the PC that a disk belongs to, where it is not this one.

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::firmware::{FileError, Machine, MachineFile};

use crate::error::{CliError, Kind};
use crate::text::typed;

/// Where the facts of the PC come from.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct MachineOptions {
    /// Facts of the PC that the disk belongs to, from a file [default: this PC for its own disks]
    #[arg(long, value_name = "FILE")]
    machine: Option<PathBuf>,
}

impl MachineOptions {
    /// The PC in this file.
    pub(crate) fn of(file: PathBuf) -> Self {
        Self {
            machine: Some(file),
        }
    }

    /// As they are typed.
    pub(crate) fn typed(&self) -> String {
        let file = self.machine.as_ref();
        file.map_or(String::new(), |file| format!(" --machine {}", typed(file)))
    }

    /// The PC in the file, if one was named.
    pub(crate) fn read(&self) -> Result<Option<Machine>, CliError> {
        let Some(path) = &self.machine else {
            return Ok(None);
        };
        let file = MachineFile::read(path).map_err(|error| wrong(path, &error))?;
        Ok(Some(file.machine()))
    }
}

/// A machine file that cannot be used.
pub(crate) fn wrong(path: &Path, error: &FileError) -> CliError {
    CliError::new(
        Kind::Usage,
        format!("{}: {error}", path.display()),
        "A wrong fact would give a wrong answer.",
        "The keys are described in docs/machine.md; the shortest file says [firmware] uefi = true",
    )
}
