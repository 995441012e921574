//! The switch sheet: its steps, and what is the same on every one.

use schwelle_core::rehearse::LinuxOnEsp;
use schwelle_core::switch::{Already, Missing, SheetStep};
use uuid::Uuid;

use super::{facts, steps};

/// What to do, or when an advice is for; and what to see then, or what to do about it.
pub(crate) type Lines = (String, String);

fn lines(what: impl Into<String>, check: impl Into<String>) -> Lines {
    (what.into(), check.into())
}

/// What is missing. `disk` is the disk as it is typed.
pub(crate) fn missing(missing: &Missing, disk: &str) -> Lines {
    const TAKE_BACK: &str =
        "A converted disk does not start in it. Take the conversion back: schwelle undo --job DIR";
    match missing {
        Missing::DoesNotStart { step, found } => lines(
            format!(
                "The disk would not start: its rehearsal ends at {} ({}).",
                step.name(),
                steps::found(found)
            ),
            format!("See what to do: schwelle rehearse {disk}"),
        ),
        Missing::Depends { step, found } => lines(
            format!(
                "Some firmware would not start the disk: its rehearsal has a caution at {} ({}).",
                step.name(),
                steps::found(found)
            ),
            format!("See what to do: schwelle rehearse {disk}"),
        ),
        Missing::UefiNotReported { why, how } => lines(
            format!(
                "It is not known whether this PC can start in UEFI mode: {}.",
                facts::ground(why)
            ),
            facts::how(*how),
        ),
        Missing::NoUefi { source } => lines(
            format!(
                "This PC cannot start in UEFI mode: {}.",
                facts::ground(source)
            ),
            TAKE_BACK,
        ),
        Missing::OtherArchitecture => lines(
            "This PC's firmware is 32-bit and does not start 64-bit loaders.",
            TAKE_BACK,
        ),
    }
}

/// What is right already.
pub(crate) fn already(already: Already) -> &'static str {
    match already {
        Already::Uefi => "The boot mode is UEFI.",
        Already::EntryFirst => "The disk comes first in the boot order.",
        Already::EntryLater => "The disk has a boot entry; it does not come first.",
        Already::SecureBootOn => "Secure Boot is on, and accepts the boot manager.",
        Already::SecureBootOff => "Secure Boot is off.",
    }
}

/// A step, and what to see then. `disk` is the disk as it is typed, `known_as` what the technician knows it by.
pub(crate) fn step(step: &SheetStep, disk: &str, known_as: &str) -> Lines {
    match step {
        SheetStep::WriteEntry => lines(
            format!("In this session: schwelle firmware entry {disk}"),
            "It says that the disk's boot entry was written and comes first.",
        ),
        SheetStep::EnterSetup { key, can_be_asked } => lines(
            enter_setup(key.as_deref(), *can_be_asked),
            "The setup screen. Note, or photograph, every page that you are going to change.",
        ),
        SheetStep::SecureBootOff => lines(
            "Switch Secure Boot off (page Security or Boot). Leave its keys as they are.",
            "Secure Boot: off, or Disabled.",
        ),
        SheetStep::SetMode => lines(
            "Set the boot mode to UEFI (page Boot). Where there is \"both\", take UEFI alone. Leave the \
             compatibility support module (CSM) as it is for now.",
            "The boot mode says UEFI. The list of boot devices has changed: what it offers now are UEFI entries.",
        ),
        SheetStep::PutFirst => lines(
            format!("Put the UEFI entry of this disk first in the boot order: {known_as}."),
            "It is first, marked UEFI, or as \"Windows Boot Manager\". If the disk is not in the list, see \
             below.",
        ),
        SheetStep::SaveAndLeave => lines(
            "Save and leave. Take the rescue stick out, if one is in.",
            FIRST_START,
        ),
        SheetStep::Restart => lines(
            "Restart. Take the rescue stick out, if one is in.",
            FIRST_START,
        ),
        SheetStep::RecoveryPassword { ids } => lines(
            format!(
                "At this first start Windows asks once for the recovery password of its encrypted volume{}. Type it.",
                key_ids(ids)
            ),
            "Windows starts, and does not ask at its next start. If it does: suspend and resume protection in Windows.",
        ),
        SheetStep::SealsKey => lines(
            "The encrypted volume's protection is suspended: Windows needs nothing from you, and protects its key again.",
            "Windows says that protection is on. If not: resume it there.",
        ),
        SheetStep::Confirm => lines(
            format!(
                "Ask: schwelle confirm (in this Windows, as administrator, without naming a disk). Or shut it down, start \
                 the rescue stick, and ask: schwelle confirm {disk}"
            ),
            "It says \"Confirmed\".",
        ),
        SheetStep::LinuxAfterwards {
            loader,
            volume,
            needs_entry,
        } => linux_afterwards(disk, (loader, *volume), *needs_entry),
        SheetStep::KeepCsm => lines(
            "Leave the CSM on, and Secure Boot off: a Windows before 8 draws its start screen \
             with its video.",
            "If it hangs at its start screen, the CSM is off or has no video.",
        ),
        SheetStep::CsmOff => lines(
            "Only now: in the setup, switch the CSM off, if there is one.",
            "The system starts again. If not, switch it on again and leave it so.",
        ),
        SheetStep::SecureBootOn => lines(
            "If Secure Boot is wanted: switch it on now. Where it is greyed out: the CSM must \
             be off, the factory keys loaded, and on some PCs a setup password set.",
            "The system starts again. If not, switch it off again.",
        ),
    }
}

