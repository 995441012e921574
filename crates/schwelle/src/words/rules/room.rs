//! The rules about room.

use schwelle_core::placement::Considered;
use schwelle_core::rules::answers::room::{Evidence, Remedy};

use super::super::{copy_name, lba_range, nth, places};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::PartitionInTheWay {
            partition,
            copy,
            region,
        } => format!(
            "{}: the partition lies where the {} table needs {}",
            lba_range(partition),
            copy_name(*copy),
            lba_range(region)
        ),
        Evidence::RecordInTheWay { at, copy } => {
            format!("{at}: lies where the {} table is written", copy_name(*copy))
        }
        Evidence::Free { region } => format!("{} are not used by any partition", lba_range(region)),
        Evidence::CodeInGap {
            sectors,
            foreign_boot_code,
        } => {
            let code = match foreign_boot_code {
                true => ", and LBA 0 has boot code that is not Windows' own",
                false => "",
            };
            format!(
                "{}: content before the first partition{code}",
                lba_range(sectors)
            )
        }
        Evidence::ShrunkForBackup { region, last_lba } => format!(
            "the partition reaches into {}; it is shrunk to end at {last_lba}",
            lba_range(region)
        ),
        Evidence::Smallest {
            used_mib,
            size_mib,
            smallest_mib,
        } => format!(
            "{used_mib} of {size_mib} MiB are in use; it can be shrunk to about {smallest_mib} MiB"
        ),
        Evidence::EspPlaced {
            sectors,
            considered,
        } => {
            let (chosen, others): (Vec<&Considered>, Vec<&Considered>) =
                considered.iter().partition(|place| place.chosen);
            let place = chosen
                .first()
                .map_or_else(String::new, |chosen| places::place(chosen.place));
            let verdict = chosen
                .first()
                .map_or_else(String::new, |chosen| places::verdict(&chosen.verdict));
            let evidence = format!("{place}, {}: {verdict}", lba_range(sectors));
            match others.is_empty() {
                true => evidence,
                false => format!("{evidence}. Not taken: {}", places::lines(others)),
            }
        }
        Evidence::NoPlace { considered } => places::lines(considered),
        Evidence::BackupTableBlocked { why } => {
            format!("reaches into the sectors of the backup table: {why}")
        }
        Evidence::BelowFloor {
            asked_mib,
            sector_bytes,
            floor_mib,
        } => format!(
            "{asked_mib} MiB asked for, but at {sector_bytes}-byte sectors it needs {floor_mib} MiB"
        ),
        Evidence::ExistingUnfit { why } => {
            format!("an EFI system partition is there already, and cannot be used: {why}")
        }
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    match remedy {
        Remedy::MovePartition => {
            "Move the partition to a higher sector with a partitioning program, on a copy of the disk, then \
             check again."
                .to_owned()
        }
        Remedy::OverwrittenAndSaved => {
            "It is overwritten, and saved in the job folder. Windows' own boot code does not use it; ask whether \
             another program keeps something there."
                .to_owned()
        }
        Remedy::OverwrittenAfterSector0 => {
            "It is saved in the job folder, and overwritten after sector 0 has been replaced: until then the disk \
             starts through it, from then on by the backup table. The list of systems says what it starts \
             today."
                .to_owned()
        }
        Remedy::ShrinkForBackup { why } => format!(
            "It cannot be shrunk: {why}. Shrink this volume by 1 MiB with its own \
             system, and check again."
        ),
        Remedy::OthersFirst => {
            "Fix its other findings first; then the volume can be shrunk.".to_owned()
        }
        Remedy::NeitherModeMeanwhile => format!(
            "While this place is written, almost at the end of the job, the disk starts in neither \
             mode. Make sure of the power supply; if it fails then: {}, or {}",
            nth(next, 0),
            nth(next, 1)
        ),
        Remedy::MakeRoom { needed_mib } => format!(
            "Make {needed_mib} MiB free on the Windows volume (delete or move files there), or take back what \
             --place or --esp-size asks for, and check again."
        ),
        Remedy::SeeBackupTable => "See the rule room.backup-table.".to_owned(),
        Remedy::NameLargerSize { floor_mib } => {
            format!("Leave --esp-size out, or name at least {floor_mib} MiB.")
        }
        Remedy::MendOrDeleteExisting => {
            "No second one is made beside it. Repair it with its own system, or back up what is on it, delete it \
             and check again: then a new one is made."
                .to_owned()
        }
    }
}
