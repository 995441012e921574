//! Rules about the systems on the disk.

use super::answers::common::{Evidence as Common, NotAsked, Remedy as CommonRemedy};
use super::answers::system::{Evidence, Remedy, SystemOn};
use super::{Answer, Facts, Outcome, Rule, RuleId, Subject};
use crate::disk_use::DiskUse;
use crate::identities::Style;
use crate::pe::ProgramFault;
use crate::profile::{KERNEL, Partition, Table, Titled, UEFI_LOADER, WindowsSystem};
use crate::starts::{Afterwards, SystemStart, can_be_given_up, starts};
use crate::windows::{MountedName, SYSTEM_FOLDER, shared_out};

pub(super) static RULES: &[Rule] = &[
    Rule::to_gpt(RuleId::SystemActive, active),
    Rule::always(RuleId::SystemWindows, windows),
    Rule::to_gpt(RuleId::System64Bit, is_64_bit),
    Rule::to_gpt(RuleId::SystemBootFiles, boot_files),
    Rule::always(RuleId::SystemRegistry, registry),
    Rule::always(RuleId::SystemLetters, letters),
    Rule::always(RuleId::SystemSeveral, several),
    Rule::to_gpt(RuleId::SystemStarts, starts_afterwards),
];

const MANAGER: &str = "\\Windows\\Boot\\EFI\\bootmgfw.efi";

fn subject(facts: &Facts<'_>, system: &WindowsSystem) -> Subject {
    Subject::numbered(facts.profile, system.partition)
}

/// What is wrong with a system that nothing starts, or that can be given up since another one starts, does not block:
/// it is reported, and the disk converts.
fn aside(facts: &Facts<'_>, system: &WindowsSystem, answer: Answer) -> Answer {
    let profile = facts.profile;
    let is_aside =
        !profile.is_started(system) || facts.to() == Style::Gpt && can_be_given_up(profile, system);
    if answer.outcome != Outcome::Block || !is_aside {
        return answer;
    }
    let found = Box::new(answer.evidence);
    Answer::caution(
        answer.subject,
        Common::Aside { found },
        CommonRemedy::SeeWhatItIsFor,
    )
}

fn active(facts: &Facts<'_>) -> Vec<Answer> {
    let Table::Mbr { table, .. } = &facts.profile.table else {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoMbr)];
    };
    let active: Vec<&Partition> = facts
        .profile
        .partitions
        .iter()
        .filter(|partition| partition.is_active())
        .collect();
    if facts.disk_use == DiskUse::Data {
        return vec![match active[..] {
            [only, ..] if table.record.has_boot_code => Answer::caution(
                Subject::of(only),
                Evidence::ActiveOnDataDisk,
                Remedy::SeeWhetherStarted,
            ),
            _ => Answer::pass(Subject::Disk, Evidence::NotStarted),
        }];
    }
    vec![match active[..] {
        [only] => Answer::pass(Subject::of(only), Evidence::Active),
        [] if table.record.has_grub_code => Answer::pass(Subject::Disk, Evidence::GrubNeedsNone),
        [] => Answer::block(Subject::Disk, Evidence::NoneActive, Remedy::MarkActive),
        ref several => {
            let partitions = several.iter().map(|part| part.titled()).collect();
            let evidence = Evidence::SeveralActive { partitions };
            Answer::block(Subject::Disk, evidence, Remedy::MarkOneActive)
        }
    }]
}

fn windows(facts: &Facts<'_>) -> Vec<Answer> {
    let is_data = facts.disk_use == DiskUse::Data;
    let found = facts.profile.systems.iter().map(|system| {
        let (subject, name) = (subject(facts, system), system.title());
        match is_data {
            true => Answer::block(
                subject,
                Evidence::WindowsOnDataDisk { name },
                Remedy::NoDataDisk,
            ),
            false => Answer::pass(subject, Evidence::Windows { name }),
        }
    });
    let answers: Vec<Answer> = found.collect();
    if is_data || !answers.is_empty() || !facts.can_have_table() {
        return answers;
    }
    let linux = linux(facts);
    if !linux.is_empty() {
        return linux;
    }
    let partitions = facts.profile.partitions.iter();
    let closed = partitions.filter(|part| part.is_closed());
    let closed: Vec<Titled> = closed.map(Partition::titled).collect();
    vec![match closed.is_empty() {
        false => Answer::unknown(
            Subject::Disk,
            Evidence::ClosedVolumes { partitions: closed },
            CommonRemedy::VolumeFirst,
        ),
        true => Answer::block(
            Subject::Disk,
            Evidence::NoSystem,
            Remedy::RightDiskOrSayData,
        ),
    }]
}

