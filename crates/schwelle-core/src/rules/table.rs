//! Rules about the partition table.

use super::{Answer, Facts, Rule};
use crate::crossing::Style;
use crate::disk_use::DiskUse;
use crate::gpt::{self, GptPair};
use crate::mbr::{DamageKind, Kind};
use crate::placement::EspFrom;
use crate::profile::{Origin, Table, Trace, TraceAt, VolumeKind};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "table.mbr",
        question: "Does the disk have an MBR partition table?",
        why: "Only an MBR disk is converted, and a blank one where it is to hold data. A disk that is GPT already needs no conversion; a \
            hybrid one names its partitions twice, and nobody can tell which table is meant.",
        to: Some(Style::Gpt),
        check: mbr,
    },
    Rule {
        id: "table.inside",
        question: "Do all partitions lie inside the disk?",
        why: "An entry that ends behind the disk points to a truncated copy, a wrong sector \
            size, or a damaged table. What it names is not all there.",
        to: Some(Style::Gpt),
        check: |facts| damage(facts, |kind| matches!(kind, DamageKind::BeyondEnd { .. })),
    },
    Rule {
        id: "table.overlap",
        question: "Do the partitions lie side by side?",
        why: "Where two partitions claim the same sectors, at least one of them is wrong, and \
            writing to one damages the other.",
        to: Some(Style::Gpt),
        check: |facts| {
            damage(facts, |kind| {
                matches!(
                    kind,
                    DamageKind::Overlap { .. } | DamageKind::SecondContainer { .. }
                )
            })
        },
    },
    Rule {
        id: "table.chain",
        question: "Is the chain of logical partitions sound?",
        why: "Logical partitions are found by following links from one extended boot record to \
            the next. A loop or a link outside the container means that partitions may be \
            missing from the list, and what is missing would be taken for free space.",
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
        id: "table.flags",
        question: "Are the entries' flags as they should be?",
        why: "The flag byte of an entry is 80h (active) or 00h. Anything else is a sign that the \
            sector was overwritten with something that is no table.",
        to: Some(Style::Gpt),
        check: |facts| damage(facts, |kind| matches!(kind, DamageKind::BadFlag { .. })),
    },
    Rule {
        id: "table.dynamic",
        question: "Is it a basic disk, not a dynamic one?",
        why: "A dynamic disk keeps its volumes in a database of its own in the last MiB, and its \
            volumes may reach over several disks. The partition table does not describe them.",
        to: Some(Style::Gpt),
        check: dynamic,
    },
    Rule {
        id: "table.types",
        question: "Does every partition type have a GPT form?",
        why: "Each partition needs a type in the new table. A type that is not known cannot be \
            carried over without guessing what the partition is for.",
        to: Some(Style::Gpt),
        check: types,
    },
    Rule {
        id: "table.count",
        question: "Do all partitions fit into the new table?",
        why: "The new table has 128 entries, and one of them is for the EFI system partition. Logical \
            partitions have no such limit.",
        to: Some(Style::Gpt),
        check: count,
    },
    Rule {
        id: "table.alignment",
        question: "Do the partitions begin at multiples of 4096 bytes?",
        why: "Disks of the last years write 4096 bytes at a time. A partition that begins in between, as \
            those laid out by cylinders do, is written more slowly. It works, and is kept as it is.",
        to: Some(Style::Gpt),
        check: alignment,
    },
];

