//! What rules of several families answer.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::next::Next;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleCommonEvidence"))]
pub enum Evidence {
    /// Nothing against it, and nothing to tell.
    NothingFound,
    /// The rule does not arise.
    NotAsked {
        /// Why.
        because: NotAsked,
    },
    /// A system that no entry of the menu starts.
    Aside {
        /// What is wrong with that system.
        found: Box<super::Evidence>,
    },
}

/// Why a rule does not arise.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum NotAsked {
    /// There is no MBR table.
    NoMbr,
    /// Nothing starts from a data disk.
    DataDisk,
    /// There is no Windows.
    NoWindows,
    /// There is no Windows that can be read.
    NoReadableWindows,
    /// No partition is active.
    NoActivePartition,
    /// There is no EFI system partition.
    NoEsp,
    /// There is no BCD store that can be read.
    NoReadableStore,
    /// There is no boot manager to judge.
    NoBootManager,
    /// The partitions keep their names.
    NamesKept,
    /// A data disk gets no EFI system partition, unless one is asked for.
    NoEspForData,
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleCommonRemedy"))]
pub enum Remedy {
    /// See what that system is for; it does not start afterwards.
    SeeWhatItIsFor,
    /// Follow the findings about a volume that cannot be looked into.
    VolumeFirst,
    /// See that this is the right disk.
    RightDisk,
    /// Find out which of two tables is in use.
    OneOfTwoTables,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::RightDisk => vec![Next::Survey],
            Self::SeeWhatItIsFor | Self::VolumeFirst | Self::OneOfTwoTables => Vec::new(),
        }
    }
}
