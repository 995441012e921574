//! What an installed Windows keeps on its volume about the disks it uses: its registry's files, the list of
//! mounted devices (drive letters), and the configuration of its recovery environment.
//!
//! Facts as seen in files of such systems and in free forensic literature; each is made up anew in
//! the tests, since none of a real system may be kept here.

#![warn(clippy::indexing_slicing)]

mod hive_file;
mod letters;
mod mounted;
mod program;
mod recovery;

pub use hive_file::{HIVE_LOGS, HiveFile, HiveFileError};
pub use letters::{ConvertedHive, LettersError, convert_letters, mounted_names, shared_out};
pub(crate) use mounted::MOUNTED_DEVICES;
pub use mounted::{MountTarget, MountedName};
pub use program::program_at;
pub use recovery::{
    RECOVERY_CONFIG, RecoveryConfig, RecoveryConfigError, RecoveryConfigFault, RecoveryDisk,
    RecoveryEditError, RecoveryFile, RecoveryLocation,
};

/// The folder of an installed Windows on its volume.
pub const SYSTEM_FOLDER: &str = "\\Windows";
/// The hive with the drive letters, and with what the last start wrote down.
pub const SYSTEM_HIVE: &str = "\\Windows\\System32\\config\\SYSTEM";
