//! Rules about the way back, from GPT to MBR.

use super::{Answer, Facts, Rule};
use crate::crossing::Style;
use crate::device::{Extent, Lba, MIB};
use crate::disk_use::DiskUse;
use crate::fat::MAX_BOOT_MANAGER_BYTES;
use crate::firmware::{BootMode, Fact};
use crate::fit::{Fit, Misfit};
use crate::gpt::type_name;
use crate::mbr::REACH;
use crate::profile::{BOOTMGR, Profile, Table, WindowsSystem, bios_system};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "back.table",
        question: "Does the disk have a sound GPT?",
        why: "Only a GPT disk is taken back to MBR, and only when both copies of its table are sound and say \
            the same: they name the partitions that are kept. A damaged copy is mended first.",
        to: Some(Style::Mbr),
        check: table,
    },
    Rule {
        id: "back.fits",
        question: "Do all partitions fit into an MBR?",
        why: "An MBR names four partitions, or three and a container with logical ones, each of which needs a \
            free sector in front of it for its record. It reaches 2^32 sectors, 2 TiB at 512 bytes. What lies \
            behind cannot be named, and would be lost.",
        to: Some(Style::Mbr),
        check: fits,
    },
    Rule {
        id: "back.types",
        question: "Does every partition type have an MBR form?",
        why: "Each partition needs a type byte in the new table. Microsoft's reserved partition has none: it is \
            left out where it holds nothing. A type that is not known cannot be carried over without guessing \
            what the partition is for.",
        to: Some(Style::Mbr),
        check: types,
    },
    Rule {
        id: "back.active",
        question: "Can the EFI system partition become the one that a BIOS starts from?",
        why: "A BIOS starts from the active partition. The EFI system partition takes that part: it gets the \
            boot manager for BIOS mode, a boot store and a boot record of its own, beside what is on it. No \
            BIOS starts from sectors of 4096 bytes.",
        to: Some(Style::Mbr),
        check: active,
    },
    Rule {
        id: "back.boot-files",
        question: "Does the Windows bring its boot files for BIOS mode?",
        why: "The boot manager for BIOS mode comes from the installed Windows itself, as the one for UEFI does. \
            What is missing or cannot be read there would be missing at the first start.",
        to: Some(Style::Mbr),
        check: boot_files,
    },
    Rule {
        id: "back.firmware",
        question: "Can the PC start in BIOS mode?",
        why: "An MBR disk starts in BIOS mode, which UEFI firmware has only with its compatibility module. Many \
            PCs of the last years have none: such a PC would not start from this disk at all.",
        to: Some(Style::Mbr),
        check: firmware,
    },
];

fn table(facts: &Facts<'_>) -> Vec<Answer> {
    let Table::Gpt { pair, hybrid } = &facts.profile.table else {
        return vec![match facts.profile.table {
            Table::Mbr { .. } => Answer::block(
                "disk",
                "the disk has an MBR already",
                "Nothing to take back. Ask whether it starts in BIOS mode: schwelle rehearse DISK --to mbr",
            ),
            _ => Answer::block(
                "disk",
                format!("no GPT: the table is {}", facts.profile.table_style()),
                "Check that this is the right disk: schwelle survey",
            ),
        }];
    };
    if *hybrid {
        return vec![Answer::block(
            "disk",
            "hybrid: sector 0 names partitions beside the protective entry",
            "Find out which of the two tables is in use, and remove the additional MBR entries; the GPT then \
             stands alone.",
        )];
    }
    let faults = [("primary", &pair.primary), ("backup", &pair.backup)];
    let faults = faults
        .into_iter()
        .filter_map(|(name, copy)| Some(format!("{name} copy: {}", copy.as_ref().err()?)));
    let faults: Vec<String> = faults.chain(pair.disagreement()).collect();
    match &faults[..] {
        [] => {
            let count = facts.profile.partitions.len();
            let evidence = format!("both copies are sound and name the same {count} partitions");
            vec![Answer::pass("disk", evidence)]
        }
        faults => faults
            .iter()
            .map(|fault| {
                Answer::block(
                    "partition table",
                    fault,
                    "Mend the table first; what that means is shown by: schwelle mend DISK",
                )
            })
            .collect(),
    }
}

fn misfits<'a>(facts: &Facts<'a>) -> &'a [Misfit] {
    match facts.fit() {
        Some(Err(misfits)) => misfits,
        _ => &[],
    }
}

fn title(profile: &Profile, number: usize) -> String {
    let partition = profile.partition(number);
    partition.map_or_else(|| format!("partition {number}"), |part| part.title())
}

