//! `--unlock`: what opens encrypted volumes. It is read once, kept in memory only, and wiped when it is dropped.

use std::io::{IsTerminal, stdin};
use std::path::Path;
use std::sync::OnceLock;

use clap::Args;
use schwelle_core::bitlocker::{Secret, SecretError, UnlockError, Unlocked};
use schwelle_core::bytes::read_file;
use schwelle_core::device::DiskFile;
use schwelle_core::host::this_pc;
use schwelle_core::profile::{self, StaysClosed};
use zeroize::Zeroizing;

use crate::error::{CliError, Kind};
use crate::text::typed;

/// What the variable held when the program began.
static FROM_VARIABLE: OnceLock<Zeroizing<String>> = OnceLock::new();

/// Takes the secret out of the environment, before any other thread is there: other programs of this user, and those
/// that are started from here, could read it.
pub(crate) fn take_variable() {
    let Some(value) = this_pc().take_variable(VARIABLE) else {
        return;
    };
    this_pc().keep_secrets();
    // A value that is not valid UTF-8 cannot be a secret. It is kept, so that the error names the variable.
    let text = value.into_string();
    let text = text.unwrap_or_else(|value| value.to_string_lossy().into_owned());
    if !text.is_empty() {
        FROM_VARIABLE.get_or_init(|| Zeroizing::new(text));
    }
}

/// Names a secret without a file.
const TYPED: &str = "-";
/// A secret for every command, so that scripts need no file.
const VARIABLE: &str = "SCHWELLE_UNLOCK";
/// Key files have some 156 bytes, and a recovery password saved as text some hundred.
const MAX_BYTES: u64 = 64 << 10;

/// How encrypted volumes are opened.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct UnlockOptions {
    /// File with the recovery password, password or key of an encrypted volume, or - to type it [default: the
    /// environment variable SCHWELLE_UNLOCK; a volume with protection suspended needs none]
    #[arg(long, value_name = "FILE", value_parser = named)]
    unlock: Vec<Named>,
}

/// A secret, and how it was named.
#[derive(Debug, Clone)]
struct Named {
    how: String,
    secret: Secret,
}

/// Reads the secret that is named so.
fn named(how: &str) -> Result<Named, String> {
    this_pc().keep_secrets();
    let secret = if how == TYPED {
        asked()?
    } else {
        let bytes = read_file(Path::new(how), MAX_BYTES).map(Zeroizing::new);
        let bytes = bytes.map_err(|error| error.to_string())?;
        Secret::in_file(&bytes).map_err(|error| error.to_string())?
    };
    Ok(Named {
        how: how.to_owned(),
        secret,
    })
}

/// Asks for a secret, which is not shown; takes a line where there is no terminal.
fn asked() -> Result<Secret, String> {
    let line = if stdin().is_terminal() {
        rpassword::prompt_password("Recovery password or password (it is not shown): ")
    } else {
        let mut line = String::new();
        stdin().read_line(&mut line).map(|_| line)
    };
    let line = line
        .map(Zeroizing::new)
        .map_err(|error| error.to_string())?;
    Secret::typed(&line).map_err(|error: SecretError| error.to_string())
}

impl UnlockOptions {
    /// As they are typed.
    pub(crate) fn typed(&self) -> String {
        let each = self.unlock.iter().map(|named| match &*named.how {
            // Not a file of this name, which would be quoted as `./-`.
            TYPED => format!(" --unlock {TYPED}"),
            file => format!(" --unlock {}", typed(Path::new(file))),
        });
        each.collect()
    }

    fn secrets(&self) -> Result<Vec<Secret>, CliError> {
        let mut secrets: Vec<Secret> = self
            .unlock
            .iter()
            .map(|named| named.secret.clone())
            .collect();
        if let Some(text) = FROM_VARIABLE.get() {
            let secret = Secret::typed(text).map_err(|error| {
                CliError::new(
                    Kind::Usage,
                    format!("{VARIABLE}: {error}"),
                    "Nothing was read or written.",
                    "Correct the variable, or name a file: --unlock FILE",
                )
            })?;
            secrets.push(secret);
        }
        Ok(secrets)
    }

    /// Opens what can be opened of a disk's encrypted volumes.
    pub(crate) fn open(&self, path: &Path, disk: DiskFile) -> Result<Unlocked<DiskFile>, CliError> {
        let secrets = self.secrets()?;
        let unlocked = profile::unlock(disk, &secrets);
        let (unlocked, closed) = unlocked.map_err(|error| CliError::reading(path, error))?;
        if !unlocked.volumes().is_empty() {
            // Their keys are in memory now, which has grown with them.
            this_pc().keep_secrets();
        }
        let is_wrong = |(_, why): &&StaysClosed| *why == UnlockError::NoneFits;
        match closed.iter().find(is_wrong) {
            Some((extent, _)) if !secrets.is_empty() && unlocked.volumes().is_empty() => {
                Err(CliError::new(
                    Kind::Unchanged,
                    format!(
                        "{}: the encrypted volume at {} is not opened by what was given",
                        path.display(),
                        extent.first
                    ),
                    "Each recovery password opens the volume with its key ID. Nothing was written.",
                    format!("To see which key ID it has: schwelle check {}", typed(path)),
                ))
            }
            _ => Ok(unlocked),
        }
    }
}