/// The Linux systems of a disk without Windows: one of them must start afterwards.
fn linux(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.to() != Style::Gpt {
        return Vec::new();
    }
    let systems = starts(facts.profile);
    let is_linux = |number| {
        facts
            .profile
            .linux
            .iter()
            .any(|linux| linux.partition == number)
    };
    let on = |system: &SystemStart| system.on.as_ref().map(|on| on.number);
    let found: Vec<&SystemStart> = systems
        .iter()
        .filter(|system| on(system).is_some_and(is_linux))
        .collect();
    let any = found.iter().any(|system| system.starts_afterwards());
    let answer = |system: &&SystemStart| {
        let number = on(system)?;
        let subject = Subject::numbered(facts.profile, number);
        let (name, afterwards) = (system.name.clone(), system.afterwards.clone());
        if system.starts_afterwards() {
            return Some(Answer::pass(subject, Evidence::Linux { name }));
        }
        let remedy = match afterwards {
            Afterwards::NoLoader => Remedy::GiveLoaders,
            _ => Remedy::NameByUuid,
        };
        let evidence = Evidence::LinuxStartsNoMore { name, afterwards };
        // What another one starts without it is asked about by its name.
        (!any).then(|| Answer::block(subject, evidence, remedy))
    };
    found.iter().filter_map(answer).collect()
}

/// The answer of a rule that asks about each Windows installation where there is none.
fn no_windows() -> Vec<Answer> {
    vec![Answer::not_asked(
        Subject::Disk,
        NotAsked::NoReadableWindows,
    )]
}

