//! The Windows systems on a disk, their boot files, the boot configuration, and recovery
//! environments.

use std::collections::BTreeSet;

use crate::bootstore::BootStore;
use crate::device::{ReadDevice, Window};
use crate::hive::Hive;
use crate::ntfs::{NtfsError, NtfsFile, NtfsVolume};
use crate::pe::{Machine, PeImage};

use super::layout::Partition;
use super::volume::VolumeKind;

/// The kernel, below the system's folder.
pub const KERNEL: &str = "System32\\ntoskrnl.exe";
/// The boot manager on an EFI system partition.
pub const BOOTMGFW: &str = "\\EFI\\Microsoft\\Boot\\bootmgfw.efi";
/// The boot store on an EFI system partition.
pub const ESP_STORE: &str = "\\EFI\\Microsoft\\Boot\\BCD";
/// What 64-bit x86 firmware starts from a medium without being told (UEFI 2.10 §3.5.1.1).
pub const REMOVABLE_X64: &str = "\\EFI\\BOOT\\BOOTX64.EFI";

const SYSTEM_FOLDER: &str = "\\Windows";
const BIOS_STORE: &str = "\\Boot\\BCD";
const RECOVERY_IMAGE: &str = "\\Recovery\\WindowsRE\\Winre.wim";
/// Folders with boot files on a Windows volume, and where they go below the boot manager's folder.
const BOOT_FOLDERS: [(&str, &str); 3] = [
    ("\\Windows\\Boot\\EFI", ""),
    ("\\Windows\\Boot\\Fonts", "Fonts"),
    ("\\Windows\\Boot\\Resources", "Resources"),
];
const BOOT_FILES_DEPTH: usize = 4;
const MAX_BOOT_FILES: usize = 4000;
/// A boot file longer than this is not one.
pub(crate) const MAX_BOOT_FILE_BYTES: u64 = 64 << 20;
/// A boot store is read up to this length; real ones have some ten KiB.
pub(crate) const MAX_STORE_BYTES: u64 = 16 << 20;

/// A Windows installation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WindowsSystem {
    /// Number of its partition.
    pub partition: usize,
    /// Name of the product, as its registry says.
    pub product: Option<String>,
    /// Build number.
    pub build: Option<String>,
    /// Version as people say it ("22H2").
    pub version: Option<String>,
    /// Name of the computer.
    pub computer_name: Option<String>,
    /// Processor that its kernel is made for; else why it is not known.
    pub machine: Result<Machine, String>,
    /// What is wrong with its registry; empty when it was closed cleanly and could be read.
    pub registry_faults: Vec<String>,
    /// Its UEFI loader is there.
    pub has_uefi_loader: bool,
    /// Boot files for an EFI system partition.
    pub boot_files: BootFiles,
}

/// Boot files on a Windows volume.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct BootFiles {
    /// Files that can be read.
    pub files: Vec<BootFile>,
    /// Files that cannot: path and why.
    pub faults: Vec<(String, String)>,
    /// The boot manager's image; else why there is none.
    pub manager: Option<Result<PeImage, String>>,
}

/// A file for the EFI system partition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BootFile {
    /// Path on the Windows volume.
    pub source: String,
    /// Number of its file record there.
    pub record: u64,
    /// Names from the root of the EFI system partition on.
    pub target: Vec<String>,
    /// Length in bytes.
    pub len_bytes: u64,
}

fn sound_ntfs(partition: &Partition) -> bool {
    partition.volume.kind == VolumeKind::Ntfs && partition.volume.fault.is_none()
}

impl WindowsSystem {
    /// Looks for a Windows on each sound NTFS volume.
    pub(super) fn find_all(device: &dyn ReadDevice, partitions: &[Partition]) -> Vec<Self> {
        let volumes = partitions.iter().filter(|partition| sound_ntfs(partition));
        volumes
            .filter_map(|partition| {
                let window = Window::new(device, partition.extent)?;
                let volume = NtfsVolume::open(&window).ok()?;
                Self::find(&volume, partition.number).unwrap_or_default()
            })
            .collect()
    }

