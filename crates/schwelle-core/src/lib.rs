//! What is known about a disk and done with it, without a word to the user.
//!
//! The way through, in types that can only be made in its order ([`pipeline`]): a disk opened read-only is looked at
//! ([`profile`]), judged ([`rules`]) with the room that was found for it ([`placement`]), built anew on a
//! copy-on-write overlay ([`draft`]), walked through as firmware would ([`rehearse`]) and only then written, with a
//! journal in a job folder that finishes it or takes it back ([`job`]). What is found and advised are values, never sentences.
//!
//! The floors below are shown here too: devices and the commit, and the formats.
//!
//! This crate never prints, asks, or parses arguments, and knows no clock, terminal or environment.
//!
//! ```
//! use schwelle_core::device::{HostFacts, Memory};
//! use schwelle_core::profile::{Profile, TableStyle};
//!
//! let disk = Memory::new(512, 2048);
//! let profile = Profile::read(&disk, HostFacts::default()).unwrap();
//! assert_eq!(profile.table_style(), TableStyle::Blank);
//! ```

#![warn(clippy::print_stdout, clippy::print_stderr)]

pub use schwelle_disk::{bytes, cause, commit, device};
pub use schwelle_formats::{
    bcd, encryption, fat, gpt, hive, identities, mbr, ntfs, pe, unpack, windows,
};

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
pub mod switch;
