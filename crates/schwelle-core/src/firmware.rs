//! What is known of the PC around the disk: whether it can start in UEFI mode, and what it runs on.
//!
//! Read from the running system: `/sys/firmware/efi` is there when this session was started in UEFI
//! mode, and `/sys/firmware/dmi/tables/DMI` holds the SMBIOS table, whose type 0 says whether UEFI
//! is supported (DMTF DSP0134, §7.1.2.2: characteristics extension byte 2, bit 3). The table is
//! parsed by the crate `smbioslib`. What the firmware is set to is not read.

use std::fs;
use std::path::Path;

use smbioslib::{SMBiosData, SMBiosInformation};

use crate::device::{PowerSource, power_source};

/// A table longer than this is not one.
const MAX_TABLE_BYTES: u64 = 1 << 20;

/// How a PC's firmware starts systems.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BootMode {
    /// From the boot code in sector 0.
    Bios,
    /// From a program on the EFI system partition.
    Uefi,
}

/// What is known of a PC.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Machine {
    /// It can start in UEFI mode; `None` when that is not told.
    pub uefi: Option<bool>,
    /// Where that is known from, or why it is not.
    pub uefi_evidence: String,
    /// The mode its firmware is set to; `None` when that is not told.
    pub mode: Option<BootMode>,
    /// Where that is known from, or why it is not.
    pub mode_evidence: String,
    /// What it runs on; `None` when nothing is known of the PC.
    pub power: Option<PowerSource>,
}

impl Machine {
    /// A PC of which nothing is known, and why.
    pub fn unknown(why: &str) -> Self {
        Self {
            uefi: None,
            uefi_evidence: why.to_owned(),
            mode: None,
            mode_evidence: why.to_owned(),
            power: None,
        }
    }

    /// The PC that this runs on. `root` is the root of its file tree.
    pub fn of_this_pc(root: &Path) -> Self {
        let started_in_uefi = root.join("sys/firmware/efi").exists();
        let (uefi, evidence) = if started_in_uefi {
            (
                Some(true),
                "this session was started in UEFI mode, so the PC can",
            )
        } else if smbios_says_uefi(&root.join("sys/firmware/dmi/tables/DMI")) {
            (
                Some(true),
                "its firmware says so (SMBIOS); this session was started in BIOS mode",
            )
        } else {
            (
                None,
                "this session was started in BIOS mode, and the firmware does not tell (SMBIOS)",
            )
        };
        Self {
            uefi,
            uefi_evidence: evidence.to_owned(),
            // Firmware that is set to both modes may start a stick in BIOS mode and a disk in
            // UEFI mode, so only the one tells.
            mode: started_in_uefi.then_some(BootMode::Uefi),
            mode_evidence: if started_in_uefi {
                "this session was started in UEFI mode"
            } else {
                "this session was started in BIOS mode, so the firmware is set to that or to both"
            }
            .to_owned(),
            power: Some(power_source(root)),
        }
    }
}

/// True when the table says that UEFI is supported. A clear bit tells nothing: firmware older than
/// the bit, and some newer, leave it clear.
fn smbios_says_uefi(table: &Path) -> bool {
    let sensible = fs::metadata(table).is_ok_and(|found| found.len() <= MAX_TABLE_BYTES);
    let Some(bytes) = sensible.then(|| fs::read(table).ok()).flatten() else {
        return false;
    };
    SMBiosData::from_vec_and_version(bytes, None)
        .first::<SMBiosInformation<'_>>()
        .and_then(|bios| bios.characteristics_extension1())
        .is_some_and(|extension| extension.uefi_specification_is_supported())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A table with one structure of type 0, `len` bytes long, its second extension byte as given,
    /// and the structure that ends a table.
    fn table(len: u8, extension: u8) -> Vec<u8> {
        let mut bios = vec![0; usize::from(len)];
        bios[1] = len;
        if let Some(byte) = bios.get_mut(0x13) {
            *byte = extension;
        }
        [&bios[..], b"Made Up\0\0", &[127, 4, 1, 0, 0, 0]].concat()
    }

    #[test]
    fn a_pc_tells_by_its_session_or_by_smbios_or_not_at_all() {
        let long = table(0x18, 0x08);
        type Table<'a> = Option<&'a [u8]>;
        let cases: [(bool, Table<'_>, Option<bool>, &str); 7] = [
            (true, None, Some(true), "started in UEFI mode"),
            (false, Some(&long), Some(true), "its firmware says so"),
            (false, Some(&table(0x18, 0xF7)), None, "does not tell"),
            (false, Some(&table(0x12, 0)), None, "does not tell"), // older than the bit
            (false, Some(&long[..9]), None, "does not tell"),      // cut off
            (false, Some(&[]), None, "does not tell"),
            (false, None, None, "does not tell"),
        ];
        for (efi, table, uefi, evidence) in cases {
            let dir = tempfile::tempdir().unwrap();
            let firmware = dir.path().join("sys/firmware");
            fs::create_dir_all(firmware.join("dmi/tables")).unwrap();
            if efi {
                fs::create_dir(firmware.join("efi")).unwrap();
            }
            if let Some(table) = table {
                fs::write(firmware.join("dmi/tables/DMI"), table).unwrap();
            }
            let machine = Machine::of_this_pc(dir.path());
            assert_eq!(machine.uefi, uefi, "{table:?}");
            assert_eq!(machine.mode, efi.then_some(BootMode::Uefi), "{table:?}");
            assert!(
                machine.uefi_evidence.contains(evidence),
                "{}",
                machine.uefi_evidence
            );
        }
    }
}
