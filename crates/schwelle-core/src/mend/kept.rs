//! The files of an EFI system partition whose file system has faults: they are taken off it, and put onto a new one.

use std::collections::BTreeSet;

use crate::device::ReadDevice;
use crate::draft::{KeptFile, path_text};
use crate::fat::{FatError, FatFault, FatKind, FatVolume, is_valid_long};
use crate::profile::{BOOTMGFW, ESP_STORE, REMOVABLE_X64};

/// Files and folders taken at most, and bytes of all of them.
const MAX_ENTRIES: usize = 20_000;
const MAX_BYTES: u64 = 256 << 20;

/// Files that are put there: where one of them is a folder, its entry is damaged.
const NEW: [&str; 3] = [REMOVABLE_X64, BOOTMGFW, ESP_STORE];

/// What could be read of a volume.
#[derive(Debug)]
pub(super) struct Kept {
    pub(super) files: Vec<KeptFile>,
    /// Paths of the files and folders that could not, or not to their end.
    pub(super) lost: Vec<String>,
}

impl Kept {
    /// Reads all files of the volume on `window`, where its file system has faults that putting the `new` files there
    /// does not mend; `None` where it has none, or where there is more on it than is taken into memory.
    ///
    /// # Errors
    ///
    /// No FAT32 volume, or the device's.
    pub(super) fn read_faulty(
        window: &dyn ReadDevice,
        new: &[&str],
    ) -> Result<Option<Self>, FatError> {
        let volume = FatVolume::open(window)?;
        let mut in_the_way = false;
        for path in NEW {
            in_the_way |= volume
                .find(path)
                .is_ok_and(|found| found.is_some_and(|found| found.is_directory));
        }
        let is_replaced = |fault: &FatFault| {
            let path = fault.only_file();
            path.is_some_and(|path| new.iter().any(|new| new.eq_ignore_ascii_case(path)))
        };
        // New files are put into FAT32 only.
        let is_fat32 = volume.shape().kind() == FatKind::Fat32;
        if is_fat32 && !in_the_way && volume.check()?.iter().all(is_replaced) {
            return Ok(None);
        }
        Self::read(&volume)
    }

    /// Reads all files of a volume; `None` where there is more on it than is taken into memory.
    ///
    /// # Errors
    ///
    /// Its root cannot be read, or the device's.
    pub(super) fn read(volume: &FatVolume<'_>) -> Result<Option<Self>, FatError> {
        let mut kept = Self {
            files: Vec::new(),
            lost: Vec::new(),
        };
        // A damaged entry may lead back to a folder that was seen.
        let (mut seen, mut names) = (BTreeSet::new(), BTreeSet::new());
        let (mut entries, mut bytes) = (0_usize, 0_u64);
        let mut folders = vec![(Vec::<String>::new(), volume.root())];
        while let Some((path, folder)) = folders.pop() {
            let (inside, fault) = match volume.read_dir_in_front(&folder) {
                Ok(read) => read,
                Err(FatError::Device(error)) => return Err(error.into()),
                Err(error) if path.is_empty() => return Err(error),
                // Its entry names no cluster that a folder could begin at.
                Err(_) => {
                    kept.lost.push(path_text(&path));
                    continue;
                }
            };
            if !seen.insert(folder.cluster) {
                kept.lost.push(path_text(&path));
                continue;
            }
            if fault.is_some() {
                kept.lost.push(path_text(&path));
            }
            for entry in inside {
                entries = entries.saturating_add(1);
                if entries > MAX_ENTRIES || bytes > MAX_BYTES {
                    return Ok(None);
                }
                let mut path = path.clone();
                path.push(entry.name.clone());
                // A name that cannot be, or that is there already, comes from damage.
                let place = path_text(&path);
                let folded = place.to_lowercase();
                let is_folder_for_file =
                    entry.is_directory && NEW.iter().any(|new| new.to_lowercase() == folded);
                if is_folder_for_file || !names.insert(folded) || !is_valid_long(&entry.name) {
                    kept.lost.push(place);
                    continue;
                }
                if entry.is_directory {
                    folders.push((path, entry));
                    continue;
                }
                match volume.read_file(&entry, MAX_BYTES) {
                    Ok(content) => {
                        bytes = bytes.saturating_add(content.len() as u64);
                        kept.files.push(KeptFile { path, content });
                    }
                    Err(FatError::Device(error)) => return Err(error.into()),
                    Err(_) => kept.lost.push(place),
                }
            }
        }
        Ok(Some(kept))
    }
}
