//! Writing a change set to the disk: in stages, with a flush between them, inside the declared
//! extents only.
//!
//! Order and crash cases (ARCHITECTURE.md has the table): until the stage `commit` has written sector 0, the
//! disk is the old MBR disk. What `move` and `prepare` write goes to sectors that no file system
//! uses at that time, so any subset of it may have reached the medium. What `shrink` writes does not:
//! a cut there leaves a volume between two sizes, and the journal finishes it or takes it back.
//! What `edit` writes are files that name the disk; until it is through, the new disk starts with
//! the old names in them.
//! Assumed of the medium: a sector is written whole or not at all; a flush returns when all before
//! it is durable; without a flush there is no order. Knows only devices and change sets.

mod apply;
mod change_set;
mod moving;
mod purpose;

pub use apply::{CommitError, Drafts, Event, Ledger, Observer, apply, hash_of, verify};
pub use change_set::{ChangeSet, Disorder, Part, Region, Stage, StageKind, Undeclared};
pub use purpose::Purpose;