fn is_64_bit(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = |system: &WindowsSystem| {
        let subject = subject(facts, system);
        match &system.kernel {
            Ok(_) => Answer::pass(subject, Evidence::X64),
            Err(why) => {
                let remedy = match why {
                    ProgramFault::OtherProcessor { .. } => Remedy::BiosOnly,
                    _ => Remedy::RepairFromMedium,
                };
                let evidence = unfit(&format!("{SYSTEM_FOLDER}\\{KERNEL}"), why);
                Answer::block(subject, evidence, remedy)
            }
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

fn unfit(path: &str, why: &ProgramFault) -> Evidence {
    Evidence::ProgramUnfit {
        path: path.to_owned(),
        why: why.clone(),
    }
}

/// What is wrong with the programs of a UEFI start that an installed Windows brings.
fn unfit_programs(system: &WindowsSystem) -> Vec<Evidence> {
    let manager = match &system.boot_files.manager {
        None => Some(unfit(MANAGER, &ProgramFault::Missing)),
        Some(manager) => manager.as_ref().err().map(|why| unfit(MANAGER, why)),
    };
    let loader = system.uefi_loader.as_ref().err();
    let loader = loader.map(|why| unfit(UEFI_LOADER, why));
    manager.into_iter().chain(loader).collect()
}

fn boot_files(facts: &Facts<'_>) -> Vec<Answer> {
    let of_system = |system: &WindowsSystem| {
        let (subject, files) = (subject(facts, system), &system.boot_files);
        let faults = unfit_programs(system).into_iter();
        let block = |evidence| Answer::block(subject.clone(), evidence, Remedy::RepairFiles);
        let mut answers: Vec<Answer> = faults.map(block).collect();
        answers.extend(files.faults.iter().map(|(path, why)| {
            let evidence = Evidence::BootFileFault {
                path: path.clone(),
                why: why.clone(),
            };
            Answer::block(subject.clone(), evidence, Remedy::RepairOrUncompress)
        }));
        if answers.is_empty() {
            let evidence = Evidence::UefiFiles {
                files: files.files.len(),
                kib: files.len_bytes() / 1024,
            };
            answers.push(Answer::pass(subject, evidence));
        }
        let answers = answers.into_iter();
        answers.map(|answer| aside(facts, system, answer)).collect()
    };
    match facts.profile.systems[..] {
        [] => no_windows(),
        ref systems => systems
            .iter()
            .flat_map(|system| -> Vec<Answer> { of_system(system) })
            .collect(),
    }
}

fn registry(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.profile.systems.is_empty() {
        return no_windows();
    }
    let mut answers = Vec::new();
    for system in &facts.profile.systems {
        let subject = subject(facts, system);
        for fault in &system.registry_faults {
            let evidence = Evidence::RegistryFault {
                fault: fault.clone(),
            };
            answers.push(Answer::caution(
                subject.clone(),
                evidence,
                Remedy::OutOfDate,
            ));
        }
        for (hive, applied) in &system.pending {
            let evidence = Evidence::Pending {
                hive: hive.clone(),
                applied: *applied,
            };
            answers.push(Answer::caution(
                subject.clone(),
                evidence,
                Remedy::PendingApplied,
            ));
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
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NamesKept)];
    }
    let systems = facts.profile.systems.iter();
    systems
        .map(|system| aside(facts, system, letters_of(facts, system)))
        .collect()
}

/// An installed Windows on another disk knows the volumes of this one by its MBR signature.
fn letters_elsewhere(facts: &Facts<'_>) -> Vec<Answer> {
    let volumes = facts.profile.partitions.len();
    if volumes == 0 {
        return Vec::new();
    }
    vec![Answer::caution(
        Subject::Disk,
        Evidence::LettersElsewhere { volumes },
        Remedy::NoteLettersElsewhere,
    )]
}

fn letters_of(facts: &Facts<'_>, system: &WindowsSystem) -> Answer {
    let subject = subject(facts, system);
    let kept = match &system.letters {
        Ok(Some(kept)) => kept,
        Ok(None) => return Answer::pass(subject, Evidence::NoLetters),
        Err(fault) => {
            let fault = fault.clone();
            let evidence = Evidence::LettersFault { fault };
            return Answer::block(subject, evidence, Remedy::StartAndShutDown);
        }
    };
    if kept.left.is_empty() {
        let (letters, names) = shared_out(&kept.converted);
        return Answer::pass(subject, Evidence::LettersCarriedOver { letters, names });
    }
    let own = facts.profile.partition(system.partition);
    let own = own.and_then(|part| facts.profile.geometry.byte_of(part.extent.first));
    let is_own = |name: &MountedName| own.is_some_and(|own| name.is_letter_of(own));
    let (letters, names) = shared_out(&kept.left);
    let evidence = Evidence::LettersLeft { letters, names };
    match kept.left.iter().any(is_own) {
        true => Answer::block(subject, evidence, Remedy::StartAndMakeRoom),
        false => Answer::caution(subject, evidence, Remedy::NoteLetters),
    }
}

/// Whether everything that starts today starts afterwards. What does not is given up by name.
fn starts_afterwards(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.profile.mbr().is_none() {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoMbr)];
    }
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::DataDisk)];
    }
    let systems = starts(facts.profile);
    let lost: Vec<Answer> = systems
        .iter()
        .filter(|system| system.is_lost())
        .map(|system| {
            let name = system.name.clone();
            let evidence = Evidence::StartsNoMore {
                today: system.today.clone(),
                afterwards: system.afterwards.clone(),
            };
            let remedy = Remedy::GiveUpByName { name: name.clone() };
            Answer::caution(Subject::System { name }, evidence, remedy)
        })
        .collect();
    if !lost.is_empty() {
        return lost;
    }
    let starting = systems.iter().filter(|system| system.starts_afterwards());
    let names: Vec<String> = starting.map(|system| system.name.clone()).collect();
    match names.is_empty() {
        true => Vec::new(),
        false => vec![Answer::pass(Subject::Disk, Evidence::AllStart { names })],
    }
}

fn several(facts: &Facts<'_>) -> Vec<Answer> {
    let systems = &facts.profile.systems;
    if systems.len() < 2 {
        return Vec::new();
    }
    let on = |system: &WindowsSystem| {
        let partition = facts.profile.partition(system.partition)?;
        Some(SystemOn {
            name: system.title(),
            on: partition.titled(),
        })
    };
    let systems = systems.iter().filter_map(on).collect();
    vec![Answer::caution(
        Subject::Disk,
        Evidence::Several { systems },
        Remedy::LookAtMenu,
    )]
}
