//! The facts of a PC: what its firmware can do and is set to, and what it runs on.
//!
//! Of this PC they come from sysfs (`/sys/firmware/efi` is there when this session was started in
//! UEFI mode; `fw_platform_size` in it says 32 or 64), SMBIOS and the UEFI variables. What cannot be
//! read from here says why, and how to find out.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use std::fs;
use std::path::Path;

use crate::device::{PowerSource, power_source};

use super::keys::Keys;
use super::load_option::{LoadOption, LoadOptionError};
use super::secure_boot::Untold;
use super::smbios::Smbios;
use super::variables::{GLOBAL, VariableError, Variables, entry_name};

/// Entries that are read at most; firmware has room for some dozens.
const MAX_ENTRIES: usize = 512;

/// Bit of `OsIndications`: go to the setup screen at the next start (UEFI 2.10 §8.5.4).
pub(super) const TO_SETUP: u64 = 1;

/// How a PC's firmware starts systems.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BootMode {
    /// From the boot code in sector 0.
    Bios,
    /// From a program on the EFI system partition.
    Uefi,
    /// UEFI first, and BIOS where that finds nothing.
    Both,
}

impl BootMode {
    /// The word in machine files and reports.
    pub fn name(self) -> &'static str {
        match self {
            Self::Bios => "bios",
            Self::Uefi => "uefi",
            Self::Both => "both",
        }
    }
}

/// A fact about a PC.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fact<T> {
    /// It is known.
    Known {
        /// What it is.
        value: T,
        /// Where from.
        source: String,
    },
    /// It is not.
    NotTold {
        /// Why.
        why: String,
        /// How the technician finds out.
        how: &'static str,
    },
}

impl<T> Fact<T> {
    pub(super) fn known(value: T, source: impl Into<String>) -> Self {
        let source = source.into();
        Self::Known { value, source }
    }

    pub(super) fn not_told(why: impl Into<String>, how: &'static str) -> Self {
        let why = why.into();
        Self::NotTold { why, how }
    }

    fn told(value: Option<T>, source: &str, why: &str, how: &'static str) -> Self {
        match value {
            Some(value) => Self::known(value, source),
            None => Self::not_told(why, how),
        }
    }

    /// The value, where it is known.
    pub fn value(&self) -> Option<&T> {
        match self {
            Self::Known { value, .. } => Some(value),
            Self::NotTold { .. } => None,
        }
    }

    /// Where it is known from, or why it is not.
    pub fn evidence(&self) -> &str {
        match self {
            Self::Known { source, .. } => source,
            Self::NotTold { why, .. } => why,
        }
    }

    /// How to find out, where it is not known.
    pub fn how(&self) -> Option<&'static str> {
        match self {
            Self::Known { .. } => None,
            Self::NotTold { how, .. } => Some(how),
        }
    }
}

/// How to find out each fact.
pub(super) mod how {
    pub(crate) const LABEL: &str = "Read the label on the PC, or its setup's first page.";
    pub(crate) const UEFI: &str = "Look into the firmware setup of the PC that the disk belongs to: \
        there must be a UEFI boot mode. Or start this rescue system there in UEFI mode and ask again.";
    pub(crate) const BITS: &str = "Start this rescue system there in UEFI mode and ask again. PCs made \
        with 64-bit systems have 64-bit firmware but for some tablets and small notebooks.";
    pub(crate) const SETTING: &str = "Look into the firmware setup of the PC, on the page about boot or \
        security.";
    pub(crate) const VARIABLES: &str = "Start this rescue system there in UEFI mode and ask again: only \
        then does the firmware show its variables.";
    pub(crate) const POWER: &str = "Look at the PC.";
}

/// A boot entry of the firmware.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BootEntry {
    /// The number in its name.
    pub number: u16,
    /// Its place in the boot order, from 0; `None` where it is not in it.
    pub place: Option<usize>,
    /// What it holds, or why that makes no sense.
    pub option: Result<LoadOption, LoadOptionError>,
}

