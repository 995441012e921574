//! Rules about the partition table.

use super::answers::common::{NotAsked, Remedy as Common};
use super::answers::table::{Evidence, Remedy};
use super::{Answer, Facts, Rule, RuleId, Subject};
use crate::disk_use::DiskUse;
use crate::gpt::{self, GptPair, TableCopy};
use crate::identities::Style;
use crate::mbr::{Damage, DamageKind, Kind};
use crate::placement::EspFrom;
use crate::profile::{Origin, Partition, Table, Trace, TraceAt, VolumeKind};

pub(super) static RULES: &[Rule] = &[
    Rule::to_gpt(RuleId::TableMbr, mbr),
    Rule {
        id: RuleId::TableInside,
        to: Some(Style::Gpt),
        check: |facts| damage(facts, |kind| matches!(kind, DamageKind::BeyondEnd { .. })),
    },
    Rule {
        id: RuleId::TableOverlap,
        to: Some(Style::Gpt),
        check: |facts| {
            damage(facts, |kind| {
                matches!(
                    kind,
                    DamageKind::Overlap { .. } | DamageKind::SecondExtended { .. }
                )
            })
        },
    },
    Rule {
        id: RuleId::TableChain,
        to: Some(Style::Gpt),
        check: |facts| {
            damage(facts, |kind| {
                matches!(
                    kind,
                    DamageKind::ChainLoop { .. }
                        | DamageKind::ChainOutside { .. }
                        | DamageKind::ChainUnmarked
                        | DamageKind::ChainTooLong
                )
            })
        },
    },
    Rule {
        id: RuleId::TableFlags,
        to: Some(Style::Gpt),
        check: |facts| damage(facts, |kind| matches!(kind, DamageKind::BadFlag { .. })),
    },
    Rule::to_gpt(RuleId::TableDynamic, dynamic),
    Rule::to_gpt(RuleId::TableTypes, types),
    Rule::to_gpt(RuleId::TableCount, count),
    Rule::to_gpt(RuleId::TableAlignment, alignment),
];

fn mbr(facts: &Facts<'_>) -> Vec<Answer> {
    let disk_use = facts.disk_use;
    let blank = Evidence::Blank { disk_use };
    let block = |evidence, remedy| Answer::block(Subject::Disk, evidence, remedy);
    let mut answers = vec![match &facts.profile.table {
        Table::Mbr {
            gpt_leftover: false,
            table,
        } => {
            let signature = table.record.disk_signature;
            Answer::pass(Subject::Disk, Evidence::Mbr { signature })
        }
        Table::Mbr {
            gpt_leftover: true, ..
        } => Answer::caution(Subject::Disk, Evidence::MbrOverGpt, Remedy::MbrInUse),
        Table::Gpt { hybrid: false, .. } => block(Evidence::GptAlready, Remedy::NothingToConvert),
        Table::Gpt { hybrid: true, .. } => {
            Answer::block(Subject::Disk, Evidence::Hybrid, Common::OneOfTwoTables)
        }
        Table::Bare => block(Evidence::BareVolume, Remedy::NoTableNeeded),
        Table::Blank if disk_use == DiskUse::Data => Answer::pass(Subject::Disk, blank),
        Table::Blank => block(blank, Remedy::RightDiskOrData),
        Table::Unknown => block(Evidence::UnknownTable, Remedy::EncryptedOrDamaged),
    }];
    answers.extend(facts.profile.trace.map(lost));
    if let Table::Gpt { pair, .. } = &facts.profile.table {
        let faults = copy_faults(pair).into_iter();
        answers.extend(faults.map(|fault| {
            // No reason to convert, but the technician should know.
            Answer::caution(Subject::PartitionTable, fault, Remedy::MendCopies)
        }));
    }
    answers
}

/// Content on a disk without a partition: it may have had one.
fn lost(trace: Trace) -> Answer {
    let at = trace.at;
    match trace.place {
        TraceAt::Table => Answer::block(
            Subject::Disk,
            Evidence::TraceOfTable { at },
            Remedy::RestoreTable,
        ),
        TraceAt::Volume(VolumeKind::Unknown) => Answer::caution(
            Subject::Disk,
            Evidence::TraceOfContent { at },
            Remedy::NobodyNeedsIt,
        ),
        TraceAt::Volume(volume) => Answer::block(
            Subject::Disk,
            Evidence::TraceOfVolume { at, volume },
            Remedy::RestoreTable,
        ),
    }
}

