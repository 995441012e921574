//! The steps around a start: the rest of the menu, drive letters, recovery.

use schwelle_core::rehearse::answers::around::{
    Elsewhere, Evidence, Leads, LetterElsewhere, LetterHere, Letters, Recovery, Remedy,
};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::Menu { entries } => {
            let entry = entries
                .iter()
                .map(|entry| format!("\"{}\": {}", entry.title, leads(&entry.leads)));
            all(entry, "the menu has no entries")
        }
        Evidence::DriveLetters { systems } => {
            let system = systems
                .iter()
                .map(|of| format!("partition {}: {}", of.partition, letters(&of.letters)));
            all(system, NO_WINDOWS)
        }
        Evidence::RecoveryOf { systems } => {
            let system = systems
                .iter()
                .map(|of| format!("partition {}: {}", of.partition, recovery(&of.recovery)));
            all(system, NO_WINDOWS)
        }
    }
}

const NO_WINDOWS: &str = "no Windows to look into";

fn all(each: impl Iterator<Item = String>, none: &str) -> String {
    let each: Vec<String> = each.collect();
    match &each[..] {
        [] => none.to_owned(),
        some => some.join("; "),
    }
}

fn leads(leads: &Leads) -> String {
    match leads {
        Leads::Here { path, partition } => format!("{path} on partition {partition}"),
        Leads::BiosOnly => "runs in BIOS mode only".to_owned(),
        Leads::NoSystemLoader => "is no system loader".to_owned(),
        Leads::NoDevice => "has no device".to_owned(),
        Leads::Names { fault } => fault.to_string(),
        Leads::NoLoader => "names no loader".to_owned(),
        Leads::LeavesDisk => "leaves the disk".to_owned(),
        Leads::Unreadable { fault } => fault.to_string(),
        Leads::NotThere { path, partition } => {
            format!("{path} is not on partition {partition}")
        }
        Leads::Newer {
            path,
            partition,
            loader,
            manager,
        } => format!(
            "{path} on partition {partition} is {loader}, newer than the boot manager ({manager}), which may not \
             start it"
        ),
    }
}

fn letters(letters: &Letters) -> String {
    match letters {
        Letters::Given { here, elsewhere } => {
            let here = here.iter().map(letter_here);
            let shown: Vec<String> = here.chain(elsewhere.iter().map(letter_elsewhere)).collect();
            match &shown[..] {
                [] => "Windows assigns its letters when it starts".to_owned(),
                some => some.join(", "),
            }
        }
        Letters::NotItsOwn { elsewhere } => {
            let shown: Vec<String> = elsewhere.iter().map(letter_elsewhere).collect();
            format!(
                "no letter names the Windows partition; {}",
                shown.join(", ")
            )
        }
        Letters::OnEsp { letter } => {
            format!("{letter} shows the EFI system partition as a drive")
        }
        Letters::NoRegistry => "there is no registry".to_owned(),
        Letters::Unreadable { fault } => format!("SYSTEM: {fault}"),
    }
}

fn letter_here(on: &LetterHere) -> String {
    format!("{} is partition {}", on.letter, on.partition)
}

fn letter_elsewhere(elsewhere: &LetterElsewhere) -> String {
    let letter = &elsewhere.letter;
    match elsewhere.on {
        Elsewhere::GptPartition(partition) => {
            format!("{letter} is on the GPT partition {partition}")
        }
        Elsewhere::MbrDisk(signature) => {
            format!("{letter} is on the MBR disk {signature:08X}")
        }
    }
}

fn recovery(recovery: &Recovery) -> String {
    match recovery {
        Recovery::NotSetUp => "WinRE is not set up".to_owned(),
        Recovery::Off => "not switched on".to_owned(),
        Recovery::Here { path, partition } => format!("{path} on partition {partition}"),
        Recovery::Unreadable { fault } => fault.to_string(),
        Recovery::StillMbr { signature } => {
            format!("is still looked for on the MBR disk {signature:08X}")
        }
        Recovery::StillGpt { disk } => format!("is still looked for on the GPT disk {disk}"),
        Recovery::OtherDisk => "is looked for on another disk".to_owned(),
        Recovery::NoPartitionAt { offset } => {
            format!("is looked for at byte {offset}, where no partition begins")
        }
        Recovery::LeavesDisk => "leaves the disk".to_owned(),
        Recovery::ImageMissing { path, partition } => {
            format!("{path} is not on partition {partition}")
        }
        Recovery::NoEntry => "the BCD store has no entry for it".to_owned(),
        Recovery::EntryNames { fault } => format!("the BCD store's entry {fault}"),
        Recovery::EntryElsewhere => "the BCD store looks for it on another partition".to_owned(),
    }
}

pub(super) fn remedy(remedy: &Remedy) -> String {
    match remedy {
        Remedy::EntryDoesNotStart => {
            "The entry does not start from here. If it is for a disk that is missing now, attach it; else take \
             the entry out of the menu, in Windows. Where the boot manager is the older one, let the startup \
             repair of the newest Windows place its own."
        }
        Remedy::LookAtDrives => {
            "Start this Windows and look at its drives before the PC is handed over; letters can be set in its \
             disk management."
        }
        Remedy::SwitchRecovery => {
            "Start this Windows, disable WinRE there and enable it again."
        }
    }
    .to_owned()
}
