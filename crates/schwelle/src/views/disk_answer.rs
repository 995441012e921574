//! The answer of all rules over a disk, as documents and last lines have it.

use schemars::JsonSchema;
use schwelle_core::rules::Outcome;
use serde::{Deserialize, Serialize};

/// What is to be said of a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum DiskAnswer {
    Ready,
    Caution,
    Blocked,
    Unreadable,
}

impl DiskAnswer {
    pub(crate) fn of(answer: Outcome) -> Self {
        match answer {
            Outcome::Pass | Outcome::Unknown => Self::Ready,
            Outcome::Caution => Self::Caution,
            Outcome::Block => Self::Blocked,
        }
    }

    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Ready => "ready",
            Self::Caution => "caution",
            Self::Blocked => "blocked",
            Self::Unreadable => "unreadable",
        }
    }
}
