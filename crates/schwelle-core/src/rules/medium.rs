//! Rules about the medium: is this a disk that may be written at all?

use super::answers::medium::{Evidence, Remedy};
use super::{Answer, Facts, Rule, RuleId, Subject, Twin};
use crate::host::{PowerSource, User};
use crate::job::{FolderState, FoundJob};
use crate::profile::StoppedSign;

pub(super) static RULES: &[Rule] = &[
    Rule::always(RuleId::MediumWholeDisk, whole_disk),
    Rule::always(RuleId::MediumWritable, writable),
    Rule::always(RuleId::MediumSectorSize, sector_size),
    Rule::always(RuleId::MediumReadable, readable),
    Rule::always(RuleId::MediumHealth, health),
    Rule::always(RuleId::MediumInUse, in_use),
    Rule::always(RuleId::MediumRaid, raid),
    Rule::always(RuleId::MediumJobElsewhere, job_elsewhere),
    Rule::always(RuleId::MediumJobLasting, job_lasting),
    Rule::always(RuleId::MediumJobWritable, job_writable),
    Rule::always(RuleId::MediumStoppedJob, stopped_job),
    Rule::always(RuleId::MediumCopy, copy),
    Rule::always(RuleId::MediumPower, power),
];

fn whole_disk(facts: &Facts<'_>) -> Vec<Answer> {
    let partition_of = facts.profile.host.partition_of.as_ref();
    let block = |device: &String| {
        let device = device.clone();
        Answer::block(
            Subject::Disk,
            Evidence::PartitionOf {
                device: device.clone(),
            },
            Remedy::NameWholeDisk { device },
        )
    };
    partition_of.map(block).into_iter().collect()
}

fn writable(facts: &Facts<'_>) -> Vec<Answer> {
    let block = || {
        Answer::block(
            Subject::Disk,
            Evidence::HeldReadOnly,
            Remedy::LiftProtection,
        )
    };
    let read_only = facts.profile.host.read_only;
    read_only.then(block).into_iter().collect()
}

fn sector_size(facts: &Facts<'_>) -> Vec<Answer> {
    let bytes = facts.profile.geometry.logical_sector;
    if let Some(written) = facts.profile.written_with {
        let evidence = Evidence::WrittenWith {
            shown: bytes,
            written,
        };
        let remedy = match facts.profile.host.is_block_device {
            true => Remedy::ConnectDirectly,
            false => Remedy::NameSectorSize { bytes: written },
        };
        return vec![Answer::block(Subject::Disk, evidence, remedy)];
    }
    vec![match bytes {
        512 | 4096 => Answer::pass(Subject::Disk, Evidence::SectorSize { bytes }),
        _ => Answer::block(
            Subject::Disk,
            Evidence::OddSectorSize { bytes },
            Remedy::OtherSectorSize,
        ),
    }]
}

fn readable(facts: &Facts<'_>) -> Vec<Answer> {
    let unreadable = facts.unreadable.iter().map(|&sectors| {
        Answer::block(
            Subject::Disk,
            Evidence::Unreadable { sectors },
            Remedy::CopyFailingDisk,
        )
    });
    unreadable.collect()
}

fn health(facts: &Facts<'_>) -> Vec<Answer> {
    let caution = |evidence| Answer::caution(Subject::Disk, evidence, Remedy::CopyAndReplace);
    let warnings = facts.health.iter();
    let warnings = warnings.map(|&warning| caution(Evidence::Health { warning }));
    let retried = facts.retried.first().map(|&first| {
        caution(Evidence::Retried {
            first,
            count: facts.retried.len(),
        })
    });
    warnings.chain(retried).collect()
}

