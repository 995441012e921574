//! What the start of an installed Windows leaves on its disk, as far as `confirm` looks at it. No Windows runs
//! here: this stands in for one.

use anyhow::{Context, Result};
use schwelle_core::bytes::utf16_bytes;
use schwelle_core::device::{BlockDevice, Extent, Window};
use schwelle_core::hive::HiveEditor;
use schwelle_core::ntfs::NtfsVolume;

use crate::edit::edit_file;

const SYSTEM_HIVE: &str = "\\Windows\\System32\\config\\SYSTEM";
const CONTROL: &str = "ControlSet001\\Control";

/// Lets the registry of the installed Windows at `extent` say that it was started at `when` (Windows time),
/// from the partition with this number.
pub fn windows_was_started(
    device: &dyn BlockDevice,
    extent: Extent,
    partition: usize,
    when: u64,
) -> Result<()> {
    let edited = {
        let window = Window::new(device, extent).context("the volume leaves the disk")?;
        let volume = NtfsVolume::open(&window)?;
        let entry = volume.find(SYSTEM_HIVE)?.context("no registry")?;
        let mut editor = HiveEditor::open(&volume.open_file(entry.record)?)?;
        let name = format!("multi(0)disk(0)rdisk(0)partition({partition})\0");
        editor.set_data(CONTROL, "FirmwareBootDevice", &utf16_bytes(&name))?;
        editor.finish(when)
    };
    edit_file(device, extent, SYSTEM_HIVE, |content| {
        content.copy_from_slice(&edited);
    })
}
