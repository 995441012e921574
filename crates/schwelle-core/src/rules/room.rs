//! Rules about room: for the two copies of the new table, and for the EFI system partition.

use super::{Answer, Facts, Room, Rule};
use crate::crossing::Style;
use crate::device::{Extent, Lba, MIB};
use crate::gpt::first_usable;
use crate::placement::{Considered, EspFrom, NoRoom, Placement, backup_region};
use crate::profile::{Origin, Table};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "room.primary-table",
        question: "Are the sectors for the primary table free?",
        why: "The primary copy of the GPT takes the sectors right behind sector 0. Partitions begin \
            behind it on all but very old disks; but some boot managers keep code there, and a disk \
            that starts through it would stop starting before sector 0 is replaced. What lies \
            there is saved in the job folder.",
        to: Some(Style::Gpt),
        check: primary,
    },
    Rule {
        id: "room.backup-table",
        question: "Are the last sectors free for the backup table?",
        why: "The backup copy of the GPT lies in the disk's last sectors. A partition that \
            reaches to the very end must become a little smaller: an NTFS volume is trimmed \
            for it.",
        to: Some(Style::Gpt),
        check: backup,
    },
    Rule {
        id: "room.smallest",
        question: "How small can the NTFS volumes become?",
        why: "Where no space is unused, it is taken from the tail of an NTFS volume: what lies \
            there moves to free clusters in front. A volume can give up what it does not use, \
            but for a small reserve.",
        to: Some(Style::Gpt),
        check: smallest,
    },
    Rule {
        id: "room.esp",
        question: "Is there a place for the EFI system partition?",
        why: "UEFI firmware starts the system from a small FAT32 partition. It needs 260 MiB, or \
            at least 100 MiB on disks with 512-byte sectors, aligned to 1 MiB: in space that \
            no partition uses, or in the tail of the boot volume or of the Windows volume, \
            whichever moves least. One that is there already is used, where it is sound and large \
            enough. With --place takeover, the old boot partition gives its place.",
        to: Some(Style::Gpt),
        check: esp,
    },
];