fn mbr(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = match &facts.profile.table {
        Table::Mbr {
            gpt_leftover: false,
            table,
        } => Answer::pass(
            "disk",
            format!("MBR, disk signature {:08X}", table.record.disk_signature),
        ),
        Table::Mbr {
            gpt_leftover: true, ..
        } => Answer::caution(
            "disk",
            "MBR, with the remains of an older GPT behind it",
            "Make sure that the MBR's partitions are the ones in use (do they hold the \
             customer's data?); the remains are overwritten.",
        ),
        Table::Gpt { hybrid: false, .. } => Answer::block(
            "disk",
            "the disk has a GPT already",
            "Nothing to convert. Ask whether it starts in UEFI mode: schwelle rehearse DISK; if it does not: \
             schwelle mend DISK. The way back to MBR: schwelle check DISK --to mbr",
        ),
        Table::Gpt { hybrid: true, .. } => Answer::block(
            "disk",
            "hybrid: sector 0 names partitions beside the protective entry",
            "Find out which of the two tables is in use, and remove the additional MBR entries; \
             the GPT then stands alone.",
        ),
        Table::Bare => Answer::block(
            "disk",
            "LBA 0: a file system on the bare disk, no partition table",
            "There is nothing to convert: the volume fills the whole disk. Check that this is \
             the right disk: schwelle survey",
        ),
        Table::Blank if facts.disk_use == DiskUse::Data => Answer::pass(
            "disk",
            "LBA 0: no partition table and no partition; the disk gets an empty table",
        ),
        Table::Blank => Answer::block(
            "disk",
            "LBA 0: no partition table and no partition",
            "Check that this is the right disk (schwelle survey). If it is to become an empty GPT disk: \
             schwelle check DISK --data-disk",
        ),
        Table::Unknown => Answer::block(
            "disk",
            "LBA 0: neither a partition table nor a file system that is known",
            "Check that this is the right disk (schwelle survey), and whether it is encrypted as \
             a whole or damaged.",
        ),
    };
    let mut answers = vec![answer];
    answers.extend(facts.profile.trace.map(lost));
    if let Table::Gpt { pair, .. } = &facts.profile.table {
        answers.extend(gpt_damage(pair));
    }
    answers
}

/// Content on a disk without a partition: it may have had one.
fn lost(trace: Trace) -> Answer {
    let at = trace.at;
    match trace.place {
        TraceAt::Table => Answer::block(
            "disk",
            format!("{at}: content, though sector 0 is empty; a blank disk has none there"),
            "The disk may have lost its table. Copy it sector by sector, and have the table restored on \
             the copy. If nobody needs what is on it, overwrite this sector with zeros and check again.",
        ),
        TraceAt::Volume(VolumeKind::Unknown) => Answer::caution(
            "disk",
            format!("{at}: content, though no partition is named"),
            "Make sure that nobody needs it: the new table will not name it either.",
        ),
        TraceAt::Volume(kind) => Answer::block(
            "disk",
            format!(
                "{at}: a volume begins there ({}), though no partition is named",
                kind.name()
            ),
            "The disk may have lost its table. Copy it sector by sector, and have the table restored on \
             the copy. If nobody needs what is on it, overwrite this sector with zeros and check again.",
        ),
    }
}

/// What is wrong with the copies of a GPT: no reason to convert, but the technician should know.
fn gpt_damage(pair: &GptPair) -> Vec<Answer> {
    let remedy = "The table should be written anew from its sound copy before the disk is used \
        further; what that means is shown by: schwelle mend DISK";
    let copies = [("primary", &pair.primary), ("backup", &pair.backup)];
    let faults = copies
        .into_iter()
        .filter_map(|(name, copy)| Some(format!("{name} copy: {}", copy.as_ref().err()?)));
    let all = faults.chain(pair.disagreement());
    all.map(|fault| Answer::caution("partition table", fault, remedy))
        .collect()
}

fn damage(facts: &Facts<'_>, of_this_rule: fn(&DamageKind) -> bool) -> Vec<Answer> {
    let Some(table) = facts.profile.mbr() else {
        return vec![Answer::pass("disk", "not asked: there is no MBR table")];
    };
    let remedy = "Do not write to this disk. Copy it sector by sector first, then have the table \
        repaired on the copy.";
    let block = |damage: &crate::mbr::Damage| {
        Answer::block(
            "partition table",
            format!("{}: {}", damage.at, damage.kind),
            remedy,
        )
    };
    table
        .damage
        .iter()
        .filter(|damage| of_this_rule(&damage.kind))
        .map(block)
        .collect()
}

