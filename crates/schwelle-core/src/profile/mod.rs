//! What is on a disk: the layout with its gaps, the volumes and their health, the Windows systems,
//! the boot configuration.
//!
//! Pure reading. A disk that cannot be read at all is an error; everything else that is wrong
//! becomes part of the [`Profile`], for the rules to judge.

mod layout;
mod open;
mod system;
mod tail;
mod volume;

pub use layout::{Origin, Partition, Profile, Role, Table};
pub use open::open_image_or_disk;
pub use system::{
    BOOTMGFW, BootFile, BootFiles, BootProfile, ESP_STORE, KERNEL, REMOVABLE_X64, RecoveryImage,
    WindowsSystem, read_manager,
};
pub use tail::TailMark;
pub use volume::{NtfsHealth, Volume, VolumeKind};
