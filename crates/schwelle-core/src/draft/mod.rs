//! Builds the finished disk on a draft: tables, EFI system partition, boot files, BCD store, and the
//! files that name the disk.
//!
//! A profile that no rule blocks becomes a [`Plan`], on the way to GPT or from there to MBR: the draft itself, what it
//! looks like, and the change set. Nothing here writes to the disk.

mod assembly;
mod back;
mod basis;
mod build;
pub(crate) mod edit;
pub(crate) mod esp;
mod linux;
mod map;
mod patch;
mod plan;
mod rename;
pub(crate) mod shrink;
mod start;

pub(crate) use assembly::{Assembly, Ending};
pub(crate) use back::build_back;
pub(crate) use build::{bios_start, build};
pub(crate) use esp::{KeptFile, path_text};
pub use linux::NewLinux;
pub use map::{Change, MapPart};

pub use basis::{DraftError, Stamp};
pub(crate) use basis::{SECTOR_0, Source, table_extents};
pub use edit::{Edit, EditedFile};
pub use plan::{NewTable, Plan};
pub use rename::{NotUpdated, RestoredNames, WhyNotUpdated};
pub use start::NewStart;
pub(crate) use start::{Content, bcd_store};
