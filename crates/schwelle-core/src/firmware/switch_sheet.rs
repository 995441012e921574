//! The switch sheet: what to do in the firmware's setup of this PC for this disk, in the right order.
//!
//! Nobody can read a screen of this PC while it is in its setup, so the sheet stands on its own.

use crate::rehearse::Rehearsal;

use super::machine::{BootEntry, BootMode, Machine};
use super::secure_boot::Verdict;
use super::target::{AttachedDisk, Target};

/// What the sheet is made from.
#[derive(Debug)]
pub struct SheetFacts<'a> {
    /// The PC.
    pub machine: &'a Machine,
    /// The disk as the command line names it, fit to be typed.
    pub disk: &'a str,
    /// Its model, size or short name: what the technician knows it by.
    pub known_as: &'a str,
    /// Its rehearsal.
    pub rehearsal: &'a Rehearsal,
    /// Secure Boot's verdict on its boot manager.
    pub verdict: &'a Verdict,
    /// The key for the setup screen, from the policy.
    pub setup_key: Option<&'a str>,
    /// Where the disk stands in the boot order.
    pub entry: EntryPlace,
    /// A system on it needs the compatibility module's video, and knows no Secure Boot.
    pub needs_compatibility: bool,
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

/// A step, or an advice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SheetStep {
    /// What to do, or when this is for.
    pub what: String,
    /// What to see then, or what to do about it.
    pub check: String,
}

impl SheetStep {
    fn new(what: impl Into<String>, check: impl Into<String>) -> Self {
        let (what, check) = (what.into(), check.into());
        Self { what, check }
    }
}

/// The sheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SwitchSheet {
    /// What is missing before the switch may be made; empty for GO.
    pub missing: Vec<SheetStep>,
    /// The PC, in a line.
    pub pc: String,
    /// The disk, in a line.
    pub disk: String,
    /// What is right already, as far as it is known.
    pub already: Vec<String>,
    /// The steps in order.
    pub steps: Vec<SheetStep>,
    /// What is true about Secure Boot.
    pub secure_boot: String,
    /// What not to touch.
    pub leave_alone: Vec<String>,
    /// When it does not go as it should.
    pub trouble: Vec<SheetStep>,
    /// How to go back.
    pub way_back: Vec<String>,
}

impl SwitchSheet {
    /// Makes the sheet.
    pub fn new(facts: &SheetFacts<'_>) -> Self {
        let machine = facts.machine;
        let name = match (machine.maker.value(), machine.model.value()) {
            (Some(maker), Some(model)) => format!("{maker} {model}"),
            (Some(one), None) | (None, Some(one)) => one.clone(),
            (None, None) => "maker and model are not known".to_owned(),
        };
        let date = machine.firmware_date.value();
        let date = date.map_or(String::new(), |date| format!(", firmware of {date}"));
        Self {
            missing: missing(facts),
            pc: format!("{name}{date}"),
            disk: format!("{} ({})", facts.known_as, facts.disk),
            already: already(facts),
            steps: steps(facts),
            secure_boot: match facts.needs_compatibility {
                true => "Leave it off: this Windows knows no Secure Boot.".to_owned(),
                false => Self::about_secure_boot(facts.verdict),
            },
            leave_alone: leave_alone(),
            trouble: trouble(facts),
            way_back: way_back(),
        }
    }

    /// The switch may be made.
    pub fn is_go(&self) -> bool {
        self.missing.is_empty()
    }

    /// What is true about Secure Boot with this verdict on the boot manager.
    pub fn about_secure_boot(verdict: &Verdict) -> String {
        match verdict {
            Verdict::Accepted(why) => {
                format!("It can go on after the switch: the boot manager is accepted ({why}).")
            }
            Verdict::Refused {
                why,
                needs: Some(issuer),
            } => format!(
                "Leave it off until the firmware has the newer certificate, \"{issuer}\" (a firmware \
                 update, or its page for keys, may bring it): the boot manager is sound, but {why}."
            ),
            Verdict::Refused { why, needs: None } => {
                format!("Leave it off: this firmware would not start the boot manager: {why}.")
            }
            Verdict::NotTold(why) => format!(
                "Leave it off for the switch. Whether it can go on afterwards is not known ({why}): try \
                 it when all else works, and switch it off again if Windows does not start."
            ),
        }
    }
}

