//! A simulated PC: settings that can be changed as in a firmware's setup, and a start that does what a
//! firmware with these settings would do.
//!
//! It behaves as PCs do: with the CSM off, disks with an MBR are not offered;
//! Secure Boot does not go on with the module on, without a platform key, or (on some) without a
//! setup password; BIOS mode does not start a GPT disk. A start goes by the boot entries, then by
//! the removable-media path of each disk, and walks the disk as the rehearsal does. It writes
//! nothing.

use std::path::{Path, PathBuf};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::device::ReadDevice;
use crate::firmware::{
    AttachedDisk, BootMode, FileError, GLOBAL, Keys, LASTING, Machine, MachineFile, OtherTarget,
    Target, Variable, VariableError, Variables, Verdict, is_protected, read_loader, verdict,
};
use crate::host::HostFacts;
use crate::profile::{Profile, REMOVABLE_X64, Table};
use crate::rehearse::{self, StepId};

/// What the setup of a simulated PC is set to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The PC can start in UEFI mode.
    pub uefi: bool,
    /// 32 or 64.
    pub bits: u32,
    /// What it starts.
    pub mode: BootMode,
    /// The CSM is on.
    pub csm: bool,
    /// Secure Boot is on.
    pub secure_boot: bool,
    /// A platform key is enrolled.
    pub has_platform_key: bool,
    /// A setup password is set.
    pub setup_password: bool,
    /// Secure Boot can be changed only with a setup password.
    pub needs_password: bool,
}

/// What changes with a setting.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Also {
    /// The boot mode is UEFI now: without the CSM there is no other.
    ModeIsUefi,
}

