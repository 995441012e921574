//! Boot files on a Windows volume: for the EFI system partition, and for the active partition of a BIOS start.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::fat;
use crate::ntfs::{NtfsError, NtfsVolume};
use crate::pe::{EFI_APPLICATION, PeImage, ProgramFault};
use crate::windows::program_at;

use super::known::{BOOTMGFW, REMOVABLE_X64};

/// A folder with boot files on a Windows volume, where they go, and their set.
type BootFolder = (&'static str, &'static [&'static str], SignedSet);

/// For the EFI system partition.
const UEFI_FOLDERS: [BootFolder; 6] = [
    (
        "\\Windows\\Boot\\EFI",
        &["EFI", "Microsoft", "Boot"],
        SignedSet::First,
    ),
    (
        "\\Windows\\Boot\\Fonts",
        &["EFI", "Microsoft", "Boot", "Fonts"],
        SignedSet::First,
    ),
    (
        "\\Windows\\Boot\\Resources",
        &["EFI", "Microsoft", "Boot", "Resources"],
        SignedSet::First,
    ),
    (
        "\\Windows\\Boot\\EFI_EX",
        &["EFI", "Microsoft", "Boot"],
        SignedSet::Second,
    ),
    (
        "\\Windows\\Boot\\Fonts_EX",
        &["EFI", "Microsoft", "Boot", "Fonts"],
        SignedSet::Second,
    ),
    (
        "\\Windows\\Boot\\Resources_EX",
        &["EFI", "Microsoft", "Boot", "Resources"],
        SignedSet::Second,
    ),
];
/// For the active partition of a BIOS start.
const BIOS_FOLDERS: [BootFolder; 3] = [
    ("\\Windows\\Boot\\PCAT", &["Boot"], SignedSet::First),
    (
        "\\Windows\\Boot\\Fonts",
        &["Boot", "Fonts"],
        SignedSet::First,
    ),
    (
        "\\Windows\\Boot\\Resources",
        &["Boot", "Resources"],
        SignedSet::First,
    ),
];

/// The folders that boot files come from.
pub(super) fn source_folders() -> impl Iterator<Item = &'static str> {
    let all = UEFI_FOLDERS.iter().chain(&BIOS_FOLDERS);
    all.map(|(folder, _, _)| *folder)
}

/// Files of the BIOS start that do not lie in its folder, but in the root.
const IN_ROOT: [&str; 2] = ["bootmgr", "BOOTNXT"];
/// The end of the names in the second set, before the extension.
const SECOND_SUFFIX: &str = "_EX";
const BOOT_FILES_DEPTH: usize = 4;
const MAX_BOOT_FILES: usize = 4000;
/// All boot files together, at most; real ones are some ten MiB.
const MAX_TOTAL_BYTES: u64 = 1 << 30;
/// A boot file longer than this is not one.
pub(crate) const MAX_BOOT_FILE_BYTES: u64 = 64 << 20;

/// The signed sets of boot files that an installed Windows may bring.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SignedSet {
    /// The one that every Windows brings.
    #[default]
    First,
    /// The one signed with a newer certificate, under names of its own; newer systems bring it too.
    Second,
}

/// Boot files on a Windows volume.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct BootFiles {
    /// Files that can be read.
    pub files: Vec<BootFile>,
    /// Files that cannot: path and why.
    pub faults: Vec<(String, BootFileFault)>,
    /// The image of the UEFI boot manager; else why there is none. `None` also among those for a BIOS.
    pub manager: Option<Result<PeImage, ProgramFault>>,
}

