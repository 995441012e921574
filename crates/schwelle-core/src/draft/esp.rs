//! Fills the new EFI system partition: boot files from the Windows volume, the translated boot
//! store.

use crate::bootstore::{BootStore, Translated, translate};
use crate::crossing::Crossing;
use crate::device::{BlockDevice, Extent, ReadDevice, Window};
use crate::fat::FatWriter;
use crate::ntfs::NtfsVolume;
use crate::profile::{ESP_STORE, WindowsSystem};

use super::build::{DraftError, Stamp};

/// What was put on the partition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Filled {
    /// Files copied, with the paths they got, and the bytes of all.
    pub(super) files: Vec<String>,
    pub(super) bytes: u64,
    pub(super) translated: Translated,
}

/// Makes the volume at `extent` of `draft`, from the boot files of `system` on `disk`.
pub(super) fn fill(
    draft: &dyn BlockDevice,
    disk: &dyn ReadDevice,
    extent: Extent,
    (system, windows): (&WindowsSystem, Extent),
    (store, crossing): (&BootStore, &Crossing),
    (volume_id, stamp): (u32, Stamp),
) -> Result<Filled, DraftError> {
    let esp = Window::new(draft, extent).ok_or(DraftError::Outside(extent))?;
    let source = Window::new(disk, windows).ok_or(DraftError::Outside(windows))?;
    let volume = NtfsVolume::open(&source)?;
    let mut writer = FatWriter::new(&esp, extent, volume_id, *b"SYSTEM     ", stamp.dos)?;
    let mut filled = Filled {
        files: Vec::new(),
        bytes: 0,
        translated: Translated::default(),
    };
    // One file in memory at a time: boot files are some ten MiB together.
    for file in &system.boot_files.files {
        let content = volume.open_file(file.record)?.read_all(file.len_bytes)?;
        let path: Vec<&str> = file.target.iter().map(String::as_str).collect();
        writer.write_file(&path, &content)?;
        filled.files.push(format!("\\{}", path.join("\\")));
        filled.bytes += content.len() as u64;
    }
    let mut store = store.clone();
    filled.translated = translate(&mut store, crossing);
    let store = store.to_hive(stamp.windows);
    let path: Vec<&str> = ESP_STORE[1..].split('\\').collect();
    writer.write_file(&path, &store)?;
    filled.files.push(ESP_STORE.to_owned());
    filled.bytes += store.len() as u64;
    writer.finish()?;
    Ok(filled)
}