fn dynamic(facts: &Facts<'_>) -> Vec<Answer> {
    const REMEDY: &str = "Turn it into a basic disk first: back the volumes up, delete them in \
        Windows' disk management, convert to a basic disk there, and restore.";
    let members = facts
        .profile
        .partitions
        .iter()
        .filter_map(|partition| match partition.origin {
            Origin::Mbr {
                kind: Kind::DYNAMIC,
                named_at,
                ..
            } => Some(Answer::block(
                partition.title(),
                format!("{named_at}: type 42h, a member of a dynamic disk"),
                REMEDY,
            )),
            _ => None,
        });
    let header = facts.profile.dynamic.iter().map(|mark| {
        Answer::block(
            "disk",
            format!("{}: private header of a dynamic disk", mark.at),
            REMEDY,
        )
    });
    members.chain(header).collect()
}

fn types(facts: &Facts<'_>) -> Vec<Answer> {
    let block = |partition: &crate::profile::Partition| {
        let Origin::Mbr { kind, named_at, .. } = partition.origin else {
            return None;
        };
        if kind.is_makers() && facts.types.settled(kind).is_none() {
            return Some(Answer::caution(
                partition.title(),
                format!(
                    "{named_at}: type {:02X}h, {}: kept, hidden and without a letter",
                    kind.0,
                    kind.name()
                ),
                "What the firmware starts from it by a key (the maker's diagnostics or recovery) may look for the \
                 old type and not start any more. To give it another type: [[type]] in the policy.",
            ));
        }
        let (evidence, remedy) = match kind {
            Kind::DYNAMIC | Kind::PROTECTIVE => return None,
            _ if facts.types.map(kind).is_some() => return None,
            _ => (
                "the type has no GPT form that is known here",
                "Find out what made this partition. To keep it as it is, add its type to the \
                 policy ([[type]] byte, guid; docs/policy.toml) and check again with --policy FILE. If it \
                 is plain data, give it the type of its file system (07h for NTFS); if nobody \
                 needs it, back it up and delete it.",
            ),
        };
        Some(Answer::block(
            partition.title(),
            format!("{named_at}: type {:02X}h: {evidence}", kind.0),
            remedy,
        ))
    };
    facts.profile.partitions.iter().filter_map(block).collect()
}

fn count(facts: &Facts<'_>) -> Vec<Answer> {
    let (partitions, entries) = (facts.profile.partitions.len(), gpt::ENTRY_COUNT as usize);
    // A place that is taken over, or a partition that is there, counts already.
    let gets_esp = match facts.placement() {
        Some(placement) => matches!(placement.esp_from(), Some(EspFrom::Gap | EspFrom::Tail(_))),
        None => facts.disk_use == DiskUse::System,
    };
    if partitions.saturating_add(usize::from(gets_esp)) <= entries {
        return Vec::new();
    }
    let more = match gets_esp {
        true => ", and one for the EFI system partition",
        false => "",
    };
    let evidence = format!("{partitions} partitions{more}; the table has {entries} entries");
    let remedy = "Back up what is on the ones that nobody needs, delete them in Windows' disk \
        management, and check again.";
    vec![Answer::block("partition table", evidence, remedy)]
}

fn alignment(facts: &Facts<'_>) -> Vec<Answer> {
    const BLOCK_BYTES: u64 = 4096;
    if facts.profile.mbr().is_none() {
        return Vec::new();
    }
    let geometry = facts.profile.geometry;
    let answer = |partition: &crate::profile::Partition| {
        let first = partition.extent.first;
        let offset = geometry.byte_of(first)?;
        let evidence = format!(
            "begins at {first}, {} bytes behind a multiple of 4096",
            offset % BLOCK_BYTES
        );
        let remedy =
            "It is kept where it is. Moving it would be a job for another day, with a backup.";
        let is_aligned = offset.is_multiple_of(BLOCK_BYTES);
        (!is_aligned).then(|| Answer::caution(partition.title(), evidence, remedy))
    };
    facts.profile.partitions.iter().filter_map(answer).collect()
}