    fn find(volume: &NtfsVolume<'_>, partition: usize) -> Result<Option<Self>, NtfsError> {
        let kernel = volume.find(&format!("{SYSTEM_FOLDER}\\{KERNEL}"))?;
        let registry = volume.find(&format!("{SYSTEM_FOLDER}\\System32\\config\\SYSTEM"))?;
        if kernel.is_none() && registry.is_none() {
            return Ok(None);
        }
        let machine = match kernel.map(|kernel| volume.open_file(kernel.record)) {
            Some(Ok(file)) => PeImage::read(&file)
                .map(|image| image.machine)
                .map_err(|error| error.to_string()),
            Some(Err(error)) => Err(error.to_string()),
            None => Err("the kernel is missing".to_owned()),
        };
        let loader = volume.find(&format!("{SYSTEM_FOLDER}\\System32\\winload.efi"))?;
        let mut system = Self {
            partition,
            product: None,
            build: None,
            version: None,
            computer_name: None,
            machine,
            registry_faults: Vec::new(),
            has_uefi_loader: loader.is_some_and(|entry| !entry.is_directory),
            boot_files: BootFiles::find(volume),
        };
        system.read_registry(volume);
        Ok(Some(system))
    }

    fn read_registry(&mut self, volume: &NtfsVolume<'_>) {
        const VERSION_KEY: &str = "Microsoft\\Windows NT\\CurrentVersion";
        if let Some(software) = self.open_hive(volume, "SOFTWARE") {
            let mut text = |name| self.registry_value(&software, "SOFTWARE", VERSION_KEY, name);
            let (product, build, version) = (
                text("ProductName"),
                text("CurrentBuild"),
                text("DisplayVersion"),
            );
            (self.product, self.build, self.version) = (product, build, version);
            self.correct_product();
        }
        if let Some(file) = self.open_hive(volume, "SYSTEM") {
            let current = Hive::open(&file)
                .and_then(|hive| hive.value("Select", "Current"))
                .map(|value| value.and_then(|value| value.dword()));
            match current {
                Ok(Some(number)) => {
                    let key = format!("ControlSet{number:03}\\Control\\ComputerName\\ComputerName");
                    self.computer_name = self.registry_value(&file, "SYSTEM", &key, "ComputerName");
                }
                Ok(None) => self
                    .registry_faults
                    .push("SYSTEM does not say which control set is current".to_owned()),
                Err(error) => self.registry_faults.push(format!("SYSTEM: {error}")),
            }
        }
    }

    /// Windows 11 still calls itself Windows 10 in this value; its builds begin at 22000.
    fn correct_product(&mut self) {
        let build = self
            .build
            .as_ref()
            .and_then(|build| build.parse::<u32>().ok());
        if let (Some(product), Some(22_000..)) = (&mut self.product, build) {
            *product = product.replacen("Windows 10", "Windows 11", 1);
        }
    }

    fn open_hive<'v>(&mut self, volume: &'v NtfsVolume<'v>, name: &str) -> Option<NtfsFile<'v>> {
        let path = format!("{SYSTEM_FOLDER}\\System32\\config\\{name}");
        let file = match volume.find(&path) {
            Ok(Some(entry)) => volume.open_file(entry.record),
            Ok(None) => {
                self.registry_faults.push(format!("{name} is missing"));
                return None;
            }
            Err(error) => Err(error),
        };
        let fault = match file {
            Ok(file) => match Hive::open(&file).map(|hive| hive.is_cleanly_closed()) {
                Ok(true) => return Some(file),
                Ok(false) => {
                    self.registry_faults.push(format!(
                        "{name} was not closed cleanly; changes may sit in its log"
                    ));
                    return Some(file);
                }
                Err(error) => error.to_string(),
            },
            Err(error) => error.to_string(),
        };
        self.registry_faults.push(format!("{name}: {fault}"));
        None
    }

    fn registry_value(
        &mut self,
        file: &NtfsFile<'_>,
        hive: &str,
        key: &str,
        name: &str,
    ) -> Option<String> {
        match Hive::open(file).and_then(|hive| hive.value(key, name)) {
            Ok(value) => value.map(|value| value.text()),
            Err(error) => {
                self.registry_faults.push(format!("{hive}: {error}"));
                None
            }
        }
    }

    /// "Windows 10 Pro 22H2 (build 19045)", as far as it is known.
    pub fn title(&self) -> String {
        let mut title = self.product.clone().unwrap_or_else(|| "Windows".to_owned());
        if let Some(version) = &self.version {
            title = format!("{title} {version}");
        }
        match &self.build {
            Some(build) => format!("{title} (build {build})"),
            None => title,
        }
    }
}

impl BootFiles {
    fn find(volume: &NtfsVolume<'_>) -> Self {
        let mut found = Self::default();
        for (folder, target) in BOOT_FOLDERS {
            let base: Vec<String> = ["EFI", "Microsoft", "Boot", target]
                .into_iter()
                .filter(|name| !name.is_empty())
                .map(str::to_owned)
                .collect();
            match volume.find(folder) {
                Ok(Some(entry)) => found.add_folder(volume, entry.record, folder, &base, 0),
                Ok(None) => {}
                Err(error) => found.faults.push((folder.to_owned(), error.to_string())),
            }
        }
        let manager = found
            .files
            .iter()
            .find(|file| file.target.join("\\").eq_ignore_ascii_case(&BOOTMGFW[1..]))
            .cloned();
        if let Some(manager) = manager {
            found.manager = Some(read_manager(volume, manager.record));
            let target = REMOVABLE_X64[1..].split('\\').map(str::to_owned).collect();
            found.files.push(BootFile { target, ..manager });
        }
        found
    }

