//! What a simulated PC does when it is switched on.

use schwelle_core::switch::{Also, Event, NoBiosStart, Tried};

use super::{facts, secure_boot, steps};

/// Something that its firmware tried.
pub(crate) fn event(event: &Event) -> String {
    match event {
        Event::EntryUnreadable { number, fault } => format!("Boot{number:04X}: {fault}"),
        Event::EntryInactive { entry } => format!("{} is not active", tried(entry)),
        Event::EntryWithoutFile { entry, path } => {
            format!("{}: {path} is not there", tried(entry))
        }
        Event::EntryWithoutPartition { entry } => {
            format!(
                "{} names a partition that is on no attached disk",
                tried(entry)
            )
        }
        Event::EntryElsewhere { entry, what } => {
            format!(
                "{} leads to {}: nothing starts there",
                tried(entry),
                facts::other_target(*what)
            )
        }
        Event::NotOffered { disk, csm } => {
            let only = match csm {
                true => "in UEFI mode it is not offered",
                false => "with the CSM off it is not offered at all",
            };
            format!("{disk}: no GPT; {only}")
        }
        Event::LoaderUnreadable { by, path } => format!("{}: {path} cannot be read", tried(by)),
        Event::OtherArchitecture { by, path } => format!(
            "{}: {path}: this firmware is 32-bit and takes no x64 program",
            tried(by)
        ),
        Event::Judged { by, path, verdict } => {
            let word = match verdict.accepts() {
                true => "accepts",
                false => "refuses",
            };
            let reason = secure_boot::reason(verdict);
            format!("{}: Secure Boot {word} {path}: {reason}", tried(by))
        }
        Event::Ended {
            by,
            path,
            step,
            found,
        } => {
            // A program that runs keeps the PC: firmware goes on only where it could not load one.
            let stays = match step.is_firmwares() {
                true => "",
                false => "; it has been started and stays, so no other disk is tried",
            };
            format!(
                "{}: {path} ends at the step {}: {}{stays}",
                tried(by),
                step.name(),
                steps::found(found)
            )
        }
        Event::StartedUefi { by, path } => {
            format!("{}: {path} starts Windows in UEFI mode", tried(by))
        }
        Event::NothingInBios { disk, why } => format!("{disk}: {}", no_start(why)),
        Event::StartedBios { disk, title } => {
            format!("{disk}: sector 0 starts \"{title}\" in BIOS mode")
        }
    }
}

fn tried(tried: &Tried) -> String {
    match tried {
        Tried::Entry(number, name) => format!("Boot{number:04X} \"{name}\""),
        Tried::Disk(name) => name.clone(),
    }
}

fn no_start(why: &NoBiosStart) -> String {
    match why {
        NoBiosStart::Unreadable { fault } => fault.to_string(),
        NoBiosStart::Gpt => {
            "a GPT disk: sector 0 shows a message that it starts in UEFI mode only".to_owned()
        }
        NoBiosStart::NoTable => "nothing in sector 0 that starts".to_owned(),
        NoBiosStart::NotOneActive => "no partition is active, or more than one".to_owned(),
        NoBiosStart::NoStore { partition } => {
            format!("partition {partition} is active and has no BCD store")
        }
        NoBiosStart::NoDefault => "the BCD store has no default entry".to_owned(),
        NoBiosStart::NoWindows => "there is no Windows on it".to_owned(),
    }
}

/// What changed with a setting.
pub(crate) fn also(also: Also) -> &'static str {
    match also {
        Also::ModeIsUefi => "the boot mode is UEFI now: without the CSM there is no other",
    }
}
