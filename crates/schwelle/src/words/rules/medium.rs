//! The rules about the medium.

use schwelle_core::device::{HealthWarning, Retried};
use schwelle_core::profile::TailOwner;
use schwelle_core::rules::Twin;
use schwelle_core::rules::answers::medium::{Evidence, Remedy};

use super::super::facts::ground;
use super::super::nth;
use crate::text::typed;
use crate::words::here::here;

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::PartitionOf { device } => format!("this is a partition of {device}"),
        Evidence::HeldReadOnly => "the system holds this disk read-only".to_owned(),
        Evidence::SectorSize { bytes } => format!("{bytes}-byte sectors"),
        Evidence::OddSectorSize { bytes } => format!("the disk has {bytes}-byte sectors"),
        Evidence::WrittenWith { shown, written } => format!(
            "the disk shows {shown}-byte sectors, but its layout was written with {written}-byte sectors: only \
             so do its partitions begin where a volume begins"
        ),
        Evidence::Unreadable { sectors } => {
            format!("{} to {}: cannot be read", sectors.first, sectors.last().0)
        }
        Evidence::Health { warning } => format!("SMART: {}", health(*warning)),
        Evidence::Retried { first, count } => {
            let Retried { operation, sectors } = first;
            let where_to = sectors.first;
            let transfers = match count {
                1 => "a transfer failed and succeeded when it was repeated".to_owned(),
                count => format!("{count} transfers failed and succeeded when they were repeated"),
            };
            format!(
                "{transfers}: first a {operation} of {} sectors at {where_to}",
                sectors.sectors()
            )
        }
        Evidence::InUse { user } => user.to_string(),
        Evidence::Mounted {
            at,
            changed_meanwhile,
        } => {
            let looks = match changed_meanwhile {
                true => "the two looks differ, since something was written meanwhile",
                false => "both looks agree",
            };
            format!("{at} is mounted, and was read twice while in use: {looks}")
        }
        Evidence::RaidMetadata { at, owner } => format!("{at}: metadata of {}", tail_owner(*owner)),
        Evidence::JobNotNamed => "looked at when one is named".to_owned(),
        Evidence::JobOnThisDisk => "the job folder lies on the disk to be converted".to_owned(),
        Evidence::JobOnAnotherDisk => "on another disk".to_owned(),
        Evidence::JobInMemory { accepted } => {
            let evidence = "it is on a RAM disk and would be lost on power failure";
            match accepted {
                true => format!("{evidence}; accepted with --job-in-memory"),
                false => evidence.to_owned(),
            }
        }
        Evidence::JobNotInMemory => "not in memory".to_owned(),
        Evidence::JobWithoutJournal => {
            "it is on NTFS, which is written without its journal here".to_owned()
        }
        Evidence::JobPlaceNotReported => "the system does not report what it lies on".to_owned(),
        Evidence::JobReadOnly => "its file system is mounted read-only".to_owned(),
        Evidence::JobWritable => "its file system is mounted for writing".to_owned(),
        Evidence::JobStopped { path } => format!(
            "a job on this disk was interrupted; its folder is {}",
            path.display()
        ),
        Evidence::JobFound { path, state } => format!(
            "a job folder of this disk: {} ({})",
            path.display(),
            state.name()
        ),
        Evidence::JobUnreadable { path, fault } => format!(
            "{} is a job folder that cannot be read, and may be an unfinished job of this disk: {fault}",
            path.display()
        ),
        Evidence::JobDamaged { path, fault } => format!(
            "{} is a damaged job folder, of this disk or another: {fault}",
            path.display()
        ),
        Evidence::NotSearched { path, fault } => format!(
            "{} could not be searched for job folders: {fault}",
            path.display()
        ),
        Evidence::VolumeEndsEarly {
            beyond_bytes,
            copy_left,
            job_lost,
        } => {
            let mib = beyond_bytes >> 20;
            let evidence = format!("its volume ends {mib} MiB before the partition does");
            match copy_left {
                false => evidence,
                true => stopped(
                    &format!(
                        "{evidence}, and the boot sector's copy of the larger volume is still in the last sector"
                    ),
                    *job_lost,
                ),
            }
        }
        Evidence::EspOfJob { at, disk, job_lost } => stopped(
            &format!("{at} begins the EFI system partition of a conversion to disk {disk}"),
            *job_lost,
        ),
        Evidence::EspUnnamed { at } => {
            format!("{at}: an EFI system partition that no entry names, in unused space")
        }
        Evidence::Twin {
            other,
            named_surely,
        } => {
            let evidence = match &other.unread {
                Some(fault) => {
                    return format!(
                        "whether {} has the same signature is unknown, because it cannot be read: {fault}",
                        twin(other)
                    );
                }
                None => format!("the same signature is on {}", twin(other)),
            };
            match named_surely {
                true => format!("{evidence}; this one was named by its serial number"),
                false => evidence,
            }
        }
        Evidence::OnBattery => "running on battery".to_owned(),
        Evidence::OnMains => "on mains power".to_owned(),
        Evidence::PowerNotReported { why } => ground(why),
    }
}

fn tail_owner(owner: TailOwner) -> &'static str {
    match owner {
        TailOwner::FirmwareRaid => "a firmware RAID set",
        TailOwner::CommonRaid => "a RAID set in the common disk data format",
        TailOwner::LinuxRaid => "a Linux software RAID set",
        TailOwner::Dynamic => "a dynamic disk",
    }
}

