//! GRUB, the boot manager that most Linux distributions install: what a BIOS starts of it, and its menu.
//!
//! In BIOS mode sector 0 holds its boot image, which loads a core image from a fixed sector: mostly from those
//! between sector 0 and the first partition, which have no owner. The core image finds `grub.cfg` on a volume.
//! The facts are from its source (`grub-core/boot/i386/pc/`, `include/grub/i386/pc/boot.h`, and `kernel.h`) and
//! its manual (configuration file format). Not read: the core image's own content, which is compressed.

#![warn(clippy::indexing_slicing)]

mod efi;
mod image;
mod menu;

pub use efi::{Lead, prefix_of};
pub use image::{BootImage, CoreImage};
pub use menu::{Menu, MenuEntry, Place, Target};
