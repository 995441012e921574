//! The host: the operating system that this runs on, and what is asked of it.
//!
//! [`Host`] is all of it, [`this_pc`] the one there is: a folder per system implements it, and nothing outside
//! this room and the crate of system calls knows which system it is.

mod facts;
mod variables;

#[cfg(target_os = "linux")]
mod linux;
#[cfg(target_os = "linux")]
use linux::THIS_PC;
#[cfg(windows)]
mod windows;
#[cfg(windows)]
use windows::THIS_PC;

pub use facts::{
    Bus, DiskSize, FolderFacts, HostFacts, Kind, Mounted, Opened, PowerSource, Process,
    SessionFacts, System, User,
};
pub use variables::{VariableFault, VariableFolder, VariableStore};

use std::ffi::OsString;
use std::fmt::Debug;
use std::fs::{File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// The system that this runs on.
pub fn this_pc() -> &'static dyn Host {
    &*THIS_PC
}

/// What is asked of an operating system.
pub trait Host: Debug + Send + Sync {
    /// Which one it is.
    fn system(&self) -> System;

    // Disks.

    /// The whole disks of this PC: their paths. Devices in memory, optical drives, and those put together from
    /// others, are left out.
    fn disks(&self) -> Vec<PathBuf>;

    /// What a path names.
    fn kind(&self, path: &Path) -> io::Result<Kind>;

    /// What is known of a disk, or an image, and who uses it.
    fn facts(&self, path: &Path, is_disk: bool) -> HostFacts;

    /// Opens a disk or an image. A disk is opened without a cache in between, and for writing in such a way
    /// that no other program has it; `ResourceBusy` where one has.
    fn open(&self, path: &Path, kind: Kind, write: bool) -> io::Result<Opened>;

    /// Locks what was opened against other programs of this kind, shared for reading.
    fn lock(&self, file: &File, kind: Kind, write: bool) -> Result<(), TryLockError>;

    /// The sizes of an opened disk.
    fn size_of_disk(&self, disk: &File) -> io::Result<DiskSize>;

    /// The program that has locked an image, where the system tells.
    fn lock_holder(&self, path: &Path) -> Option<Process>;

    /// Has the partition table of an opened disk read again. `ResourceBusy` while a partition of it is in use,
    /// `InvalidInput` on a device that has none.
    fn read_partitions_again(&self, disk: &File) -> io::Result<()>;

    /// The SMART / Health Information log page of an opened NVMe drive.
    fn nvme_health(&self, disk: &File) -> io::Result<[u8; 512]>;

    /// The path of the device with this name.
    fn device_path(&self, name: &str) -> PathBuf;

    /// A path that leads to this disk after a restart as well, where the system has such paths.
    fn lasting_path(&self, facts: &HostFacts) -> Option<PathBuf>;

    /// True for a path that leads to the same disk after a restart.
    fn is_lasting(&self, path: &Path) -> bool;

    /// True when two paths lead to the same disk or image.
    fn is_same_disk(&self, a: &Path, b: &Path) -> bool;

    /// True for a text that reads as a path, so that no disk's name can be meant by it.
    fn reads_as_path(&self, text: &str) -> bool;

    // Files.

    /// Fills `buffer` from byte `offset` on.
    fn read_exact_at(&self, file: &File, buffer: &mut [u8], offset: u64) -> io::Result<()>;

    /// Writes `bytes` at byte `offset`.
    fn write_all_at(&self, file: &File, bytes: &[u8], offset: u64) -> io::Result<()>;

    /// Asks the file system to keep no room for what is never written to a new file. Where it takes no such
    /// request, it keeps the room, or none by itself.
    fn leave_holes(&self, file: &File);

    /// Advice that later reads of a file should come from its medium.
    fn forget_cached(&self, file: &File);

    /// Makes a folder that only this user can read; an empty one that exists becomes such, and this user's, if the file
    /// system keeps that. One with content is left as it is, and a link is refused.
    fn make_private_folder(&self, folder: &Path) -> io::Result<Box<dyn HeldFolder>>;

