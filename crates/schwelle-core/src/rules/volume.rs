//! Rules about the volumes: only what was closed cleanly and is open to reading may be worked on.

use super::answers::volume::{Evidence, Remedy};
use super::{Answer, Facts, Outcome, Rule, RuleId, Subject};
use crate::bitlocker::{EncryptionState, Method, ProtectorKind};
use crate::disk_use::DiskUse;
use crate::mbr::Kind;
use crate::ntfs::{Hibernation, LogState};
use crate::profile::{Encryption, Foreign, NtfsHealth, Origin, Partition, Profile, VolumeKind};

pub(super) static RULES: &[Rule] = &[
    Rule::always(RuleId::VolumeEncryption, encryption),
    Rule::always(RuleId::VolumeReadable, readable),
    Rule::always(RuleId::VolumeHibernation, hibernation),
    Rule::always(RuleId::VolumeClean, clean),
    Rule::always(RuleId::VolumeConsistent, consistent),
    Rule::always(RuleId::VolumeShadowCopies, shadow_copies),
    Rule::always(RuleId::VolumeMatchesType, matches_type),
];

fn ntfs_volumes<'a>(facts: &'a Facts<'_>) -> impl Iterator<Item = (&'a Partition, &'a NtfsHealth)> {
    facts
        .profile
        .partitions
        .iter()
        .filter_map(|partition| Some((partition, partition.volume.ntfs.as_ref()?)))
}

fn encryption(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = |partition: &Partition| {
        let encryption = partition.encryption.as_ref()?;
        let subject = Subject::of(partition);
        if let Some(opened_by) = encryption.opened_by {
            return Some(opened(facts, partition, encryption, opened_by));
        }
        let evidence = Evidence::Encryption {
            at: partition.extent.first,
            state: encryption.state,
            recovery_ids: encryption.recovery_ids.clone(),
            other_method: match encryption.method {
                Some(Method::Other(number)) => Some(number),
                _ => None,
            },
        };
        // A data disk's volume is kept as it is, and need not be looked into.
        if facts.disk_use == DiskUse::Data {
            return Some(Answer::caution(subject, evidence, Remedy::KeptUnseen));
        }
        if is_aside(facts.profile, partition) {
            return Some(Answer::caution(subject, evidence, Remedy::KeptUnseenAside));
        }
        let is_known = encryption.method.is_some_and(Method::is_supported);
        let remedy = match encryption.state {
            EncryptionState::Encrypted if is_known => Remedy::Unlock,
            EncryptionState::Encrypted
            | EncryptionState::Suspended
            | EncryptionState::NotReported => Remedy::Decrypt,
            EncryptionState::Encrypting => Remedy::WaitForEncryption,
            EncryptionState::Decrypting => Remedy::WaitForDecryption,
            EncryptionState::Decrypted => Remedy::StartOnceDecrypted,
        };
        Some(Answer::block(subject, evidence, remedy))
    };
    facts.profile.partitions.iter().filter_map(answer).collect()
}

/// An encrypted volume that is open here: it is kept encrypted. What matters is what happens at the next start.
fn opened(
    facts: &Facts<'_>,
    partition: &Partition,
    encryption: &Encryption,
    opened_by: ProtectorKind,
) -> Answer {
    let evidence = Evidence::EncryptionOpen {
        opened_by,
        recovery_ids: encryption.recovery_ids.clone(),
    };
    let mut systems = facts.profile.systems.iter();
    let is_system = systems.any(|system| system.partition == partition.number);
    let subject = Subject::of(partition);
    if facts.disk_use == DiskUse::Data || !is_system {
        return Answer::pass(subject, evidence);
    }
    let remedy = if encryption.is_protected() {
        Remedy::RecoveryPasswordAtHand
    } else {
        Remedy::SealsItsKeyAnew
    };
    Answer::caution(subject, evidence, remedy)
}

/// True for a partition that nothing starts from, on a disk whose menu starts an installed Windows that can be read.
fn is_aside(profile: &Profile, partition: &Partition) -> bool {
    let started = profile.menu_partitions();
    let mut systems = profile.systems.iter();
    systems.any(|system| started.contains(&system.partition))
        && !started.contains(&partition.number)
        && !partition.is_active()
}

fn readable(facts: &Facts<'_>) -> Vec<Answer> {
    let partitions = facts.profile.partitions.iter();
    let answer = |partition: &Partition| {
        let fault = partition.volume.fault.clone()?;
        let evidence = Evidence::VolumeFault { fault };
        Some(Answer::block(
            Subject::of(partition),
            evidence,
            Remedy::CheckOrCopy,
        ))
    };
    partitions.filter_map(answer).collect()
}

/// An answer about a volume at rest. Of a mounted one it is no fault yet: it is asked again when the volume has been
/// taken off.
fn at_rest(facts: &Facts<'_>, partition: &Partition, answer: Answer) -> Answer {
    if !facts.profile.is_mounted(partition) {
        return answer;
    }
    Answer::new(
        Outcome::Caution,
        answer.subject,
        answer.evidence,
        Remedy::CheckAtRest,
    )
}