fn missing(facts: &SheetFacts<'_>) -> Vec<SheetStep> {
    let (machine, disk) = (facts.machine, facts.disk);
    let mut missing = Vec::new();
    if !facts.rehearsal.starts() {
        let last = facts.rehearsal.steps.last();
        let (step, evidence) = last.map_or(("", ""), |step| (step.id.name(), &*step.evidence));
        missing.push(SheetStep::new(
            format!("The disk would not start: its rehearsal ends at {step} ({evidence})."),
            format!("See what to do: schwelle rehearse {disk}"),
        ));
    }
    match (machine.uefi.value(), machine.uefi.how()) {
        (Some(true), _) => {}
        (_, Some(how)) => missing.push(SheetStep::new(
            format!(
                "It is not known whether this PC can start in UEFI mode: {}.",
                machine.uefi.evidence()
            ),
            how,
        )),
        _ => missing.push(SheetStep::new(
            format!(
                "This PC cannot start in UEFI mode: {}.",
                machine.uefi.evidence()
            ),
            "A converted disk does not start in it. Take the conversion back: schwelle undo --job \
             DIR",
        )),
    }
    if machine.bits.value() == Some(&32) {
        missing.push(SheetStep::new(
            "This PC's firmware works with 32 bits and does not start 64-bit loaders.",
            "A converted disk does not start in it. Take the conversion back: schwelle undo --job \
             DIR",
        ));
    }
    missing
}

fn already(facts: &SheetFacts<'_>) -> Vec<String> {
    let machine = facts.machine;
    let mut already = Vec::new();
    if machine.mode.value() == Some(&BootMode::Uefi) {
        already.push("The boot mode is UEFI.".to_owned());
    }
    match facts.entry {
        EntryPlace::First => already.push("The disk comes first in the boot order.".to_owned()),
        EntryPlace::Later => {
            already.push("The disk has a boot entry; it does not come first.".to_owned());
        }
        EntryPlace::Missing | EntryPlace::Unknown => {}
    }
    match machine.secure_boot.value() {
        Some(true) if facts.verdict.accepts() && !facts.needs_compatibility => {
            already.push("Secure Boot is on, and accepts the boot manager.".to_owned());
        }
        Some(false) => already.push("Secure Boot is off.".to_owned()),
        _ => {}
    }
    already
}

/// What must be changed in the setup screen, or can only be looked at there.
fn needs_setup(facts: &SheetFacts<'_>) -> bool {
    let is_on = facts.machine.secure_boot.value() == Some(&true);
    let refused = is_on && (facts.needs_compatibility || !facts.verdict.accepts());
    refused
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
        let what = format!("In this session: schwelle firmware entry {}", facts.disk);
        let check = "It says that the disk's boot entry was written and comes first.";
        steps.push(SheetStep::new(what, check));
    }
    if needs_setup(facts) {
        setup_steps(facts, &mut steps);
    }
    if needs_setup(facts) && facts.entry != EntryPlace::First && !by_entry {
        let what = format!(
            "Put the UEFI entry of this disk first in the boot order: {}.",
            facts.known_as
        );
        let check = "It stands first, marked UEFI, or as \"Windows Boot Manager\". If the disk is not in \
            the list, see below.";
        steps.push(SheetStep::new(what, check));
    }
    let what = if needs_setup(facts) {
        "Save and leave. Take the rescue stick out."
    } else {
        "Restart. Take the rescue stick out."
    };
    let check = "Windows starts. The first start may take longer, and may ask for a restart.";
    steps.push(SheetStep::new(what, check));
    last_steps(facts, &mut steps);
    steps
}

