//! Random numbers for new GUIDs: from the kernel itself, so that no file in `/dev` is needed.

use rustix::io::Errno;
use rustix::rand::{GetRandomFlags, getrandom};
use uuid::{Builder, Uuid};

use crate::error::{CliError, Kind};

/// Makes GUIDs until the kernel fails; who drafts with them asks [`Guids::check`] before the draft counts.
#[derive(Debug, Default)]
pub(crate) struct Guids {
    failed: Option<Errno>,
}

impl Guids {
    /// A new GUID, version 4; nil once the kernel has failed.
    pub(crate) fn make(&mut self) -> Uuid {
        let mut bytes = [0; 16];
        match getrandom(&mut bytes, GetRandomFlags::empty()) {
            // The kernel gives so few bytes whole or not at all.
            Ok(_) => Builder::from_random_bytes(bytes).into_uuid(),
            Err(errno) => {
                self.failed = Some(errno);
                Uuid::nil()
            }
        }
    }

    /// An error where a GUID could not be made.
    pub(crate) fn check(&self) -> Result<(), CliError> {
        match self.failed {
            None => Ok(()),
            Some(errno) => Err(CliError::new(
                Kind::Unchanged,
                format!("this system gives no random numbers: {errno}"),
                "The new table needs GUIDs that no other disk has. Nothing was written.",
                "Start a newer system on this PC (Linux 3.17 or later), and repeat the command.",
            )),
        }
    }
}
