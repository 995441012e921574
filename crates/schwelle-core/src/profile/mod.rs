//! What is on a disk: the layout with its gaps, the volumes and their health, the Windows systems,
//! the boot configuration.
//!
//! Pure reading. A disk that cannot be read at all is an error; everything else that is wrong
//! becomes part of the [`Profile`], for the rules to judge.

mod boot;
mod boot_files;
mod foreign;
mod known;
mod layout;
mod open;
mod partition;
mod read;
mod recovery;
mod stopped;
mod system;
mod tail;
mod traces;
mod volume;

pub(crate) use boot::BIOS_LOADER;
pub(crate) use boot::KERNEL;
pub(crate) use boot::UEFI_LOADER;
pub(crate) use boot::find_stores;
pub use boot::{
    BIOS_STORE, BOOTMGFW, BOOTMGR, BootProfile, ESP_STORE, FoundStore, REMOVABLE_X64, StoreFault,
};
pub(crate) use boot_files::MAX_BOOT_FILE_BYTES;
pub(crate) use boot_files::bios_system;
pub(crate) use boot_files::boot_system;
pub use boot_files::{BootFile, BootFileFault, BootFiles, SignedSet};
pub use foreign::Foreign;
pub use known::is_systems_own;
pub use layout::Profile;
pub use open::open_image_or_disk;
pub use partition::{Origin, Partition, Role, Table, TableStyle, Titled};
pub(crate) use recovery::RECOVERY_IMAGE;
pub use recovery::RecoveryImage;
pub(crate) use recovery::is_companion;
pub use stopped::StoppedSign;
pub(crate) use stopped::beyond_volume;
pub use system::{Letters, RegistryFault, WindowsSystem};
pub use tail::{TailMark, TailOwner};
pub use traces::{Trace, TraceAt};
pub use volume::{NtfsHealth, Volume, VolumeFault, VolumeKind};
