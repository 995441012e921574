//! The facts of a PC: what its firmware can do and is set to, and what it runs on.
//!
//! Of this PC they come from the host: how the session was started, SMBIOS, the UEFI variables. What cannot
//! be read from here says why, and how to find out.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::host::{Host, PowerSource, SessionFacts};

use super::fact::{Fact, Ground, How};
use super::keys::Keys;
use super::load_option::{LoadOption, LoadOptionError};
use super::secure_boot::Unreported;
use super::smbios::Smbios;
use super::variables::{GLOBAL, VariableError, Variables, entry_name};

/// Entries that are read at most; firmware has room for some dozens.
const MAX_ENTRIES: usize = 512;

/// Bit of `OsIndications`: go to the setup screen at the next start (UEFI 2.10 §8.5.4).
pub(super) const TO_SETUP: u64 = 1;

/// How a PC's firmware starts systems.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
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

/// A boot entry of the firmware.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BootEntry {
    /// The number in its name.
    pub number: u16,
    /// Its place in the boot order, from 0; `None` where it is not in it.
    pub place: Option<usize>,
    /// What it holds, or why that is invalid.
    pub option: Result<LoadOption, LoadOptionError>,
}

/// What is known of a PC.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Machine {
    /// Who made it.
    pub manufacturer: Fact<String>,
    /// Its model.
    pub model: Fact<String>,
    /// Manufacturer and version of its firmware.
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
    /// The CSM, with which UEFI firmware starts MBR disks, is on.
    pub csm: Fact<bool>,
    /// Secure Boot is on.
    pub secure_boot: Fact<bool>,
    /// Keys may be changed by anybody: there is no platform key, and Secure Boot cannot go on.
    pub setup_mode: Fact<bool>,
    /// The enrolled keys.
    pub keys: Fact<Keys>,
    /// The keys that its manufacturer delivers, which its setup can enrol.
    pub factory_keys: Fact<Keys>,
    /// The boot entries, those in the boot order first, in that order.
    pub entries: Fact<Vec<BootEntry>>,
    /// A session can ask for the setup screen at the next start.
    pub can_ask_for_setup: Fact<bool>,
    /// What it runs on.
    pub power: Fact<PowerSource>,
}

impl Machine {
    /// A PC of which nothing is known, and why.
    pub fn unknown(why: Ground) -> Self {
        fn not_reported<T>(why: &Ground, how: How) -> Fact<T> {
            Fact::not_reported(why.clone(), how)
        }
        let why = &why;
        Self {
            manufacturer: not_reported(why, How::Label),
            model: not_reported(why, How::Label),
            firmware: not_reported(why, How::Label),
            firmware_date: not_reported(why, How::Label),
            uefi: not_reported(why, How::Uefi),
            bits: not_reported(why, How::Bits),
            session: not_reported(why, How::Variables),
            mode: not_reported(why, How::Setting),
            csm: not_reported(why, How::Setting),
            secure_boot: not_reported(why, How::Setting),
            setup_mode: not_reported(why, How::Setting),
            keys: not_reported(why, How::Variables),
            factory_keys: not_reported(why, How::Variables),
            entries: not_reported(why, How::Variables),
            can_ask_for_setup: not_reported(why, How::Variables),
            power: not_reported(why, How::Power),
        }
    }

    /// The PC that this runs on.
    pub fn of(host: &dyn Host) -> Self {
        let mut machine = Self::of_session(host.session());
        if let Some(variables) = host.variables() {
            machine.take_variables(&Variables::new(variables));
        }
        machine.power = match host.power() {
            PowerSource::Unknown => Fact::not_reported(Ground::NoBattery, How::Power),
            source => Fact::known(source, Ground::Kernel),
        };
        machine
    }

    /// The PC in which a session was started so.
    pub fn of_session(facts: SessionFacts) -> Self {
        let mut machine = Self::unknown(match facts.in_uefi_mode {
            Some(true) | None => Ground::KernelSilent,
            Some(false) => Ground::BiosSession,
        });
        let table = facts.smbios.map(Smbios::parse).unwrap_or_default();
        machine.take_smbios(&table, &Ground::Smbios);
        match facts.in_uefi_mode {
            Some(true) => {
                machine.session = Fact::known(BootMode::Uefi, Ground::Kernel);
                machine.uefi = Fact::known(true, Ground::UefiSessionSoAble);
                // Firmware that is set to both modes may start a stick in BIOS mode and a disk in
                // UEFI mode, so only the one tells.
                machine.mode = Fact::known(BootMode::Uefi, Ground::UefiSession);
            }
            Some(false) => {
                machine.session = Fact::known(BootMode::Bios, Ground::Kernel);
                machine.uefi = match table.says_uefi {
                    true => Fact::known(true, Ground::SmbiosSaysUefiInBiosSession),
                    false => Fact::not_reported(Ground::BiosSessionAndSmbiosSilent, How::Uefi),
                };
                machine.mode = Fact::not_reported(Ground::BiosSessionSoEither, How::Setting);
            }
            None => {}
        }
        if let Some(bits) = facts.bits {
            machine.bits = Fact::known(bits, Ground::Kernel);
        }
        machine
    }