/// A change that the setup does not take.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// There is no such setting, or no such value.
    #[error(
        "{0} is no setting: there are mode=bios|uefi|both, and csm, secure-boot, \
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
    pub fn change(&mut self, key: &str, value: &str) -> Result<Option<Also>, Refusal> {
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
            ("csm", _) => self.set_csm(switch()?),
            ("secure-boot", _) => self.set_secure_boot(switch()?),
            ("setup-password", _) => {
                self.setup_password = switch()?;
                Ok(None)
            }
            _ => Err(unknown()),
        }
    }

    fn set_mode(&mut self, mode: BootMode) -> Result<Option<Also>, Refusal> {
        let what = "the boot mode";
        if mode != BootMode::Bios && !self.uefi {
            let why = "this PC has no UEFI mode";
            return Err(Refusal::GreyedOut { what, why });
        }
        if mode != BootMode::Uefi && !self.csm {
            let why = "without the CSM there is only UEFI; switch the module on first";
            return Err(Refusal::GreyedOut { what, why });
        }
        self.mode = mode;
        Ok(None)
    }

    fn set_csm(&mut self, on: bool) -> Result<Option<Also>, Refusal> {
        let what = "the CSM";
        if on && self.secure_boot {
            let why = "Secure Boot is on; switch it off first";
            return Err(Refusal::GreyedOut { what, why });
        }
        if !on && !self.uefi {
            let why = "this PC has no UEFI mode";
            return Err(Refusal::GreyedOut { what, why });
        }
        self.csm = on;
        if on || self.mode == BootMode::Uefi {
            return Ok(None);
        }
        self.mode = BootMode::Uefi;
        Ok(Some(Also::ModeIsUefi))
    }

    fn set_secure_boot(&mut self, on: bool) -> Result<Option<Also>, Refusal> {
        let what = "Secure Boot";
        let greyed_out = |why| Err(Refusal::GreyedOut { what, why });
        if self.needs_password && !self.setup_password {
            return greyed_out("this PC wants a setup password first");
        }
        if on && self.csm {
            return greyed_out("the CSM is on; switch it off first");
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
            csm: firmware.csm.unwrap_or(mode != BootMode::Uefi),
            secure_boot: machine.secure_boot.value().copied().unwrap_or(false),
            has_platform_key: keys.is_some_and(|keys| !keys.are_none()),
            setup_password: firmware.setup_password.unwrap_or(false),
            needs_password: firmware.secure_boot_needs_password.unwrap_or(false),
        }
    }

    /// Changes a setting and keeps it in the file; what else changed with it.
    pub fn set(&mut self, key: &str, value: &str) -> Result<Option<Also>, SetError> {
        if (key, value) == ("keys", "factory") {
            return self.load_factory_keys();
        }
        let mut settings = self.settings();
        let note = settings.change(key, value)?;
        let changed = |file: &mut MachineFile| {
            file.set("mode", settings.mode.name().into())?;
            file.set("csm", settings.csm.into())?;
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

    /// Enrols what the manufacturer delivers, as a setup's "load factory keys" does.
    fn load_factory_keys(&self) -> Result<Option<Also>, SetError> {
        let what = "loading the factory keys";
        let Some(variables) = self.file.variables() else {
            let why = "the machine file names no folder for the firmware's variables";
            return Err(Refusal::GreyedOut { what, why }.into());
        };
        if !Keys::enrol_delivered(&variables)? {
            let why = "the manufacturer of this PC delivers none (variables PKDefault, dbDefault)";
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Event {
    /// A boot entry that cannot be read.
    EntryUnreadable {
        /// Its number.
        number: u16,
        /// Why not.
        fault: Cause,
    },
    /// A boot entry that is not active.
    EntryInactive {
        /// Which.
        entry: Tried,
    },
    /// A boot entry whose file is not there.
    EntryWithoutFile {
        /// Which.
        entry: Tried,
        /// Path of the file.
        path: String,
    },
    /// A boot entry for a partition that is on no attached disk.
    EntryWithoutPartition {
        /// Which.
        entry: Tried,
    },
    /// A boot entry that leads to something else.
    EntryElsewhere {
        /// Which.
        entry: Tried,
        /// To what.
        what: OtherTarget,
    },
    /// A disk without a GPT is not offered in UEFI mode.
    NotOffered {
        /// The disk.
        disk: String,
        /// The CSM is on, so that it is in BIOS mode.
        csm: bool,
    },
    /// A loader that cannot be read.
    LoaderUnreadable {
        /// What led to it.
        by: Tried,
        /// Its path.
        path: String,
    },
    /// A loader for another width than the firmware's 32 bits.
    OtherArchitecture {
        /// What led to it.
        by: Tried,
        /// Its path.
        path: String,
    },
    /// Secure Boot judged a loader.
    Judged {
        /// What led to it.
        by: Tried,
        /// Its path.
        path: String,
        /// How.
        verdict: Verdict,
    },
    /// A loader that does not come to the kernel.
    Ended {
        /// What led to it.
        by: Tried,
        /// Its path.
        path: String,
        /// The step at which it ended.
        step: StepId,
        /// What was found there.
        found: rehearse::Evidence,
    },
    /// A loader started Windows in UEFI mode.
    StartedUefi {
        /// What led to it.
        by: Tried,
        /// Its path.
        path: String,
    },
    /// A disk that starts nothing in BIOS mode.
    NothingInBios {
        /// The disk.
        disk: String,
        /// Why.
        why: NoBiosStart,
    },
    /// Sector 0 of a disk started a system in BIOS mode.
    StartedBios {
        /// The disk.
        disk: String,
        /// Title of the system's entry.
        title: String,
    },
}

impl Event {
    /// It is a start.
    pub fn started(&self) -> bool {
        matches!(self, Self::StartedUefi { .. } | Self::StartedBios { .. })
    }
}

/// What leads a firmware to a loader.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Tried {
    /// A boot entry: its number and its name.
    Entry(u16, String),
    /// The removable-media path of a disk.
    Disk(String),
}

/// Why a BIOS starts nothing from a disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum NoBiosStart {
    /// It cannot be read.
    Unreadable {
        /// Why not.
        fault: Cause,
    },
    /// It is a GPT disk.
    Gpt,
    /// Nothing in sector 0 starts.
    NoTable,
    /// No partition is active, or more than one is.
    NotOneActive,
    /// The active partition has no BCD store.
    NoStore {
        /// Its number.
        partition: usize,
    },
    /// The BCD store has no default entry.
    NoDefault,
    /// There is no Windows on it.
    NoWindows,
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

/// What became of a loader.
enum Loaded {
    /// Firmware does not start it, and goes on.
    Refused,
    /// It runs, and stops on the way to a system: it shows a message, and firmware does not go on to another disk.
    Ended,
    /// A system starts.
    Started,
}

struct Attempt<'a> {
    settings: &'a Settings,
    machine: &'a Machine,
    disks: &'a [AttachedDisk<'a>],
    events: Vec<Event>,
}

impl Attempt<'_> {
    fn uefi(&mut self) -> Option<Outcome> {
        let entries = self.machine.entries.value().into_iter().flatten();
        let mut tried = Vec::new();
        for entry in entries.filter(|entry| entry.place.is_some()) {
            let number = entry.number;
            let option = match &entry.option {
                Ok(option) => option,
                Err(error) => {
                    let fault = error.into();
                    self.events.push(Event::EntryUnreadable { number, fault });
                    continue;
                }
            };
            let entry = Tried::Entry(number, option.description.clone());
            if !option.is_active() {
                self.events.push(Event::EntryInactive { entry });
                continue;
            }
            let failed = match Target::of(option, self.disks) {
                Target::File { disk, path, .. } => match self.load(entry, disk, &path) {
                    Loaded::Started => return Some(Outcome::Started(BootMode::Uefi, disk)),
                    Loaded::Ended => return Some(Outcome::Nothing),
                    Loaded::Refused => {
                        tried.push((disk, path.to_uppercase()));
                        continue;
                    }
                },
                Target::NoFile { path, .. } => Event::EntryWithoutFile { entry, path },
                Target::NoPartition => Event::EntryWithoutPartition { entry },
                Target::Other(what) => Event::EntryElsewhere { entry, what },
            };
            self.events.push(failed);
        }
        for (at, disk) in self.disks.iter().enumerate() {
            let name = disk.name.to_owned();
            if !is_protected(disk.device) {
                self.events.push(Event::NotOffered {
                    disk: name,
                    csm: self.settings.csm,
                });
            } else if !tried.contains(&(at, REMOVABLE_X64.to_owned())) {
                match self.load(Tried::Disk(name), at, REMOVABLE_X64) {
                    Loaded::Started => return Some(Outcome::Started(BootMode::Uefi, at)),
                    Loaded::Ended => return Some(Outcome::Nothing),
                    Loaded::Refused => {}
                }
            }
        }
        None
    }

    /// Tries a loader.
    fn load(&mut self, by: Tried, at: usize, path: &str) -> Loaded {
        let Some(disk) = self.disks.get(at) else {
            return Loaded::Refused;
        };
        let path = path.to_owned();
        let Some(image) = read_loader(disk.device, &path) else {
            self.events.push(Event::LoaderUnreadable { by, path });
            return Loaded::Refused;
        };
        if self.settings.bits == 32 {
            self.events.push(Event::OtherArchitecture { by, path });
            return Loaded::Refused;
        }
        if self.settings.secure_boot {
            let keys = self.machine.keys.value().cloned().unwrap_or_default();
            let verdict = verdict(&image, &keys);
            let accepts = verdict.accepts();
            self.events.push(Event::Judged {
                by: by.clone(),
                path: path.clone(),
                verdict,
            });
            if !accepts {
                return Loaded::Refused;
            }
        }
        let rehearsal = rehearse::walk(disk.device, Some(&path));
        let starts = rehearsal.answer() != rehearse::Answer::DoesNotStart;
        let last = rehearsal.steps.into_iter().next_back();
        let Some(last) = last.filter(|_| !starts) else {
            self.events.push(Event::StartedUefi { by, path });
            return Loaded::Started;
        };
        let step = last.id;
        self.events.push(Event::Ended {
            by,
            path,
            step,
            found: last.evidence,
        });
        if step.is_firmwares() {
            Loaded::Refused
        } else {
            Loaded::Ended
        }
    }

    fn bios(&mut self) -> Option<Outcome> {
        for (at, attached) in self.disks.iter().enumerate() {
            let disk = attached.name.to_owned();
            match bios_start(attached.device) {
                Ok(title) => {
                    self.events.push(Event::StartedBios { disk, title });
                    return Some(Outcome::Started(BootMode::Bios, at));
                }
                Err(why) => self.events.push(Event::NothingInBios { disk, why }),
            }
        }
        None
    }
}

/// The title of what a BIOS starts from this disk, or why it starts nothing.
fn bios_start(device: &dyn ReadDevice) -> Result<String, NoBiosStart> {
    let profile = Profile::read(device, HostFacts::default());
    let profile = profile.map_err(|error| NoBiosStart::Unreadable {
        fault: error.into(),
    })?;
    match profile.table {
        Table::Mbr { .. } => {}
        _ if is_protected(device) => return Err(NoBiosStart::Gpt),
        _ => return Err(NoBiosStart::NoTable),
    }
    let partition = profile.boot.partition.ok_or(NoBiosStart::NotOneActive)?;
    let store = profile.boot.readable();
    let store = store.ok_or(NoBiosStart::NoStore { partition })?;
    let entry = store.default_entry().ok_or(NoBiosStart::NoDefault)?;
    match profile.systems.is_empty() {
        true => Err(NoBiosStart::NoWindows),
        false => Ok(entry.title()),
    }
}
