//! A simulated PC: settings that can be changed as in a firmware's setup, and a start that does what a
//! firmware with these settings would do.
//!
//! It behaves as PCs do: with the compatibility module off, disks with an MBR are not offered;
//! Secure Boot does not go on with the module on, without a platform key, or (on some) without a
//! setup password; BIOS mode does not start a GPT disk. A start goes by the boot entries, then by
//! the removable-media path of each disk, and walks the disk as the rehearsal does. It writes
//! nothing.

use std::path::{Path, PathBuf};

use crate::device::{HostFacts, ReadDevice};
use crate::profile::{Profile, REMOVABLE_X64, Table};
use crate::rehearse;

use super::keys::Keys;
use super::machine::{BootMode, Machine};
use super::machine_file::{FileError, MachineFile};
use super::secure_boot::verdict;
use super::target::{AttachedDisk, Target, is_protected, read_loader};
use super::variables::{GLOBAL, LASTING, Variable, VariableError, Variables};

/// What the setup of a simulated PC is set to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The PC can start in UEFI mode.
    pub uefi: bool,
    /// 32 or 64.
    pub bits: u32,
    /// What it starts.
    pub mode: BootMode,
    /// The compatibility module is on.
    pub compatibility: bool,
    /// Secure Boot is on.
    pub secure_boot: bool,
    /// A platform key is enrolled.
    pub has_platform_key: bool,
    /// A setup password is set.
    pub setup_password: bool,
    /// Secure Boot can be changed only with a setup password.
    pub needs_password: bool,
}

/// A change that the setup does not take.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// There is no such setting, or no such value.
    #[error(
        "{0} is no setting: there are mode=bios|uefi|both, and compatibility, secure-boot, \
         setup-password=on|off, and keys=factory"
    )]
    Unknown(String),
    /// The setting cannot be changed as things are; why, and what first.
    #[error("{what} is greyed out: {why}")]
    GreyedOut {
        /// The setting.
        what: &'static str,
        /// Why, and what must come first.
        why: &'static str,
    },
}

impl Settings {
    /// Changes a setting; what else changes with it.
    pub fn change(&mut self, key: &str, value: &str) -> Result<Option<&'static str>, Refusal> {
        let unknown = || Refusal::Unknown(format!("{key}={value}"));
        let switch = || match value {
            "on" => Ok(true),
            "off" => Ok(false),
            _ => Err(unknown()),
        };
        match (key, value) {
            ("mode", "bios") => self.set_mode(BootMode::Bios),
            ("mode", "uefi") => self.set_mode(BootMode::Uefi),
            ("mode", "both") => self.set_mode(BootMode::Both),
            ("compatibility", _) => self.set_compatibility(switch()?),
            ("secure-boot", _) => self.set_secure_boot(switch()?),
            ("setup-password", _) => {
                self.setup_password = switch()?;
                Ok(None)
            }
            _ => Err(unknown()),
        }
    }

    fn set_mode(&mut self, mode: BootMode) -> Result<Option<&'static str>, Refusal> {
        let what = "the boot mode";
        if mode != BootMode::Bios && !self.uefi {
            let why = "this PC has no UEFI mode";
            return Err(Refusal::GreyedOut { what, why });
        }
        if mode != BootMode::Uefi && !self.compatibility {
            let why =
                "without the compatibility module there is only UEFI; switch the module on first";
            return Err(Refusal::GreyedOut { what, why });
        }
        self.mode = mode;
        Ok(None)
    }

    fn set_compatibility(&mut self, on: bool) -> Result<Option<&'static str>, Refusal> {
        let what = "the compatibility module";
        if on && self.secure_boot {
            let why = "Secure Boot is on; switch it off first";
            return Err(Refusal::GreyedOut { what, why });
        }
        if !on && !self.uefi {
            let why = "this PC has no UEFI mode";
            return Err(Refusal::GreyedOut { what, why });
        }
        self.compatibility = on;
        if on || self.mode == BootMode::Uefi {
            return Ok(None);
        }
        self.mode = BootMode::Uefi;
        Ok(Some(
            "the boot mode is UEFI now: without the module there is no other",
        ))
    }

    fn set_secure_boot(&mut self, on: bool) -> Result<Option<&'static str>, Refusal> {
        let what = "Secure Boot";
        let greyed_out = |why| Err(Refusal::GreyedOut { what, why });
        if self.needs_password && !self.setup_password {
            return greyed_out("this PC wants a setup password first");
        }
        if on && self.compatibility {
            return greyed_out("the compatibility module is on; switch it off first");
        }
        if on && !self.has_platform_key {
            return greyed_out("no platform key is enrolled; load the factory keys first");
        }
        self.secure_boot = on;
        Ok(None)
    }
}

