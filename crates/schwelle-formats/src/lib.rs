//! The structures on a disk: a folder per format, a file per structure.
//!
//! A format knows bytes and the device that it is read from, and nothing of what is done with it: tables
//! ([`mbr`], [`gpt`]), file systems ([`fat`], [`ntfs`], [`ext`], [`swap`]) and what lies in their files ([`hive`], [`bcd`],
//! [`windows`], [`pe`], [`unpack`], [`grub`]), encrypted volumes ([`bitlocker`]), and the names of a disk and its
//! partitions in both tables ([`identities`]). All input is hostile: errors carry their place.
//!
//! ```
//! use schwelle_disk::device::Memory;
//! use schwelle_formats::gpt::{GptLayout, GptPair};
//!
//! let disk = Memory::new(512, 4096);
//! let layout = GptLayout {
//!     disk_id: uuid::Uuid::from_u128(1),
//!     entries: Vec::new(),
//! };
//! layout.write(&disk).unwrap();
//! let pair = GptPair::read(&disk);
//! assert!(pair.primary.is_ok() && pair.disagreement().is_none());
//! ```

#![warn(clippy::print_stdout, clippy::print_stderr)]

use schwelle_disk::{bytes, cause, device};

pub mod bcd;
pub mod bitlocker;
pub mod ext;
pub mod fat;
pub mod gpt;
pub mod grub;
pub mod hive;
pub mod identities;
pub mod mbr;
pub mod ntfs;
pub mod pe;
pub mod swap;
pub mod unpack;
pub mod windows;
