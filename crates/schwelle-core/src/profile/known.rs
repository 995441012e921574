//! Paths that every Windows installation has, or its EFI system partition.

use crate::marker::MARKER;
use crate::windows::{HIVE_LOGS, SYSTEM_FOLDER, SYSTEM_HIVE};

use super::boot_files::source_folders;

/// The kernel, below the system's folder.
pub(crate) const KERNEL: &str = "System32\\ntoskrnl.exe";
/// The loader that a boot manager for UEFI starts.
pub(crate) const UEFI_LOADER: &str = "\\Windows\\System32\\winload.efi";
/// The loader that a boot manager for a BIOS starts.
pub(crate) const BIOS_LOADER: &str = "\\Windows\\System32\\winload.exe";
/// The boot manager on an EFI system partition.
pub const BOOTMGFW: &str = "\\EFI\\Microsoft\\Boot\\bootmgfw.efi";
/// The BCD store on an EFI system partition.
pub const ESP_STORE: &str = "\\EFI\\Microsoft\\Boot\\BCD";
/// What 64-bit x86 firmware starts from a medium by itself (UEFI 2.10 §3.5.1.1).
pub const REMOVABLE_X64: &str = "\\EFI\\BOOT\\BOOTX64.EFI";

/// The boot manager of a BIOS start, on the active partition.
pub const BOOTMGR: &str = "\\bootmgr";
/// The BCD store of a BIOS start, on the active partition or a Windows volume.
pub const BIOS_STORE: &str = "\\Boot\\BCD";

/// Where boot files and the recovery environment lie.
const FOLDERS: [&str; 4] = [
    "\\EFI\\Microsoft\\Boot",
    "\\Boot",
    "\\Recovery\\WindowsRE",
    "\\Windows\\System32\\Recovery",
];

/// True for a path that this program looks for on every disk, and for those of an installed Windows' boot files.
pub fn is_systems_own(path: &str) -> bool {
    let path = path.to_uppercase();
    let is = |known: &str| path == known.to_uppercase();
    let named = [
        BIOS_LOADER,
        BIOS_STORE,
        BOOTMGR,
        ESP_STORE,
        MARKER,
        REMOVABLE_X64,
        UEFI_LOADER,
        SYSTEM_HIVE,
    ];
    let logs = || {
        HIVE_LOGS
            .iter()
            .map(|ending| format!("{SYSTEM_HIVE}{ending}"))
    };
    let below = |folder: &str| {
        let rest = path.strip_prefix(&folder.to_uppercase());
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('\\'))
    };
    named.iter().any(|known| is(known))
        || is(&format!("{SYSTEM_FOLDER}\\{KERNEL}"))
        || logs().any(|log| is(&log))
        || source_folders().chain(FOLDERS).any(below)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_every_windows_has_is_told_from_what_one_has() {
        for path in [
            "\\windows\\system32\\winload.EFI",
            "\\Windows\\System32\\ntoskrnl.exe",
            "\\EFI\\Microsoft\\Boot\\de-DE\\bootmgfw.efi.mui",
            "\\Boot",
            "\\bootmgr",
            "\\Recovery\\WindowsRE\\Winre.wim",
        ] {
            assert!(is_systems_own(path), "{path}");
        }
        for path in [
            "\\Windows\\System32\\Ada.exe",
            "\\Bootes\\Holm.doc",
            "\\Users\\Ada Holm\\bootmgr",
            "",
        ] {
            assert!(!is_systems_own(path), "{path}");
        }
    }
}
