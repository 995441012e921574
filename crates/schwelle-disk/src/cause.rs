//! What an error said, kept beside the answer that it led to.

use std::error::Error;
use std::fmt;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a reader's error said. It can only be made from an error, so that no sentence of ours stands here; answers
/// keep it because they outlive what was read, and are stored and compared.
///
/// ```
/// use schwelle_disk::cause::Cause;
///
/// let error = std::io::Error::other("LBA 7 cannot be read");
/// assert_eq!(Cause::from(error).to_string(), "LBA 7 cannot be read");
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(transparent)]
#[cfg_attr(feature = "schema", schemars(inline))]
pub struct Cause(String);

impl<E: Error> From<E> for Cause {
    fn from(error: E) -> Self {
        Self(error.to_string())
    }
}

impl fmt::Display for Cause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}