/// Why a boot file cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum BootFileFault {
    /// It cannot be read.
    #[error("{fault}")]
    Unreadable {
        /// Why not.
        fault: Cause,
    },
    /// FAT cannot hold a file of this name, or a folder lies where it would go.
    #[error("its name cannot be used on a FAT volume")]
    Name,
    /// There are more files, or folders in folders, than boot files ever are.
    #[error("too many boot files, or folders too deep")]
    TooMany,
    /// It is longer than a boot file ever is.
    #[error("{bytes} bytes are too long for a boot file")]
    TooLong {
        /// Its length in bytes.
        bytes: u64,
    },
    /// All of them are longer than boot files ever are.
    #[error("with it, the boot files together are too long")]
    TogetherTooLong,
}

impl From<NtfsError> for BootFileFault {
    fn from(error: NtfsError) -> Self {
        let fault = error.into();
        Self::Unreadable { fault }
    }
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
    /// The set it belongs to.
    pub set: SignedSet,
}

impl BootFiles {
    /// Those for the EFI system partition.
    pub(super) fn find(volume: &NtfsVolume<'_>) -> Self {
        let mut found = Self::in_folders(volume, &UEFI_FOLDERS);
        let manager = found.boot_manager(SignedSet::First);
        found.manager = manager
            .map(|manager| program_at(volume, &manager.source)?.fitting(Some(EFI_APPLICATION)));
        found
    }

    /// Those for the active partition of a BIOS start.
    pub(super) fn find_bios(volume: &NtfsVolume<'_>) -> Self {
        let mut found = Self::in_folders(volume, &BIOS_FOLDERS);
        for file in &mut found.files {
            if let [_, name] = &file.target[..]
                && let Some(name) = IN_ROOT.iter().find(|root| root.eq_ignore_ascii_case(name))
            {
                file.target = vec![(*name).to_owned()];
            }
        }
        found
    }

    fn in_folders(volume: &NtfsVolume<'_>, folders: &[BootFolder]) -> Self {
        let mut found = Self::default();
        for &(folder, target, set) in folders {
            let base: Vec<String> = target.iter().map(|&name| name.to_owned()).collect();
            match volume.find(folder) {
                Ok(Some(entry)) => found.add_folder(volume, entry.record, folder, (&base, set), 0),
                Ok(None) => {}
                Err(error) => found.faults.push((folder.to_owned(), error.into())),
            }
        }
        found
    }

    /// The boot manager of a set.
    pub fn boot_manager(&self, set: SignedSet) -> Option<&BootFile> {
        let mut files = self.files.iter();
        files.find(|file| file.set == set && file.is_for(BOOTMGFW))
    }

    /// What is put on the EFI system partition when `set` is chosen. What the second set does not
    /// bring comes from the first; the boot manager is also put on the removable-media path.
    pub fn placed(&self, set: SignedSet) -> Vec<BootFile> {
        let of = |set| self.files.iter().filter(move |file| file.set == set);
        let mut placed: Vec<BootFile> = match set {
            SignedSet::First => Vec::new(),
            SignedSet::Second => of(SignedSet::Second).cloned().collect(),
        };
        for file in of(SignedSet::First) {
            if !placed.iter().any(|known| known.is_for(&file.place())) {
                placed.push(file.clone());
            }
        }
        let manager = placed.iter().find(|file| file.is_for(BOOTMGFW)).cloned();
        placed.extend(manager.map(|manager| BootFile {
            target: REMOVABLE_X64[1..].split('\\').map(str::to_owned).collect(),
            ..manager
        }));
        placed
    }

