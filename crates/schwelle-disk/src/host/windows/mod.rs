//! Windows as the host: the one that was converted, a recovery prompt, or that of a bench PC.
//!
//! A disk is `\\.\PhysicalDriveN`, opened without buffering. For writing every volume on it is locked and taken
//! off first, and stays so as long as the disk is open; where a program holds a file on one, that fails, and the
//! disk is in use. A disk with the running system on it is never opened for writing.

mod held;
mod variables;
mod volumes;

use std::ffi::OsString;
use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::windows::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, LazyLock};

use schwelle_kernel::DriveKind;

use super::facts::{
    Bus, DiskSize, FolderFacts, HostFacts, Kind, Opened, PowerSource, Process, SessionFacts,
    System, User,
};
use super::variables::VariableStore;
use super::{HeldFolder, Host, nearest};
use held::Held;
use variables::{FirmwareVariables, OfWindows};
use volumes::{Volume, volumes_on};

/// Disks have numbers below it.
const MAX_DISKS: u32 = 128;
const NO_BUFFERING: u32 = 0x2000_0000;
const WRITE_THROUGH: u32 = 0x8000_0000;
const SHARE_READ_AND_WRITE: u32 = 3;
/// Programs that ask a device about itself neither read nor write it.
const NO_ACCESS: u32 = 0;
/// The key in which the running system keeps how it was started; it is made anew at each start.
const CONTROL: &str = r"SYSTEM\CurrentControlSet\Control";

pub(super) static THIS_PC: LazyLock<Windows> = LazyLock::new(|| Windows);

/// The running Windows.
#[derive(Debug)]
pub(super) struct Windows;

/// Opens a device to ask it about itself, which needs no right.
fn ask(path: &Path) -> io::Result<File> {
    OpenOptions::new()
        .access_mode(NO_ACCESS)
        .share_mode(SHARE_READ_AND_WRITE)
        .open(path)
}

