//! Rules about the way back, from GPT to MBR.

use super::answers::back::{Evidence, Remedy};
use super::answers::common::{NotAsked, Remedy as Common};
use super::table::copy_faults;
use super::{Answer, Facts, Rule, RuleId, Subject};
use crate::device::{Extent, Lba, MIB};
use crate::disk_use::DiskUse;
use crate::fat::MAX_BOOT_MANAGER_BYTES;
use crate::firmware::{BootMode, Fact};
use crate::fit::{Fit, Obstacle};
use crate::gpt::type_name;
use crate::mbr::REACH;
use crate::profile::{BIOS_LOADER, BOOTMGR, Profile, Table, WindowsSystem, bios_system};

pub(super) static RULES: &[Rule] = &[
    Rule::to_mbr(RuleId::BackTable, table),
    Rule::to_mbr(RuleId::BackFits, fits),
    Rule::to_mbr(RuleId::BackTypes, types),
    Rule::to_mbr(RuleId::BackActive, active),
    Rule::to_mbr(RuleId::BackBootFiles, boot_files),
    Rule::to_mbr(RuleId::BackFirmware, firmware),
];

const MANAGER: &str = "\\Windows\\Boot\\PCAT\\bootmgr";

fn table(facts: &Facts<'_>) -> Vec<Answer> {
    let pair = match &facts.profile.table {
        Table::Gpt { hybrid: true, .. } => {
            return vec![Answer::block(
                Subject::Disk,
                super::answers::table::Evidence::Hybrid,
                Common::OneOfTwoTables,
            )];
        }
        Table::Gpt { pair, .. } => pair,
        Table::Mbr { .. } => {
            return vec![Answer::block(
                Subject::Disk,
                Evidence::MbrAlready,
                Remedy::NothingToTakeBack,
            )];
        }
        _ => {
            let table = facts.profile.table_style();
            return vec![Answer::block(
                Subject::Disk,
                Evidence::NoGpt { table },
                Common::RightDisk,
            )];
        }
    };
    let faults = copy_faults(pair);
    if faults.is_empty() {
        let partitions = facts.profile.partitions.len();
        return vec![Answer::pass(
            Subject::Disk,
            Evidence::GptSound { partitions },
        )];
    }
    let block = |fault| Answer::block(Subject::PartitionTable, fault, Remedy::MendTable);
    faults.into_iter().map(block).collect()
}

fn obstacles<'a>(facts: &Facts<'a>) -> &'a [Obstacle] {
    match facts.fit() {
        Some(Err(obstacles)) => obstacles,
        _ => &[],
    }
}

fn fits(facts: &Facts<'_>) -> Vec<Answer> {
    let profile = facts.profile;
    let answer = |obstacle: &Obstacle| match obstacle {
        Obstacle::BeyondReach { number, last } => Some(Answer::block(
            Subject::numbered(profile, *number),
            Evidence::BeyondReach {
                last_lba: *last,
                reach: Lba(REACH - 1),
            },
            Remedy::EndBefore,
        )),
        Obstacle::TooMany {
            partitions,
            logical,
            tight,
        } => Some(Answer::block(
            Subject::PartitionTable,
            Evidence::TooManyForMbr {
                partitions: *partitions,
                logical: *logical,
                tight: tight.clone(),
            },
            Remedy::MakeRoomForRecords,
        )),
        _ => None,
    };
    let mut answers: Vec<Answer> = obstacles(facts).iter().filter_map(answer).collect();
    if let Some(Ok(fit)) = facts.fit() {
        answers.push(shares(fit));
        answers.extend(lost_space(profile));
    }
    answers
}

/// How the partitions are shared out among the entries.
fn shares(fit: &Fit) -> Answer {
    let (primaries, logical) = (fit.layout.primaries.len(), fit.layout.logical.len());
    let evidence = Evidence::Shares { primaries, logical };
    match logical {
        0 => Answer::pass(Subject::PartitionTable, evidence),
        _ => Answer::caution(Subject::PartitionTable, evidence, Remedy::NumbersChange),
    }
}

/// Space that no MBR partition can use.
fn lost_space(profile: &Profile) -> Option<Answer> {
    let geometry = profile.geometry;
    let from = Lba(REACH);
    let behind = Extent::between(from, Lba(geometry.sectors));
    let mib = geometry.bytes_in(&behind) / MIB;
    (geometry.sectors > REACH).then(|| {
        Answer::caution(
            Subject::Disk,
            Evidence::LostSpace { mib, from },
            Remedy::NotUsedMeanwhile,
        )
    })
}

fn types(facts: &Facts<'_>) -> Vec<Answer> {
    let profile = facts.profile;
    let answer = |obstacle: &Obstacle| match obstacle {
        Obstacle::Kind { number, kind } => Some(Answer::block(
            Subject::numbered(profile, *number),
            Evidence::NoMbrType { gpt_type: *kind },
            Remedy::GiveMbrForm,
        )),
        Obstacle::ReservedInUse { number, at } => Some(Answer::block(
            Subject::numbered(profile, *number),
            Evidence::ReservedInUse { at: *at },
            Remedy::WhoUsesReserved,
        )),
        _ => None,
    };
    let mut answers: Vec<Answer> = obstacles(facts).iter().filter_map(answer).collect();
    if let Some(Ok(fit)) = facts.fit() {
        answers.extend(fit.dropped.iter().map(|&number| {
            let kind = profile.partition(number).and_then(|part| part.gpt_kind());
            let name = kind.map_or("reserved", type_name).to_owned();
            Answer::pass(
                Subject::numbered(profile, number),
                Evidence::LeftOut { name },
            )
        }));
    }
    answers
}