/// Into the setup, and the modes.
fn setup_steps(facts: &SheetFacts<'_>, steps: &mut Vec<SheetStep>) {
    let machine = facts.machine;
    let enter = match facts.setup_key {
        Some(key) => format!("Switch the PC on and press {key} at once, several times."),
        None => "Switch the PC on and press the key for its setup at once, several times. The key \
            is shown for a moment; most often it is Del, F2, F10, F12 or Esc."
            .to_owned(),
    };
    let enter = if machine.can_ask_for_setup.value() == Some(&true) {
        format!(
            "{enter} Or have it shown without a key: in a session on this PC that was started in UEFI \
             mode, schwelle firmware setup, and restart."
        )
    } else {
        enter
    };
    let setup = "The setup screen. Note, or photograph, every page that you are going to change.";
    steps.push(SheetStep::new(enter, setup));
    let is_on = machine.secure_boot.value() == Some(&true);
    if is_on && (facts.needs_compatibility || !facts.verdict.accepts()) {
        let what = "Switch Secure Boot off (page Security or Boot). Leave its keys as they are.";
        let check = "Secure Boot: off, or Disabled.";
        steps.push(SheetStep::new(what, check));
    }
    if machine.mode.value() != Some(&BootMode::Uefi) {
        let what = "Set the boot mode to UEFI (page Boot). Where there is \"both\", take UEFI alone. \
            Leave the compatibility module as it is for now.";
        let check = "The boot mode says UEFI. The list of boot devices has changed: what it offers \
            now are UEFI entries.";
        steps.push(SheetStep::new(what, check));
    }
}

/// What comes after the first start.
fn last_steps(facts: &SheetFacts<'_>, steps: &mut Vec<SheetStep>) {
    let machine = facts.machine;
    let is_on = machine.secure_boot.value() == Some(&true);
    let what = format!(
        "Shut Windows down, start the rescue stick, and ask: schwelle confirm {}",
        facts.disk
    );
    steps.push(SheetStep::new(what, "It says \"Confirmed\"."));
    if facts.needs_compatibility {
        let what = "Leave the compatibility module (CSM) on, and Secure Boot off: this Windows draws its start screen \
            with the module's video.";
        let check = "If it hangs at its start screen, the module is off or has no video.";
        steps.push(SheetStep::new(what, check));
        return;
    }
    if machine.compatibility.value() != Some(&false) {
        let what =
            "Only now: in the setup, switch the compatibility module off, where there is one.";
        let check = "Windows starts again. If not, switch it on again and leave it so.";
        steps.push(SheetStep::new(what, check));
    }
    if !is_on && facts.verdict.accepts() {
        let what = "If Secure Boot is wanted: switch it on now. Where it is greyed out: the \
            compatibility module must be off, the factory keys loaded, and on some PCs a setup \
            password set.";
        let check = "Windows starts again. If not, switch it off again.";
        steps.push(SheetStep::new(what, check));
    }
}

fn leave_alone() -> Vec<String> {
    [
        "The mode of the disk controller (AHCI, RAID, IDE): changed, Windows does not find its disk.",
        "The security chip (TPM): cleared, encrypted volumes ask for their recovery key.",
        "Secure Boot's keys: not deleted, not replaced.",
        "\"Load defaults\": it changes all of these at once.",
    ]
    .map(str::to_owned)
    .to_vec()
}

fn trouble(facts: &SheetFacts<'_>) -> Vec<SheetStep> {
    let disk = facts.disk;
    vec![
        SheetStep::new(
            "The disk is not in the list of boot devices",
            format!(
                "Leave the setup with saving once, and enter it again: many firmwares look only \
                 then. If there is \"boot from file\" or \"add boot option\", take \
                 \\EFI\\Microsoft\\Boot\\bootmgfw.efi on this disk. Or start the rescue stick in UEFI mode \
                 and write the entry: schwelle firmware entry {disk}"
            ),
        ),
        SheetStep::new(
            "A text says that this disk starts in UEFI mode only",
            "The PC still starts in BIOS mode: the boot mode was not saved, or \"both\" is set and BIOS \
             comes first. Nothing is wrong with the disk.",
        ),
        SheetStep::new(
            "A message about Secure Boot, a security violation or an invalid signature",
            "Switch Secure Boot off.",
        ),
        SheetStep::new(
            "Windows shows a blue screen or its repair page",
            format!(
                "Do not let it repair the start. Start the rescue stick and look: schwelle rehearse \
                 {disk}"
            ),
        ),
    ]
}

fn way_back() -> Vec<String> {
    [
        "In the setup: Secure Boot off, the compatibility module on, the boot mode back to what it was.",
        "Start the rescue stick and take the conversion back: schwelle undo --job DIR (the folder that \
         convert was given).",
        "The disk starts in BIOS mode as before.",
    ]
    .map(str::to_owned)
    .to_vec()
}
