//! Documents as JSON. All go through [`Value`], so that each type has one serialiser in the program instead of one for each
//! form of the text.

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// What a document holds.
pub(crate) fn value<T: Serialize>(document: &T) -> Value {
    serde_json::to_value(document).expect("documents hold only text, numbers, lists and maps")
}

/// A document to be read by people too.
pub(crate) fn pretty<T: Serialize>(document: &T) -> String {
    format!("{:#}", value(document))
}

/// A document in a line.
pub(crate) fn line<T: Serialize>(document: &T) -> String {
    value(document).to_string()
}

/// The document in this text.
///
/// # Errors
///
/// It is no JSON, or it is another document.
pub(crate) fn read<T: DeserializeOwned>(text: &[u8]) -> serde_json::Result<T> {
    serde_json::from_value(serde_json::from_slice(text)?)
}
