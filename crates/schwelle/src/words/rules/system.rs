//! The rules about the systems on the disk.

use schwelle_core::rules::answers::system::{Evidence, Remedy, SystemOn};

use super::super::{nth, starts, titled, titles, unfit};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::Active => "marked active".to_owned(),
        Evidence::ActiveOnDataDisk => {
            "marked active, and sector 0 has boot code: a BIOS may start something from here"
                .to_owned()
        }
        Evidence::NotStarted => "a BIOS starts nothing from here".to_owned(),
        Evidence::NoneActive => {
            "LBA 0: no partition is marked active, so the disk does not start in BIOS mode"
                .to_owned()
        }
        Evidence::GrubNeedsNone => {
            "no partition is marked active; GRUB in sector 0 needs none".to_owned()
        }
        Evidence::SeveralActive { partitions } => format!(
            "LBA 0: {} partitions are marked active: {}",
            partitions.len(),
            titles(partitions)
        ),
        Evidence::Windows { name } => name.clone(),
        Evidence::WindowsOnDataDisk { name } => {
            format!("{name}: not a data disk, a PC may start from it")
        }
        Evidence::ClosedVolumes { partitions } => format!(
            "no Windows that can be read; {} cannot be read",
            titles(partitions)
        ),
        Evidence::NoSystem => {
            "no system found: no volume has Windows on it (\\Windows\\System32)".to_owned()
        }
        Evidence::X64 => "its kernel is made for x64".to_owned(),
        Evidence::ProgramUnfit { path, why } => unfit(path, why),
        Evidence::BootFileFault { path, why } => format!("{path}: {why}"),
        Evidence::UefiFiles { files, kib } => {
            format!("{files} files, {kib} KiB, boot manager for x64")
        }
        Evidence::RegistryFault { fault } => fault.to_string(),
        Evidence::Pending { hive, applied } => format!(
            "{hive} was not closed cleanly; {applied} pending in its log, applied before reading"
        ),
        Evidence::LettersElsewhere { volumes } => format!(
            "the letters of the {volumes} volumes here are kept in the Windows installation that uses this disk, by the \
             disk's old name"
        ),
        Evidence::NoLetters => {
            "no drive letter is kept for this disk: Windows assigns them when it starts".to_owned()
        }
        Evidence::LettersFault { fault } => {
            format!("the registry with the drive letters, SYSTEM: {fault}")
        }
        Evidence::LettersCarriedOver { letters, names } => {
            format!("{} are kept", letters_and_names(letters, *names))
        }
        Evidence::LettersLeft { letters, names } => format!(
            "the registry has no free space for {}, whose new names are longer",
            letters_and_names(letters, *names)
        ),
        Evidence::Linux { name } => name.clone(),
        Evidence::LinuxStartsNoMore { name, afterwards } => {
            format!("{name}: {}", starts::afterwards(afterwards))
        }
        Evidence::AllStart { names } => format!("starts afterwards: {}", names.join(", ")),
        Evidence::StartsNoMore { today, afterwards } => format!(
            "{}; {}",
            starts::today(today),
            starts::afterwards(afterwards)
        ),
        Evidence::Several { systems } => {
            let on = |system: &SystemOn| format!("{} on {}", system.name, titled(&system.on));
            let each: Vec<String> = systems.iter().map(on).collect();
            format!("{} systems: {}", systems.len(), each.join("; "))
        }
    }
}

/// Drive letters, and how many names of volumes.
pub(in crate::words) fn letters_and_names(letters: &[String], names: usize) -> String {
    match (letters.is_empty(), names) {
        (false, 0) => letters.join(" "),
        (false, names) => format!("{} and {names} volume names", letters.join(" ")),
        (true, names) => format!("{names} volume names"),
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    let fixed = match remedy {
        Remedy::RightDiskOrSayData => {
            return format!(
                "Check that this is the right disk ({}). If this is a data disk, say so: {}",
                nth(next, 0),
                nth(next, 1)
            );
        }
        Remedy::GiveUpByName { name } => {
            return format!(
                "Convert only if you can do without it. Its files stay where they are. convert asks for its name; \
                 for scripts: --drop \"{name}\""
            );
        }
        Remedy::SeeWhetherStarted => {
            "See whether a PC starts from this disk. Afterwards it would not, in BIOS mode."
        }
        Remedy::MarkActive => {
            "Find out which partition holds \\bootmgr and \\Boot\\BCD, mark it active, and see the PC start once \
             before converting."
        }
        Remedy::MarkOneActive => {
            "Mark only the partition active that the PC starts from, and see it start once before converting."
        }
        Remedy::GiveLoaders => {
            "Give the distribution's signed UEFI boot loaders (Debian and Ubuntu: from the packages \
             grub-efi-amd64-signed and shim-signed): --boot-files DIR. Or install these packages in that Linux, \
             where they lie on its volume afterwards, and check again."
        }
        Remedy::NameByUuid => {
            "Start that Linux, let /etc/fstab and its GRUB menu name volumes by UUID, see it start, and check again."
        }
        Remedy::NoDataDisk => "Leave --data-disk out, so that it starts afterwards as well.",
        Remedy::BiosOnly => {
            "This Windows starts in BIOS mode only. Leave the disk as it is, or install a 64-bit Windows anew in \
             UEFI mode."
        }
        Remedy::RepairFromMedium => {
            "Repair the system's files from its installation medium, see it start, and check again."
        }
        Remedy::RepairFiles => {
            "Repair the system's files (sfc /scannow, or from its installation medium), see it start, and check \
             again."
        }
        Remedy::RepairOrUncompress => {
            "Repair the system's files in Windows (or uncompress or decrypt this one there, where that is the \
             reason), shut down and check again."
        }
        Remedy::OutOfDate => {
            "Start Windows, shut it down completely, and check again; what is shown of version and name may be \
             out of date until then."
        }
        Remedy::PendingApplied => {
            "Better: start Windows and shut it down completely before converting. Where the job edits this file, \
             it applies what is pending, as Windows does at its next start."
        }
        Remedy::NoteLettersElsewhere => {
            "Note the letters down first; if that Windows assigns others afterwards, set them again in its \
             disk management."
        }
        Remedy::StartAndShutDown => "Start Windows, shut it down completely, and check again.",
        Remedy::StartAndMakeRoom => {
            "Start Windows, shut it down completely, and check again. Windows makes room when it saves its \
             registry."
        }
        Remedy::NoteLetters => {
            "Windows assigns these letters anew when it starts; note them down first."
        }
        Remedy::LookAtMenu => {
            "Look at the menu of the BCD store in the plan: the default is the one that starts by itself."
        }
    };
    fixed.to_owned()
}