    /// Holds a folder that is there.
    fn hold_folder(&self, folder: &Path) -> io::Result<Box<dyn HeldFolder>>;

    /// Gives a folder and the files in it to a user that has no rights and nothing else, where this program may do so: its
    /// number. What helper programs leave there is read through a held folder.
    fn give_to_powerless(&self, folder: &Path) -> Option<u32>;

    /// The number under which a program that is started from now on finds an opened file, where the system has such
    /// numbers.
    fn hand_down(&self, file: &File) -> Option<i32>;

    /// Other users of this system can look into a folder; false where that is not known.
    fn others_can_read(&self, folder: &Path) -> bool;

    /// Others than the owner can change a file, or replace it in its folder; false where the system keeps no such
    /// permissions.
    ///
    /// # Errors
    ///
    /// The permissions cannot be read.
    fn others_can_write(&self, file: &Path) -> io::Result<bool>;

    /// What a folder lies on: the one named, or the nearest one above it that is there.
    fn folder(&self, folder: &Path) -> FolderFacts;

    /// True when two folders lie in the same file system.
    fn is_one_medium(&self, a: &Path, b: &Path) -> bool;

    /// Where local file systems are mounted that may hold a job folder.
    ///
    /// # Errors
    ///
    /// The system's list of mounts cannot be read.
    fn mounted_folders(&self) -> io::Result<Vec<PathBuf>>;

    /// Folders in which programs keep settings, the first that has some counts.
    fn settings_folders(&self) -> Vec<PathBuf>;

    // The PC and this session.

    /// How this session was started, and what the PC tells of itself.
    fn session(&self) -> SessionFacts;

    /// The firmware's variables, where this session sees them.
    fn variables(&self) -> Option<Arc<dyn VariableStore>>;

    /// Fills `bytes` with random numbers.
    fn random(&self, bytes: &mut [u8; 16]) -> io::Result<()>;

    /// What the PC runs on.
    fn power(&self) -> PowerSource;

    /// This program knows a secret from now on: it leaves no image of its memory when it crashes, and the memory that it
    /// has is not swapped out, as far as the system lets it.
    fn keep_secrets(&self);

    /// Takes a variable out of this program's environment. To be called before any other thread is there.
    fn take_variable(&self, name: &str) -> Option<OsString>;

    /// From now on what asks a program to end (Ctrl-C, a closing terminal, a shutdown) sets `stop` instead.
    fn heed_stops(&self, stop: &Arc<AtomicBool>);

    /// A text as it is typed in this system's shell, as one word.
    fn typed(&self, text: &str) -> String;
}

/// A folder that is held: its files are found in it, whatever becomes of its path, and of the paths above it. A name
/// that is not a regular file, such as a link, is an error.
pub trait HeldFolder: Debug + Send + Sync {
    /// True when nothing is in it.
    fn is_empty(&self) -> io::Result<bool>;

    /// Opens a file for reading, or for writing as well. `NotFound` where there is none.
    fn open(&self, name: &str, write: bool) -> io::Result<File>;

    /// Makes a file that this user alone can read, from its first byte, or empties the one that is there.
    fn create(&self, name: &str) -> io::Result<File>;

    /// Returns when the names in it are on the medium.
    fn sync_names(&self) -> io::Result<()>;

    /// Returns when all that was written to its file system is on the medium.
    fn sync_medium(&self) -> io::Result<()>;

    /// True if the path still leads to this folder: its medium has not been taken away or replaced.
    fn is_at(&self, path: &Path) -> io::Result<bool>;
}

/// The nearest folder at or above this one that is there.
fn nearest(folder: &Path) -> PathBuf {
    let there = folder.ancestors().find(|path| path.exists());
    let there = there.filter(|path| !path.as_os_str().is_empty());
    there.unwrap_or(Path::new(".")).to_owned()
}