fn stopped(sign: &str, job_lost: bool) -> String {
    let known = match job_lost {
        true => "; known with --job-lost",
        false => "",
    };
    format!("a job was interrupted here: {sign}{known}")
}

/// A disk with its model and serial number.
fn twin(disk: &Twin) -> String {
    let mut text = disk.path.display().to_string();
    if let Some(model) = &disk.model {
        text += &format!(", {model}");
    }
    if let Some(serial) = &disk.serial {
        text += &format!(", serial {serial}");
    }
    text
}

fn health(warning: HealthWarning) -> String {
    match warning {
        HealthWarning::Spare { left, threshold } => {
            format!("{left} % of the spare blocks are left, below the threshold of {threshold} %")
        }
        HealthWarning::Temperature => "the temperature is out of range".to_owned(),
        HealthWarning::Unreliable => "it reports that it has become unreliable".to_owned(),
        HealthWarning::ReadOnly => "it reports that it has become read-only".to_owned(),
        HealthWarning::Backup => {
            "the protection of its cache against power failure has failed".to_owned()
        }
        HealthWarning::Worn(percent) => format!("{percent} % of its endurance is used"),
        HealthWarning::MediaErrors(count) => {
            format!("{count} times it lost content that could not be corrected")
        }
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    let fixed = match remedy {
        Remedy::NameWholeDisk { .. } => return format!("Name the whole disk: {}", nth(next, 0)),
        Remedy::NameSectorSize { bytes } => {
            return format!("Name the sector size: --sector-size {bytes}");
        }
        Remedy::EndStoppedJob { .. } => {
            return format!(
                "Finish it: {} . Or take it back: {}",
                nth(next, 0),
                nth(next, 1)
            );
        }
        Remedy::FindJobFolder => {
            return format!(
                "Look for its job folder (on the stick that was used): {}, or {}. If the folder is lost for \
                 good, --job-lost converts the disk as it is now.",
                nth(next, 0),
                nth(next, 1)
            );
        }
        Remedy::LookIntoFolder { folder } => {
            return format!(
                "If it cannot be read, copy it to another medium, or connect that medium to another port. Then see what                  it is: schwelle report --jobs {} . If it is another disk's, take it out of the PC.",
                typed(folder)
            );
        }
        Remedy::NameBySerial { .. } => {
            return format!(
                "Name this disk by its serial number in place of its path: {} . Or take the other one out.",
                nth(next, 0)
            );
        }
        Remedy::LiftProtection => {
            "Remove the write protection (a switch on the stick or adapter), or copy the disk to a sound one and \
             convert the copy."
        }
        Remedy::ConnectDirectly => {
            "An adapter or dock changes the sector size. Connect the disk directly, or through the adapter that \
             it was partitioned with; then check again."
        }
        Remedy::OtherSectorSize => {
            "Copy the disk to one with 512- or 4096-byte sectors and convert that."
        }
        Remedy::CopyFailingDisk => {
            "First copy the disk to a sound one, with a program that goes on after read errors and lists them. \
             Check and convert the copy; keep this disk as it is."
        }
        Remedy::CopyAndReplace => "Make a copy of the disk first, and plan to replace the drive.",
        Remedy::StopUsers => return format!("{}; then check again.", here().free_it),
        Remedy::FromOutside => {
            "A disk cannot be converted by the system that runs from it. Start the PC's recovery prompt or the rescue \
             stick, and convert it from there."
        }
        Remedy::TakenOffFirst => {
            "Before the disk is written, its volumes are locked and taken off. Close what shows files of them; what is \
             found is judged again then."
        }
        Remedy::LeaveRaidSet => {
            "Take the disk out of the set in the controller's setup first (with a backup at hand), or convert \
             the set as a whole where the system shows it as one disk."
        }
        Remedy::JobOnAnotherDisk => "Name a folder on another disk or stick with --job.",
        Remedy::JobOnLastingMedium => {
            "Name a folder on a stick or on another disk with --job. If there is none: --job-in-memory accepts \
             that a power cut in the middle leaves no way back."
        }
        Remedy::CopyJobFolder => "Copy the folder to a stick before the PC is switched off.",
        Remedy::RepairJobMedium => {
            "After a power cut it may have to be repaired before it can be mounted: by ntfsfix here, or by chkdsk in \
             Windows. FAT32, exFAT and ext4 need no repair."
        }
        Remedy::JobForWriting => {
            "Remove the write protection and mount it again for writing, or name another folder with --job."
        }
        Remedy::UseJobFolderIfAny => {
            "A copy to a larger partition leaves that; so may an interrupted job. If there is a job folder \
             of it, use that. Otherwise nothing needs to be done."
        }
        Remedy::UnusedUnlessJob => {
            "It may be left from an earlier table, or from an interrupted job. If there is a job folder, use \
             that. Otherwise the space counts as unused."
        }
        Remedy::TakeOneOut => "Take one of the two out of the PC before the converted one starts.",
        Remedy::TakeOtherOut => "Take the other disk out of the PC, and check again.",
        Remedy::ConnectMains => "Connect the mains adapter before converting.",
    };
    fixed.to_owned()
}
