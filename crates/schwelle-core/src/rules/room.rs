//! Rules about room: for the two copies of the new table, and for the EFI system partition.

use super::{Answer, Facts, Rule};
use crate::device::{Extent, Lba, MIB};
use crate::gpt::place::{NoRoom, PlaceWish};
use crate::gpt::{backup_sectors, first_usable};
use crate::profile::{Origin, Table};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "room.primary-table",
        question: "Are the sectors for the primary table free?",
        why: "The primary copy of the GPT takes the sectors right behind sector 0. Partitions begin \
            behind it on all but very old disks; but some boot managers keep code there, and a disk \
            that starts through it would stop starting before sector 0 is replaced. What lies \
            there is saved in the job folder.",
        check: primary,
    },
    Rule {
        id: "room.backup-table",
        question: "Are the last sectors free for the backup table?",
        why: "The backup copy of the GPT lies in the disk's last sectors. A partition that \
            reaches to the very end must become a little smaller first.",
        check: backup,
    },
    Rule {
        id: "room.esp",
        question: "Is there a place for the EFI system partition?",
        why: "UEFI firmware starts the system from a small FAT32 partition. It needs 260 MiB, or \
            at least 100 MiB on disks with 512-byte sectors, aligned to 1 MiB, in space that \
            no partition uses.",
        check: esp,
    },
];

fn partitions_in(facts: &Facts<'_>, region: Extent, what: &str, remedy: &str) -> Vec<Answer> {
    if facts.profile.mbr().is_none() {
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
        answers.push(if table.record.has_windows_code || *gpt_leftover {
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
    let geometry = facts.profile.geometry;
    let first = geometry
        .sectors
        .saturating_sub(backup_sectors(geometry.logical_sector));
    let region = Extent {
        first: Lba(first),
        end: Lba(geometry.sectors),
    };
    let remedy = "Make the last volume a little smaller (1 MiB is enough) in Windows' disk \
        management, shut Windows down, and check again.";
    partitions_in(facts, region, "the backup table", remedy)
}

fn esp(facts: &Facts<'_>) -> Vec<Answer> {
    let geometry = facts.profile.geometry;
    if facts.profile.mbr().is_none() {
        return vec![Answer::pass("disk", "not asked: there is no MBR table")];
    }
    let mib = |bytes: u64| bytes / MIB;
    let answer = match &facts.esp {
        Ok(place) => Answer::pass(
            "disk",
            format!(
                "gap: {} MiB at LBA {} to {}",
                mib(geometry.bytes_in(place)),
                place.first.0,
                place.last().0
            ),
        ),
        Err(NoRoom::GapsTooSmall { needed, largest }) => Answer::block(
            "disk",
            format!(
                "needs {} MiB of unused space; the largest gap has {} MiB",
                mib(*needed),
                mib(*largest)
            ),
            format!(
                "Make the Windows volume {} MiB smaller in Windows' disk management, shut \
                 Windows down, and check again. Taking the room from a volume here (placements \
                 trim and takeover) is not built yet.",
                mib(needed.saturating_sub(*largest)) + 1
            ),
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
        Err(NoRoom::NotYet { place }) => {
            let name = if *place == PlaceWish::Trim {
                "trim"
            } else {
                "takeover"
            };
            Answer::block(
                "disk",
                format!("the placement {name} is not built yet"),
                "Use --place auto or --place gap.",
            )
        }
    };
    vec![answer]
}