/// What is wrong with the copies of a GPT.
pub(super) fn copy_faults(pair: &GptPair) -> Vec<Evidence> {
    let copies = [
        (TableCopy::Primary, &pair.primary),
        (TableCopy::Backup, &pair.backup),
    ];
    let damaged = copies.into_iter().filter_map(|(copy, read)| {
        let fault = read.as_ref().err()?.into();
        Some(Evidence::CopyDamaged { copy, fault })
    });
    let disagreement = pair.disagreement();
    let disagreement = disagreement.map(|disagreement| Evidence::CopiesDisagree { disagreement });
    damaged.chain(disagreement).collect()
}

fn damage(facts: &Facts<'_>, of_this_rule: fn(&DamageKind) -> bool) -> Vec<Answer> {
    let Some(table) = facts.profile.mbr() else {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoMbr)];
    };
    let block = |found: &Damage| {
        let evidence = Evidence::Damage {
            at: found.at,
            damage: found.kind,
        };
        Answer::block(Subject::PartitionTable, evidence, Remedy::RepairOnCopy)
    };
    let found = table.damage.iter();
    let found = found.filter(|found| of_this_rule(&found.kind));
    found.map(block).collect()
}

fn dynamic(facts: &Facts<'_>) -> Vec<Answer> {
    let partitions = facts.profile.partitions.iter();
    let members = partitions.filter_map(|partition| match partition.origin {
        Origin::Mbr {
            kind: Kind::DYNAMIC,
            named_at,
            ..
        } => Some(Answer::block(
            Subject::of(partition),
            Evidence::DynamicMember { named_at },
            Remedy::MakeBasic,
        )),
        _ => None,
    });
    let header = facts.profile.dynamic.iter().map(|found| {
        let evidence = Evidence::DynamicHeader { at: found.at };
        Answer::block(Subject::Disk, evidence, Remedy::MakeBasic)
    });
    members.chain(header).collect()
}

fn types(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = |partition: &Partition| {
        let Origin::Mbr { kind, named_at, .. } = partition.origin else {
            return None;
        };
        let subject = Subject::of(partition);
        let mbr_type = kind;
        if kind.is_manufacturers() && facts.types.chosen(kind).is_none() {
            let evidence = Evidence::ManufacturersType { named_at, mbr_type };
            return Some(Answer::caution(subject, evidence, Remedy::ManufacturersKey));
        }
        let has_rule = matches!(kind, Kind::DYNAMIC | Kind::PROTECTIVE);
        if has_rule || facts.types.map(kind).is_some() {
            return None;
        }
        let evidence = Evidence::TypeNotKnown { named_at, mbr_type };
        Some(Answer::block(subject, evidence, Remedy::GiveTypeForm))
    };
    facts.profile.partitions.iter().filter_map(answer).collect()
}

fn count(facts: &Facts<'_>) -> Vec<Answer> {
    let (partitions, entries) = (facts.profile.partitions.len(), gpt::ENTRY_COUNT as usize);
    // A place that is taken over, or a partition that is there, counts already.
    let and_esp = match facts.placement() {
        Some(placement) => matches!(placement.esp_from(), Some(EspFrom::Gap | EspFrom::Tail(_))),
        None => facts.disk_use == DiskUse::System,
    };
    if partitions.saturating_add(usize::from(and_esp)) <= entries {
        return Vec::new();
    }
    let evidence = Evidence::TooMany {
        partitions,
        and_esp,
        entries,
    };
    vec![Answer::block(
        Subject::PartitionTable,
        evidence,
        Remedy::DeletePartitions,
    )]
}

fn alignment(facts: &Facts<'_>) -> Vec<Answer> {
    const BLOCK_BYTES: u64 = 4096;
    if facts.profile.mbr().is_none() {
        return Vec::new();
    }
    let answer = |partition: &Partition| {
        let first_lba = partition.extent.first;
        let beyond_bytes = facts.profile.geometry.byte_of(first_lba)? % BLOCK_BYTES;
        let evidence = Evidence::Unaligned {
            first_lba,
            beyond_bytes,
        };
        (beyond_bytes != 0)
            .then(|| Answer::caution(Subject::of(partition), evidence, Remedy::KeptUnaligned))
    };
    facts.profile.partitions.iter().filter_map(answer).collect()
}
