//! What the Linux systems get on the EFI system partition: each a folder of its own with its loaders, and the few lines
//! that lead to the configuration on its volume.

use crate::grub::Lead;
use crate::profile::{Profile, REMOVABLE_X64, SHIM, UefiLoaders, boot_system};
use crate::starts::{PlacedGrub, placed_grubs};

/// The configuration in a folder.
const CONFIGURATION: &str = "grub.cfg";

/// A file for the EFI system partition: its path there, and what it holds.
pub(crate) type OwnFile = (String, Vec<u8>);

/// A Linux that starts from the EFI system partition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewLinux {
    /// What it is called.
    pub name: String,
    /// Number of its partition.
    pub partition: usize,
    /// Its folder, as "\EFI\debian".
    pub folder: String,
    /// What firmware starts there.
    pub loader: &'static str,
    /// It is the one that firmware without a boot entry starts.
    pub is_first: bool,
}

/// The Linux systems that get a folder; `first` is the partition of the system that firmware without a boot entry is to
/// start: else Windows, else the first Linux.
pub(crate) fn systems(profile: &Profile, first: Option<usize>) -> Vec<NewLinux> {
    let grubs = placed_grubs(profile);
    let first = first_of(profile, &grubs, first);
    let system = |grub: &PlacedGrub<'_>| NewLinux {
        name: grub.system.title(),
        partition: grub.system.partition,
        folder: folder_of(grub.loaders),
        loader: grub.loaders.first(),
        is_first: first == Some(grub.system.partition),
    };
    grubs.iter().map(system).collect()
}

/// The partition of the Linux that firmware without a boot entry starts.
fn first_of(profile: &Profile, grubs: &[PlacedGrub<'_>], asked: Option<usize>) -> Option<usize> {
    let is_one = |number: &usize| grubs.iter().any(|grub| grub.system.partition == *number);
    match asked {
        Some(number) => Some(number).filter(is_one),
        None if boot_system(profile).is_some() => None,
        None => grubs.first().map(|grub| grub.system.partition),
    }
}

/// All their files.
pub(crate) fn files(profile: &Profile, first: Option<usize>) -> Vec<OwnFile> {
    let grubs = placed_grubs(profile);
    let first = first_of(profile, &grubs, first);
    let mut files = Vec::new();
    for grub in &grubs {
        let folder = folder_of(grub.loaders);
        for (name, file) in grub.loaders.files() {
            files.push((format!("{folder}\\{name}"), file.content.to_vec()));
        }
        let lead = Lead::to(grub.uuid, grub.folder).write();
        files.push((format!("{folder}\\{CONFIGURATION}"), lead.into_bytes()));
        if first == Some(grub.system.partition) {
            files.extend(removable(grub.loaders));
        }
    }
    files
}

/// The loaders in the folder for removable media: the first by the name that firmware looks for, the others as they
/// look for each other.
fn removable(loaders: &UefiLoaders) -> Vec<OwnFile> {
    let first = loaders.first();
    let (folder, _) = REMOVABLE_X64.rsplit_once('\\').unwrap_or_default();
    let place = |name: &str| match name == first {
        true => REMOVABLE_X64.to_owned(),
        false => format!("{folder}\\{name}"),
    };
    let files = loaders.files();
    // Without it nothing looks for what enrols keys.
    let wanted = files.filter(|(name, _)| *name == first || first == SHIM);
    wanted
        .map(|(name, file)| (place(name), file.content.to_vec()))
        .collect()
}

/// The folder as FAT paths are written here.
fn folder_of(loaders: &UefiLoaders) -> String {
    loaders.folder.replace('/', "\\")
}
