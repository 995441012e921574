//! The steps about the table, and about a data disk's volumes.

use schwelle_core::gpt::{OddEntry, TableCopy};
use schwelle_core::rehearse::answers::table::{
    Evidence, FaultOn, ProtectiveOddity, Remedy, VolumeOn,
};

use super::super::{copy_name, lba_range, nth, titled};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::DiskUnreadable { fault } | Evidence::CopyFaulty { fault, .. } => {
            fault.to_string()
        }
        Evidence::LeavesDisk { sectors } => format!("{} leave the disk", lba_range(sectors)),
        Evidence::Protective { sectors } => {
            format!("LBA 0: one protective entry over {sectors} sectors")
        }
        Evidence::NoEntry => "LBA 0: no partition entry".to_owned(),
        Evidence::ProtectiveElsewhere { at } => {
            format!("LBA 0: the protective entry begins at {at}, not at LBA 1")
        }
        Evidence::ProtectiveOdd { oddities } => {
            let oddities: Vec<String> = oddities.iter().map(oddity).collect();
            format!("LBA 0: {}", oddities.join("; "))
        }
        Evidence::PlainMbr => {
            "LBA 0: an MBR with partitions of its own, no protective entry".to_owned()
        }
        Evidence::CopySound {
            copy,
            at,
            partitions,
        } => format!(
            "{at}: {} header and {partitions} partitions, both checksums hold",
            copy_name(*copy)
        ),
        Evidence::CopyWithOddEntries { copy, entries } => {
            let odd = |entry: &OddEntry| {
                format!(
                    "entry {} names {} to {}",
                    entry.number, entry.first_lba, entry.last_lba.0
                )
            };
            let entries: Vec<String> = entries.iter().map(odd).collect();
            format!(
                "{} copy: {}, which are no sectors for a partition; firmware skips such an entry, other readers refuse \
                 the whole table",
                copy_name(*copy),
                entries.join(", ")
            )
        }
        Evidence::CopiesAgree => "both copies name the same partitions".to_owned(),
        Evidence::CopiesContradict { disagreement } => disagreement.to_string(),
        Evidence::Volumes { volumes } => match &volumes[..] {
            [] => "no partition yet: the table is empty".to_owned(),
            all => {
                let on =
                    |on: &VolumeOn| format!("partition {}: {}", on.partition, on.volume.name());
                all.iter().map(on).collect::<Vec<_>>().join(", ")
            }
        },
        Evidence::VolumesMissing { seen, named } => {
            format!("{seen} of {named} partitions could be read")
        }
        Evidence::VolumesFaulty { faults } => {
            let on = |on: &FaultOn| format!("{}: {}", titled(&on.partition), on.fault);
            faults.iter().map(on).collect::<Vec<_>>().join("; ")
        }
    }
}

fn oddity(oddity: &ProtectiveOddity) -> String {
    match oddity {
        ProtectiveOddity::NoSignature => "the signature 55 AA is missing".to_owned(),
        ProtectiveOddity::Flag { flag } => {
            format!("the protective entry has the flag {flag:02X}h (80h is active), expected 00h")
        }
        ProtectiveOddity::NotAlone { others } => {
            format!("{others} more entries beside the protective one (hybrid table)")
        }
        ProtectiveOddity::Covers { sectors, expected } => {
            format!("the protective entry covers {sectors} sectors, expected {expected}")
        }
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    match remedy {
        Remedy::CheckCable => "The disk cannot be read: check cable and health first.".to_owned(),
        Remedy::CompareSize => {
            "The table names sectors that are not there: compare the disk's size with the one it was copied from."
                .to_owned()
        }
        Remedy::NotGptYet => format!(
            "This is not a GPT disk yet. To see whether it can be converted: {}; whether a BIOS would start \
             it: {}",
            nth(next, 0),
            nth(next, 1)
        ),
        Remedy::Protect => format!(
            "Firmware differs in how it treats this. Let sector 0 hold one protective entry over the whole disk: \
             {}",
            nth(next, 0)
        ),
        Remedy::WriteCopyAnew { copy } => {
            let other = match copy {
                TableCopy::Primary => TableCopy::Backup,
                TableCopy::Backup => TableCopy::Primary,
            };
            format!(
                "The {} table must be rewritten. If the {} one is sound: {}. If the disk was converted by \
                 Schwelle, its job folder's plan lists the partitions too.",
                copy_name(*copy),
                copy_name(other),
                nth(next, 0)
            )
        }
        Remedy::GoByPrimary => format!(
            "Firmware and systems use the primary copy. See that it names the partitions that are on the disk, \
             then rewrite the backup from it: {}",
            nth(next, 0)
        ),
        Remedy::ComparePartitions => {
            "Compare the partitions with what was planned, and let the volume's own system check it before \
             anything is written to this disk."
                .to_owned()
        }
        Remedy::NeedsEsp => format!(
            "The disk needs an EFI system partition: give the right partition that type, or make one: {}. A data disk \
             needs none: {}",
            nth(next, 0),
            nth(next, 1)
        ),
    }
}
