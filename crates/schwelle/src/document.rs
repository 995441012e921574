//! Documents as JSON text. All are converted through [`Value`], so that the compiler generates one serialiser for each type
//! instead of one for each output form.

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// Converts a document to a JSON value.
pub(crate) fn value<T: Serialize>(document: &T) -> Value {
    serde_json::to_value(document).expect("documents hold only text, numbers, lists and maps")
}

/// Indented JSON text.
pub(crate) fn pretty<T: Serialize>(document: &T) -> String {
    format!("{:#}", value(document))
}

/// JSON text in one line.
pub(crate) fn line<T: Serialize>(document: &T) -> String {
    value(document).to_string()
}

/// Parses a document.
///
/// # Errors
///
/// The text is not JSON, or not a document of this type.
pub(crate) fn read<T: DeserializeOwned>(text: &[u8]) -> serde_json::Result<T> {
    serde_json::from_value(serde_json::from_slice(text)?)
}
