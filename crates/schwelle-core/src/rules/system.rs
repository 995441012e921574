//! Rules about the systems on the disk.

use super::{Answer, Facts, Outcome, Rule};
use crate::crossing::Style;
use crate::disk_use::DiskUse;
use crate::pe::{EFI_APPLICATION, Machine, PeImage};
use crate::profile::{Partition, Table, WindowsSystem};
use crate::windows::{MountedName, describe_names};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "system.active",
        question: "Is exactly one partition active?",
        why: "BIOS starts from the active partition, and its boot store is the one that is \
            carried over. None means that the disk does not start today; two mean that nobody \
            knows from which.",
        to: Some(Style::Gpt),
        check: active,
    },
    Rule {
        id: "system.windows",
        question: "Is there a Windows on the disk?",
        why: "The boot files for UEFI come from the installed Windows itself. Without one there \
            is nothing to start, and nothing to take them from. A disk that only holds data is \
            converted when that is said (--data-disk); one with a system is then refused, since it \
            would not start afterwards.",
        to: None,
        check: windows,
    },
    Rule {
        id: "system.64bit",
        question: "Is the Windows a 64-bit one for PCs?",
        why: "64-bit UEFI firmware starts 64-bit systems only. A 32-bit Windows would not start \
            after the crossing, and cannot be turned into a 64-bit one in place.",
        to: Some(Style::Gpt),
        check: is_64_bit,
    },
    Rule {
        id: "system.boot-files",
        question: "Are the UEFI boot files there, readable, and made for this processor?",
        why: "The EFI system partition is filled with the files that Windows keeps for the \
            purpose. What is missing or cannot be read there would be missing at the first \
            start.",
        to: Some(Style::Gpt),
        check: boot_files,
    },
    Rule {
        id: "system.registry",
        question: "Can the registry be read, and was it closed cleanly?",
        why: "Version, build and the computer's name come from the registry. What is pending in its \
            log is applied before it is read; where that cannot be, it may say something out of \
            date.",
        to: None,
        check: registry,
    },
    Rule {
        id: "system.letters",
        question: "Can the drive letters be taken across?",
        why: "Windows keeps in its registry which volume has which letter, and names the volumes of \
            an MBR disk by its signature. After the crossing they must be named by their GPT \
            partitions, or letters change, and programs and shortcuts look on the wrong drive.",
        to: None,
        check: letters,
    },
    Rule {
        id: "system.several",
        question: "How many systems are on the disk?",
        why: "All of them stay where they are, but one brings the boot files, and the boot \
            store's default decides which starts first. The technician should know their \
            names.",
        to: None,
        check: several,
    },
];

fn title(facts: &Facts<'_>, system: &WindowsSystem) -> String {
    facts.profile.partition(system.partition).map_or_else(
        || format!("partition {}", system.partition),
        Partition::title,
    )
}

/// What stands against a system that nothing starts stands against nothing: it is told, and the disk converts.
fn aside(facts: &Facts<'_>, system: &WindowsSystem, answer: Answer) -> Answer {
    if answer.outcome != Outcome::Block || facts.profile.is_started(system) {
        return answer;
    }
    Answer::caution(
        answer.subject,
        format!(
            "{}; no entry of the menu starts this system",
            answer.evidence
        ),
        "It does not start afterwards; does it now? It may be left over from an earlier installation. If somebody \
         needs it, see how it is started today, and put that in order first.",
    )
}

fn active(facts: &Facts<'_>) -> Vec<Answer> {
    let Table::Mbr { table, .. } = &facts.profile.table else {
        return vec![Answer::pass("disk", "not asked: there is no MBR table")];
    };
    let active: Vec<&Partition> = facts
        .profile
        .partitions
        .iter()
        .filter(|partition| partition.is_active())
        .collect();
    if facts.disk_use == DiskUse::Data {
        return match active[..] {
            [only, ..] if table.record.has_boot_code => vec![Answer::caution(
                only.title(),
                "marked active, and sector 0 has boot code: a BIOS may start something from here",
                "See whether a PC starts from this disk. Afterwards it would not, in BIOS mode.",
            )],
            _ => vec![Answer::pass("disk", "a BIOS starts nothing from here")],
        };
    }
    let answer = match active[..] {
        [only] => Answer::pass(only.title(), "marked active"),
        [] => Answer::block(
            "disk",
            "LBA 0: no partition is marked active, so the disk does not start in BIOS mode",
            "Find out which partition holds \\bootmgr and \\Boot\\BCD, mark it active, and see \
             the PC start once before converting.",
        ),
        _ => {
            let names: Vec<String> = active.iter().map(|partition| partition.title()).collect();
            Answer::block(
                "disk",
                format!(
                    "LBA 0: {} partitions are marked active: {}",
                    active.len(),
                    names.join(", ")
                ),
                "Mark only the partition active that the PC starts from, and see it start once \
                 before converting.",
            )
        }
    };
    vec![answer]
}

