//! Paths that every Windows has: they tell nothing of whose it is.

use crate::windows::{HIVE_LOGS, SYSTEM_FOLDER, SYSTEM_HIVE};

use super::boot::{
    BIOS_LOADER, BIOS_STORE, BOOTMGR, ESP_STORE, KERNEL, REMOVABLE_X64, UEFI_LOADER,
};
use super::boot_files::source_folders;

/// Where boot files and the recovery environment lie.
const FOLDERS: [&str; 4] = [
    "\\EFI\\Microsoft\\Boot",
    "\\Boot",
    "\\Recovery\\WindowsRE",
    "\\Windows\\System32\\Recovery",
];

/// True for a path that this program looks for on every disk, and for those of a Windows' boot files.
pub fn is_systems_own(path: &str) -> bool {
    let path = path.to_uppercase();
    let is = |known: &str| path == known.to_uppercase();
    let named = [
        BIOS_LOADER,
        BIOS_STORE,
        BOOTMGR,
        ESP_STORE,
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
