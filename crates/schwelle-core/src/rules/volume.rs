//! Rules about the volumes: only what was closed cleanly and is open to reading may be worked on.

use super::{Answer, Facts, Outcome, Rule};
use crate::disk_use::DiskUse;
use crate::encryption::EncryptionState;
use crate::mbr::Kind;
use crate::ntfs::{Audit, Hibernation, LogState};
use crate::profile::{Foreign, NtfsHealth, Origin, Partition, Profile, VolumeKind};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "volume.encryption",
        question: "Are the volumes free of encryption?",
        why: "An encrypted Windows volume cannot be read from here, so its boot files and its \
            state cannot be checked; and its key is bound to the way the PC starts, so that \
            after the crossing it would ask for the recovery key.",
        to: None,
        check: encryption,
    },
    Rule {
        id: "volume.readable",
        question: "Can every volume be read that should be?",
        why: "A volume whose own structures do not make sense is damaged or overwritten. What \
            cannot be read cannot be proven unharmed afterwards.",
        to: None,
        check: readable,
    },
    Rule {
        id: "volume.hibernation",
        question: "Is no hibernated session waiting?",
        why: "A hibernated Windows, or one shut down with fast start-up, keeps the old layout in \
            its memory image. When it wakes on a changed disk, it writes back what it \
            remembers.",
        to: None,
        check: hibernation,
    },
    Rule {
        id: "volume.clean",
        question: "Were the volumes closed cleanly?",
        why: "A volume that is marked for a check, or whose log is in use, has changes under way \
            that only its own system can finish.",
        to: None,
        check: clean,
    },
    Rule {
        id: "volume.consistent",
        question: "Do the volumes' books balance?",
        why: "Every file record is read: each cluster must belong to one file only and be marked \
            in use, and the mirror of the first records and the copy of the boot sector must \
            match. Where they do not, the volume was damaged or cut short, and its own system \
            should mend it before anything is changed around it.",
        to: None,
        check: consistent,
    },
    Rule {
        id: "volume.shadow-copies",
        question: "Would restore points (shadow copies) be lost?",
        why: "Windows keeps restore points and previous versions of files as shadow copies. They read what has not changed \
            since from the volume itself, clusters that are free by now among it. Where a volume becomes smaller, \
            what moves goes there, and the copies show the wrong content. Their own store cannot be moved at all.",
        to: None,
        check: shadow_copies,
    },
    Rule {
        id: "volume.matches-type",
        question: "Does each partition hold what its type says?",
        why: "A partition whose type names another file system than it holds points to a table \
            that was restored wrongly, or to the wrong sector size.",
        to: None,
        check: matches_type,
    },
];

fn ntfs_volumes<'a>(facts: &'a Facts<'_>) -> impl Iterator<Item = (&'a Partition, &'a NtfsHealth)> {
    facts
        .profile
        .partitions
        .iter()
        .filter_map(|partition| Some((partition, partition.volume.ntfs.as_ref()?)))
}

fn encryption(facts: &Facts<'_>) -> Vec<Answer> {
    const DECRYPT: &str = "In Windows, turn the encryption of this volume off and wait until it \
        says that decryption is complete; shut down and check again. Keep the recovery key at \
        hand.";
    let answer = |partition: &Partition| {
        let VolumeKind::Encrypted(state) = partition.volume.kind else {
            return None;
        };
        let (evidence, remedy) = match state {
            EncryptionState::Encrypted => ("encrypted", DECRYPT),
            EncryptionState::Suspended => (
                "encrypted, protection suspended: the content is still encrypted, only the key \
                 lies open",
                "Suspending is not enough here, since the boot files cannot be read from \
                 outside. In Windows, turn the encryption off and wait until decryption is \
                 complete.",
            ),
            EncryptionState::Encrypting => ("encryption is under way", DECRYPT),
            EncryptionState::Decrypting => (
                "decryption is under way",
                "Start Windows, wait until decryption is complete, shut down and check again.",
            ),
            EncryptionState::Decrypted => (
                "decrypted, but its encryption metadata is still in charge",
                "Start Windows once, so that it finishes; shut down and check again.",
            ),
            EncryptionState::NotTold => ("encrypted; its metadata cannot be read", DECRYPT),
        };
        let evidence = format!("{}: {evidence}", partition.extent.first);
        // A data disk's volume is kept as it is, and need not be looked into.
        if facts.disk_use == DiskUse::Data {
            let remedy = "It is kept as it is, unseen. Keep its recovery key at hand, and make sure that no \
                system is on it: it would not start any more.";
            return Some(Answer::caution(partition.title(), evidence, remedy));
        }
        if is_aside(facts.profile, partition) {
            let remedy = "Its volume is kept as it is, unseen: nothing starts from it. Keep its recovery key at hand.";
            return Some(Answer::caution(partition.title(), evidence, remedy));
        }
        Some(Answer::block(partition.title(), evidence, remedy))
    };
    facts.profile.partitions.iter().filter_map(answer).collect()
}

/// True for a partition that nothing starts from, on a disk whose menu starts a Windows that can be read.
fn is_aside(profile: &Profile, partition: &Partition) -> bool {
    let started = profile.menu_partitions();
    let mut systems = profile.systems.iter();
    systems.any(|system| started.contains(&system.partition))
        && !started.contains(&partition.number)
        && !partition.is_active()
}