fn hibernation(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = |(partition, health): (&Partition, &NtfsHealth)| {
        let subject = Subject::of(partition);
        if health.is_hibernated() {
            return Some(at_rest(
                facts,
                partition,
                Answer::block(subject, Evidence::Hibernated, Remedy::HibernationOff),
            ));
        }
        (health.hibernation == Hibernation::Resuming).then(|| {
            Answer::caution(
                subject,
                Evidence::ResumedAndClosed,
                Remedy::ShutDownIfInDoubt,
            )
        })
    };
    ntfs_volumes(facts).filter_map(answer).collect()
}

fn clean(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = |(partition, health): (&Partition, &NtfsHealth)| {
        let evidence = match (health.dirty, health.log) {
            (true, _) => Evidence::MarkedForCheck,
            (false, LogState::InUse) => Evidence::LogInUse,
            (false, LogState::Mounted) => Evidence::LogMounted,
            (false, LogState::Damaged) => Evidence::LogDamaged,
            (false, LogState::Empty | LogState::Clean) => return None,
        };
        let answer = Answer::block(Subject::of(partition), evidence, Remedy::CheckVolume);
        Some(at_rest(facts, partition, answer))
    };
    ntfs_volumes(facts).filter_map(answer).collect()
}

fn consistent(facts: &Facts<'_>) -> Vec<Answer> {
    let answers = ntfs_volumes(facts).map(|(partition, health)| {
        let subject = || Subject::of(partition);
        let copies = health.faults.iter().map(|fault| {
            let evidence = Evidence::CopyFault { fault: *fault };
            let answer = Answer::block(subject(), evidence, Remedy::CheckVolume);
            at_rest(facts, partition, answer)
        });
        let books = health.audit.faults.iter().map(|fault| {
            let outcome = match fault.is_harmless() {
                true => Outcome::Caution,
                false => Outcome::Block,
            };
            let evidence = Evidence::AuditFault {
                fault: fault.clone(),
            };
            let answer = Answer::new(outcome, subject(), evidence, Remedy::CheckVolume);
            at_rest(facts, partition, answer)
        });
        let mut answers: Vec<Answer> = copies.chain(books).collect();
        if answers.is_empty() {
            let evidence = Evidence::Balanced {
                files: health.audit.files,
                clusters: health.audit.clusters,
            };
            answers.push(Answer::pass(subject(), evidence));
        }
        answers
    });
    answers.flatten().collect()
}

fn shadow_copies(facts: &Facts<'_>) -> Vec<Answer> {
    let lost: Vec<usize> = facts.placement().map_or_else(Vec::new, |placement| {
        let lost = placement.loses_shadow_copies(facts.profile);
        lost.map(|partition| partition.number).collect()
    });
    let answer = |(partition, health): (&Partition, &NtfsHealth)| {
        let count = health.shadows?.count;
        let lost = lost.contains(&partition.number);
        let (subject, evidence) = (
            Subject::of(partition),
            Evidence::ShadowCopies { count, lost },
        );
        Some(match lost {
            true => Answer::caution(subject, evidence, Remedy::KeepRestorePoints),
            false => Answer::pass(subject, evidence),
        })
    };
    ntfs_volumes(facts).filter_map(answer).collect()
}

/// True where a volume is what a partition of this type may hold.
fn fits(kind: Kind, volume: VolumeKind) -> bool {
    match (kind.visible(), volume) {
        // A volume that is blank or unknown contradicts nothing; one that is encrypted has its
        // own rule.
        (_, VolumeKind::Blank | VolumeKind::Unknown | VolumeKind::Encrypted(_)) => true,
        (Kind(0x07), content) => matches!(
            content,
            VolumeKind::Ntfs | VolumeKind::ExFat | VolumeKind::Foreign(Foreign::ReFs)
        ),
        (Kind(0x01 | 0x04 | 0x06 | 0x0B | 0x0C | 0x0E | 0xEF), content) => {
            matches!(content, VolumeKind::Fat(_))
        }
        (Kind::RECOVERY, content) => matches!(content, VolumeKind::Ntfs | VolumeKind::Fat(_)),
        (Kind(0x82), content) => matches!(content, VolumeKind::Swap),
        (Kind(0x83), content) => matches!(
            content,
            VolumeKind::Ext
                | VolumeKind::Lvm
                | VolumeKind::Swap
                | VolumeKind::Foreign(Foreign::Btrfs | Foreign::Xfs | Foreign::Zfs)
        ),
        (Kind(0x8E), content) => matches!(content, VolumeKind::Lvm),
        _ => true,
    }
}

fn matches_type(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = |partition: &Partition| {
        let Origin::Mbr { kind, named_at, .. } = partition.origin else {
            return None;
        };
        let (subject, volume) = (Subject::of(partition), &partition.volume);
        if facts.disk_use == DiskUse::Data && partition.is_unrecognised() {
            let evidence = Evidence::Unrecognised {
                at: partition.extent.first,
                first_bytes: volume.first_bytes.clone(),
            };
            return Some(Answer::unknown(subject, evidence, Remedy::KeptUnrecognised));
        }
        let evidence = Evidence::TypeContradicts {
            named_at,
            mbr_type: kind,
            volume: volume.kind,
        };
        (!fits(kind, volume.kind)).then(|| Answer::caution(subject, evidence, Remedy::HowItCame))
    };
    facts.profile.partitions.iter().filter_map(answer).collect()
}
