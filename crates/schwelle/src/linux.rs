//! `--boot-files` and `--starts-first`: what a technician says of the systems on a disk.

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::bytes::read_file;
use schwelle_core::profile::{Profile, UefiLoaders};
use schwelle_core::starts::starts;

use crate::error::{CliError, Kind};
use crate::text::{safe, typed};

/// A boot loader is read up to this length; the largest have some MiB.
const MAX_LOADER_BYTES: u64 = 16 << 20;

/// The lines about the systems on a disk.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct SystemOptions {
    /// Folder with a distribution's signed UEFI boot loaders (grubx64.efi, shimx64.efi, mmx64.efi), for a Linux that has
    /// none on its volume
    #[arg(long, value_name = "DIR")]
    boot_files: Option<PathBuf>,
    /// The system that firmware without a boot entry starts [default: Windows, where it is on the disk]
    #[arg(long, value_name = "NAME")]
    starts_first: Option<String>,
}

impl SystemOptions {
    /// As they are typed.
    pub(crate) fn typed(&self) -> String {
        let folder = self.boot_files.as_deref();
        let folder = folder.map(|folder| format!(" --boot-files {}", typed(folder)));
        let first = self.starts_first.as_deref();
        let first = first.map(|name| format!(" --starts-first {}", typed(Path::new(name))));
        folder.unwrap_or_default() + &first.unwrap_or_default()
    }

    /// Gives the loaders to the Linux systems that they are for, and finds the system that is named: its partition.
    pub(crate) fn apply(&self, profile: &mut Profile) -> Result<Option<usize>, CliError> {
        if let Some(folder) = &self.boot_files {
            give(profile, folder)?;
        }
        let Some(name) = &self.starts_first else {
            return Ok(None);
        };
        let systems = starts(profile);
        let named = systems.iter().find(|system| system.is_called(name));
        let partition = named.filter(|system| system.starts_afterwards());
        match partition.and_then(|system| system.on.as_ref()) {
            Some(on) => Ok(Some(on.number)),
            None => {
                let can = systems.iter().filter(|system| system.starts_afterwards());
                let names: Vec<String> = can
                    .map(|system| format!("\"{}\"", safe(&system.name)))
                    .collect();
                Err(CliError::new(
                    Kind::Usage,
                    format!(
                        "--starts-first \"{}\": no system of this name starts from the converted disk",
                        safe(name)
                    ),
                    "Nothing was written.",
                    match names.is_empty() {
                        true => "Leave it out: no system on this disk starts afterwards".to_owned(),
                        false => format!("These do: {}", names.join(", ")),
                    },
                ))
            }
        }
    }
}

fn give(profile: &mut Profile, folder: &Path) -> Result<(), CliError> {
    let refused =
        |what: String, next: &str| CliError::new(Kind::Usage, what, "Nothing was written.", next);
    let loaders = UefiLoaders::given(|name| read_file(&folder.join(name), MAX_LOADER_BYTES).ok());
    let loaders = loaders.map_err(|error| {
        let what = format!("--boot-files {}: {error}", folder.display());
        refused(
            what,
            "Name a folder with the distribution's grubx64.efi and shimx64.efi, as its packages bring them",
        )
    })?;
    if profile.give_loaders(&loaders) == 0 {
        let what = format!(
            "--boot-files {}: these are loaders for {}, and no Linux on this disk calls itself so",
            folder.display(),
            safe(loaders.name())
        );
        return Err(refused(
            what,
            "Name the loaders of a distribution that is on the disk, or leave the option out",
        ));
    }
    Ok(())
}
