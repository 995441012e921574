//! Answers about what only the technician knows.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::next::Next;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleCareEvidence"))]
pub enum Evidence {
    /// The technician says that there is a backup.
    BackupConfirmed,
    /// It was not asked.
    BackupNotAsked,
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleCareRemedy"))]
pub enum Remedy {
    /// Make a backup, or make sure of it.
    MakeBackup,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::MakeBackup => Vec::new(),
        }
    }
}