fn fits(facts: &Facts<'_>) -> Vec<Answer> {
    let profile = facts.profile;
    let answer = |misfit: &Misfit| match misfit {
        Misfit::BeyondReach { number, last } => Some(Answer::block(
            title(profile, *number),
            format!("ends at {last}; an MBR reaches to LBA {}", REACH - 1),
            "Make the volume end before that, with its own system, and check again; or leave the disk GPT.",
        )),
        Misfit::TooMany {
            partitions,
            logical,
            tight,
        } => {
            let tight = tight
                .iter()
                .map(|(number, why)| format!("partition {number} {why}"));
            let tight = tight.collect::<Vec<_>>().join(", ");
            Some(Answer::block(
                "partition table",
                format!(
                    "{partitions} partitions: at least {logical} that lie side by side must become logical \
                     ones, with a free sector in front of each; {tight}"
                ),
                "Make the volume in front of one of these a little smaller (1 MiB is enough) with its own \
                 system; or back up and delete a partition that nobody needs; then check again.",
            ))
        }
        _ => None,
    };
    let mut answers: Vec<Answer> = misfits(facts).iter().filter_map(answer).collect();
    if let Some(Ok(fit)) = facts.fit() {
        answers.push(shares(fit));
        answers.extend(lost_space(profile));
    }
    answers
}

/// How the partitions are shared out among the entries.
fn shares(fit: &Fit) -> Answer {
    let (primaries, logical) = (fit.layout.primaries.len(), fit.layout.logical.len());
    if logical == 0 {
        return Answer::pass("partition table", format!("{primaries} primary partitions"));
    }
    Answer::caution(
        "partition table",
        format!("{primaries} primary partitions, and {logical} that become logical ones"),
        "They keep their places and their content; their numbers change (logical ones count from 5). What \
         starts by a number, such as another system's boot loader, must be told the new one.",
    )
}

/// Space that no MBR partition can use.
fn lost_space(profile: &Profile) -> Option<Answer> {
    let geometry = profile.geometry;
    let behind = Extent {
        first: Lba(REACH),
        end: Lba(geometry.sectors),
    };
    let mib = geometry.bytes_in(&behind) / MIB;
    (geometry.sectors > REACH).then(|| {
        Answer::caution(
            "disk",
            format!("{mib} MiB lie where no MBR partition can begin (LBA {REACH} on)"),
            "They cannot be used while the disk is MBR. They become usable when it is GPT again.",
        )
    })
}

fn types(facts: &Facts<'_>) -> Vec<Answer> {
    let profile = facts.profile;
    let answer = |misfit: &Misfit| match misfit {
        Misfit::Kind { number, kind } => Some(Answer::block(
            title(profile, *number),
            format!("its type {kind} has no MBR form that is known here"),
            "Find out what made this partition. To keep it, add its type to the policy ([[type]] byte, guid; \
             docs/policy.toml) and check again with --policy FILE; if nobody needs it, back it up and delete it.",
        )),
        Misfit::ReservedInUse { number, at } => Some(Answer::block(
            title(profile, *number),
            match at {
                Some(at) => format!("{at}: a reserved partition that holds something"),
                None => "a reserved partition that could not be looked through".to_owned(),
            },
            "Find out what uses it (a dynamic disk does). An MBR has no such type, and what it holds would not \
             be named any more.",
        )),
        _ => None,
    };
    let mut answers: Vec<Answer> = misfits(facts).iter().filter_map(answer).collect();
    if let Some(Ok(fit)) = facts.fit() {
        answers.extend(fit.dropped.iter().map(|&number| {
            let kind = profile.partition(number).and_then(|part| part.gpt_kind());
            let kind = kind.map_or("reserved", type_name);
            let evidence = format!("{kind}, all zeros: left out of the new table");
            Answer::pass(title(profile, number), evidence)
        }));
    }
    answers
}