    fn add_folder(
        &mut self,
        volume: &NtfsVolume<'_>,
        record: u64,
        path: &str,
        target: &[String],
        depth: usize,
    ) {
        let entries = match volume.read_dir(record) {
            Ok(entries) => entries,
            Err(error) => return self.faults.push((path.to_owned(), error.to_string())),
        };
        for entry in entries {
            let path = format!("{path}\\{}", entry.name);
            let target: Vec<String> = target.iter().cloned().chain([entry.name.clone()]).collect();
            if self.files.len() >= MAX_BOOT_FILES || depth > BOOT_FILES_DEPTH {
                return self
                    .faults
                    .push((path, "too many boot files, or folders too deep".to_owned()));
            }
            if entry.is_directory {
                self.add_folder(volume, entry.record, &path, &target, depth + 1);
                continue;
            }
            match volume.open_file(entry.record) {
                Ok(file) => {
                    let len_bytes = crate::bytes::ReadBytes::len_bytes(&file);
                    if len_bytes > MAX_BOOT_FILE_BYTES {
                        self.faults.push((
                            path,
                            format!("{len_bytes} bytes are too long for a boot file"),
                        ));
                    } else {
                        self.files.push(BootFile {
                            source: path,
                            record: entry.record,
                            target,
                            len_bytes,
                        });
                    }
                }
                Err(error) => self.faults.push((path, error.to_string())),
            }
        }
    }

    /// Bytes of all files.
    pub fn len_bytes(&self) -> u64 {
        self.files.iter().map(|file| file.len_bytes).sum()
    }
}

/// The headers of the boot manager with this record number.
pub fn read_manager(volume: &NtfsVolume<'_>, record: u64) -> Result<PeImage, String> {
    let file = volume
        .open_file(record)
        .map_err(|error| error.to_string())?;
    PeImage::read(&file).map_err(|error| error.to_string())
}

/// Boot configuration of the BIOS start.
#[derive(Debug, Clone, Default)]
pub struct BootProfile {
    /// Number of the partition marked active, where there is exactly one.
    pub partition: Option<usize>,
    /// Its boot store; else why it could not be read. `None` when there is none.
    pub store: Option<Result<BootStore, String>>,
}

impl BootProfile {
    pub(super) fn read(device: &dyn ReadDevice, partitions: &[Partition]) -> Self {
        let active: Vec<&Partition> = partitions
            .iter()
            .filter(|partition| partition.is_active())
            .collect();
        let [active] = active[..] else {
            return Self::default();
        };
        let store = Window::new(device, active.extent)
            .filter(|_| sound_ntfs(active))
            .and_then(|window| {
                let volume = NtfsVolume::open(&window).ok()?;
                read_store(&volume).transpose()
            });
        Self {
            partition: Some(active.number),
            store,
        }
    }
}

fn read_store(volume: &NtfsVolume<'_>) -> Result<Option<BootStore>, String> {
    let text = |error: NtfsError| error.to_string();
    let Some(entry) = volume.find(BIOS_STORE).map_err(text)? else {
        return Ok(None);
    };
    let bytes = volume
        .open_file(entry.record)
        .map_err(text)?
        .read_all(MAX_STORE_BYTES)
        .map_err(text)?;
    BootStore::read(&bytes[..])
        .map(Some)
        .map_err(|error| error.to_string())
}

/// A recovery environment's image.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct RecoveryImage {
    /// Number of its partition.
    pub partition: usize,
    /// Its path there.
    pub path: String,
}

impl RecoveryImage {
    pub(super) fn find_all(device: &dyn ReadDevice, partitions: &[Partition]) -> Vec<Self> {
        let found: BTreeSet<Self> = partitions
            .iter()
            .filter(|partition| sound_ntfs(partition))
            .filter_map(|partition| {
                let window = Window::new(device, partition.extent)?;
                let entry = NtfsVolume::open(&window)
                    .ok()?
                    .find(RECOVERY_IMAGE)
                    .ok()??;
                (!entry.is_directory).then(|| Self {
                    partition: partition.number,
                    path: RECOVERY_IMAGE.to_owned(),
                })
            })
            .collect();
        found.into_iter().collect()
    }
}
