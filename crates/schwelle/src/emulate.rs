//! `--emulate`: the rehearsal on real firmware, in an emulator.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::Args;
use schwelle_core::device::{Extent, ReadDevice};
use schwelle_core::firmware::BootMode;
use schwelle_core::host::this_pc;
use schwelle_emulator::{Emulation, Emulator, EmulatorError, Start};

use crate::error::{CliError, Kind};
use crate::screen::Screen;
use crate::text::typed;

/// Whether and how to start the disk in an emulator.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct EmulateOptions {
    /// Also start it on real firmware, in an emulator on this machine; the disk is only read
    #[arg(long, conflicts_with = "data_disk")]
    emulate: bool,
    /// Seconds after which the emulator is ended [default: 60]
    #[arg(long, value_name = "SECONDS", requires = "emulate", value_parser = clap::value_parser!(u64).range(1..=3600))]
    emulate_limit: Option<u64>,
    /// Folder with the emulator's UEFI firmware [default: where distributions put it]
    #[arg(long, value_name = "DIR", requires = "emulate")]
    emulate_firmware: Option<PathBuf>,
}

/// Names of what is kept of a start, in a job folder: the console's text, the picture of the screen.
pub(crate) const KEPT: [&str; 2] = ["firmware-console.txt", "firmware-screen.png"];

/// What came of `--emulate`.
#[derive(Debug)]
pub(crate) enum Emulated {
    /// It was started.
    Ran {
        emulation: Emulation,
        console: String,
        screen: Option<Vec<u8>>,
    },
    /// There is no emulator here; what to do.
    Missing { what: String, install: String },
}

impl Emulated {
    /// It was started by a BIOS; what came of it.
    pub(crate) fn in_bios_mode(&self) -> Option<bool> {
        match self {
            Self::Ran { emulation, .. } if emulation.mode == BootMode::Bios => {
                Some(emulation.passed())
            }
            _ => None,
        }
    }

    /// False when real firmware did not start it.
    pub(crate) fn is_good(&self) -> bool {
        match self {
            Self::Ran { emulation, .. } => emulation.passed(),
            Self::Missing { .. } => true,
        }
    }

    /// Keeps console and screen in a folder; the paths of what was written.
    pub(crate) fn keep(&self, folder: &Path) -> Result<Vec<PathBuf>, CliError> {
        let Self::Ran {
            console, screen, ..
        } = self
        else {
            return Ok(Vec::new());
        };
        let mut kept = Vec::new();
        let pieces = [Some(console.as_bytes()), screen.as_deref()];
        for (name, content) in KEPT.into_iter().zip(pieces) {
            let path = folder.join(name);
            let Some(content) = content else { continue };
            std::fs::create_dir_all(folder)
                .and_then(|()| write_privately(folder, name, content))
                .map_err(|error| {
                    CliError::new(
                        Kind::Unchanged,
                        format!("{}: {error}", path.display()),
                        "What the firmware showed could not be saved; the disk is unchanged.",
                        "Name a folder that can be written and has space.",
                    )
                })?;
            kept.push(path);
        }
        Ok(kept)
    }
}

/// Writes a file that this user alone can read: a picture shows what is on the disk.
fn write_privately(folder: &Path, name: &str, content: &[u8]) -> std::io::Result<()> {
    let mut file = this_pc().hold_folder(folder)?.create(name)?;
    file.write_all(content)
}

impl EmulateOptions {
    /// Starts `disk`, or the draft above it that differs in `changed`, where that was asked for. The
    /// emulator's files lie in `beside`, or where this machine keeps passing files.
    pub(crate) fn run(
        &self,
        disk: &Path,
        draft: &dyn ReadDevice,
        changed: Vec<Extent>,
        mode: BootMode,
        beside: Option<&Path>,
        screen: &Screen,
    ) -> Result<Option<Emulated>, CliError> {
        if !self.emulate {
            return Ok(None);
        }
        let path = std::env::var_os("PATH").unwrap_or_default();
        let programs: Vec<PathBuf> = std::env::split_paths(&path).collect();
        let found = Emulator::find(&programs, self.emulate_firmware.as_deref(), mode);
        let emulator = match found {
            Ok(emulator) => emulator,
            Err(missing) => {
                let install = "Install the emulator for x86-64 PCs and its UEFI firmware (Debian: \
                    qemu-system-x86 and ovmf), or name the firmware's folder with --emulate-firmware."
                    .to_owned();
                let what = missing.to_string();
                return Ok(Some(Emulated::Missing { what, install }));
            }
        };
        let seconds = self.emulate_limit.unwrap_or(60);
        screen.note(&format!(
            "Starting it on real firmware, in the emulator (at most {seconds} seconds) ..."
        ));
        let failed = |error: EmulatorError| refused(disk, &error);
        let work = match beside {
            Some(folder) => tempfile::tempdir_in(folder),
            None => tempfile::tempdir(),
        };
        let work = work.map_err(|error| failed(error.into()))?;
        let start = Start {
            disk,
            draft,
            changed,
            mode,
            limit: Duration::from_secs(seconds),
            work: work.path(),
        };
        let record = start.run(&emulator).map_err(failed)?;
        if !record.is_separate {
            screen.note(
                "The emulator had no namespaces of its own, which this system does not allow here. What is left: no \
                 network device, a filter for system calls, and as root a user without rights.",
            );
        }
        Ok(Some(Emulated::Ran {
            emulation: schwelle_emulator::judge(draft, mode, &record),
            console: record.console,
            screen: record.screen,
        }))
    }
}

fn refused(disk: &Path, error: &EmulatorError) -> CliError {
    let next = match error {
        EmulatorError::DiskChanged => format!(
            "Find out who writes to it, and look at it again: schwelle check {}",
            typed(disk)
        ),
        EmulatorError::Io(_) => {
            "Free some space for temporary files (TMPDIR), or leave --emulate out: the walk stands \
             by itself."
                .to_owned()
        }
        EmulatorError::Died(_) => "Leave --emulate out: the walk stands by itself.".to_owned(),
    };
    CliError::new(
        Kind::Unchanged,
        format!("{}: {error}", disk.display()),
        "What real firmware would do with it is not known. Nothing was written to the disk.",
        next,
    )
}