/// What a Linux must do itself once it has started.
fn linux_afterwards(disk: &str, (loader, volume): (&str, u32), needs_entry: bool) -> Lines {
    let name = LinuxOnEsp::name_of(loader);
    let (high, low) = (volume >> 16, volume & 0xFFFF);
    let start = match needs_entry {
        true => format!(
            "Start the Linux of {loader}: by its own boot entry (schwelle firmware entry {disk} --system {name}, in a \
             session in UEFI mode), or from the firmware's boot menu. Then, in it: "
        ),
        false => format!("In the Linux of {loader}: "),
    };
    lines(
        format!(
            "{start}add \"UUID={high:04X}-{low:04X} /boot/efi vfat umask=0077 0 1\" to /etc/fstab, make that folder, \
             mount it, and install its UEFI boot loader (Debian, Ubuntu: apt install grub-efi-amd64-signed \
             shim-signed; then grub-install and update-grub)."
        ),
        "The folder /sys/firmware/efi is there, and it starts again. From then on it keeps its boot loader itself.",
    )
}

fn key_ids(ids: &[Uuid]) -> String {
    let ids: Vec<String> = ids.iter().map(|id| id.to_string().to_uppercase()).collect();
    match &ids[..] {
        [] => String::new(),
        ids => format!(" (key ID {})", ids.join(" or ")),
    }
}

const FIRST_START: &str =
    "The system starts. The first start may take longer, and may ask for a restart.";

fn enter_setup(key: Option<&str>, can_be_asked: bool) -> String {
    let enter = match key {
        Some(key) => format!("Switch the PC on and press {key} at once, several times."),
        None => "Switch the PC on and press the key for its setup at once, several times. The key is shown for a \
                 moment; most often it is Del, F2, F10, F12 or Esc."
            .to_owned(),
    };
    match can_be_asked {
        true => format!(
            "{enter} Or have it shown without a key: in a session on this PC that was started in UEFI mode, \
             schwelle firmware setup, and restart."
        ),
        false => enter,
    }
}

/// The step about Secure Boot where the installed Windows knows none.
pub(crate) const NO_SECURE_BOOT: &str = "Leave it off: this Windows does not support Secure Boot.";

/// What not to touch.
pub(crate) const LEAVE_ALONE: [&str; 4] = [
    "The mode of the disk controller (AHCI, RAID, IDE): do not change it, or Windows does not find its disk.",
    "The security chip (TPM): do not clear it, or encrypted volumes ask for their recovery key.",
    "Secure Boot's keys: do not delete or replace them.",
    "\"Load defaults\": do not use it. It changes all of these at once.",
];

/// How to go back.
pub(crate) const WAY_BACK: [&str; 3] = [
    "In the setup: Secure Boot off, the CSM on, the boot mode back to what it was.",
    "Start the rescue stick and take the conversion back: schwelle undo --job DIR (the folder that convert was \
     given).",
    "The disk starts in BIOS mode as before.",
];

/// When it does not go as it should.
pub(crate) fn trouble(disk: &str) -> Vec<Lines> {
    vec![
        lines(
            "The disk is not in the list of boot devices",
            format!(
                "Save and exit, then enter setup again: many firmwares look only then. If there is \
                 \"boot from file\" or \"add boot option\", take \\EFI\\Microsoft\\Boot\\bootmgfw.efi on this \
                 disk. Or start the rescue stick in UEFI mode and write the entry: schwelle firmware entry {disk}"
            ),
        ),
        lines(
            "A message says that this disk starts in UEFI mode only",
            "The PC still starts in BIOS mode: the boot mode was not saved, or \"both\" is set and BIOS comes \
             first. Nothing is wrong with the disk.",
        ),
        lines(
            "A message about Secure Boot, a security violation or an invalid signature",
            "Switch Secure Boot off.",
        ),
        lines(
            "Windows shows a blue screen or its repair page",
            format!(
                "Do not let it run its startup repair. Start the rescue stick and look: schwelle rehearse {disk}"
            ),
        ),
    ]
}
