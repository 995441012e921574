//! Requests to Windows. Layouts of what they answer: winioctl.h, ntddstor.h, winbase.h; numbers are little-endian.

mod console;
mod device;
mod firmware;
mod volumes;

pub use console::{heed_stops, keep_secrets, on_mains, random, take_variable};
pub use device::{
    DiskIdentity, device_number, disk_identity, disk_sizes, is_writable, leave_holes,
    lock_and_dismount, nvme_health, read_partitions_again, volume_extents,
};
pub use firmware::{
    firmware_variable, machine_setting, set_firmware_variable, smbios_table, started_in_uefi_mode,
};
pub use volumes::{
    DriveKind, drive_kind, file_system_at, paths_of_volume, root_of, space_at, volume_at, volumes,
    windows_folder,
};

use std::io;

/// A path or a list of paths is not longer (32,767 characters).
const MAX_PATH_UNITS: usize = 1 << 15;

fn ok(done: i32) -> io::Result<()> {
    if done == 0 {
        Err(io::Error::last_os_error())
    } else {
        Ok(())
    }
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    let field = bytes.get(at..)?.first_chunk()?;
    Some(u32::from_le_bytes(*field))
}

fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    let field = bytes.get(at..)?.first_chunk()?;
    Some(u64::from_le_bytes(*field))
}

fn wide(text: &str) -> Vec<u16> {
    text.encode_utf16().chain([0]).collect()
}

/// The text before the first 0.
fn narrow(units: &[u16]) -> String {
    let end = units.iter().position(|&unit| unit == 0);
    String::from_utf16_lossy(&units[..end.unwrap_or(units.len())])
}