/// What is known of a PC.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Machine {
    /// Who made it.
    pub maker: Fact<String>,
    /// Its model.
    pub model: Fact<String>,
    /// Maker and version of its firmware.
    pub firmware: Fact<String>,
    /// Date of its firmware, as the firmware writes it.
    pub firmware_date: Fact<String>,
    /// It can start in UEFI mode.
    pub uefi: Fact<bool>,
    /// The firmware works with 32 or 64 bits: it starts only loaders of the same.
    pub bits: Fact<u32>,
    /// How this session was started.
    pub session: Fact<BootMode>,
    /// What the firmware is set to.
    pub mode: Fact<BootMode>,
    /// The compatibility module, with which UEFI firmware starts MBR disks, is on.
    pub compatibility: Fact<bool>,
    /// Secure Boot is on.
    pub secure_boot: Fact<bool>,
    /// Keys may be changed by anybody: there is no platform key, and Secure Boot cannot go on.
    pub setup_mode: Fact<bool>,
    /// The enrolled keys.
    pub keys: Fact<Keys>,
    /// The keys that its maker delivers, which its setup can enrol.
    pub delivered_keys: Fact<Keys>,
    /// The boot entries, those in the boot order first, in that order.
    pub entries: Fact<Vec<BootEntry>>,
    /// A session can ask for the setup screen at the next start.
    pub can_ask_for_setup: Fact<bool>,
    /// What it runs on.
    pub power: Fact<PowerSource>,
}

impl Machine {
    /// A PC of which nothing is known, and why.
    pub fn unknown(why: &str) -> Self {
        Self {
            maker: Fact::not_told(why, how::LABEL),
            model: Fact::not_told(why, how::LABEL),
            firmware: Fact::not_told(why, how::LABEL),
            firmware_date: Fact::not_told(why, how::LABEL),
            uefi: Fact::not_told(why, how::UEFI),
            bits: Fact::not_told(why, how::BITS),
            session: Fact::not_told(why, how::VARIABLES),
            mode: Fact::not_told(why, how::SETTING),
            compatibility: Fact::not_told(why, how::SETTING),
            secure_boot: Fact::not_told(why, how::SETTING),
            setup_mode: Fact::not_told(why, how::SETTING),
            keys: Fact::not_told(why, how::VARIABLES),
            delivered_keys: Fact::not_told(why, how::VARIABLES),
            entries: Fact::not_told(why, how::VARIABLES),
            can_ask_for_setup: Fact::not_told(why, how::VARIABLES),
            power: Fact::not_told(why, how::POWER),
        }
    }

    /// The PC that this runs on. `root` is the root of its file tree.
    pub fn of_this_pc(root: &Path) -> Self {
        let efi = root.join("sys/firmware/efi");
        let in_uefi = efi.exists();
        let why = if in_uefi {
            "this session's kernel does not show it"
        } else {
            "this session was started in BIOS mode"
        };
        let mut machine = Self::unknown(why);
        let table = Smbios::read(&root.join("sys/firmware/dmi/tables/DMI"));
        machine.take_smbios(&table, "SMBIOS");
        let session = if in_uefi {
            BootMode::Uefi
        } else {
            BootMode::Bios
        };
        machine.session = Fact::known(session, "the kernel says so");
        if in_uefi {
            machine.uefi =
                Fact::known(true, "this session was started in UEFI mode, so the PC can");
            // Firmware that is set to both modes may start a stick in BIOS mode and a disk in
            // UEFI mode, so only the one tells.
            let source = "this session was started in UEFI mode";
            machine.mode = Fact::known(BootMode::Uefi, source);
        } else {
            if table.says_uefi {
                let source = "its firmware says so (SMBIOS); this session was started in BIOS mode";
                machine.uefi = Fact::known(true, source);
            } else {
                let why = "this session was started in BIOS mode, and the firmware does not tell \
                    (SMBIOS)";
                machine.uefi = Fact::not_told(why, how::UEFI);
            }
            let why =
                "this session was started in BIOS mode, so the firmware is set to that or to both";
            machine.mode = Fact::not_told(why, how::SETTING);
        }
        let size = fs::read_to_string(efi.join("fw_platform_size"));
        if let Some(bits) = size.ok().and_then(|text| text.trim().parse().ok()) {
            machine.bits = Fact::known(bits, "the kernel says so");
        }
        if let Some(variables) = Variables::open(&efi.join("efivars")) {
            machine.take_variables(&variables);
        }
        machine.power = match power_source(root) {
            PowerSource::Unknown => Fact::not_told("no battery known to the system", how::POWER),
            source => Fact::known(source, "the kernel says so"),
        };
        machine
    }

