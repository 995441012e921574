//! Random numbers for new GUIDs, from the system itself.

use schwelle_core::host::this_pc;
use uuid::{Builder, Uuid};

use crate::error::{CliError, Kind};

/// Makes GUIDs until the system fails; who drafts with them asks [`Guids::check`] before the draft counts.
#[derive(Debug, Default)]
pub(crate) struct Guids {
    failed: Option<std::io::Error>,
}

impl Guids {
    /// A new GUID, version 4; nil once the system has failed.
    pub(crate) fn make(&mut self) -> Uuid {
        let mut bytes = [0; 16];
        match this_pc().random(&mut bytes) {
            Ok(()) => Builder::from_random_bytes(bytes).into_uuid(),
            Err(error) => {
                self.failed = Some(error);
                Uuid::nil()
            }
        }
    }

    /// An error where a GUID could not be made.
    pub(crate) fn check(&self) -> Result<(), CliError> {
        match &self.failed {
            None => Ok(()),
            Some(error) => Err(CliError::new(
                Kind::Unchanged,
                format!("this system gives no random numbers: {error}"),
                "The new table needs GUIDs that no other disk has. Nothing was written.",
                "Start a newer system on this PC, and repeat the command.",
            )),
        }
    }
}