fn readable(facts: &Facts<'_>) -> Vec<Answer> {
    let faults = facts
        .profile
        .partitions
        .iter()
        .filter_map(|partition| Some((partition, partition.volume.fault.as_ref()?)));
    let remedy = "Start Windows and let it check this volume (chkdsk), or copy the disk first if \
        it may be failing; then check again.";
    faults
        .map(|(partition, fault)| Answer::block(partition.title(), fault, remedy))
        .collect()
}

fn hibernation(facts: &Facts<'_>) -> Vec<Answer> {
    let remedy = "Start Windows, switch fast start-up and hibernation off (powercfg /h off), \
        shut down and check again.";
    let answer = |(partition, health): (&Partition, &NtfsHealth)| {
        if health.is_hibernated() {
            return Some(Answer::block(
                partition.title(),
                "\\hiberfil.sys holds a session that was not ended (hibernation or fast start-up)",
                remedy,
            ));
        }
        (health.hibernation == Hibernation::Resuming).then(|| {
            Answer::caution(
                partition.title(),
                "\\hiberfil.sys says that a session was being resumed, but the volume was closed cleanly since",
                "Not every Windows takes that back. If in doubt: start Windows, shut it down completely and check again.",
            )
        })
    };
    ntfs_volumes(facts).filter_map(answer).collect()
}

fn clean(facts: &Facts<'_>) -> Vec<Answer> {
    let remedy =
        "Start Windows, let it check the volume (chkdsk /f), shut down completely and check again.";
    let answer = |(partition, health): (&Partition, &NtfsHealth)| {
        let evidence = match (health.dirty, health.log) {
            (true, _) => "the volume is marked for a check",
            (false, LogState::InUse) => "the volume's log is in use: it was not closed cleanly",
            (false, LogState::Mounted) => {
                "the volume's log has version 2.0, which Windows uses while it runs: it was not shut down completely"
            }
            (false, LogState::Damaged) => "the volume's log makes no sense",
            (false, LogState::Empty | LogState::Clean) => return None,
        };
        Some(Answer::block(partition.title(), evidence, remedy))
    };
    ntfs_volumes(facts).filter_map(answer).collect()
}

fn consistent(facts: &Facts<'_>) -> Vec<Answer> {
    const REMEDY: &str =
        "Start Windows, let it check the volume (chkdsk /f), shut down completely and check again.";
    let answers = ntfs_volumes(facts).map(|(partition, health)| {
        let copies = health
            .faults
            .iter()
            .map(|fault| Answer::block(partition.title(), fault.to_string(), REMEDY));
        let books = health.audit.faults.iter().map(|fault| {
            let outcome = if fault.is_harmless() {
                Outcome::Caution
            } else {
                Outcome::Block
            };
            Answer::new(outcome, partition.title(), fault.to_string(), REMEDY)
        });
        let mut answers: Vec<Answer> = copies.chain(books).collect();
        if answers.is_empty() {
            let Audit {
                files, clusters, ..
            } = health.audit;
            let evidence = format!(
                "{files} files and folders, {clusters} clusters: records, runlists and bitmap agree"
            );
            answers.push(Answer::pass(partition.title(), evidence));
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
        let copies = match health.shadows?.count {
            Some(1) => "1 restore point (shadow copy)".to_owned(),
            Some(count) => format!("{count} restore points (shadow copies)"),
            None => "restore points (shadow copies), whose list cannot be read".to_owned(),
        };
        let title = partition.title();
        Some(if lost.contains(&partition.number) {
            Answer::caution(
                title,
                format!("{copies}: lost, since the volume becomes smaller"),
                "If one may still be needed, copy what it holds first. convert asks for this by name \
                    (--lose-restore-points for scripts). Afterwards delete them in Windows (System Protection). To \
                    keep them, let the room come from elsewhere: unused space, or another volume.",
            )
        } else {
            Answer::pass(
                title,
                format!("{copies}: kept; of files that the job edits they show the new sectors"),
            )
        })
    };
    ntfs_volumes(facts).filter_map(answer).collect()
}

fn matches_type(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = |partition: &Partition| {
        let Origin::Mbr { kind, named_at, .. } = partition.origin else {
            return None;
        };
        let fits = match (kind.visible(), partition.volume.kind) {
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
        };
        let is_unrecognised = facts.disk_use == DiskUse::Data && partition.is_unrecognised();
        if is_unrecognised {
            let bytes = partition.volume.first_bytes.iter();
            let bytes: Vec<String> = bytes.map(|byte| format!("{byte:02X}")).collect();
            return Some(Answer::unknown(
                partition.title(),
                format!(
                    "{}: type 07h (NTFS or exFAT), but nothing that is known; it begins {}",
                    partition.extent.first,
                    bytes.join(" ")
                ),
                "It may be encrypted by another program, damaged, or shown by an adapter with another sector size. \
                    It would be kept without being inspected; convert asks for that by name \
                    (--keep-unrecognised for scripts).",
            ));
        }
        let found = partition.volume.kind.name();
        let evidence = format!(
            "{named_at}: type {:02X}h ({}), but it holds {found}",
            kind.0,
            kind.name()
        );
        let remedy = "Find out how this came about. The partition keeps its content, but its new \
            type follows the old one.";
        (!fits).then(|| Answer::caution(partition.title(), evidence, remedy))
    };
    facts.profile.partitions.iter().filter_map(answer).collect()
}