    /// The keys that Secure Boot would go by: the enrolled ones; where none are, those that the maker
    /// delivers. Else why they are not known.
    pub fn keys_to_go_by(&self) -> Result<&Keys, Untold> {
        let enrolled = self.keys.value();
        match (enrolled, self.delivered_keys.value()) {
            (Some(keys), _) if !keys.are_none() => Ok(keys),
            (Some(_), Some(delivered)) => Ok(delivered),
            (Some(_), None) => Err(Untold::NoKeys),
            (None, _) => Err(Untold::KeysNotTold {
                why: self.keys.evidence().to_owned(),
            }),
        }
    }

    /// Takes over what SMBIOS tells.
    pub(super) fn take_smbios(&mut self, table: &Smbios, source: &str) {
        let texts = [
            (&mut self.maker, &table.maker),
            (&mut self.model, &table.model),
            (&mut self.firmware, &table.firmware),
            (&mut self.firmware_date, &table.date),
        ];
        for (fact, value) in texts {
            let why = "the firmware does not tell (SMBIOS)";
            *fact = Fact::told(value.clone(), source, why, how::LABEL);
        }
        if table.says_uefi {
            self.uefi = Fact::known(true, "its firmware says so (SMBIOS)");
        }
    }

    /// Takes over what the firmware's variables tell.
    pub(super) fn take_variables(&mut self, variables: &Variables) {
        fn flag(found: Result<Option<bool>, VariableError>, name: &str) -> Fact<bool> {
            match found {
                Ok(Some(value)) => Fact::known(value, format!("the variable {name}")),
                Ok(None) => {
                    Fact::not_told(format!("the firmware has no variable {name}"), how::SETTING)
                }
                Err(error) => Fact::not_told(error.to_string(), how::SETTING),
            }
        }
        self.secure_boot = flag(variables.read_flag("SecureBoot", GLOBAL), "SecureBoot");
        self.setup_mode = flag(variables.read_flag("SetupMode", GLOBAL), "SetupMode");
        self.keys = match Keys::read(variables) {
            Ok(keys) => Fact::known(keys, "the variables PK, KEK, db and dbx"),
            Err(error) => Fact::not_told(error.to_string(), how::SETTING),
        };
        self.delivered_keys = match Keys::delivered(variables) {
            Ok(Some(keys)) => Fact::known(
                keys,
                "the variables PKDefault, KEKDefault, dbDefault and dbxDefault",
            ),
            Ok(None) => Fact::not_told("the firmware does not show them", how::SETTING),
            Err(error) => Fact::not_told(error.to_string(), how::SETTING),
        };
        self.entries = match entries(variables) {
            Ok(entries) => Fact::known(entries, "the variables BootOrder and Boot####"),
            Err(error) => Fact::not_told(error.to_string(), how::SETTING),
        };
        let supported = variables.read_bits("OsIndicationsSupported");
        let supported = supported.map(|bits| Some(bits.unwrap_or(0) & TO_SETUP != 0));
        self.can_ask_for_setup = flag(supported, "OsIndicationsSupported");
    }
}