fn windows(facts: &Facts<'_>) -> Vec<Answer> {
    let found = facts
        .profile
        .systems
        .iter()
        .map(|system| Answer::pass(title(facts, system), system.title()));
    let answers: Vec<Answer> = found.collect();
    if facts.disk_use == DiskUse::Data {
        let to_block = |pass: Answer| {
            Answer::block(
                pass.subject,
                format!("{}: no data disk, a PC may start from it", pass.evidence),
                "Leave --data-disk out, so that it starts afterwards as well.",
            )
        };
        return answers.into_iter().map(to_block).collect();
    }
    if !answers.is_empty() || !facts.can_have_table() {
        return answers;
    }
    let closed: Vec<String> = facts
        .profile
        .partitions
        .iter()
        .filter(|part| part.is_closed())
        .map(Partition::title)
        .collect();
    if !closed.is_empty() {
        return vec![Answer::unknown(
            "disk",
            format!(
                "no Windows that can be read; {} cannot be looked into",
                closed.join(", ")
            ),
            "Follow the findings about that volume first, then check again.",
        )];
    }
    vec![Answer::block(
        "disk",
        "no system found: no volume holds a Windows (\\Windows\\System32)",
        "Check that this is the right disk (schwelle survey). If this is a data disk, say so: schwelle \
         check DISK --data-disk",
    )]
}

/// The answer of a rule that asks about each Windows where there is none.
fn no_windows() -> Vec<Answer> {
    vec![Answer::pass(
        "disk",
        "not asked: there is no Windows that can be read",
    )]
}

fn is_64_bit(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = |system: &WindowsSystem| {
        let subject = title(facts, system);
        match &system.machine {
            Ok(Machine::X64) => Answer::pass(subject, "its kernel is made for x64"),
            Ok(machine) => Answer::block(
                subject,
                format!("\\Windows\\System32\\ntoskrnl.exe is made for {machine}"),
                "This Windows starts in BIOS mode only. Leave the disk as it is, or install a \
                 64-bit Windows anew in UEFI mode.",
            ),
            Err(fault) => Answer::block(
                subject,
                format!("\\Windows\\System32\\ntoskrnl.exe: {fault}"),
                "Repair the system's files from its installation medium, see it start, and check \
                 again.",
            ),
        }
    };
    match facts.profile.systems[..] {
        [] => no_windows(),
        ref systems => systems
            .iter()
            .map(|system| aside(facts, system, answer(system)))
            .collect(),
    }
}

fn boot_files(facts: &Facts<'_>) -> Vec<Answer> {
    let systems = &facts.profile.systems;
    if systems.is_empty() {
        return no_windows();
    }
    let mut all = Vec::new();
    for system in systems {
        let mut answers = Vec::new();
        let (subject, files) = (title(facts, system), &system.boot_files);
        let remedy = "Repair the system's files (sfc /scannow, or from its installation medium), \
            see it start, and check again.";
        let mut block =
            |evidence: String| answers.push(Answer::block(subject.clone(), evidence, remedy));
        match &files.manager {
            None => block("\\Windows\\Boot\\EFI\\bootmgfw.efi is missing".to_owned()),
            Some(Err(fault)) => block(format!("\\Windows\\Boot\\EFI\\bootmgfw.efi: {fault}")),
            Some(Ok(PeImage {
                machine: Machine::X64,
                subsystem: EFI_APPLICATION,
                cut_off: None,
                ..
            })) => {}
            Some(Ok(PeImage {
                cut_off: Some(_), ..
            })) => block("\\Windows\\Boot\\EFI\\bootmgfw.efi is truncated".to_owned()),
            Some(Ok(image)) => block(format!(
                "\\Windows\\Boot\\EFI\\bootmgfw.efi is made for {}, subsystem {}; firmware \
                 starts x64 programs of subsystem 10",
                image.machine, image.subsystem
            )),
        }
        if !system.has_uefi_loader {
            block("\\Windows\\System32\\winload.efi is missing".to_owned());
        }
        for (path, fault) in &files.faults {
            let remedy = "Repair the system's files in Windows (or uncompress or decrypt this one \
                there, where that is the reason), shut down and check again.";
            answers.push(Answer::block(
                subject.clone(),
                format!("{path}: {fault}"),
                remedy,
            ));
        }
        if answers.is_empty() {
            let evidence = format!(
                "{} files, {} KiB, boot manager for x64",
                files.files.len(),
                files.len_bytes() / 1024
            );
            answers.push(Answer::pass(subject, evidence));
        }
        all.extend(
            answers
                .into_iter()
                .map(|answer| aside(facts, system, answer)),
        );
    }
    all
}

