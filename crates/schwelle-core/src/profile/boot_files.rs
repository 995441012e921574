//! Boot files on a Windows volume, for the EFI system partition.

use crate::ntfs::NtfsVolume;
use crate::pe::PeImage;

use super::boot::{BOOTMGFW, REMOVABLE_X64};

/// Folders with boot files on a Windows volume, and where they go below the boot manager's folder.
/// Newer systems bring a second set, signed with a newer certificate, in names of its own.
const BOOT_FOLDERS: [(&str, &str); 6] = [
    ("\\Windows\\Boot\\EFI", ""),
    ("\\Windows\\Boot\\Fonts", "Fonts"),
    ("\\Windows\\Boot\\Resources", "Resources"),
    ("\\Windows\\Boot\\EFI_EX", ""),
    ("\\Windows\\Boot\\Fonts_EX", "Fonts"),
    ("\\Windows\\Boot\\Resources_EX", "Resources"),
];
const BOOT_FILES_DEPTH: usize = 4;
const MAX_BOOT_FILES: usize = 4000;
/// All boot files together, at most; real ones are some ten MiB.
const MAX_TOTAL_BYTES: u64 = 1 << 30;
/// A boot file longer than this is not one.
pub(crate) const MAX_BOOT_FILE_BYTES: u64 = 64 << 20;

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

impl BootFiles {
    pub(super) fn find(volume: &NtfsVolume<'_>) -> Self {
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
                Ok(_) if self.has_target(&target) => {}
                Ok(file) => {
                    let len_bytes = crate::bytes::ReadBytes::len_bytes(&file);
                    if len_bytes > MAX_BOOT_FILE_BYTES {
                        self.faults.push((
                            path,
                            format!("{len_bytes} bytes are too long for a boot file"),
                        ));
                    } else if len_bytes.saturating_add(self.len_bytes()) > MAX_TOTAL_BYTES {
                        let fault = "with it, the boot files together are too long";
                        return self.faults.push((path, fault.to_owned()));
                    } else if let Some(Err(error)) =
                        // What is compressed may not come apart; that must be known now.
                        (!file.is_plain()).then(|| file.read_all(len_bytes))
                    {
                        self.faults.push((path, error.to_string()));
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

    /// True when a file for this place is known: FAT names differ in more than case.
    fn has_target(&self, target: &[String]) -> bool {
        let place = target.join("\\").to_uppercase();
        let mut known = self.files.iter();
        known.any(|file| file.target.join("\\").to_uppercase() == place)
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

/// The headers of the boot manager with this record number.
pub fn read_manager(volume: &NtfsVolume<'_>, record: u64) -> Result<PeImage, String> {
    let file = volume
        .open_file(record)
        .map_err(|error| error.to_string())?;
    PeImage::read(&file).map_err(|error| error.to_string())
}
