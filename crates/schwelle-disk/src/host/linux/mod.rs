//! Linux as the host.
//!
//! Block devices are opened with `O_DIRECT`, for writing with `O_EXCL` as well, which for them means: fail when
//! mounted or claimed by a driver (open(2)).

mod disks;
mod folder;
mod held;
mod identity;
mod mounts;
mod powerless;
mod users;

use std::ffi::OsString;
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Seek, SeekFrom};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, LazyLock};

use rustix::fs::{Advice, OFlags};

use super::facts::{
    DiskSize, FolderFacts, HostFacts, Kind, Opened, PowerSource, Process, SessionFacts, System,
};
use super::variables::{VariableFolder, VariableStore};
use super::{HeldFolder, Host};
use crate::bytes::read_file;
use held::Held;

/// Names below it stay from start to start.
const BY_ID: &str = "/dev/disk/by-id";
/// A longer SMBIOS table is not one.
const MAX_TABLE_BYTES: u64 = 1 << 20;

pub(super) static THIS_PC: LazyLock<Linux> = LazyLock::new(|| Linux::at(Path::new("/")));

/// A Linux with the root of its file tree.
#[derive(Debug)]
pub(super) struct Linux {
    root: PathBuf,
}

impl Linux {
    fn at(root: &Path) -> Self {
        let root = root.to_owned();
        Self { root }
    }
}

/// The bits of a mode that are about others.
const OTHERS: u32 = 0o077;

impl Host for Linux {
    fn system(&self) -> System {
        System::Linux
    }

    fn disks(&self) -> Vec<PathBuf> {
        disks::disk_names(&self.root)
    }

    fn kind(&self, path: &Path) -> io::Result<Kind> {
        let kind = fs::metadata(path)?.file_type();
        Ok(if kind.is_block_device() {
            Kind::Disk
        } else if kind.is_file() {
            Kind::Image
        } else if kind.is_dir() {
            Kind::Folder
        } else {
            Kind::Other
        })
    }

    fn facts(&self, path: &Path, is_disk: bool) -> HostFacts {
        disks::host_facts(&self.root, path, is_disk)
    }

    fn open(&self, path: &Path, kind: Kind, write: bool) -> io::Result<Opened> {
        let mut options = OpenOptions::new();
        options.read(true).write(write);
        if kind == Kind::Disk {
            let exclusive = if write { OFlags::EXCL } else { OFlags::empty() };
            options.custom_flags((OFlags::DIRECT | exclusive).bits().cast_signed());
        }
        let (file, held) = (options.open(path)?, Vec::new());
        Ok(Opened { file, held })
    }

    fn lock(&self, file: &File, _: Kind, write: bool) -> Result<(), TryLockError> {
        if write {
            file.try_lock()
        } else {
            file.try_lock_shared()
        }
    }

    fn size_of_disk(&self, mut disk: &File) -> io::Result<DiskSize> {
        Ok(DiskSize {
            logical_sector: rustix::fs::ioctl_blksszget(disk)?,
            physical_sector: rustix::fs::ioctl_blkpbszget(disk)?,
            // Metadata says 0.
            len_bytes: disk.seek(SeekFrom::End(0))?,
        })
    }

    fn lock_holder(&self, path: &Path) -> Option<Process> {
        users::lock_holder(&self.root, path)
    }

    fn read_partitions_again(&self, disk: &File) -> io::Result<()> {
        schwelle_kernel::read_partitions_again(disk)
    }

    fn nvme_health(&self, disk: &File) -> io::Result<[u8; 512]> {
        schwelle_kernel::nvme_health(disk)
    }

    fn device_path(&self, name: &str) -> PathBuf {
        Path::new("/dev").join(name)
    }

    fn lasting_path(&self, facts: &HostFacts) -> Option<PathBuf> {
        let name = facts.stable_names.first()?;
        Some(Path::new(BY_ID).join(name))
    }

    fn is_lasting(&self, path: &Path) -> bool {
        path.starts_with(BY_ID) && path.exists()
    }

    fn is_same_disk(&self, a: &Path, b: &Path) -> bool {
        let real = |path: &Path| fs::canonicalize(path).ok();
        a == b || (real(a).is_some() && real(a) == real(b))
    }

    fn reads_as_path(&self, text: &str) -> bool {
        text.contains('/')
    }

    fn read_exact_at(&self, file: &File, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        file.read_exact_at(buffer, offset)
    }

    fn write_all_at(&self, file: &File, bytes: &[u8], offset: u64) -> io::Result<()> {
        file.write_all_at(bytes, offset)
    }

    fn leave_holes(&self, _: &File) {}

    fn forget_cached(&self, file: &File) {
        // Where the system does not take the advice, the reads are still right.
        rustix::fs::fadvise(file, 0, None, Advice::DontNeed).ok();
    }

    fn make_private_folder(&self, folder: &Path) -> io::Result<Box<dyn HeldFolder>> {
        Ok(Box::new(Held::make(folder)?))
    }

    fn hold_folder(&self, folder: &Path) -> io::Result<Box<dyn HeldFolder>> {
        Ok(Box::new(Held::open(folder)?))
    }

    fn give_to_powerless(&self, folder: &Path) -> Option<u32> {
        powerless::give(folder)
    }

    fn hand_down(&self, file: &File) -> Option<i32> {
        rustix::io::fcntl_setfd(file, rustix::io::FdFlags::empty()).ok()?;
        Some(file.as_raw_fd())
    }