fn active(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::DataDisk)];
    }
    let answer = |obstacle: &Obstacle| match obstacle {
        Obstacle::Esp(found) => Some(match &found[..] {
            [] => Answer::block(Subject::Disk, Evidence::NoEspToStart, Remedy::MendForUefi),
            several => Answer::block(
                Subject::Disk,
                Evidence::SeveralEsps {
                    count: several.len(),
                },
                Remedy::WhichEsp,
            ),
        }),
        Obstacle::Sectors(bytes) => Some(Answer::block(
            Subject::Disk,
            Evidence::SectorsForBios { bytes: *bytes },
            Remedy::LeaveGpt,
        )),
        Obstacle::EspUnfit { number, why } => Some(Answer::block(
            Subject::numbered(facts.profile, *number),
            Evidence::EspCannotTake { why: why.clone() },
            Remedy::MendEsp,
        )),
        _ => None,
    };
    let mut answers: Vec<Answer> = obstacles(facts).iter().filter_map(answer).collect();
    if let Some(Ok(Fit {
        esp: Some(number), ..
    })) = facts.fit()
    {
        answers.push(Answer::caution(
            Subject::numbered(facts.profile, *number),
            Evidence::EspBecomesActive,
            Remedy::TakeLetterAway,
        ));
    }
    answers
}

fn boot_files(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::DataDisk)];
    }
    if facts.profile.systems.is_empty() {
        return vec![Answer::not_asked(
            Subject::Disk,
            NotAsked::NoReadableWindows,
        )];
    }
    let of_system = |system: &WindowsSystem| {
        let subject = Subject::numbered(facts.profile, system.partition);
        let faults = faults_of(system);
        if faults.is_empty() {
            let files = &system.bios_files;
            let evidence = Evidence::BiosFiles {
                files: files.files.len(),
                kib: files.len_bytes() / 1024,
            };
            return vec![Answer::pass(subject, evidence)];
        }
        let block = |fault| Answer::block(subject.clone(), fault, Remedy::RepairBiosFiles);
        faults.into_iter().map(block).collect()
    };
    facts.profile.systems.iter().flat_map(of_system).collect()
}

fn faults_of(system: &WindowsSystem) -> Vec<Evidence> {
    let files = &system.bios_files;
    let mut faults = Vec::new();
    if let Err(why) = &system.bios_loader {
        let (path, why) = (BIOS_LOADER.to_owned(), why.clone());
        faults.push(Evidence::LoaderUnfit { path, why });
    }
    let unread = files.faults.iter();
    faults.extend(unread.map(|(path, why)| Evidence::BiosFileFault {
        path: path.clone(),
        why: why.clone(),
    }));
    let path = MANAGER.to_owned();
    let mut managers = files.files.iter().filter(|file| file.is_for(BOOTMGR));
    match managers.next().map(|manager| manager.len_bytes) {
        None => faults.push(Evidence::BiosFileMissing { path }),
        Some(0) => faults.push(Evidence::BiosFileEmpty { path }),
        Some(bytes) if bytes > MAX_BOOT_MANAGER_BYTES => faults.push(Evidence::BiosFileTooLong {
            path,
            bytes,
            limit: MAX_BOOT_MANAGER_BYTES,
        }),
        Some(_) => {}
    }
    faults
}

fn firmware(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::not_asked(Subject::Pc, NotAsked::DataDisk)];
    }
    let mut answers = vec![bios_mode(facts)];
    if let fact @ Fact::Known { value: true, .. } = &facts.machine.secure_boot {
        let source = fact.ground().clone();
        answers.push(Answer::caution(
            Subject::Pc,
            Evidence::SecureBootOn { source },
            Remedy::SecureBootOff,
        ));
    }
    answers
}

/// Whether the PC can start in BIOS mode, by whichever of its facts tells.
fn bios_mode(facts: &Facts<'_>) -> Answer {
    let machine = &facts.machine;
    if let fact @ Fact::Known { value: false, .. } = &machine.uefi {
        let source = fact.ground().clone();
        return Answer::pass(Subject::Pc, Evidence::BiosOnlyPc { source });
    }
    let by_session = matches!(machine.session.value(), Some(BootMode::Bios));
    let by_mode = matches!(machine.mode.value(), Some(BootMode::Bios | BootMode::Both));
    let source = match (by_session, by_mode) {
        (true, _) => machine.session.ground(),
        (false, true) => machine.mode.ground(),
        _ if machine.csm.value().is_some() => machine.csm.ground(),
        _ => {
            return Answer::unknown(Subject::Pc, Evidence::BiosNotKnown, Remedy::LookForCsm);
        }
    };
    let source = source.clone();
    Answer::pass(Subject::Pc, Evidence::BiosAble { source })
}

/// True where an installed Windows brings what a new store for BIOS mode can be made for.
pub(super) fn can_start(profile: &Profile) -> bool {
    bios_system(profile).is_some()
}