fn registry(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.profile.systems.is_empty() {
        return no_windows();
    }
    let remedy = "Start Windows, shut it down completely, and check again; what is shown of \
        version and name may be out of date until then.";
    let mut answers = Vec::new();
    for system in &facts.profile.systems {
        let subject = title(facts, system);
        for fault in &system.registry_faults {
            answers.push(Answer::caution(subject.clone(), fault, remedy));
        }
        for (hive, applied) in &system.pending {
            let evidence = format!(
                "{hive} was not closed cleanly; {applied} pending in its log, taken into account"
            );
            let remedy = "Better: start Windows and shut it down completely before converting. \
                Where the job edits this file, it applies what is pending, as Windows would at its \
                next start.";
            answers.push(Answer::caution(subject.clone(), evidence, remedy));
        }
    }
    answers
}

fn letters(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return letters_elsewhere(facts);
    }
    if facts.profile.systems.is_empty() {
        return no_windows();
    }
    if !facts.can_have_table() {
        return vec![Answer::pass(
            "disk",
            "not asked: its partitions keep their names",
        )];
    }
    let systems = facts.profile.systems.iter();
    systems
        .map(|system| aside(facts, system, letters_of(facts, system)))
        .collect()
}

/// A Windows on another disk knows the volumes of this one by its MBR signature.
fn letters_elsewhere(facts: &Facts<'_>) -> Vec<Answer> {
    let count = facts.profile.partitions.len();
    if count == 0 {
        return Vec::new();
    }
    let evidence = format!(
        "the letters of the {count} volumes here are kept in the Windows that uses this disk, by the \
         disk's old name"
    );
    let remedy = "Note the letters down first; where that Windows gives other ones afterwards, set \
        them anew in its disk management.";
    vec![Answer::caution("disk", evidence, remedy)]
}

fn letters_of(facts: &Facts<'_>, system: &WindowsSystem) -> Answer {
    let subject = title(facts, system);
    let once = "Start Windows, shut it down completely, and check again.";
    let letters = match &system.letters {
        Ok(Some(letters)) => letters,
        Ok(None) => {
            return Answer::pass(
                subject,
                "no drive letter is kept for this disk: Windows gives them when it starts",
            );
        }
        Err(fault) => {
            let evidence = format!("the registry with the drive letters, SYSTEM: {fault}");
            return Answer::block(subject, evidence, once);
        }
    };
    if letters.left.is_empty() {
        return Answer::pass(
            subject,
            format!("{} cross", describe_names(&letters.crossed)),
        );
    }
    let own = facts.profile.partition(system.partition);
    let own = own.and_then(|part| facts.profile.geometry.byte_of(part.extent.first));
    let is_own = |name: &MountedName| own.is_some_and(|own| name.is_letter_of(own));
    let evidence = format!(
        "the registry has no free room for {}, whose new names are longer",
        describe_names(&letters.left)
    );
    if letters.left.iter().any(is_own) {
        let remedy = format!("{once} Windows makes room when it saves its registry.");
        return Answer::block(subject, evidence, remedy);
    }
    let remedy = "Windows gives these letters anew when it starts; note them down first.";
    Answer::caution(subject, evidence, remedy)
}

fn several(facts: &Facts<'_>) -> Vec<Answer> {
    let systems = &facts.profile.systems;
    if systems.len() < 2 {
        return Vec::new();
    }
    let names: Vec<String> = systems
        .iter()
        .map(|system| format!("{} on {}", system.title(), title(facts, system)))
        .collect();
    vec![Answer::caution(
        "disk",
        format!("{} systems: {}", systems.len(), names.join("; ")),
        "Look at the menu of the boot store in the plan: the default is the one that starts when \
         nobody chooses.",
    )]
}