/// A simulated PC with its file.
#[derive(Debug)]
pub struct SimulatedPc {
    path: PathBuf,
    file: MachineFile,
}

/// A change that was not made.
#[derive(Debug, thiserror::Error)]
pub enum SetError {
    /// The setup does not take it.
    #[error("{0}")]
    Refused(#[from] Refusal),
    /// The file could not be changed.
    #[error("{0}")]
    File(#[from] FileError),
    /// A variable could not be changed.
    #[error("{0}")]
    Variable(#[from] VariableError),
}

impl SimulatedPc {
    /// Reads its file.
    pub fn read(path: &Path) -> Result<Self, FileError> {
        let file = MachineFile::read(path)?;
        let path = path.to_owned();
        Ok(Self { path, file })
    }

    /// Its file.
    pub fn file(&self) -> &MachineFile {
        &self.file
    }

    /// Its settings. What the file leaves out is as on a PC set to BIOS mode.
    pub fn settings(&self) -> Settings {
        let firmware = &self.file.content.firmware;
        let machine = self.file.machine();
        let mode = firmware.mode.map_or(BootMode::Bios, BootMode::from);
        let keys = machine.keys.value();
        Settings {
            uefi: machine.uefi.value().copied().unwrap_or(true),
            bits: machine.bits.value().copied().unwrap_or(64),
            mode,
            compatibility: firmware.compatibility.unwrap_or(mode != BootMode::Uefi),
            secure_boot: machine.secure_boot.value().copied().unwrap_or(false),
            has_platform_key: keys.is_some_and(|keys| !keys.are_none()),
            setup_password: firmware.setup_password.unwrap_or(false),
            needs_password: firmware.secure_boot_needs_password.unwrap_or(false),
        }
    }

    /// Changes a setting and keeps it in the file; what else changed with it.
    pub fn set(&mut self, key: &str, value: &str) -> Result<Option<&'static str>, SetError> {
        if (key, value) == ("keys", "factory") {
            return self.load_factory_keys();
        }
        let mut settings = self.settings();
        let note = settings.change(key, value)?;
        let changed = |file: &mut MachineFile| {
            file.set("mode", settings.mode.name().into())?;
            file.set("compatibility", settings.compatibility.into())?;
            file.set("secure_boot", settings.secure_boot.into())?;
            file.set("setup_password", settings.setup_password.into())
        };
        changed(&mut self.file)?;
        self.file.save(&self.path)?;
        if let Some(variables) = self.file.variables() {
            write_flag(&variables, "SecureBoot", settings.secure_boot)?;
        }
        Ok(note)
    }

    /// Enrols what the maker delivers, as a setup's "load factory keys" does.
    fn load_factory_keys(&self) -> Result<Option<&'static str>, SetError> {
        let what = "loading the factory keys";
        let Some(variables) = self.file.variables() else {
            let why = "the machine file names no folder for the firmware's variables";
            return Err(Refusal::GreyedOut { what, why }.into());
        };
        if !Keys::enrol_delivered(&variables)? {
            let why = "the maker of this PC delivers none (variables PKDefault, dbDefault)";
            return Err(Refusal::GreyedOut { what, why }.into());
        }
        write_flag(&variables, "SetupMode", false)?;
        Ok(None)
    }
}

fn write_flag(variables: &Variables, name: &str, on: bool) -> Result<(), VariableError> {
    let variable = Variable {
        // Made by the firmware at each start, readable before and after the system takes over.
        attributes: LASTING & !1,
        data: vec![u8::from(on)],
    };
    variables.write(name, GLOBAL, &variable)
}

/// Something that a firmware tried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    /// What happened, in a sentence.
    pub text: String,
    /// It led to a start.
    pub started: bool,
}

/// How a start ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// A system started in this mode, from the disk at this place among those attached.
    Started(BootMode, usize),
    /// Nothing did.
    Nothing,
}

/// A start, step by step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Start {
    /// What was tried, in order.
    pub events: Vec<Event>,
    /// How it ended.
    pub outcome: Outcome,
}

/// Starts a PC with these settings; entries and keys are those of `machine`.
pub fn start(settings: &Settings, machine: &Machine, disks: &[AttachedDisk<'_>]) -> Start {
    let mut attempt = Attempt {
        settings,
        machine,
        disks,
        events: Vec::new(),
    };
    let found = match settings.mode {
        BootMode::Uefi => attempt.uefi(),
        BootMode::Bios => attempt.bios(),
        BootMode::Both => attempt.uefi().or_else(|| attempt.bios()),
    };
    Start {
        events: attempt.events,
        outcome: found.unwrap_or(Outcome::Nothing),
    }
}

struct Attempt<'a> {
    settings: &'a Settings,
    machine: &'a Machine,
    disks: &'a [AttachedDisk<'a>],
    events: Vec<Event>,
}

