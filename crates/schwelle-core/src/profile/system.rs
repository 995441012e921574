//! The Windows systems on a disk.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bytes::ReadBytes;
use crate::cause::Cause;
use crate::device::{ReadDevice, Window};
use crate::hive::{Hive, Recovered};
use crate::identities::Identities;
use crate::ntfs::{NtfsError, NtfsFile, NtfsVolume};
use crate::pe::{BOOT_APPLICATION, PeImage, ProgramFault};
use crate::windows::{
    HiveFile, MountedName, RecoveryFile, SYSTEM_FOLDER, convert_letters, program_at,
};

use super::boot_files::BootFiles;
use super::known::{BIOS_LOADER, KERNEL, UEFI_LOADER};
use super::partition::Partition;

/// The first build that is whole without BIOS routines.
const FIRST_BUILD_OF_WINDOWS_8: u32 = 9200;

/// What is wrong with a registry.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum RegistryFault {
    /// A hive is missing.
    #[error("{hive} is missing")]
    Missing {
        /// Its name.
        hive: String,
    },
    /// A hive, or something in it, cannot be read.
    #[error("{hive}: {fault}")]
    Unreadable {
        /// Its name.
        hive: String,
        /// Why not.
        fault: Cause,
    },
    /// Which control set is current is not said.
    #[error("SYSTEM does not say which control set is current")]
    NoControlSet,
}

impl RegistryFault {
    fn in_hive(hive: &str, error: impl std::error::Error) -> Self {
        Self::Unreadable {
            hive: hive.to_owned(),
            fault: error.into(),
        }
    }
}

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
    /// The partition that its firmware last started from, as an ARC name.
    pub firmware_boot_device: Option<String>,
    /// Name of the computer.
    pub computer_name: Option<String>,
    /// Its kernel; else why that does not start here.
    pub kernel: Result<PeImage, ProgramFault>,
    /// What is wrong with its registry; empty when it could be read.
    pub registry_faults: Vec<RegistryFault>,
    /// Hives that were not closed cleanly and whose logs have been applied to read them: name, and
    /// how many logs or entries.
    pub pending: Vec<(String, usize)>,
    /// What becomes of its drive letters; `None` where none names this disk, the error where they
    /// cannot be taken across.
    pub letters: Result<Option<Letters>, Cause>,
    /// The configuration of its recovery environment, if there is one.
    pub recovery: Option<RecoveryFile>,
    /// Its loader for UEFI; else why a boot manager does not start it.
    pub uefi_loader: Result<PeImage, ProgramFault>,
    /// Its loader for a BIOS; else why a boot manager does not start it.
    pub bios_loader: Result<PeImage, ProgramFault>,
    /// Boot files for an EFI system partition.
    pub boot_files: BootFiles,
    /// Boot files for the active partition of a BIOS start.
    pub bios_files: BootFiles,
}

/// What becomes of an installed Windows' drive letters: the values of its registry that name this disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Letters {
    /// Those that are carried over.
    pub converted: Vec<MountedName>,
    /// Those for which the registry has no room.
    pub left: Vec<MountedName>,
}

impl WindowsSystem {
    /// Looks for an installed Windows on each sound NTFS volume. `identities` is what a conversion would do with
    /// the names of the disk; the GUIDs in it do not matter.
    pub(super) fn find_all(
        device: &dyn ReadDevice,
        partitions: &[Partition],
        identities: Option<&Identities>,
    ) -> Vec<Self> {
        let volumes = partitions.iter().filter(|part| part.is_sound_ntfs());
        volumes
            .filter_map(|partition| {
                let window = Window::new(device, partition.extent)?;
                let volume = NtfsVolume::open(&window).ok()?;
                let own = device.geometry().byte_of(partition.extent.first)?;
                let identities = identities.map(|identities| (identities, own));
                Self::find(&volume, partition.number, identities).unwrap_or_default()
            })
            .collect()
    }

    fn find(
        volume: &NtfsVolume<'_>,
        partition: usize,
        identities: Option<(&Identities, u64)>,
    ) -> Result<Option<Self>, NtfsError> {
        let kernel = program_at(volume, &format!("{SYSTEM_FOLDER}\\{KERNEL}"));
        let has_registry = volume.find(&hive_path("SYSTEM"))?.is_some();
        if !has_registry && matches!(kernel, Err(ProgramFault::Missing)) {
            return Ok(None);
        }
        let loader = |path: &str, subsystem| {
            program_at(volume, path).and_then(|image| image.fitting(subsystem))
        };
        let mut system = Self {
            partition,
            product: None,
            build: None,
            version: None,
            firmware_boot_device: None,
            computer_name: None,
            kernel: kernel.and_then(|kernel| kernel.fitting(None)),
            registry_faults: Vec::new(),
            pending: Vec::new(),
            letters: Ok(None),
            recovery: RecoveryFile::find(volume)?,
            uefi_loader: loader(UEFI_LOADER, Some(BOOT_APPLICATION)),
            // What subsystem a loader for a BIOS names is its own affair: no firmware reads it.
            bios_loader: loader(BIOS_LOADER, None),
            boot_files: BootFiles::find(volume),
            bios_files: BootFiles::find_bios(volume),
        };
        system.read_software(volume);
        system.read_system(volume, identities);
        Ok(Some(system))
    }

