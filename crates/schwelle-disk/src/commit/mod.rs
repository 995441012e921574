//! Writes a change set to the disk: in stages, with a flush between them, and only inside the declared extents.
//!
//! Until the stage `commit` has written sector 0, the disk is the old MBR disk. `move` and `prepare` write to
//! sectors that no file system uses at that time, so any part of it may have reached the medium. `shrink` does
//! not: a power failure there leaves a volume between two sizes, which the journal finishes or takes back. `edit`
//! changes the files that name the disk; until it is done, the new disk starts with the old names in them.
//! ARCHITECTURE.md has the table.
//!
//! Assumed of the medium: a sector is written whole or not at all; a flush returns when everything before it is
//! durable; without a flush there is no order. This room knows only devices and change sets.

mod apply;
mod change_set;
mod moving;
mod purpose;

pub use apply::{CommitError, Drafts, Event, Ledger, Observer, apply, hash_of, verify};
pub use change_set::{ChangeSet, Disorder, Part, Region, Stage, StageKind, Undeclared, in_order};
pub use purpose::Purpose;
