//! What a disk is for, as the technician says.

#[cfg(feature = "schema")]
use schemars::JsonSchema;

use serde::{Deserialize, Serialize};

/// What a disk is for. It decides what a conversion must give: a disk that starts a system, or one
/// whose volumes are all there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum DiskUse {
    /// A PC starts from it.
    #[default]
    System,
    /// It holds volumes, and no PC starts from it; or it is blank.
    Data,
}

impl DiskUse {
    /// The word in reports and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::System => "system",
            Self::Data => "data",
        }
    }
}
