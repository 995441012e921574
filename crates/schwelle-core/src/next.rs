//! What this program does next, as data: the command line knows how it is typed.

use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::disk_use::DiskUse;
use crate::identities::Style;

/// A step that can follow.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "do", rename_all = "kebab-case")]
pub enum Next {
    /// See which disks there are.
    Survey,
    /// Ask all rules about this disk.
    Check {
        /// The table that is asked about, where not the usual one.
        to: Option<Style>,
        /// What the disk is for, where that is to be said.
        disk_use: Option<DiskUse>,
    },
    /// Ask all rules about another device of this PC, by its name in it.
    CheckOther {
        /// Its name.
        device: String,
    },
    /// Walk the disk's start.
    Rehearse {
        /// The table that is asked about, where not the usual one.
        to: Option<Style>,
        /// What the disk is for, where that is to be said.
        disk_use: Option<DiskUse>,
    },
    /// Mend a GPT disk that does not start.
    Mend,
    /// Convert the disk, named by its serial number.
    ConvertBySerial {
        /// The serial number.
        serial: String,
    },
    /// Finish a job that was stopped.
    Resume {
        /// Its folder, where it is known.
        job: Option<PathBuf>,
    },
    /// Take a job back.
    Undo {
        /// Its folder, where it is known.
        job: Option<PathBuf>,
    },
}

impl Next {
    /// Ask all rules about this disk, in the usual way.
    pub(crate) const CHECK: Self = Self::Check {
        to: None,
        disk_use: None,
    };
}
