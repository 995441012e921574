//! What a job is: the typed part of its record, which finishing it and taking it back go by.

use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::disk_use::DiskUse;
use crate::identities::Style;

/// What a job does with a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum JobKind {
    /// It gets the other table.
    Convert,
    /// A GPT disk that does not start is mended.
    Mend,
}

impl JobKind {
    /// How a job of this kind has ended when it is done.
    pub fn done(self) -> JobEnd {
        match self {
            Self::Convert => JobEnd::Converted,
            Self::Mend => JobEnd::Mended,
        }
    }
}

/// How a job ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum JobEnd {
    /// The disk has the other table.
    Converted,
    /// The disk is mended.
    Mended,
    /// The job was taken back.
    Undone,
}

/// What a job is. It is part of the journal, and so covered by its hash.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct JobFacts {
    /// What it does.
    pub kind: JobKind,
    /// The table that the disk has afterwards.
    pub to: Style,
    /// What the disk is for.
    pub disk_use: DiskUse,
    /// The disk as it was named. A name alone is never believed.
    pub disk: PathBuf,
    /// The disk's serial number, where it tells one.
    pub serial: Option<String>,
}