    fn others_can_read(&self, folder: &Path) -> bool {
        let mode = fs::metadata(folder).map(|folder| folder.mode());
        mode.is_ok_and(|mode| mode & OTHERS != 0)
    }

    fn others_can_write(&self, file: &Path) -> io::Result<bool> {
        const GROUP: u32 = 0o020;
        const ALL: u32 = 0o002;
        const STICKY: u32 = 0o1000;
        let group = rustix::process::getegid().as_raw();
        let is_open = |found: &fs::Metadata| {
            let mode = found.mode();
            // A user's own group, which has the user's number, has nobody else in it on most systems.
            let by_group = mode & GROUP != 0 && ![0, group, found.uid()].contains(&found.gid());
            // In a sticky folder such as /tmp, nobody can replace another user's files.
            let by_all = mode & ALL != 0 && !(found.is_dir() && mode & STICKY != 0);
            by_group || by_all
        };
        let folder = file.canonicalize()?;
        let folder = folder.parent().unwrap_or(Path::new("/"));
        Ok(is_open(&fs::metadata(file)?) || is_open(&fs::metadata(folder)?))
    }

    fn folder(&self, folder: &Path) -> FolderFacts {
        folder::folder_facts(&self.root, folder)
    }

    fn is_one_medium(&self, a: &Path, b: &Path) -> bool {
        folder::is_one_medium(a, b)
    }

    fn mounted_folders(&self) -> io::Result<Vec<PathBuf>> {
        disks::mounted_folders(&self.root)
    }

    fn settings_folders(&self) -> Vec<PathBuf> {
        let variable = |name| std::env::var_os(name).filter(|value| !value.is_empty());
        let folders = [
            variable("XDG_CONFIG_HOME").map(PathBuf::from),
            variable("HOME").map(|home| Path::new(&home).join(".config")),
            Some(PathBuf::from("/etc")),
        ];
        folders.into_iter().flatten().collect()
    }

    /// `/sys/firmware/efi` is there when this session was started in UEFI mode; `fw_platform_size` in it says
    /// 32 or 64.
    fn session(&self) -> SessionFacts {
        let efi = self.root.join("sys/firmware/efi");
        let table = self.root.join("sys/firmware/dmi/tables/DMI");
        SessionFacts {
            in_uefi_mode: Some(efi.exists()),
            bits: text(efi.join("fw_platform_size")).and_then(|bits| bits.parse().ok()),
            smbios: read_file(&table, MAX_TABLE_BYTES).ok(),
        }
    }

    fn variables(&self) -> Option<Arc<dyn VariableStore>> {
        let folder = VariableFolder::open(&self.root.join("sys/firmware/efi/efivars"))?;
        Some(Arc::new(folder))
    }

    fn random(&self, bytes: &mut [u8; 16]) -> io::Result<()> {
        schwelle_kernel::random(bytes)
    }

    fn power(&self) -> PowerSource {
        disks::power_source(&self.root)
    }

    fn keep_secrets(&self) {
        schwelle_kernel::keep_secrets();
    }

    fn take_variable(&self, name: &str) -> Option<OsString> {
        schwelle_kernel::take_variable(name)
    }

    fn heed_stops(&self, stop: &Arc<AtomicBool>) {
        schwelle_kernel::heed_stops(stop);
    }

    fn typed(&self, text: &str) -> String {
        let plain = |c: char| c.is_alphanumeric() || "/._-+,:@%=".contains(c);
        if !text.is_empty() && text.chars().all(plain) {
            text.to_owned()
        } else {
            format!("'{}'", text.replace('\'', "'\\''"))
        }
    }
}

fn text(path: impl AsRef<Path>) -> Option<String> {
    let text = fs::read_to_string(path).ok()?;
    let text = text.trim();
    (!text.is_empty()).then(|| text.to_owned())
}

fn names_in(folder: impl AsRef<Path>) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(folder)
        .into_iter()
        .flatten()
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .collect();
    names.sort();
    names
}

/// A device number as sysfs and procfs write it: "major:minor".
fn number_of(device: u64) -> String {
    format!(
        "{}:{}",
        rustix::fs::major(device),
        rustix::fs::minor(device)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    pub(super) fn put(root: &Path, files: &[(&str, &str)]) {
        for (path, content) in files {
            let path = root.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
    }

    #[test]
    fn a_session_is_told_from_what_the_kernel_shows() {
        let dir = tempfile::tempdir().unwrap();
        let linux = Linux::at(dir.path());
        let bios = SessionFacts {
            in_uefi_mode: Some(false),
            ..SessionFacts::default()
        };
        assert_eq!(linux.session(), bios);
        assert!(linux.variables().is_none());
        put(
            dir.path(),
            &[
                ("sys/firmware/efi/fw_platform_size", "32\n"),
                ("sys/firmware/efi/efivars/Boot0000-x", "...."),
                ("sys/firmware/dmi/tables/DMI", "table"),
            ],
        );
        let uefi = SessionFacts {
            in_uefi_mode: Some(true),
            bits: Some(32),
            smbios: Some(b"table".to_vec()),
        };
        assert_eq!(linux.session(), uefi);
        let variables = linux.variables().unwrap();
        assert_eq!(variables.names("Boot", "x"), ["Boot0000"]);
    }
}