/// All boot entries, those in the order first.
fn entries(variables: &Variables) -> Result<Vec<BootEntry>, VariableError> {
    let order = variables.boot_order()?;
    let mut numbers = order.clone();
    numbers.extend(variables.boot_numbers());
    let mut entries: Vec<BootEntry> = Vec::new();
    for number in numbers {
        if entries.len() >= MAX_ENTRIES || entries.iter().any(|entry| entry.number == number) {
            continue;
        }
        // A number in the order without an entry is skipped by firmware, and here.
        if let Some(variable) = variables.read(&entry_name(number), GLOBAL)? {
            entries.push(BootEntry {
                number,
                place: order.iter().position(|&ordered| ordered == number),
                option: LoadOption::parse(&variable.data),
            });
        }
    }
    Ok(entries)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::firmware::Variable;

    #[test]
    fn a_pc_tells_by_its_session_or_by_smbios_or_not_at_all() {
        let mut table = vec![0; 0x18];
        (table[1], table[0x13]) = (0x18, 8);
        table.extend([0, 0, 127, 4, 1, 0, 0, 0]);
        let cases = [
            (true, false, Some(true), "started in UEFI mode"),
            (false, true, Some(true), "its firmware says so"),
            (false, false, None, "does not tell"),
        ];
        for (efi, smbios, uefi, evidence) in cases {
            let dir = tempfile::tempdir().unwrap();
            let firmware = dir.path().join("sys/firmware");
            fs::create_dir_all(firmware.join("dmi/tables")).unwrap();
            if efi {
                fs::create_dir(firmware.join("efi")).unwrap();
                fs::write(firmware.join("efi/fw_platform_size"), "32\n").unwrap();
            }
            if smbios {
                fs::write(firmware.join("dmi/tables/DMI"), &table).unwrap();
            }
            let machine = Machine::of_this_pc(dir.path());
            assert_eq!(machine.uefi.value().copied(), uefi);
            assert!(
                machine.uefi.evidence().contains(evidence),
                "{:?}",
                machine.uefi
            );
            assert_eq!(machine.mode.value(), efi.then_some(&BootMode::Uefi));
            assert_eq!(machine.bits.value(), efi.then_some(&32));
            assert_eq!(machine.secure_boot.value(), None);
            assert!(machine.secure_boot.how().is_some());
        }
    }

    #[test]
    fn variables_tell_state_and_entries_in_order() {
        let dir = tempfile::tempdir().unwrap();
        let variables = Variables::open(dir.path()).unwrap();
        let put = |name: &str, data: &[u8]| {
            let data = data.to_vec();
            let variable = Variable {
                attributes: 7,
                data,
            };
            variables.write(name, GLOBAL, &variable).unwrap();
        };
        let mut option = b"\x01\0\0\0\x04\0".to_vec();
        option.extend(b"A\0\0\0\x7F\xFF\x04\0");
        for name in ["Boot0000", "Boot0002", "Boot0005"] {
            put(name, &option);
        }
        put("Boot0003", b"nonsense");
        put("BootOrder", &[5, 0, 9, 0, 3, 0, 5, 0]);
        put("SecureBoot", &[1]);
        put("SetupMode", &[0, 0]);
        put("OsIndicationsSupported", &[1, 0, 0, 0, 0, 0, 0, 0]);
        let mut machine = Machine::unknown("a test");
        machine.take_variables(&variables);
        assert_eq!(machine.secure_boot.value(), Some(&true));
        assert!(machine.setup_mode.evidence().contains("2 bytes, not 1"));
        assert_eq!(machine.can_ask_for_setup.value(), Some(&true));
        let entries = machine.entries.value().unwrap().iter();
        let found: Vec<_> = entries
            .map(|e| (e.number, e.place, e.option.is_ok()))
            .collect();
        let expected = [
            (5, Some(0), true),
            (3, Some(2), false),
            (0, None, true),
            (2, None, true),
        ];
        assert_eq!(found, expected);
    }
}
