//! The ground floor: devices, drafts above them, and the commit of a draft to a disk.
//!
//! A [`device`] is read and written in sectors, at byte offsets. A draft is an overlay above one; its difference
//! to the device is a [`commit::ChangeSet`], and [`commit::apply`] writes that in stages, with a flush between
//! them. This crate knows no format.
//!
//! ```
//! use schwelle_disk::commit::{ChangeSet, Purpose, Region, StageKind};
//! use schwelle_disk::device::{BlockDevice, Draft, Extent, Lba, Memory, ReadDevice};
//!
//! let disk = Memory::new(512, 64);
//! let draft = Draft::new(&disk);
//! draft.write_at(7 * 512, &[1; 512]).unwrap();
//! // The disk is as it was; what the draft changes is known before anything is written.
//! assert_eq!(disk.read_sector(Lba(7)).unwrap(), [0; 512]);
//! let region = Region::new(StageKind::Prepare, Purpose::Esp, Extent::new(Lba(0), 64).unwrap());
//! let changes = ChangeSet::of(&draft, Purpose::MovedClusters, &[region]).unwrap();
//! assert_eq!(changes.bytes(), 512);
//! ```

#![warn(clippy::print_stdout, clippy::print_stderr)]

mod ahead;
pub mod bytes;
pub mod cause;
pub mod commit;
pub mod device;
pub mod host;

pub use ahead::read_ahead;
