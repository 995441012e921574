//! Answers about the medium.

use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::cause::Cause;
use crate::device::{Extent, HealthWarning, Lba, Retried};
use crate::firmware::Ground;
use crate::host::User;
use crate::job::JobState;
use crate::next::Next;
use crate::profile::TailOwner;
use crate::rules::Twin;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleMediumEvidence"))]
pub enum Evidence {
    /// It is a partition and no disk.
    PartitionOf {
        /// Name of the disk in this system.
        device: String,
    },
    /// The system holds it read-only.
    HeldReadOnly,
    /// Its size of sectors is one of the two that are known.
    SectorSize {
        /// In bytes.
        bytes: u32,
    },
    /// Its size of sectors is none of them.
    OddSectorSize {
        /// In bytes.
        bytes: u32,
    },
    /// Its layout makes sense with another size of sectors only.
    WrittenWith {
        /// The size that it shows, in bytes.
        shown: u32,
        /// The size that it was written with, in bytes.
        written: u32,
    },
    /// Sectors that cannot be read.
    Unreadable {
        /// Which.
        sectors: Extent,
    },
    /// The drive complains of its own health.
    Health {
        /// Of what.
        warning: HealthWarning,
    },
    /// Transfers failed, and succeeded when they were repeated.
    Retried {
        /// The first of them.
        first: Retried,
        /// How many; at most some hundred are counted.
        count: usize,
    },
    /// Something uses it.
    InUse {
        /// Who.
        user: User,
    },
    /// The running system has a volume of it mounted, and takes it off by itself before it is written.
    Mounted {
        /// Where.
        at: String,
        /// Two looks at the disk differed.
        changed_meanwhile: bool,
    },
    /// Metadata of a RAID set.
    RaidMetadata {
        /// Where.
        at: Lba,
        /// Whose.
        owner: TailOwner,
    },
    /// No job folder is named yet.
    JobNotNamed,
    /// The job folder lies on the disk to be converted.
    JobOnThisDisk,
    /// The job folder lies on another disk.
    JobOnAnotherDisk,
    /// The job folder is in memory.
    JobInMemory {
        /// The technician accepts that, by name.
        accepted: bool,
    },
    /// The job folder is not in memory.
    JobNotInMemory,
    /// The job folder is on NTFS that is written without its journal.
    JobWithoutJournal,
    /// What the job folder lies on is not known.
    JobPlaceNotReported,
    /// The job folder's file system is mounted read-only.
    JobReadOnly,
    /// The job folder's file system is mounted for writing.
    JobWritable,
    /// A job on this disk was interrupted.
    JobStopped {
        /// Its folder.
        path: PathBuf,
    },
    /// There is a folder of a job on this disk that has ended.
    JobFound {
        /// The folder.
        path: PathBuf,
        /// How far it came.
        state: JobState,
    },
    /// A job folder could not be read: it may belong to this disk.
    JobUnreadable {
        /// The folder.
        path: PathBuf,
        /// The error.
        fault: Cause,
    },
    /// A job folder is damaged: it may belong to this disk.
    JobDamaged {
        /// The folder.
        path: PathBuf,
        /// What is wrong with it.
        fault: Cause,
    },
    /// A folder could not be searched for job folders.
    NotSearched {
        /// The folder.
        path: PathBuf,
        /// The error.
        fault: Cause,
    },
    /// A volume ends clearly before its partition does.
    VolumeEndsEarly {
        /// Bytes of the partition beyond its volume.
        beyond_bytes: u64,
        /// The partition's last sector still has the boot sector's copy of the larger volume.
        copy_left: bool,
        /// The technician says that the folder of that job is lost.
        job_lost: bool,
    },
    /// An EFI system partition with the marker of a job, in unused space.
    EspOfJob {
        /// Its first sector.
        at: Lba,
        /// The GUID that the job gave the disk.
        disk: Uuid,
        /// The technician says that the folder of that job is lost.
        job_lost: bool,
    },
    /// An EFI system partition that no entry names, in unused space.
    EspUnnamed {
        /// Its first sector.
        at: Lba,
    },
    /// Another disk has the same signature or GUID.
    Twin {
        /// That disk.
        other: Twin,
        /// This one was named by its serial number or its by-id name.
        named_surely: bool,
    },
    /// The PC runs on its battery.
    OnBattery,
    /// The PC has mains power.
    OnMains,
    /// What the PC runs on is not known.
    PowerNotReported {
        /// Why.
        why: Ground,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleMediumRemedy"))]
pub enum Remedy {
    /// Name the whole disk.
    NameWholeDisk {
        /// Its name in this system.
        device: String,
    },
    /// Lift the write protection, or work on a copy.
    LiftProtection,
    /// Connect the disk without what changes the size of its sectors.
    ConnectDirectly,
    /// Name the size of the image's sectors.
    NameSectorSize {
        /// In bytes.
        bytes: u32,
    },
    /// Copy it to a disk whose sectors have a size that is known.
    OtherSectorSize,
    /// Copy the failing disk, and work on the copy.
    CopyFailingDisk,
    /// Copy the disk, and think of a new drive.
    CopyAndReplace,
    /// Stop what uses it.
    StopUsers,
    /// Convert it from outside: the running system lies on it.
    FromOutside,
    /// Close what uses the volume before the disk is written.
    TakenOffFirst,
    /// Take the disk out of its set, or convert the set.
    LeaveRaidSet,
    /// Name a job folder on another disk.
    JobOnAnotherDisk,
    /// Name a job folder on a medium that lasts.
    JobOnLastingMedium,
    /// Copy the job folder to a stick before the PC is switched off.
    CopyJobFolder,
    /// Repair the job folder's file system after a power cut, or take another one.
    RepairJobMedium,
    /// Mount the job folder's file system for writing.
    JobForWriting,
    /// Finish the stopped job, or take it back.
    EndStoppedJob {
        /// Its folder.
        job: PathBuf,
    },
    /// Look for the folder of the job that was stopped.
    FindJobFolder,
    /// Find out what a folder holds that could not be read.
    LookIntoFolder {
        /// The folder.
        folder: PathBuf,
    },
    /// Nothing, unless a job was stopped.
    UseJobFolderIfAny,
    /// The space counts as unused, unless a job was stopped.
    UnusedUnlessJob,
    /// Take one of the two disks out before the converted one starts.
    TakeOneOut,
    /// Name this disk by its serial number.
    NameBySerial {
        /// The serial number.
        serial: String,
    },
    /// Take the other disk out: this one has no serial number.
    TakeOtherOut,
    /// Connect the mains adapter.
    ConnectMains,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::NameWholeDisk { device } => vec![Next::CheckOther {
                device: device.clone(),
            }],
            Self::EndStoppedJob { job } => vec![
                Next::Resume {
                    job: Some(job.clone()),
                },
                Next::Undo {
                    job: Some(job.clone()),
                },
            ],
            Self::FindJobFolder => vec![Next::Resume { job: None }, Next::Undo { job: None }],
            Self::NameBySerial { serial } => vec![Next::ConvertBySerial {
                serial: serial.clone(),
            }],
            _ => Vec::new(),
        }
    }
}
