//! What is on a disk: the layout with its gaps, the volumes and their health, the Windows installations, the boot
//! configuration.
//!
//! This room only reads. A disk that cannot be read at all is an error; everything else that is wrong becomes
//! part of the [`Profile`], for the rules to judge.

mod boot;
mod boot_files;
mod encryption;
mod fat_loaders;
mod foreign;
mod known;
mod layout;
mod linux;
mod loaders;
mod open;
mod partition;
mod read;
mod recovery;
mod stopped;
mod system;
mod tail;
mod traces;
mod unlock;
mod volume;

pub(crate) use boot::find_stores;
pub use boot::{BootProfile, FoundStore, StoreFault};
pub(crate) use boot_files::MAX_BOOT_FILE_BYTES;
pub use boot_files::{BootFile, BootFileFault, BootFiles, SignedSet};
pub use encryption::Encryption;
pub use fat_loaders::FatLoader;
pub use foreign::Foreign;
pub(crate) use known::{BIOS_LOADER, KERNEL, UEFI_LOADER};
pub use known::{BIOS_STORE, BOOTMGFW, BOOTMGR, ESP_STORE, REMOVABLE_X64, is_systems_own};
pub use layout::Profile;
pub(crate) use layout::{bios_system, boot_system};
pub use linux::{FoundMenu, Grub, LinuxSystem, Release, ThroughGrub};
pub(crate) use linux::{is_by_table, partition_at as grub_partition_at};
pub(crate) use loaders::{GRUB, SHIM};
pub use loaders::{LoaderFile, NoLoaders, UefiLoaders};
pub use open::open_image_or_disk;
pub use partition::{Origin, Partition, Role, Table, TableStyle, Titled};
pub(crate) use recovery::RECOVERY_IMAGE;
pub use recovery::RecoveryImage;
pub(crate) use recovery::is_companion;
pub use stopped::StoppedSign;
pub(crate) use stopped::beyond_volume;
pub use system::{Letters, RegistryFault, WindowsSystem};
pub use tail::{TailOwner, TailSignature};
pub use traces::{Trace, TraceAt};
pub use unlock::{StaysClosed, unlock};
pub(crate) use volume::volume_kind;
pub use volume::{NtfsHealth, Volume, VolumeFault, VolumeKind};
