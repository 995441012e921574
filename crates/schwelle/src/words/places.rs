//! The places for the EFI system partition that were looked at.

use schwelle_core::placement::{Considered, NoRoom, Place, PlaceVerdict};

use super::mebibytes;

/// The place.
pub(crate) fn place(place: Place) -> String {
    match place {
        Place::Gap => "unused space".to_owned(),
        Place::BeyondVolume { partition } => format!("partition {partition}, beyond its volume"),
        Place::Tail { partition } => format!("tail of partition {partition}"),
        Place::Existing { partition } => format!("partition {partition}"),
        Place::Takeover { partition } => format!("instead of partition {partition}"),
        Place::NoBootPartition => "the System Reserved partition".to_owned(),
    }
}

/// What came of it, in numbers.
pub(crate) fn verdict(verdict: &PlaceVerdict) -> String {
    match verdict {
        PlaceVerdict::Free {
            mib,
            before_recovery,
        } => format!(
            "{mib} MiB; nothing has to move{}",
            between(*before_recovery)
        ),
        PlaceVerdict::StretchTooSmall {
            needed_mib,
            largest_mib,
        } => format!("needs {needed_mib} MiB; the largest free stretch has {largest_mib} MiB"),
        PlaceVerdict::BeyondTooSmall {
            needed_mib,
            has_mib,
        } => format!("needs {needed_mib} MiB; has {has_mib} MiB"),
        PlaceVerdict::Shrinks {
            mib,
            moved_bytes,
            free_bytes,
            loses_restore_points,
            before_recovery,
        } => format!(
            "{mib} MiB; {}{}{}",
            match moved_bytes {
                0 => "nothing has to move".to_owned(),
                some => format!(
                    "{} must move, {} are free for it",
                    mebibytes(*some),
                    mebibytes(*free_bytes)
                ),
            },
            match loses_restore_points {
                true => "; its restore points are lost",
                false => "",
            },
            between(*before_recovery)
        ),
        PlaceVerdict::PartitionTooSmall {
            needed_mib,
            has_mib,
        } => format!("needs {needed_mib} MiB; the whole partition has {has_mib} MiB"),
        PlaceVerdict::CannotShrink { needed_mib, why } => format!("needs {needed_mib} MiB; {why}"),
        PlaceVerdict::UsedAsItIs {
            is_boot,
            size_bytes,
            free_bytes,
        } => {
            let what = match is_boot {
                true => "the FAT32 System Reserved partition",
                false => "an EFI system partition",
            };
            format!(
                "{what} of {} is there already; {} are free on it",
                mebibytes(*size_bytes),
                mebibytes(*free_bytes)
            )
        }
        PlaceVerdict::Unfit { why } => why.to_string(),
        PlaceVerdict::NoBootPartition => {
            "there is none: the boot files lie on the Windows volume".to_owned()
        }
        PlaceVerdict::TakenOver { size_bytes } => format!(
            "{}; the old boot files are removed, the whole partition is saved in the job folder first",
            mebibytes(*size_bytes)
        ),
        PlaceVerdict::PlaceTooSmall {
            needed_bytes,
            has_bytes,
        } => format!(
            "needs {} in whole MiB; the partition has {}",
            mebibytes(*needed_bytes),
            mebibytes(*has_bytes)
        ),
        PlaceVerdict::HoldsRecoveryImage {
            path,
            image_bytes,
            has_bytes,
            needed_bytes,
        } => format!(
            "it holds the recovery image {path} of {}, which would be lost: the partition has {}, the EFI system \
             partition needs {}. --place shrink keeps both, where this volume can be shrunk",
            mebibytes(*image_bytes),
            mebibytes(*has_bytes),
            mebibytes(*needed_bytes)
        ),
        PlaceVerdict::HoldsFiles { count, file_names } => format!(
            "{count} files or folders on it are not boot files and would be lost: {}",
            file_names.join(", ")
        ),
        PlaceVerdict::Unreadable { fault } => format!("it cannot be read: {fault}"),
        PlaceVerdict::LeavesDisk => "the partition leaves the disk".to_owned(),
    }
}

/// The line about a place before a recovery partition.
fn between(before_recovery: bool) -> &'static str {
    match before_recovery {
        true => "; between Windows and its recovery partition, which Windows then cannot extend",
        false => "",
    }
}

/// A place and what came of it.
pub(crate) fn line(considered: &Considered) -> String {
    format!(
        "{}: {}",
        place(considered.place),
        verdict(&considered.verdict)
    )
}

/// All places, in one line.
pub(super) fn lines<'a>(considered: impl IntoIterator<Item = &'a Considered>) -> String {
    let lines: Vec<String> = considered.into_iter().map(line).collect();
    lines.join("; ")
}

/// Why there is no room.
pub(crate) fn no_room(no_room: &NoRoom) -> String {
    match no_room {
        NoRoom::NoPlace { considered, .. } => {
            let each = considered.iter().map(|place| format!("{}. ", line(place)));
            each.collect()
        }
        NoRoom::BelowFloor { asked, floor } => format!(
            "{} are asked for, {} needed.",
            mebibytes(*asked),
            mebibytes(*floor)
        ),
        NoRoom::BackupTable { number, why } => {
            format!("partition {number} reaches into the backup table: {why}.")
        }
        NoRoom::Existing { number, why } => format!("partition {number}: {why}."),
    }
}
