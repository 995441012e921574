//! The rules about the way back, from GPT to MBR.

use schwelle_core::fit::{Tight, WhyTight};
use schwelle_core::rules::answers::back::{Evidence, Remedy};

use super::super::facts::ground;
use super::super::{nth, unfit};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::MbrAlready => "the disk has an MBR already".to_owned(),
        Evidence::NoGpt { table } => format!("no GPT: the table is {}", table.name()),
        Evidence::GptSound { partitions } => {
            format!("both copies are sound and name the same {partitions} partitions")
        }
        Evidence::BeyondReach { last_lba, reach } => {
            format!("ends at {last_lba}; an MBR reaches to {reach}")
        }
        Evidence::TooManyForMbr {
            partitions,
            logical,
            tight,
        } => {
            let tight: Vec<String> = tight.iter().map(why_tight).collect();
            format!(
                "{partitions} partitions: at least {logical} that lie side by side must become logical ones, \
                 with a free sector before each; {}",
                tight.join(", ")
            )
        }
        Evidence::Shares {
            primaries,
            logical: 0,
        } => format!("{primaries} primary partitions"),
        Evidence::Shares { primaries, logical } => {
            format!("{primaries} primary partitions, and {logical} that become logical ones")
        }
        Evidence::LostSpace { mib, from } => {
            format!("{mib} MiB lie where no MBR partition can begin ({from} on)")
        }
        Evidence::NoMbrType { gpt_type } => {
            format!("no MBR type is known for its type {gpt_type}")
        }
        Evidence::ReservedInUse { at: Some(at) } => {
            format!("{at}: a reserved partition that holds something")
        }
        Evidence::ReservedInUse { at: None } => {
            "a reserved partition that could not be looked through".to_owned()
        }
        Evidence::LeftOut { name } => format!("{name}, all zeros: left out of the new table"),
        Evidence::NoEspToStart => "there is no EFI system partition".to_owned(),
        Evidence::SeveralEsps { count } => {
            format!("{count} EFI system partitions, and it is not clear which is meant")
        }
        Evidence::SectorsForBios { bytes } => format!(
            "its sectors have {bytes} bytes, and a BIOS starts from sectors of 512 bytes only"
        ),
        Evidence::EspCannotTake { why } => {
            format!("cannot take the boot files for BIOS mode: {why}")
        }
        Evidence::EspBecomesActive => {
            "becomes a small active FAT32 partition; what is on it stays".to_owned()
        }
        Evidence::BiosFileMissing { path } => format!("{path} is missing"),
        Evidence::BiosFileEmpty { path } => format!("{path} is empty"),
        Evidence::BiosFileFault { path, why } => format!("{path}: {why}"),
        Evidence::LoaderUnfit { path, why } => unfit(path, why),
        Evidence::BiosFileTooLong { path, bytes, limit } => {
            format!("{path} has {bytes} bytes; the boot record has room in memory for {limit}")
        }
        Evidence::BiosFiles { files, kib } => format!("{files} files, {kib} KiB"),
        Evidence::BiosOnlyPc { source } => format!("it has no other mode: {}", ground(source)),
        Evidence::BiosAble { source } => ground(source),
        Evidence::BiosNotKnown => "whether it can start in BIOS mode is not known".to_owned(),
        Evidence::SecureBootOn { source } => format!("Secure Boot is on: {}", ground(source)),
    }
}

fn why_tight(tight: &Tight) -> String {
    let why = match tight.why {
        WhyTight::Active => "is the active one".to_owned(),
        WhyTight::BehindTable => "begins right after the table".to_owned(),
        WhyTight::BehindPartition(number) => format!("begins right after partition {number}"),
    };
    format!("partition {} {why}", tight.number)
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    let fixed = match remedy {
        Remedy::NothingToTakeBack => {
            return format!(
                "Nothing to take back. Ask whether it starts in BIOS mode: {}",
                nth(next, 0)
            );
        }
        Remedy::MendTable => {
            return format!(
                "Mend the table first; what that means is shown by: {}",
                nth(next, 0)
            );
        }
        Remedy::MendForUefi => {
            return format!(
                "It is what a BIOS would start from. If the disk should start in UEFI mode: {}; then check again.",
                nth(next, 0)
            );
        }
        Remedy::EndBefore => {
            "Make the volume end before that, with its own system, and check again; or leave the disk GPT."
        }
        Remedy::MakeRoomForRecords => {
            "Shrink the volume before one of these by 1 MiB with its own system; or \
             back up and delete a partition that is not needed; then check again."
        }
        Remedy::NumbersChange => {
            "They keep their places and their content; their numbers change (logical ones count from 5). What \
             starts by a number, such as another system's boot loader, must be given the new one."
        }
        Remedy::NotUsedMeanwhile => {
            "They cannot be used while the disk is MBR. They become usable when it is GPT again."
        }
        Remedy::GiveMbrForm => {
            "Find out what made this partition. To keep it, add its type to the policy ([[type]] byte, guid; \
             docs/policy.toml) and check again with --policy FILE; if it is not needed, back it up and delete it."
        }
        Remedy::WhoUsesReserved => {
            "Find out what uses it (a dynamic disk does). An MBR has no such type, and what it holds would not \
             be named any more."
        }
        Remedy::WhichEsp => {
            "See which of them the PC starts from. Back the other up, give it another type, and check again."
        }
        Remedy::LeaveGpt => "Leave the disk GPT: in UEFI mode it starts.",
        Remedy::MendEsp => "Repair it with its own system, or make room on it, and check again.",
        Remedy::TakeLetterAway => {
            "An MBR cannot say that a partition gets no drive letter. Where Windows shows it as a drive, take \
             the letter away in its disk management, and leave the partition as it is."
        }
        Remedy::RepairBiosFiles => {
            "Repair the system's files (sfc /scannow, or from its installation medium), see it start, and check \
             again."
        }
        Remedy::LookForCsm => {
            "Look in the PC's setup for a CSM (sometimes named legacy mode). Without one, it does \
             not start from an MBR disk."
        }
        Remedy::SecureBootOff => {
            "It must be switched off first: with it, there is no start in BIOS mode."
        }
    };
    fixed.to_owned()
}