fn in_use(facts: &Facts<'_>) -> Vec<Answer> {
    let host = &facts.profile.host;
    let users = host.users.iter().map(|user| {
        let remedy = match user {
            User::RunningSystem { .. } => Remedy::FromOutside,
            _ => Remedy::StopUsers,
        };
        let user = user.clone();
        Answer::block(Subject::Disk, Evidence::InUse { user }, remedy)
    });
    let mounted = host.mounted.iter().map(|volume| {
        let at = volume.at.clone();
        let changed_meanwhile = host.changed_meanwhile;
        let evidence = Evidence::Mounted {
            at,
            changed_meanwhile,
        };
        Answer::caution(Subject::Disk, evidence, Remedy::TakenOffFirst)
    });
    match host.users.is_empty() {
        true => mounted.collect(),
        false => users.collect(),
    }
}

fn raid(facts: &Facts<'_>) -> Vec<Answer> {
    let found = facts.profile.raid.iter().map(|found| {
        let evidence = Evidence::RaidMetadata {
            at: found.at,
            owner: found.owner,
        };
        Answer::block(Subject::Disk, evidence, Remedy::LeaveRaidSet)
    });
    found.collect()
}

fn job_elsewhere(facts: &Facts<'_>) -> Vec<Answer> {
    let subject = Subject::JobFolder;
    vec![match facts.job.map(|job| job.on_disk) {
        Some(true) => Answer::block(subject, Evidence::JobOnThisDisk, Remedy::JobOnAnotherDisk),
        Some(false) => Answer::pass(subject, Evidence::JobOnAnotherDisk),
        None => Answer::pass(subject, Evidence::JobNotNamed),
    }]
}

fn job_lasting(facts: &Facts<'_>) -> Vec<Answer> {
    let subject = Subject::JobFolder;
    vec![match facts.job.map(|job| (job.in_memory, job)) {
        Some((Some(true), job)) if job.may_be_in_memory => Answer::caution(
            subject,
            Evidence::JobInMemory { accepted: true },
            Remedy::CopyJobFolder,
        ),
        Some((Some(true), _)) => Answer::block(
            subject,
            Evidence::JobInMemory { accepted: false },
            Remedy::JobOnLastingMedium,
        ),
        Some((Some(false), job)) if job.may_need_repair => Answer::caution(
            subject,
            Evidence::JobWithoutJournal,
            Remedy::RepairJobMedium,
        ),
        Some((Some(false), _)) => Answer::pass(subject, Evidence::JobNotInMemory),
        Some((None, _)) => Answer::unknown(
            subject,
            Evidence::JobPlaceNotReported,
            Remedy::JobOnLastingMedium,
        ),
        None => Answer::pass(subject, Evidence::JobNotNamed),
    }]
}

fn job_writable(facts: &Facts<'_>) -> Vec<Answer> {
    let subject = Subject::JobFolder;
    vec![match facts.job.map(|job| job.read_only) {
        Some(true) => Answer::block(subject, Evidence::JobReadOnly, Remedy::JobForWriting),
        Some(false) => Answer::pass(subject, Evidence::JobWritable),
        None => Answer::pass(subject, Evidence::JobNotNamed),
    }]
}

fn stopped_job(facts: &Facts<'_>) -> Vec<Answer> {
    let unfinished = facts.jobs.iter().find(|job| job.is_unfinished());
    if let Some(job) = unfinished {
        return vec![Answer::block(
            Subject::Disk,
            Evidence::JobStopped {
                path: job.path.clone(),
            },
            Remedy::EndStoppedJob {
                job: job.path.clone(),
            },
        )];
    }
    let mut answers: Vec<Answer> = facts.jobs.iter().filter_map(unknown_job).collect();
    let signs = facts.profile.stopped.iter();
    answers.extend(signs.map(|sign| sign_of_job(facts, *sign)));
    if answers.is_empty() {
        answers.extend(facts.jobs.iter().find_map(ended_job));
    }
    answers
}