fn active(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::pass(
            "disk",
            "not asked: nothing starts from a data disk",
        )];
    }
    let answer = |misfit: &Misfit| match misfit {
        Misfit::Esp(found) => Some(match &found[..] {
            [] => Answer::block(
                "disk",
                "there is no EFI system partition",
                "It is what a BIOS would start from. If the disk should start in UEFI mode: schwelle mend DISK; \
                 then check again.",
            ),
            several => Answer::block(
                "disk",
                format!(
                    "{} EFI system partitions, and nobody can tell which is meant",
                    several.len()
                ),
                "See which of them the PC starts from. Back the other up, give it another type, and check \
                 again.",
            ),
        }),
        Misfit::Sectors(bytes) => Some(Answer::block(
            "disk",
            format!(
                "its sectors have {bytes} bytes, and a BIOS starts from sectors of 512 bytes only"
            ),
            "Leave the disk GPT: in UEFI mode it starts.",
        )),
        Misfit::EspUnfit { number, why } => Some(Answer::block(
            title(facts.profile, *number),
            format!("cannot take the boot files for BIOS mode: {why}"),
            "Mend it with its own system, or make room on it, and check again.",
        )),
        _ => None,
    };
    let mut answers: Vec<Answer> = misfits(facts).iter().filter_map(answer).collect();
    if let Some(Ok(Fit {
        esp: Some(number), ..
    })) = facts.fit()
    {
        answers.push(Answer::caution(
            title(facts.profile, *number),
            "becomes a small active FAT32 partition; what is on it stays",
            "An MBR cannot say that a partition gets no drive letter. Where Windows shows it as a drive, take \
             the letter away in its disk management, and leave the partition as it is.",
        ));
    }
    answers
}

fn boot_files(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::pass(
            "disk",
            "not asked: nothing starts from a data disk",
        )];
    }
    if facts.profile.systems.is_empty() {
        return vec![Answer::pass(
            "disk",
            "not asked: there is no Windows that can be read",
        )];
    }
    let remedy = "Repair the system's files (sfc /scannow, or from its installation medium), see it start, \
        and check again.";
    let mut answers: Vec<Answer> = Vec::new();
    for system in &facts.profile.systems {
        let subject = title(facts.profile, system.partition);
        let before = answers.len();
        let mut block = |evidence: String| answers.push(Answer::block(&subject, evidence, remedy));
        if !system.has_bios_loader {
            block("\\Windows\\System32\\winload.exe is missing".to_owned());
        }
        faults_of(system).into_iter().for_each(&mut block);
        if answers.len() == before {
            let files = &system.bios_files;
            let evidence = format!(
                "{} files, {} KiB",
                files.files.len(),
                files.len_bytes() / 1024
            );
            answers.push(Answer::pass(subject, evidence));
        }
    }
    answers
}

fn faults_of(system: &WindowsSystem) -> Vec<String> {
    let files = &system.bios_files;
    let mut faults: Vec<String> = files
        .faults
        .iter()
        .map(|(path, fault)| format!("{path}: {fault}"))
        .collect();
    let path = "\\Windows\\Boot\\PCAT\\bootmgr";
    let mut managers = files.files.iter().filter(|file| file.is_for(BOOTMGR));
    match managers.next().map(|manager| manager.len_bytes) {
        None => faults.push(format!("{path} is missing")),
        Some(0) => faults.push(format!("{path} is empty")),
        Some(bytes) if bytes > MAX_BOOT_MANAGER_BYTES => faults.push(format!(
            "{path} has {bytes} bytes; the boot record has room in memory for {MAX_BOOT_MANAGER_BYTES}"
        )),
        Some(_) => {}
    }
    faults
}

fn firmware(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::pass(
            "PC",
            "not asked: nothing starts from a data disk",
        )];
    }
    let machine = &facts.machine;
    let mut answers = vec![match (
        &machine.uefi,
        &machine.session,
        &machine.mode,
        &machine.compatibility,
    ) {
        (fact @ Fact::Known { value: false, .. }, ..) => {
            Answer::pass("PC", format!("it has no other mode: {}", fact.evidence()))
        }
        (
            _,
            fact @ Fact::Known {
                value: BootMode::Bios,
                ..
            },
            ..,
        ) => Answer::pass("PC", fact.evidence()),
        (
            _,
            _,
            fact @ Fact::Known {
                value: BootMode::Bios | BootMode::Both,
                ..
            },
            _,
        ) => Answer::pass("PC", fact.evidence()),
        (.., fact @ Fact::Known { .. }) => Answer::pass("PC", fact.evidence()),
        _ => Answer::unknown(
            "PC",
            "whether it can start in BIOS mode is not known",
            "Look in the PC's setup for a compatibility module (often named CSM or legacy). Without one, it \
             does not start from an MBR disk.",
        ),
    }];
    if let fact @ Fact::Known { value: true, .. } = &machine.secure_boot {
        answers.push(Answer::caution(
            "PC",
            format!("Secure Boot is on: {}", fact.evidence()),
            "It must be switched off first: with it, there is no start in BIOS mode.",
        ));
    }
    answers
}

/// True where a Windows brings what a new store for BIOS mode can be made for.
pub(super) fn can_start(profile: &Profile) -> bool {
    bios_system(profile).is_some()
}
