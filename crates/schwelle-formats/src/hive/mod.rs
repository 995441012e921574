//! Registry hives (regf): reading keys and values, and writing a hive anew from a tree.
//!
//! Facts as free hive libraries agree on them, checked against hives made by one (see the tests of
//! the crate `schwelle`). [`Hive`] reads lazily from any source of bytes, so a large hive costs
//! what is looked at; [`Recovered`] is a hive with its transaction logs applied; [`HiveEditor`]
//! changes values where they stand, in a file that keeps its length; [`Node`] is a whole tree in
//! memory, for hives that are written anew.

#![warn(clippy::indexing_slicing)]

mod base_block;
mod cell;
mod edit;
mod key;
mod log;
mod tree;
mod write;

pub use edit::{EditError, HiveEditor};
pub use key::{Hive, Key, Value, value_kind};
pub use log::{LogError, MAX_LOG_BYTES, Recovered};
pub use tree::Node;

/// Why a hive could not be read.
#[derive(Debug, thiserror::Error)]
pub enum HiveError {
    /// The base block is not that of a hive.
    #[error("no registry hive: the base block's {field} is wrong")]
    BaseBlock {
        /// The field at fault.
        field: &'static str,
    },
    /// A cell that breaks its own rules.
    #[error("registry hive, cell at {offset:X}h: {fault}")]
    Cell {
        /// Offset of the cell, counted from the first bin as in the hive itself.
        offset: u32,
        /// What is wrong.
        fault: &'static str,
    },
    /// More keys, values or levels than any real hive has.
    #[error("registry hive: more than {limit} {what}")]
    TooLarge {
        /// "keys", …
        what: &'static str,
        /// The limit.
        limit: usize,
    },
    /// The source could not be read.
    #[error("registry hive: {0}")]
    Source(Box<dyn std::error::Error + Send + Sync>),
}