    fn read_software(&mut self, volume: &NtfsVolume<'_>) {
        const VERSION_KEY: &str = "Microsoft\\Windows NT\\CurrentVersion";
        let Ok(Some(file)) = self.find_hive(volume, "SOFTWARE") else {
            return;
        };
        let Some(software) = self.recover(&file, "SOFTWARE") else {
            return;
        };
        let mut text = |name| self.registry_value(&software, "SOFTWARE", VERSION_KEY, name);
        let (product, build) = (text("ProductName"), text("CurrentBuild"));
        // From 20H2 on, before that, and before Windows 10 (a service pack).
        let names = ["DisplayVersion", "ReleaseId", "CSDVersion"];
        let version = names.into_iter().find_map(&mut text);
        (self.product, self.build, self.version) = (product, build, version);
        self.correct_product();
    }

    fn read_system(&mut self, volume: &NtfsVolume<'_>, identities: Option<(&Identities, u64)>) {
        let file = match self.find_hive(volume, "SYSTEM") {
            Ok(Some(file)) => file,
            Ok(None) => return,
            Err(fault) => {
                self.letters = Err(fault);
                return;
            }
        };
        if let Some((identities, own)) = identities {
            let converted = convert_letters(&file, identities, own, 0).map_err(Cause::from);
            self.letters = converted.and_then(|converted| {
                let Some(converted) = converted else {
                    return Ok(None);
                };
                // The edit must be possible where the file lies: not in a compressed one.
                let fits = volume.plan_rewrite(file.file.record(), &converted.bytes);
                fits.map_err(Cause::from)?;
                Ok(Some(Letters {
                    converted: converted.converted,
                    left: converted.left,
                }))
            });
        }
        let Some(system) = self.recover(&file, "SYSTEM") else {
            return;
        };
        let current = Hive::open(&system)
            .and_then(|hive| hive.value("Select", "Current"))
            .map(|value| value.and_then(|value| value.dword()));
        match current {
            Ok(Some(number)) => {
                let control = format!("ControlSet{number:03}\\Control");
                let key = format!("{control}\\ComputerName\\ComputerName");
                let mut text = |key: &str, name| self.registry_value(&system, "SYSTEM", key, name);
                let computer_name = text(&key, "ComputerName");
                self.firmware_boot_device = text(&control, "FirmwareBootDevice");
                self.computer_name = computer_name;
            }
            Ok(None) => self.registry_faults.push(RegistryFault::NoControlSet),
            Err(error) => self
                .registry_faults
                .push(RegistryFault::in_hive("SYSTEM", &error)),
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

    /// The hive's file; that it is missing or cannot be read is noted.
    fn find_hive<'v>(
        &mut self,
        volume: &'v NtfsVolume<'v>,
        name: &str,
    ) -> Result<Option<HiveFile<'v>>, Cause> {
        let found = HiveFile::find(volume, &hive_path(name));
        match &found {
            Ok(Some(_)) => {}
            Ok(None) => self.registry_faults.push(RegistryFault::Missing {
                hive: name.to_owned(),
            }),
            Err(error) => self
                .registry_faults
                .push(RegistryFault::in_hive(name, error)),
        }
        found.map_err(Cause::from)
    }

    /// The hive with its logs applied; what is wrong is noted.
    fn recover<'h, 'v>(
        &mut self,
        file: &'h HiveFile<'v>,
        name: &str,
    ) -> Option<Recovered<'h, NtfsFile<'v>>> {
        match file.recovered() {
            Ok(recovered) => {
                if recovered.applied() > 0 {
                    self.pending.push((name.to_owned(), recovered.applied()));
                }
                Some(recovered)
            }
            Err(error) => {
                self.registry_faults
                    .push(RegistryFault::in_hive(name, &error));
                None
            }
        }
    }

    fn registry_value<S: ReadBytes + ?Sized>(
        &mut self,
        source: &S,
        hive: &str,
        key: &str,
        name: &str,
    ) -> Option<String> {
        match Hive::open(source).and_then(|hive| hive.value(key, name)) {
            Ok(value) => value.map(|value| value.text()),
            Err(error) => {
                self.registry_faults
                    .push(RegistryFault::in_hive(hive, &error));
                None
            }
        }
    }

    /// Whether this is a Windows before 8: in UEFI mode it draws its start screen by the video routines of the CSM,
    /// without which it hangs there, and it knows no Secure Boot. `None` if its version is unknown: neither its registry nor
    /// the version resources of its kernel and loader can be read.
    pub fn needs_csm(&self) -> Option<bool> {
        let in_registry = self.build.as_ref().and_then(|build| build.parse().ok());
        let of_program = |program: &Result<PeImage, ProgramFault>| {
            let [_, _, build] = program.as_ref().ok()?.version?.build();
            (build > 0).then_some(build)
        };
        let build: Option<u32> = in_registry
            .or_else(|| of_program(&self.kernel))
            .or_else(|| of_program(&self.uefi_loader));
        build.map(|build| build < FIRST_BUILD_OF_WINDOWS_8)
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

fn hive_path(name: &str) -> String {
    format!("{SYSTEM_FOLDER}\\System32\\config\\{name}")
}