    fn add_folder(
        &mut self,
        volume: &NtfsVolume<'_>,
        record: u64,
        path: &str,
        (target, set): (&[String], SignedSet),
        depth: usize,
    ) {
        let entries = match volume.read_dir(record) {
            Ok(entries) => entries,
            Err(error) => return self.faults.push((path.to_owned(), error.into())),
        };
        for entry in entries {
            let path = format!("{path}\\{}", entry.name);
            let name = match set {
                SignedSet::First => entry.name.clone(),
                SignedSet::Second => without_suffix(&entry.name),
            };
            let target: Vec<String> = target.iter().cloned().chain([name]).collect();
            if self.files.len() >= MAX_BOOT_FILES || depth > BOOT_FILES_DEPTH {
                return self.faults.push((path, BootFileFault::TooMany));
            }
            if !fat::is_valid_long(&entry.name) || self.is_carried_over(&target, entry.is_directory)
            {
                self.faults.push((path, BootFileFault::Name));
                continue;
            }
            if entry.is_directory {
                self.add_folder(volume, entry.record, &path, (&target, set), depth + 1);
                continue;
            }
            match volume.open_file(entry.record) {
                Ok(_) if self.has_target(&target, set) => {}
                Ok(file) => {
                    let len_bytes = crate::bytes::ReadBytes::len_bytes(&file);
                    if len_bytes > MAX_BOOT_FILE_BYTES {
                        let fault = BootFileFault::TooLong { bytes: len_bytes };
                        self.faults.push((path, fault));
                    } else if len_bytes.saturating_add(self.len_bytes()) > MAX_TOTAL_BYTES {
                        let fault = BootFileFault::TogetherTooLong;
                        return self.faults.push((path, fault));
                    } else if let Some(Err(error)) =
                        // What is compressed may not come apart; that must be known now.
                        (!file.is_plain()).then(|| file.read_all(len_bytes))
                    {
                        self.faults.push((path, error.into()));
                    } else {
                        self.files.push(BootFile {
                            source: path,
                            record: entry.record,
                            target,
                            len_bytes,
                            set,
                        });
                    }
                }
                Err(error) => self.faults.push((path, error.into())),
            }
        }
    }

    /// True where a folder would go where a file does, or a file where a folder does.
    fn is_carried_over(&self, target: &[String], is_directory: bool) -> bool {
        let upper = |name: &String| name.to_uppercase();
        let target: Vec<String> = target.iter().map(upper).collect();
        self.files.iter().any(|file| {
            let known: Vec<String> = file.target.iter().map(upper).collect();
            match is_directory {
                true => known == target,
                false => known.len() > target.len() && known.starts_with(&target),
            }
        })
    }

    /// True when a file for this place is known: FAT names differ in more than case.
    fn has_target(&self, target: &[String], set: SignedSet) -> bool {
        let place = format!("\\{}", target.join("\\"));
        let mut known = self.files.iter();
        known.any(|file| file.set == set && file.is_for(&place))
    }

    /// The language of the boot manager: that of its only language folder, else English.
    pub fn locale(&self) -> String {
        let folder = |file: &BootFile| match &file.target[..] {
            [_, _, _, folder, _] if folder.len() == 5 && folder.get(2..3) == Some("-") => {
                Some(folder.clone())
            }
            _ => None,
        };
        let all: std::collections::BTreeSet<String> =
            self.files.iter().filter_map(folder).collect();
        match all.iter().next() {
            Some(only) if all.len() == 1 => only.clone(),
            _ => "en-US".to_owned(),
        }
    }

    /// Bytes of all files.
    pub fn len_bytes(&self) -> u64 {
        self.files.iter().map(|file| file.len_bytes).sum()
    }
}

impl BootFile {
    /// Its path on the EFI system partition.
    pub fn place(&self) -> String {
        format!("\\{}", self.target.join("\\"))
    }

    /// True when it goes to this path; FAT names differ in more than case.
    pub(crate) fn is_for(&self, path: &str) -> bool {
        self.place().to_uppercase() == path.to_uppercase()
    }
}

/// `bootmgfw_EX.efi` is `bootmgfw.efi` where it is placed.
fn without_suffix(name: &str) -> String {
    let (stem, extension) = name.rsplit_once('.').map_or((name, ""), |(stem, _)| {
        (stem, name.get(stem.len()..).unwrap_or_default())
    });
    match stem.strip_suffix(SECOND_SUFFIX) {
        Some(stem) if !stem.is_empty() => format!("{stem}{extension}"),
        _ => name.to_owned(),
    }
}