/// What a path to a device says after `\\.\` or `\\?\`.
fn device_name(path: &Path) -> Option<&str> {
    let text = path.to_str()?;
    let name = text
        .strip_prefix(r"\\.\")
        .or_else(|| text.strip_prefix(r"\\?\"))?;
    let name = name.strip_suffix('\\').unwrap_or(name);
    let is_one = !name.is_empty() && !name.contains(['\\', '/']);
    is_one.then_some(name)
}

/// The number of the disk that a path names.
fn disk_number(path: &Path) -> Option<u32> {
    let name = device_name(path)?.to_ascii_lowercase();
    name.strip_prefix("physicaldrive")?.parse().ok()
}

fn disk_path(number: u32) -> PathBuf {
    PathBuf::from(format!(r"\\.\PhysicalDrive{number}"))
}

fn disk_name(number: u32) -> String {
    format!("PhysicalDrive{number}")
}

/// STORAGE_BUS_TYPE (ntddstor.h).
fn bus(kind: u32) -> Option<Bus> {
    Some(match kind {
        1 | 9 | 10 => Bus::Scsi,
        3 | 11 => Bus::Ata,
        7 => Bus::Usb,
        12 | 13 => Bus::Mmc,
        17 => Bus::Nvme,
        _ => return None,
    })
}

/// A path as Windows' own calls take it, with no link in it.
fn text_of(path: &Path) -> Option<String> {
    let path = fs::canonicalize(path).ok()?;
    path.to_str().map(str::to_owned)
}

/// True in a recovery prompt or a setup medium, whose own system lies in memory as a rule.
fn is_prompt(system: &str) -> bool {
    // Such a system has no folder of user profiles, and this file in place of it.
    Path::new(system).join(r"System32\winpeshl.exe").exists()
}

/// Whether what is written to a drive is lost when the power goes; `None` where that is not known. The drive of
/// a recovery prompt with its own system calls itself a fixed disk, and lies on none.
fn in_memory(kind: DriveKind, is_on_disk: bool, of_prompt: bool) -> Option<bool> {
    match kind {
        DriveKind::Ram => Some(true),
        DriveKind::Remote => Some(false),
        _ if is_on_disk => Some(false),
        _ if of_prompt => Some(true),
        _ => None,
    }
}

impl Host for Windows {
    fn system(&self) -> System {
        System::Windows
    }

    fn disks(&self) -> Vec<PathBuf> {
        let all = (0..MAX_DISKS).map(disk_path);
        all.filter(|path| ask(path).is_ok_and(|disk| schwelle_kernel::disk_sizes(&disk).is_ok()))
            .collect()
    }

    fn kind(&self, path: &Path) -> io::Result<Kind> {
        if let Some(name) = device_name(path) {
            let name = name.to_ascii_lowercase();
            let is_disk = disk_number(path).is_some()
                || name.starts_with("volume{")
                || (name.len() == 2 && name.ends_with(':'));
            return Ok(if is_disk { Kind::Disk } else { Kind::Other });
        }
        let kind = fs::metadata(path)?.file_type();
        Ok(if kind.is_dir() {
            Kind::Folder
        } else {
            Kind::Image
        })
    }

    fn facts(&self, path: &Path, is_disk: bool) -> HostFacts {
        if !is_disk {
            return HostFacts::default();
        }
        let none = HostFacts {
            is_block_device: true,
            ..HostFacts::default()
        };
        let Ok(disk) = ask(path) else {
            return none;
        };
        let Some(number) = disk_number(path) else {
            let number = volumes::disk_of(&disk);
            let disk = number.map_or_else(|| "another disk".to_owned(), disk_name);
            return HostFacts {
                partition_of: Some(disk),
                ..none
            };
        };
        let identity = schwelle_kernel::disk_identity(&disk).unwrap_or_default();
        let (system, others): (Vec<Volume>, Vec<Volume>) = volumes_on(number)
            .into_iter()
            .partition(|volume| volume.is_system);
        let running = |volume: &Volume| User::RunningSystem {
            device: disk_name(number),
            at: volume.shown(),
            started_from: schwelle_kernel::machine_setting(CONTROL, "FirmwareBootDevice"),
        };
        HostFacts {
            bus: bus(identity.bus),
            model: identity.model,
            serial: identity.serial,
            read_only: schwelle_kernel::is_writable(&disk)
                .is_err_and(|error| error.kind() == io::ErrorKind::ReadOnlyFilesystem),
            users: system.iter().map(running).collect(),
            mounted: system.iter().chain(&others).map(Volume::mounted).collect(),
            ..none
        }
    }

    fn open(&self, path: &Path, kind: Kind, write: bool) -> io::Result<Opened> {
        let mut options = OpenOptions::new();
        options.read(true).write(write);
        let mut held = Vec::new();
        if kind == Kind::Disk {
            options.share_mode(SHARE_READ_AND_WRITE);
            options.custom_flags(NO_BUFFERING | if write { WRITE_THROUGH } else { 0 });
            if write {
                let number = disk_number(path).ok_or(io::ErrorKind::ResourceBusy)?;
                held = volumes::take_off(&volumes_on(number), Volume::lock)?;
            }
        }
        let file = options
            .open(path)
            .map_err(|error| match error.raw_os_error() {
                // ERROR_SHARING_VIOLATION, ERROR_LOCK_VIOLATION
                Some(32 | 33) => io::Error::new(io::ErrorKind::ResourceBusy, error),
                _ => error,
            })?;
        Ok(Opened { file, held })
    }

    fn lock(&self, file: &File, kind: Kind, write: bool) -> Result<(), fs::TryLockError> {
        match kind {
            // Its volumes are locked, and a disk has no lock of its own.
            Kind::Disk => Ok(()),
            _ if write => file.try_lock(),
            _ => file.try_lock_shared(),
        }
    }

    fn size_of_disk(&self, disk: &File) -> io::Result<DiskSize> {
        let (logical_sector, physical_sector, len_bytes) = schwelle_kernel::disk_sizes(disk)?;
        Ok(DiskSize {
            logical_sector,
            physical_sector,
            len_bytes,
        })
    }

    fn lock_holder(&self, _: &Path) -> Option<Process> {
        None
    }

    fn read_partitions_again(&self, disk: &File) -> io::Result<()> {
        schwelle_kernel::read_partitions_again(disk)
    }

    fn nvme_health(&self, disk: &File) -> io::Result<[u8; 512]> {
        schwelle_kernel::nvme_health(disk)
    }

    fn device_path(&self, name: &str) -> PathBuf {
        Path::new(r"\\.\").join(name)
    }

    fn lasting_path(&self, _: &HostFacts) -> Option<PathBuf> {
        None
    }

    fn is_lasting(&self, _: &Path) -> bool {
        false
    }

    fn is_same_disk(&self, a: &Path, b: &Path) -> bool {
        match (disk_number(a), disk_number(b)) {
            (Some(a), Some(b)) => a == b,
            (None, None) => {
                fs::canonicalize(a).is_ok_and(|a| fs::canonicalize(b).is_ok_and(|b| a == b))
            }
            _ => false,
        }
    }

    fn reads_as_path(&self, text: &str) -> bool {
        text.contains(['\\', '/', ':'])
    }

    fn read_exact_at(&self, file: &File, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        let (mut buffer, mut offset) = (buffer, offset);
        while !buffer.is_empty() {
            let read = file.seek_read(buffer, offset)?;
            if read == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            buffer = &mut buffer[read..];
            offset += read as u64;
        }
        Ok(())
    }

    fn write_all_at(&self, file: &File, bytes: &[u8], offset: u64) -> io::Result<()> {
        let (mut bytes, mut offset) = (bytes, offset);
        while !bytes.is_empty() {
            let written = file.seek_write(bytes, offset)?;
            if written == 0 {
                return Err(io::ErrorKind::WriteZero.into());
            }
            bytes = &bytes[written..];
            offset += written as u64;
        }
        Ok(())
    }

    fn leave_holes(&self, file: &File) {
        schwelle_kernel::leave_holes(file).ok();
    }

    fn forget_cached(&self, _: &File) {}

    /// Who can read it is inherited from the folder that it lies in.
    fn make_private_folder(&self, folder: &Path) -> io::Result<Box<dyn HeldFolder>> {
        match fs::create_dir(folder) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(error),
            _ => {}
        }
        self.hold_folder(folder)
    }

    fn hold_folder(&self, folder: &Path) -> io::Result<Box<dyn HeldFolder>> {
        Ok(Box::new(Held::open(folder)?))
    }

    fn give_to_powerless(&self, _: &Path) -> Option<u32> {
        None
    }

    fn hand_down(&self, _: &File) -> Option<i32> {
        None
    }

    /// A file inherits the permissions of its folder, which are not looked at here.
    fn others_can_write(&self, _: &Path) -> io::Result<bool> {
        Ok(false)
    }

    fn others_can_read(&self, _: &Path) -> bool {
        false
    }

    fn folder(&self, folder: &Path) -> FolderFacts {
        let there = nearest(folder);
        let Some(root) = text_of(&there).and_then(|text| schwelle_kernel::root_of(&text)) else {
            return FolderFacts::default();
        };
        let volume = Volume::of_folder(&there);
        let file_system = schwelle_kernel::file_system_at(&root);
        let space = schwelle_kernel::space_at(&root);
        let disk = volume.as_ref().and_then(|volume| volume.disk);
        let with_system = volume.is_some_and(|volume| volume.is_system);
        let of_prompt = with_system
            && schwelle_kernel::windows_folder().is_some_and(|system| is_prompt(&system));
        let in_memory = in_memory(
            schwelle_kernel::drive_kind(&root),
            disk.is_some(),
            of_prompt,
        );
        FolderFacts {
            in_memory,
            read_only: file_system
                .as_ref()
                .is_some_and(|(_, read_only)| *read_only),
            free_bytes: space.map(|(free, _)| free),
            block_bytes: space.map_or(0, |(_, cluster)| cluster),
            may_need_repair: false,
            disk: disk.map(disk_path),
        }
    }

    fn is_one_medium(&self, a: &Path, b: &Path) -> bool {
        let root = |path: &Path| text_of(path).and_then(|text| schwelle_kernel::root_of(&text));
        root(a) == root(b)
    }

    fn mounted_folders(&self) -> io::Result<Vec<PathBuf>> {
        let all = volumes::all().into_iter();
        let folders = all
            .filter_map(|volume| volume.paths.first().map(PathBuf::from))
            .filter(|root| {
                let kind = root.to_str().map(schwelle_kernel::drive_kind);
                !matches!(kind, Some(DriveKind::Optical | DriveKind::Remote))
            })
            .collect();
        Ok(folders)
    }

    fn settings_folders(&self) -> Vec<PathBuf> {
        let variable = |name| std::env::var_os(name).filter(|value| !value.is_empty());
        let folders = [variable("APPDATA"), variable("ProgramData")];
        folders.into_iter().flatten().map(PathBuf::from).collect()
    }

    fn session(&self) -> SessionFacts {
        let in_uefi_mode = schwelle_kernel::started_in_uefi_mode();
        SessionFacts {
            in_uefi_mode,
            // Firmware starts a Windows of its own width only, and this program runs on 64-bit ones.
            bits: (in_uefi_mode == Some(true)).then_some(64),
            smbios: schwelle_kernel::smbios_table(),
        }
    }

    fn variables(&self) -> Option<Arc<dyn VariableStore>> {
        let in_uefi_mode = schwelle_kernel::started_in_uefi_mode() == Some(true);
        in_uefi_mode.then(|| Arc::new(FirmwareVariables(OfWindows)) as Arc<dyn VariableStore>)
    }

    fn random(&self, bytes: &mut [u8; 16]) -> io::Result<()> {
        schwelle_kernel::random(bytes)
    }

    fn power(&self) -> PowerSource {
        match schwelle_kernel::on_mains() {
            Some(true) => PowerSource::Mains,
            Some(false) => PowerSource::Battery,
            None => PowerSource::Unknown,
        }
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

    /// Double quotes are the one kind that both the command prompt and PowerShell take off.
    fn typed(&self, text: &str) -> String {
        let plain = |c: char| c.is_alphanumeric() || r"\/._-+:".contains(c);
        if !text.is_empty() && text.chars().all(plain) {
            return text.to_owned();
        }
        // A backslash before the closing quote would make it part of the text.
        let doubled = if text.ends_with('\\') { "\\" } else { "" };
        format!("\"{text}{doubled}\"")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_drive_of_a_recovery_prompt_is_memory() {
        let system = tempfile::tempdir().unwrap();
        let system32 = system.path().join("System32");
        fs::create_dir(&system32).unwrap();
        let name = system.path().to_str().unwrap();
        assert!(!is_prompt(name));
        fs::write(system32.join("winpeshl.exe"), "").unwrap();
        assert!(is_prompt(name));
        for (kind, is_on_disk, of_prompt, expected) in [
            (DriveKind::Fixed, false, true, Some(true)),
            (DriveKind::Fixed, true, true, Some(false)),
            (DriveKind::Fixed, true, false, Some(false)),
            (DriveKind::Fixed, false, false, None),
            (DriveKind::Removable, true, false, Some(false)),
            (DriveKind::Ram, false, false, Some(true)),
            (DriveKind::Remote, false, true, Some(false)),
        ] {
            let found = in_memory(kind, is_on_disk, of_prompt);
            assert_eq!(found, expected, "{kind:?}, {is_on_disk}, {of_prompt}");
        }
    }

    #[test]
    fn texts_are_typed_as_one_word() {
        for (text, typed) in [
            (r"C:\jobs\miller", r"C:\jobs\miller"),
            (r"C:\my jobs\", r#""C:\my jobs\\""#),
            ("a&b", "\"a&b\""),
            ("", "\"\""),
        ] {
            assert_eq!(Windows.typed(text), typed);
        }
    }

    #[test]
    fn names_of_devices_are_told_from_files() {
        for (path, kind) in [
            (r"\\.\PhysicalDrive7", Some(Kind::Disk)),
            (r"\\.\D:", Some(Kind::Disk)),
            (r"\\?\Volume{3b1c}", Some(Kind::Disk)),
            (r"\\.\COM1", Some(Kind::Other)),
            (r"\\?\C:\nothing.img", None),
        ] {
            assert_eq!(Windows.kind(Path::new(path)).ok(), kind, "{path}");
        }
    }
}
