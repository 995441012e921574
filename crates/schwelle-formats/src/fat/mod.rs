//! FAT, as EFI system partitions need it: making a FAT32 volume from a list of files and adding to one; reading and
//! checking volumes of every kind.
//!
//! Source: Microsoft's published FAT specification ("FAT32 File System Specification", version
//! 1.03) and UEFI 2.10 §13.3. [`FatWriter`] makes a volume, [`FatVolume`] reads and checks one,
//! [`FatEditor`] puts files into one that exists, [`make_startable`] gives one the code that a BIOS starts. Not supported:
//! writing FAT12 and FAT16.

#![warn(clippy::indexing_slicing)]

mod boot_code;
mod bpb;
mod check;
mod dir_entry;
mod directory;
mod editor;
mod fingerprint;
mod name;
mod repair;
mod volume;
mod writer;

pub use boot_code::{MAX_BOOT_MANAGER_BYTES, is_startable, make_startable};
pub use bpb::{FatKind, FatShape, Oddity, recognise, smallest_fat32};
pub use check::FatFault;
pub use dir_entry::DosTime;
pub use editor::FatEditor;
pub use name::is_valid_long;
pub use repair::Repair;
pub use volume::{ChainDamage, FatEntry, FatError, FatVolume};
pub use writer::{FatLabel, FatWriteError, FatWriter};
