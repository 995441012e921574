//! Writing a change set to the disk: in stages, with a flush between them, inside the declared
//! extents only.
//!
//! Order and crash cases (design, section 7): until the stage `commit` has written sector 0, the
//! disk is the old MBR disk, whatever subset of the writes before has reached the medium, since
//! they go to sectors that the old disk does not use. Assumed of the medium: a sector is written
//! whole or not at all; a flush returns when all before it is durable; without a flush there is no
//! order. Knows only devices and change sets.

mod ahead;
mod apply;
mod change_set;

pub use apply::{CommitError, Event, Ledger, Observer, apply, hash_of, verify};
pub use change_set::{ChangeSet, Part, Region, Stage, StageKind, Undeclared};
