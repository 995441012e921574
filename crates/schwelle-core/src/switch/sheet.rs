//! The switch sheet: what to do in the firmware's setup of this PC for this disk, in the right order.
//!
//! This PC shows nothing else while it is in its setup, so the sheet stands on its own. Here are its
//! steps as values; what is the same on every sheet is a matter of words alone.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::firmware::{AttachedDisk, BootEntry, BootMode, Ground, How, Machine, Target, Verdict};
use crate::profile::Encryption;
use crate::rehearse::{self, Answer, LinuxOnEsp, Rehearsal, StepId};

/// What the sheet is made from.
#[derive(Debug)]
pub struct SheetFacts<'a> {
    /// The PC.
    pub machine: &'a Machine,
    /// Its rehearsal.
    pub rehearsal: &'a Rehearsal,
    /// Secure Boot's verdict on its boot manager.
    pub verdict: &'a Verdict,
    /// The key for the setup screen, from the policy.
    pub setup_key: Option<&'a str>,
    /// Where the disk stands in the boot order.
    pub entry: EntryPlace,
    /// A system on it needs the CSM's video, and knows no Secure Boot.
    pub needs_csm: bool,
    /// The encrypted volume of Windows on it, where it is open here.
    pub encryption: Option<&'a Encryption>,
    /// The Linux systems that start from its EFI system partition.
    pub linux: Option<&'a LinuxOnEsp>,
}

/// Where a disk stands in a PC's boot order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryPlace {
    /// The boot order is not known.
    Unknown,
    /// No boot entry leads to a loader on it.
    Missing,
    /// There is an entry, and another one comes first.
    Later,
    /// Its entry comes first.
    First,
}

impl EntryPlace {
    /// Where `disk` stands in the boot order of `machine`.
    pub fn of(machine: &Machine, disk: AttachedDisk<'_>) -> Self {
        let Some(entries) = machine.entries.value() else {
            return Self::Unknown;
        };
        let leads_here = |entry: &&BootEntry| {
            let target = entry
                .option
                .as_ref()
                .map(|option| Target::of(option, &[disk]));
            entry.place.is_some() && matches!(target, Ok(Target::File { .. }))
        };
        match entries
            .iter()
            .find(leads_here)
            .and_then(|entry| entry.place)
        {
            None => Self::Missing,
            Some(0) => Self::First,
            Some(_) => Self::Later,
        }
    }
}

/// What is missing before the switch may be made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Missing {
    /// The disk would not start.
    DoesNotStart {
        /// The step at which its rehearsal ends.
        step: StepId,
        /// What was found there.
        found: Box<rehearse::Evidence>,
    },
    /// Some firmware would start the disk, and some would not.
    Depends {
        /// The first step that does not quite hold.
        step: StepId,
        /// What was found there.
        found: Box<rehearse::Evidence>,
    },
    /// Whether the PC can start in UEFI mode is not known.
    UefiNotReported {
        /// Why not.
        why: Ground,
        /// How to find out.
        how: How,
    },
    /// The PC cannot start in UEFI mode.
    NoUefi {
        /// Where that is known from.
        source: Ground,
    },
    /// The firmware works with 32 bits.
    OtherArchitecture,
}

/// What is right already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Already {
    /// The boot mode is UEFI.
    Uefi,
    /// The disk comes first in the boot order.
    EntryFirst,
    /// The disk has a boot entry, which does not come first.
    EntryLater,
    /// Secure Boot is on, and accepts the boot manager.
    SecureBootOn,
    /// Secure Boot is off.
    SecureBootOff,
}

/// A step of the switch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum SheetStep {
    /// Write the disk's boot entry in this session.
    WriteEntry,
    /// Enter the setup.
    EnterSetup {
        /// The key for it, where the workshop has noted it.
        key: Option<String>,
        /// The firmware can also be asked for it.
        can_be_asked: bool,
    },
    /// Switch Secure Boot off.
    SecureBootOff,
    /// Set the boot mode to UEFI.
    SetMode,
    /// Put the disk first in the boot order.
    PutFirst,
    /// Save, leave the setup, and start.
    SaveAndLeave,
    /// Restart.
    Restart,
    /// At its first start Windows asks for the recovery password of its volume.
    RecoveryPassword {
        /// Its identifiers, of which one is asked for.
        ids: Vec<Uuid>,
    },
    /// At its first start Windows protects the key of its volume again by itself.
    SealsKey,
    /// Ask whether Windows has started.
    Confirm,
    /// See in a Linux that it has started in UEFI mode, and let it keep its boot loader itself from then on.
    LinuxAfterwards {
        /// Path of its loader on the EFI system partition.
        loader: String,
        /// Volume number of that partition.
        volume: u32,
        /// Windows starts without a boot entry, so that this one needs one.
        needs_entry: bool,
    },
    /// Leave the CSM on.
    KeepCsm,
    /// Switch the CSM off.
    CsmOff,
    /// Switch Secure Boot on, if it is wanted.
    SecureBootOn,
}

/// The sheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SwitchSheet {
    /// What is missing before the switch may be made; empty for GO.
    pub missing: Vec<Missing>,
    /// What is right already, as far as it is known.
    pub already: Vec<Already>,
    /// The steps in order.
    pub steps: Vec<SheetStep>,
    /// Secure Boot's verdict on the boot manager; `None` where the installed Windows knows no Secure Boot.
    pub secure_boot: Option<Verdict>,
}