fn partitions_in(facts: &Facts<'_>, region: Extent, what: &str, remedy: &str) -> Vec<Answer> {
    if !facts.can_have_table() {
        return vec![Answer::pass("disk", "not asked: there is no MBR table")];
    }
    let inside = facts
        .profile
        .partitions
        .iter()
        .filter(|partition| partition.extent.overlaps(&region));
    let mut answers: Vec<Answer> = inside
        .map(|partition| {
            let extent = partition.extent;
            let evidence = format!(
                "LBA {} to {}: the partition lies where {what} needs LBA {} to {}",
                extent.first.0,
                extent.last().0,
                region.first.0,
                region.last().0
            );
            Answer::block(partition.title(), evidence, remedy)
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
    answers.extend(records.filter(in_the_way).map(|lba| {
        Answer::block(
            "extended boot record",
            format!("{lba}: lies where {what} is written"),
            remedy,
        )
    }));
    if answers.is_empty() {
        answers.push(Answer::pass(
            "disk",
            format!(
                "LBA {} to {} are free of partitions",
                region.first.0,
                region.last().0
            ),
        ));
    }
    answers
}

fn primary(facts: &Facts<'_>) -> Vec<Answer> {
    let region = Extent {
        first: Lba(1),
        end: Lba(first_usable(facts.profile.geometry.logical_sector)),
    };
    let remedy = "Move the partition to a higher sector with a partitioning program, on a copy \
        of the disk, then check again.";
    let mut answers = partitions_in(facts, region, "the primary table", remedy);
    if let (
        Some(code),
        Table::Mbr {
            table,
            gpt_leftover,
        },
    ) = (facts.profile.code_in_gap, &facts.profile.table)
    {
        let evidence = format!(
            "LBA {} to {}: content in front of the first partition",
            code.first.0,
            code.last().0
        );
        // The remains of a GPT are no boot manager: they may be those of a conversion that stopped.
        answers.push(if table.record.goes_to_active() || *gpt_leftover {
            let remedy = "It is overwritten, and saved in the job folder. Windows' own boot code does \
                not use it; ask whether another program keeps something there.";
            Answer::caution("disk", evidence, remedy)
        } else {
            // The table is written before sector 0: a power cut between the two would leave a disk
            // that starts in neither mode.
            let evidence = format!("{evidence}, and LBA 0 has boot code that is not Windows' own");
            let remedy = "Another boot manager may start through it. Let the startup repair of Windows' \
                recovery environment write its own boot code, see the PC start, and check again.";
            Answer::block("disk", evidence, remedy)
        });
    }
    answers
}

fn backup(facts: &Facts<'_>) -> Vec<Answer> {
    let region = backup_region(facts.profile.geometry);
    let trimmed = facts.placement().and_then(|placement| {
        let mut reaching = facts.profile.partitions.iter();
        let reaching = reaching.find(|partition| partition.extent.overlaps(&region))?;
        let after = placement.after(reaching);
        (!after.overlaps(&region)).then_some((reaching, after))
    });
    if let Some((partition, after)) = trimmed {
        let evidence = format!(
            "the partition reaches into LBA {} to {}; trimmed to end at LBA {}, it makes room",
            region.first.0,
            region.last().0,
            after.last().0
        );
        return vec![Answer::pass(partition.title(), evidence)];
    }
    let remedy = match facts.no_room() {
        Some(NoRoom::BackupTable { why, .. }) => format!(
            "It cannot be trimmed: {why}. Make this volume a little smaller (1 MiB is enough) with \
             its own system, and check again."
        ),
        _ => "Mend what else stands against it first; then the volume can be trimmed.".to_owned(),
    };
    partitions_in(facts, region, "the backup table", &remedy)
}

/// One line for each place that was looked at.
fn lines(considered: &[Considered]) -> String {
    let line = |place: &Considered| format!("{}: {}", place.place, place.verdict);
    considered.iter().map(line).collect::<Vec<_>>().join("; ")
}

fn esp(facts: &Facts<'_>) -> Vec<Answer> {
    let geometry = facts.profile.geometry;
    if !facts.can_have_table() {
        return vec![Answer::pass("disk", "not asked: there is no MBR table")];
    }
    let mib = |bytes: u64| bytes / MIB;
    let Room::Gpt(placement) = facts.room else {
        return Vec::new();
    };
    let answer = match placement {
        Ok(Placement { esp: None, .. }) => Answer::pass(
            "disk",
            "not asked: a data disk gets none, unless --esp-size or --place asks for one",
        ),
        Ok(Placement {
            esp: Some(esp),
            considered,
            ..
        }) => {
            let (chosen, others): (Vec<&Considered>, Vec<&Considered>) =
                considered.iter().partition(|considered| considered.chosen);
            let place = chosen.first().map_or("", |chosen| chosen.place.as_str());
            let verdict = chosen.first().map_or("", |chosen| chosen.verdict.as_str());
            let mut evidence = format!(
                "{place}, LBA {} to {}: {verdict}",
                esp.extent.first.0,
                esp.extent.last().0
            );
            if !others.is_empty() {
                let others: Vec<Considered> = others.into_iter().cloned().collect();
                evidence += &format!(". Not taken: {}", lines(&others));
            }
            match esp.from {
                EspFrom::Takeover(_) => Answer::caution(
                    "disk",
                    evidence,
                    "While this place is written, which is the last but one thing that is, the disk starts in \
                     neither mode. See that the power lasts; if it fails then, schwelle resume or undo.",
                ),
                _ => Answer::pass("disk", evidence),
            }
        }
        Err(NoRoom::NoPlace { needed, considered }) => Answer::block(
            "disk",
            lines(considered),
            format!(
                "Make {} MiB free on the Windows volume (delete or move files there), or take \
                 back what --place or --esp-size asks for, and check again.",
                mib(*needed)
            ),
        ),
        Err(NoRoom::BackupTable { number, why }) => Answer::block(
            format!("partition {number}"),
            format!("reaches into the sectors of the backup table: {why}"),
            "See the rule room.backup-table.",
        ),
        Err(NoRoom::BelowFloor { asked, floor }) => Answer::block(
            "disk",
            format!(
                "{} MiB asked for, but at {}-byte sectors it needs {} MiB",
                mib(*asked),
                geometry.logical_sector,
                mib(*floor)
            ),
            format!(
                "Leave --esp-size out, or name at least {} MiB.",
                mib(*floor)
            ),
        ),
        Err(NoRoom::Existing { number, why }) => Answer::block(
            format!("partition {number}"),
            format!("an EFI system partition is there already, and cannot be used: {why}"),
            "No second one is made beside it. Mend it with its own system, or back up what is on it, delete \
             it and check again: then a new one is made.",
        ),
    };
    vec![answer]
}

/// What a volume needs beyond its content to be trimmed: room for runlists that grow.
const RESERVE_SHARE: u64 = 100;

fn smallest(facts: &Facts<'_>) -> Vec<Answer> {
    let volumes = facts.profile.partitions.iter().filter_map(|partition| {
        let health = partition.volume.ntfs.as_ref()?;
        let (cluster, used) = (u64::from(health.shape.cluster_bytes), health.audit.clusters);
        let smallest = used.saturating_add(used.div_ceil(RESERVE_SHARE));
        let bytes = |clusters: u64| clusters.saturating_mul(cluster).div_ceil(MIB);
        let evidence = format!(
            "{} of {} MiB are in use; trimmed, it can become as small as about {} MiB",
            bytes(used),
            bytes(health.shape.clusters()),
            bytes(smallest).min(bytes(health.shape.clusters()))
        );
        Some(Answer::pass(partition.title(), evidence))
    });
    volumes.collect()
}