    /// The keys that Secure Boot would go by: the enrolled ones; where none are, those that the manufacturer
    /// delivers. Else why they are not known.
    pub(crate) fn keys_to_go_by(&self) -> Result<&Keys, Unreported> {
        let enrolled = self.keys.value();
        match (enrolled, self.factory_keys.value()) {
            (Some(keys), _) if !keys.are_none() => Ok(keys),
            (Some(_), Some(factory)) => Ok(factory),
            (Some(_), None) => Err(Unreported::NoKeys),
            (None, _) => Err(Unreported::KeysNotReported {
                why: self.keys.ground().clone(),
            }),
        }
    }

    /// Takes over what SMBIOS tells.
    pub(super) fn take_smbios(&mut self, table: &Smbios, source: &Ground) {
        let texts = [
            (&mut self.manufacturer, &table.manufacturer),
            (&mut self.model, &table.model),
            (&mut self.firmware, &table.firmware),
            (&mut self.firmware_date, &table.date),
        ];
        for (fact, value) in texts {
            *fact = Fact::reported(value.clone(), source, Ground::SmbiosSilent, How::Label);
        }
        if table.says_uefi {
            self.uefi = Fact::known(true, Ground::SmbiosSaysUefi);
        }
    }

    /// Takes over what the firmware's variables tell.
    pub(super) fn take_variables(&mut self, variables: &Variables) {
        fn not_read<T>(error: &impl std::error::Error) -> Fact<T> {
            let fault = error.into();
            Fact::not_reported(Ground::VariableFault { fault }, How::Setting)
        }
        fn flag(found: Result<Option<bool>, VariableError>, name: &str) -> Fact<bool> {
            let name = name.to_owned();
            match found {
                Ok(Some(value)) => Fact::known(value, Ground::Variable { name }),
                Ok(None) => Fact::not_reported(Ground::NoVariable { name }, How::Setting),
                Err(error) => not_read(&error),
            }
        }
        self.secure_boot = flag(variables.read_flag("SecureBoot", GLOBAL), "SecureBoot");
        self.setup_mode = flag(variables.read_flag("SetupMode", GLOBAL), "SetupMode");
        self.keys = match Keys::read(variables) {
            Ok(keys) => Fact::known(keys, Ground::KeyVariables),
            Err(error) => not_read(&error),
        };
        self.factory_keys = match Keys::factory(variables) {
            Ok(Some(keys)) => Fact::known(keys, Ground::FactoryKeyVariables),
            Ok(None) => Fact::not_reported(Ground::NotShown, How::Setting),
            Err(error) => not_read(&error),
        };
        self.entries = match entries(variables) {
            Ok(entries) => Fact::known(entries, Ground::EntryVariables),
            Err(error) => not_read(&error),
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
            (Some(true), false, Some(true), Ground::UefiSessionSoAble),
            (
                Some(false),
                true,
                Some(true),
                Ground::SmbiosSaysUefiInBiosSession,
            ),
            (Some(false), false, None, Ground::BiosSessionAndSmbiosSilent),
            (None, true, Some(true), Ground::SmbiosSaysUefi),
            (None, false, None, Ground::KernelSilent),
        ];
        for (in_uefi_mode, smbios, uefi, ground) in cases {
            let efi = in_uefi_mode == Some(true);
            let machine = Machine::of_session(SessionFacts {
                in_uefi_mode,
                bits: efi.then_some(32),
                smbios: smbios.then(|| table.clone()),
            });
            assert_eq!(machine.uefi.value().copied(), uefi);
            assert_eq!(*machine.uefi.ground(), ground);
            assert_eq!(machine.session.value().is_some(), in_uefi_mode.is_some());
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
        let mut machine = Machine::unknown(Ground::Image);
        machine.take_variables(&variables);
        assert_eq!(machine.secure_boot.value(), Some(&true));
        let fault = format!("{:?}", machine.setup_mode.ground());
        assert!(fault.contains("2 bytes, not 1"), "{fault}");
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
