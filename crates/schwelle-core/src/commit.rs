//! Change sets, and what is observed and recorded while one is written.
//!
//! Writing itself is not exported: `Saved` of the pipeline and a `Trusted` plan of a job are the only ways to it.
//!
//! ```compile_fail,E0603
//! use schwelle_core::commit::apply;
//! ```

pub use schwelle_disk::commit::{
    ChangeSet, CommitError, Disorder, Drafts, Event, Ledger, Observer, Part, Purpose, Region,
    Stage, StageKind, Undeclared, hash_of, in_order,
};
pub(crate) use schwelle_disk::commit::{apply, verify};
