//! The domain: what is on a disk, what is wrong with it, and what is done about it.
//!
//! The way through, as types that can only be made in this order ([`pipeline`]): a disk opened read-only is read
//! ([`profile`]), judged ([`rules`]) with the space that was found ([`placement`]), drafted on a copy-on-write
//! overlay ([`draft`]), walked as firmware does ([`rehearse`]), and only then written, with a journal in a job
//! folder that can finish it or take it back ([`job`]). Answers are values, never sentences.
//!
//! The crates below are re-exported here: devices and the commit, and the formats.
//!
//! This crate never prints, asks, or parses arguments, and knows no clock, terminal or environment.
//!
//! ```
//! use schwelle_core::device::Memory;
//! use schwelle_core::host::HostFacts;
//! use schwelle_core::profile::{Profile, TableStyle};
//!
//! let disk = Memory::new(512, 2048);
//! let profile = Profile::read(&disk, HostFacts::default()).unwrap();
//! assert_eq!(profile.table_style(), TableStyle::Blank);
//! ```

#![warn(clippy::print_stdout, clippy::print_stderr)]

pub use schwelle_disk::{bytes, cause, device, host};
pub use schwelle_formats::{
    bcd, bitlocker, ext, fat, gpt, grub, hive, identities, mbr, ntfs, pe, swap, unpack, windows,
};

pub mod commit;
pub mod confirm;
pub mod disk_use;
pub mod draft;
mod families;
pub mod firmware;
pub mod fit;
pub mod gaps;
pub mod job;
pub mod marker;
pub mod mend;
pub mod next;
pub mod overview;
pub mod pipeline;
pub mod placement;
pub mod profile;
pub mod rehearse;
pub mod rules;
pub mod starts;
pub mod switch;
