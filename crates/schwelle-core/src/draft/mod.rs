//! Builds the finished disk on a draft: tables, EFI system partition, boot files, boot store, and the
//! files that name the disk.
//!
//! [`build`] (and [`build_back`], from GPT to MBR) takes a profile that no rule blocks and gives a [`Plan`]: the draft itself, what it
//! looks like, and the change set. Nothing here writes to the disk.

mod back;
mod build;
pub(crate) mod esp;
mod map;
mod patch;
pub(crate) mod settle;
mod start;
pub(crate) mod trim;

pub use back::build_back;
pub use build::{DraftError, NewTable, Plan, Source, Stamp, build};
pub(crate) use build::{SECTOR_0, bios_start, table_extents};
pub use map::{Change, MapPart};
pub use settle::{Edit, EditedFile};
pub use start::NewStart;
pub(crate) use start::{Content, boot_store};
