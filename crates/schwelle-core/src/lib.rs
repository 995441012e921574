//! Everything Schwelle knows about disks, without a word to the user.
//!
//! The way through: a disk opened read-only ([`device`]) is looked at ([`profile`]), judged
//! ([`rules`]) with the room that was found for it ([`placement`]), built anew on a copy-on-write
//! overlay ([`draft`]), walked through as firmware would ([`rehearse`]) and only then written
//! ([`commit`]), with a journal in a job folder that finishes it or takes it back ([`job`]). The format modules ([`mbr`], [`gpt`], [`fat`], [`ntfs`], [`encryption`], [`hive`],
//! [`bootstore`], [`pe`]) know only [`device`] and [`bytes`].
//!
//! This crate never prints, asks, or parses arguments, and knows no clock, terminal or environment.

#![warn(clippy::print_stdout, clippy::print_stderr)]

mod ahead;
pub mod bootstore;
pub mod bytes;
pub mod commit;
pub mod confirm;
pub mod crossing;
pub mod device;
pub mod disk_use;
pub mod draft;
pub mod encryption;
pub mod fat;
pub mod firmware;
pub mod fit;
pub mod gpt;
pub mod hive;
pub mod job;
pub mod mbr;
pub mod mend;
pub mod next;
pub mod ntfs;
pub mod pe;
pub mod placement;
pub mod profile;
pub mod receipt;
pub mod rehearse;
pub mod rules;
pub mod unpack;
pub mod windows;
