//! Makes a volume smaller at its tail: plans which clusters move where, and which metadata changes.
//!
//! [`NtfsVolume::plan_shrink`] reads every file record, finds what has clusters beyond the new end,
//! chooses free clusters before it, and gives a [`ShrinkPlan`]: clusters to copy, and bytes to
//! patch afterwards. It writes nothing. What moves is the least possible: the clusters in use
//! beyond the new end, and no others (but the mirror of the first file records moves as a whole,
//! since the boot sector names only its first cluster).
//!
//! What lies there may be anything: content, index blocks, attribute lists, pieces of the file
//! table or of its mirror. Clusters are moved one for one, so the file's own numbering stays, and
//! with it compression units, holes and sizes. `$LogFile` moves like any other file and keeps its content: its
//! sequence numbers must stay above those in the records, else a system that recovers after a crash
//! takes what it should redo for done.

mod editor;
mod list;
mod moving;
mod patches;
mod plan;
mod records;
mod space;
mod spill;
mod system;

pub use plan::{ClusterMove, Patch, ShrinkError, ShrinkPlan};
