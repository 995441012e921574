//! Rules about room: for the two copies of the new table, and for the EFI system partition.

use super::answers::common::NotAsked;
use super::answers::room::{Evidence, Remedy};
use super::{Answer, Facts, Room, Rule, RuleId, Subject};
use crate::device::{Extent, Lba, MIB};
use crate::gpt::{TableCopy, first_usable};
use crate::placement::{EspFrom, NoRoom, Placement, backup_region};
use crate::profile::{Origin, Table};

pub(super) static RULES: &[Rule] = &[
    Rule::to_gpt(RuleId::RoomPrimaryTable, primary),
    Rule::to_gpt(RuleId::RoomBackupTable, backup),
    Rule::to_gpt(RuleId::RoomSmallest, smallest),
    Rule::to_gpt(RuleId::RoomEsp, esp),
];

fn partitions_in(
    facts: &Facts<'_>,
    region: Extent,
    copy: TableCopy,
    remedy: &Remedy,
) -> Vec<Answer> {
    if !facts.can_have_table() {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoMbr)];
    }
    let inside = facts
        .profile
        .partitions
        .iter()
        .filter(|partition| partition.extent.overlaps(&region));
    let mut answers: Vec<Answer> = inside
        .map(|partition| {
            let evidence = Evidence::PartitionInTheWay {
                partition: partition.extent,
                copy,
                region,
            };
            Answer::block(Subject::of(partition), evidence, remedy.clone())
        })
        .collect();
    // An extended boot record in the way would cut off the logical partitions before sector 0 is
    // replaced.
    let records = facts
        .profile
        .partitions
        .iter()
        .filter_map(|partition| match partition.origin {
            Origin::Mbr {
                named_at,
                logical: true,
                ..
            } => Some(named_at),
            _ => None,
        });
    let in_the_way = |lba: &Lba| region.first <= *lba && *lba < region.end;
    answers.extend(records.filter(in_the_way).map(|at| {
        let evidence = Evidence::RecordInTheWay { at, copy };
        Answer::block(Subject::ExtendedBootRecord, evidence, remedy.clone())
    }));
    if answers.is_empty() {
        answers.push(Answer::pass(Subject::Disk, Evidence::Free { region }));
    }
    answers
}

fn primary(facts: &Facts<'_>) -> Vec<Answer> {
    let region = Extent::between(
        Lba(1),
        Lba(first_usable(facts.profile.geometry.logical_sector)),
    );
    let mut answers = partitions_in(facts, region, TableCopy::Primary, &Remedy::MovePartition);
    if let (Some(sectors), Table::Mbr { .. }) = (facts.profile.code_in_gap, &facts.profile.table) {
        // The remains of a GPT are no boot manager: they may be those of a conversion that stopped.
        let foreign_boot_code = facts.profile.starts_through_gap();
        let evidence = Evidence::CodeInGap {
            sectors,
            foreign_boot_code,
        };
        let remedy = match foreign_boot_code {
            false => Remedy::OverwrittenAndSaved,
            true => Remedy::OverwrittenAfterSector0,
        };
        answers.push(Answer::caution(Subject::Disk, evidence, remedy));
    }
    answers
}

fn backup(facts: &Facts<'_>) -> Vec<Answer> {
    let region = backup_region(facts.profile.geometry);
    let shrunk = facts.placement().and_then(|placement| {
        let mut reaching = facts.profile.partitions.iter();
        let reaching = reaching.find(|partition| partition.extent.overlaps(&region))?;
        let after = placement.after(reaching);
        (!after.overlaps(&region)).then_some((reaching, after))
    });
    if let Some((partition, after)) = shrunk {
        let evidence = Evidence::ShrunkForBackup {
            region,
            last_lba: after.last(),
        };
        return vec![Answer::pass(Subject::of(partition), evidence)];
    }
    let remedy = match facts.no_room() {
        Some(NoRoom::BackupTable { why, .. }) => Remedy::ShrinkForBackup { why: why.clone() },
        _ => Remedy::OthersFirst,
    };
    partitions_in(facts, region, TableCopy::Backup, &remedy)
}

fn esp(facts: &Facts<'_>) -> Vec<Answer> {
    if !facts.can_have_table() {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoMbr)];
    }
    let Room::Gpt(placement) = facts.room else {
        return Vec::new();
    };
    let numbered = |number: usize| Subject::numbered(facts.profile, number);
    vec![match placement {
        Ok(Placement { esp: None, .. }) => Answer::not_asked(Subject::Disk, NotAsked::NoEspForData),
        Ok(Placement {
            esp: Some(esp),
            considered,
            ..
        }) => {
            let evidence = Evidence::EspPlaced {
                sectors: esp.extent,
                considered: considered.clone(),
            };
            match esp.from {
                EspFrom::Takeover(_) => {
                    Answer::caution(Subject::Disk, evidence, Remedy::NeitherModeMeanwhile)
                }
                _ => Answer::pass(Subject::Disk, evidence),
            }
        }
        Err(NoRoom::NoPlace { needed, considered }) => Answer::block(
            Subject::Disk,
            Evidence::NoPlace {
                considered: considered.clone(),
            },
            Remedy::MakeRoom {
                needed_mib: needed / MIB,
            },
        ),
        Err(NoRoom::BackupTable { number, why }) => Answer::block(
            numbered(*number),
            Evidence::BackupTableBlocked { why: why.clone() },
            Remedy::SeeBackupTable,
        ),
        Err(NoRoom::BelowFloor { asked, floor }) => Answer::block(
            Subject::Disk,
            Evidence::BelowFloor {
                asked_mib: asked / MIB,
                sector_bytes: facts.profile.geometry.logical_sector,
                floor_mib: floor / MIB,
            },
            Remedy::NameLargerSize {
                floor_mib: floor / MIB,
            },
        ),
        Err(NoRoom::Existing { number, why }) => Answer::block(
            numbered(*number),
            Evidence::ExistingUnfit { why: why.clone() },
            Remedy::MendOrDeleteExisting,
        ),
    }]
}

/// What a volume needs beyond its content to be shrunk: room for runlists that grow.
const RESERVE_SHARE: u64 = 100;

fn smallest(facts: &Facts<'_>) -> Vec<Answer> {
    let volumes = facts.profile.partitions.iter().filter_map(|partition| {
        let health = partition.volume.ntfs.as_ref()?;
        let (cluster, used) = (u64::from(health.shape.cluster_bytes), health.audit.clusters);
        let smallest = used.saturating_add(used.div_ceil(RESERVE_SHARE));
        let mib = |clusters: u64| clusters.saturating_mul(cluster).div_ceil(MIB);
        let size_mib = mib(health.shape.clusters());
        let evidence = Evidence::Smallest {
            used_mib: mib(used),
            size_mib,
            smallest_mib: mib(smallest).min(size_mib),
        };
        Some(Answer::pass(Subject::of(partition), evidence))
    });
    volumes.collect()
}