impl SwitchSheet {
    /// Makes the sheet.
    pub fn new(facts: &SheetFacts<'_>) -> Self {
        Self {
            missing: missing(facts),
            already: already(facts),
            steps: steps(facts),
            secure_boot: (!facts.needs_csm).then(|| facts.verdict.clone()),
        }
    }

    /// The switch may be made.
    pub fn is_go(&self) -> bool {
        self.missing.is_empty()
    }
}

fn missing(facts: &SheetFacts<'_>) -> Vec<Missing> {
    let machine = facts.machine;
    let mut missing = Vec::new();
    if !facts.rehearsal.starts() {
        let fault = facts.rehearsal.first_fault();
        missing.extend(fault.map(|step| {
            let found = Box::new(step.evidence.clone());
            let step = step.id;
            match facts.rehearsal.answer() {
                Answer::Depends => Missing::Depends { step, found },
                _ => Missing::DoesNotStart { step, found },
            }
        }));
    }
    let source = machine.uefi.ground().clone();
    match (machine.uefi.value(), machine.uefi.how()) {
        (Some(true), _) => {}
        (_, Some(how)) => missing.push(Missing::UefiNotReported { why: source, how }),
        _ => missing.push(Missing::NoUefi { source }),
    }
    if machine.bits.value() == Some(&32) {
        missing.push(Missing::OtherArchitecture);
    }
    missing
}

fn already(facts: &SheetFacts<'_>) -> Vec<Already> {
    let machine = facts.machine;
    let mode = machine.mode.value() == Some(&BootMode::Uefi);
    let entry = match facts.entry {
        EntryPlace::First => Some(Already::EntryFirst),
        EntryPlace::Later => Some(Already::EntryLater),
        EntryPlace::Missing | EntryPlace::Unknown => None,
    };
    let secure_boot = match machine.secure_boot.value() {
        Some(true) if facts.verdict.accepts() && !facts.needs_csm => Some(Already::SecureBootOn),
        Some(false) => Some(Already::SecureBootOff),
        _ => None,
    };
    let mode = mode.then_some(Already::Uefi);
    mode.into_iter().chain(entry).chain(secure_boot).collect()
}

/// Secure Boot is on, and would keep the boot manager from running.
fn secure_boot_must_go(facts: &SheetFacts<'_>) -> bool {
    let is_on = facts.machine.secure_boot.value() == Some(&true);
    is_on && (facts.needs_csm || !facts.verdict.accepts())
}

/// What must be changed in the setup screen, or can only be looked at there.
fn needs_setup(facts: &SheetFacts<'_>) -> bool {
    secure_boot_must_go(facts)
        || facts.machine.mode.value() != Some(&BootMode::Uefi)
        || facts.entry == EntryPlace::Unknown
}

fn steps(facts: &SheetFacts<'_>) -> Vec<SheetStep> {
    let machine = facts.machine;
    let mut steps = Vec::new();
    let in_uefi_session = machine.session.value() == Some(&BootMode::Uefi);
    let by_entry =
        in_uefi_session && matches!(facts.entry, EntryPlace::Missing | EntryPlace::Later);
    if by_entry {
        steps.push(SheetStep::WriteEntry);
    }
    let in_setup = needs_setup(facts);
    if in_setup {
        steps.push(SheetStep::EnterSetup {
            key: facts.setup_key.map(str::to_owned),
            can_be_asked: machine.can_ask_for_setup.value() == Some(&true),
        });
        steps.extend(secure_boot_must_go(facts).then_some(SheetStep::SecureBootOff));
        let is_set = machine.mode.value() == Some(&BootMode::Uefi);
        steps.extend((!is_set).then_some(SheetStep::SetMode));
        let must_move = facts.entry != EntryPlace::First && !by_entry;
        steps.extend(must_move.then_some(SheetStep::PutFirst));
    }
    steps.push(match in_setup {
        true => SheetStep::SaveAndLeave,
        false => SheetStep::Restart,
    });
    steps.extend(facts.encryption.map(|encryption| {
        if encryption.is_protected() {
            SheetStep::RecoveryPassword {
                ids: encryption.recovery_ids.clone(),
            }
        } else {
            SheetStep::SealsKey
        }
    }));
    let has_windows = facts.linux.is_none_or(|linux| linux.has_windows);
    steps.extend(has_windows.then_some(SheetStep::Confirm));
    if let Some(linux) = facts.linux {
        let step = |loader: &String| SheetStep::LinuxAfterwards {
            loader: loader.clone(),
            volume: linux.volume_id,
            needs_entry: linux.has_windows,
        };
        steps.extend(linux.loaders.iter().map(step));
    }
    // What comes after the first start.
    if facts.needs_csm {
        steps.push(SheetStep::KeepCsm);
        return steps;
    }
    if machine.csm.value() != Some(&false) {
        steps.push(SheetStep::CsmOff);
    }
    let is_on = machine.secure_boot.value() == Some(&true);
    if !is_on && facts.verdict.accepts() {
        steps.push(SheetStep::SecureBootOn);
    }
    steps
}