/// A folder of which it is unknown whether it holds an unfinished job of this disk.
fn unknown_job(job: &FoundJob) -> Option<Answer> {
    let path = job.path.clone();
    let remedy = Remedy::LookIntoFolder {
        folder: job.path.clone(),
    };
    match &job.found {
        FolderState::Job(_) => None,
        // It may be this disk's, and unfinished.
        FolderState::Unreadable(fault) => {
            let fault = fault.clone();
            let evidence = Evidence::JobUnreadable { path, fault };
            Some(Answer::block(Subject::Disk, evidence, remedy))
        }
        FolderState::Damaged(fault) => {
            let fault = fault.clone();
            let evidence = Evidence::JobDamaged { path, fault };
            Some(Answer::caution(Subject::Disk, evidence, remedy))
        }
        FolderState::NotSearched(fault) => {
            let fault = fault.clone();
            let evidence = Evidence::NotSearched { path, fault };
            Some(Answer::caution(Subject::Disk, evidence, remedy))
        }
    }
}

/// A folder of a job on this disk that has ended.
fn ended_job(job: &FoundJob) -> Option<Answer> {
    let FolderState::Job(state) = job.found else {
        return None;
    };
    let path = job.path.clone();
    let evidence = Evidence::JobFound { path, state };
    Some(Answer::pass(Subject::Disk, evidence))
}

/// A sign that a job was stopped here, where no folder of one was found.
fn sign_of_job(facts: &Facts<'_>, sign: StoppedSign) -> Answer {
    let job_lost = facts.job_lost;
    let stopped = |subject, evidence: Evidence| match job_lost {
        true => Answer::caution(subject, evidence, Remedy::FindJobFolder),
        false => Answer::block(subject, evidence, Remedy::FindJobFolder),
    };
    match sign {
        StoppedSign::Shrunk {
            partition,
            beyond_bytes,
            copy_left,
        } => {
            let subject = Subject::numbered(facts.profile, partition);
            let evidence = Evidence::VolumeEndsEarly {
                beyond_bytes,
                copy_left,
                job_lost,
            };
            match copy_left {
                true => stopped(subject, evidence),
                false => Answer::caution(subject, evidence, Remedy::UseJobFolderIfAny),
            }
        }
        StoppedSign::Esp {
            at,
            disk: Some(disk),
        } => stopped(Subject::Disk, Evidence::EspOfJob { at, disk, job_lost }),
        StoppedSign::Esp { at, disk: None } => Answer::caution(
            Subject::Disk,
            Evidence::EspUnnamed { at },
            Remedy::UnusedUnlessJob,
        ),
    }
}

fn copy(facts: &Facts<'_>) -> Vec<Answer> {
    let serial = facts.profile.host.serial.as_ref();
    let named_surely = facts.named_surely;
    let shown = |twin: &Twin| {
        let evidence = Evidence::Twin {
            other: twin.clone(),
            named_surely,
        };
        if twin.unread.is_some() {
            return Answer::unknown(Subject::Disk, evidence, Remedy::TakeOtherOut);
        }
        match (named_surely, serial) {
            (true, _) => Answer::caution(Subject::Disk, evidence, Remedy::TakeOneOut),
            (false, Some(serial)) => {
                let serial = serial.clone();
                Answer::block(Subject::Disk, evidence, Remedy::NameBySerial { serial })
            }
            (false, None) => Answer::block(Subject::Disk, evidence, Remedy::TakeOtherOut),
        }
    };
    facts.twins.iter().map(shown).collect()
}

fn power(facts: &Facts<'_>) -> Vec<Answer> {
    let power = &facts.machine.power;
    vec![match power.value() {
        Some(PowerSource::Battery) => {
            Answer::caution(Subject::Pc, Evidence::OnBattery, Remedy::ConnectMains)
        }
        Some(PowerSource::Mains) => Answer::pass(Subject::Pc, Evidence::OnMains),
        Some(PowerSource::Unknown) | None => {
            let why = power.ground().clone();
            Answer::pass(Subject::Pc, Evidence::PowerNotReported { why })
        }
    }]
}