impl Attempt<'_> {
    fn tell(&mut self, text: String) {
        self.events.push(Event {
            text,
            started: false,
        });
    }

    fn uefi(&mut self) -> Option<Outcome> {
        let entries = self.machine.entries.value().into_iter().flatten();
        let mut tried = Vec::new();
        for entry in entries.filter(|entry| entry.place.is_some()) {
            let option = match &entry.option {
                Ok(option) => option,
                Err(error) => {
                    self.tell(format!("Boot{:04X}: {error}", entry.number));
                    continue;
                }
            };
            let name = format!("Boot{:04X} \"{}\"", entry.number, option.description);
            if !option.is_active() {
                self.tell(format!("{name} is not active"));
                continue;
            }
            match Target::of(option, self.disks) {
                Target::File { disk, path, .. } => {
                    if self.load(&name, disk, &path) {
                        return Some(Outcome::Started(BootMode::Uefi, disk));
                    }
                    tried.push((disk, path.to_uppercase()));
                }
                Target::NoFile { path, .. } => self.tell(format!("{name}: {path} is not there")),
                Target::NoPartition => {
                    self.tell(format!(
                        "{name} names a partition that is on no attached disk"
                    ));
                }
                Target::Other(what) => {
                    self.tell(format!("{name} leads to {what}: nothing starts there"));
                }
            }
        }
        for (at, disk) in self.disks.iter().enumerate() {
            if !is_protected(disk.device) {
                let only = if self.settings.compatibility {
                    "in UEFI mode it is not offered"
                } else {
                    "with the compatibility module off it is not offered at all"
                };
                self.tell(format!("{}: no GPT; {only}", disk.name));
            } else if !tried.contains(&(at, REMOVABLE_X64.to_owned()))
                && self.load(disk.name, at, REMOVABLE_X64)
            {
                return Some(Outcome::Started(BootMode::Uefi, at));
            }
        }
        None
    }

    /// Tries a loader; true when a system started.
    fn load(&mut self, name: &str, at: usize, path: &str) -> bool {
        let Some(disk) = self.disks.get(at) else {
            return false;
        };
        let Some(image) = read_loader(disk.device, path) else {
            self.tell(format!("{name}: {path} cannot be read"));
            return false;
        };
        if self.settings.bits == 32 {
            let why = "this firmware works with 32 bits and takes no x64 program";
            self.tell(format!("{name}: {path}: {why}"));
            return false;
        }
        if self.settings.secure_boot {
            let keys = self.machine.keys.value().cloned().unwrap_or_default();
            let verdict = verdict(&image, &keys);
            let word = if verdict.accepts() {
                "accepts"
            } else {
                "refuses"
            };
            let reason = verdict.reason();
            self.tell(format!("{name}: Secure Boot {word} {path}: {reason}"));
            if !verdict.accepts() {
                return false;
            }
        }
        let rehearsal = rehearse::walk(disk.device, Some(path));
        if rehearsal.starts() {
            self.events.push(Event {
                text: format!("{name}: {path} starts Windows in UEFI mode"),
                started: true,
            });
            return true;
        }
        let last = rehearsal.steps.last();
        let (step, evidence) = last.map_or(("", ""), |step| (step.id.name(), &*step.evidence));
        self.tell(format!(
            "{name}: {path} ends at the step {step}: {evidence}"
        ));
        false
    }

    fn bios(&mut self) -> Option<Outcome> {
        for (at, disk) in self.disks.iter().enumerate() {
            match bios_start(disk.device) {
                Ok(title) => {
                    let name = disk.name;
                    self.events.push(Event {
                        text: format!("{name}: sector 0 starts \"{title}\" in BIOS mode"),
                        started: true,
                    });
                    return Some(Outcome::Started(BootMode::Bios, at));
                }
                Err(why) => self.tell(format!("{}: {why}", disk.name)),
            }
        }
        None
    }
}

/// The title of what a BIOS starts from this disk, or why it starts nothing.
fn bios_start(device: &dyn ReadDevice) -> Result<String, String> {
    let profile = Profile::read(device, HostFacts::default()).map_err(|error| error.to_string())?;
    match profile.table {
        Table::Mbr { .. } => {}
        _ if is_protected(device) => {
            return Err("a GPT disk: sector 0 says that it starts in UEFI mode only".to_owned());
        }
        _ => return Err("nothing in sector 0 that starts".to_owned()),
    }
    let number = profile.boot.partition;
    let number = number.ok_or("no partition is active, or more than one")?;
    let store = profile.boot.readable();
    let store =
        store.ok_or_else(|| format!("partition {number} is active and has no boot store"))?;
    let entry = store
        .default_entry()
        .ok_or("the boot store has no default entry")?;
    if profile.systems.is_empty() {
        return Err("there is no Windows on it".to_owned());
    }
    Ok(entry.title())
}
