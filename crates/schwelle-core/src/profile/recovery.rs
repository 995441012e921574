//! Recovery environments: the image, and what each Windows installation says about it.

use std::collections::BTreeSet;

use crate::device::{ReadDevice, Window};
use crate::ntfs::NtfsVolume;

use super::partition::Partition;
use super::system::WindowsSystem;

/// Name of the image in its folder.
pub(crate) const RECOVERY_IMAGE: &str = "Winre.wim";
/// Name of the configuration.
const RECOVERY_CONFIG_NAME: &str = "ReAgent.xml";
/// Where it lies when it is switched on, and when it is not.
const FOLDERS: [&str; 2] = ["\\Recovery\\WindowsRE", "\\Windows\\System32\\Recovery"];
/// What may lie in the root of a volume that is there for recovery only. Names that begin with
/// "$" are the file system's own.
const COMPANIONS: [&str; 8] = [
    "recovery",
    "system volume information",
    "boot",
    "bootmgr",
    "bootnxt",
    "boottel.dat",
    "efi",
    ".",
];

/// A recovery environment's image.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct RecoveryImage {
    /// Number of its partition.
    pub partition: usize,
    /// Its path there.
    pub path: String,
    /// Its volume holds nothing else of note.
    pub is_alone: bool,
}

impl RecoveryImage {
    /// Where a copy of the configuration lies beside it.
    pub(crate) fn config_beside(&self) -> String {
        let folder = self.path.rsplit_once('\\').map_or("", |(folder, _)| folder);
        format!("{folder}\\{RECOVERY_CONFIG_NAME}")
    }

    /// Looks on every sound volume, in the usual folders and in those that a system names.
    pub(super) fn find_all(
        device: &dyn ReadDevice,
        partitions: &[Partition],
        systems: &[WindowsSystem],
    ) -> Vec<Self> {
        let named = systems.iter().filter_map(|system| {
            let config = system.recovery.as_ref()?.config.as_ref().ok()?;
            Some(config.location()?.path.clone())
        });
        let folders: BTreeSet<String> = FOLDERS
            .iter()
            .map(|folder| (*folder).to_owned())
            .chain(named)
            .collect();
        let mut found = Vec::new();
        for partition in partitions.iter().filter(|part| part.is_sound_ntfs()) {
            let Some(window) = Window::new(device, partition.extent) else {
                continue;
            };
            let Ok(volume) = NtfsVolume::open(&window) else {
                continue;
            };
            let mut seen = BTreeSet::new();
            for folder in &folders {
                let path = format!("{}\\{RECOVERY_IMAGE}", folder.trim_end_matches('\\'));
                let entry = volume.find(&path).ok().flatten();
                let is_file = entry.as_ref().is_some_and(|entry| !entry.is_directory);
                if is_file && seen.insert(path.to_lowercase()) {
                    found.push(Self {
                        partition: partition.number,
                        path,
                        is_alone: is_alone(&volume),
                    });
                }
            }
        }
        found
    }
}

/// True when the root of the volume has nothing but what belongs to recovery.
fn is_alone(volume: &NtfsVolume<'_>) -> bool {
    let root = volume.root();
    root.is_ok_and(|entries| entries.iter().all(|entry| is_companion(&entry.name)))
}

/// True for what boot files and a recovery environment have beside them in the root of a volume.
pub(crate) fn is_companion(name: &str) -> bool {
    let name = name.to_lowercase();
    // A copy of the boot sector that some systems leave.
    let is_copy = name.starts_with("boot") && name.ends_with(".bak");
    is_copy || name.starts_with('$') || COMPANIONS.contains(&&name[..])
}
