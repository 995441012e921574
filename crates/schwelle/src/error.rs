//! Errors as the technician meets them: what, where, why it matters, the next command; and the exit
//! code.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use schwelle_core::cause::Cause;
use schwelle_core::commit::CommitError;
use schwelle_core::device::{DeviceError, OpenError};
use schwelle_core::draft::DraftError;
use schwelle_core::firmware::EntryError;
use schwelle_core::job::{JobError, RecoverError, RecoveryFailed};
use schwelle_core::switch::{Refusal, SetError};

use crate::text::typed;
use crate::words;
use crate::words::here::here;

/// What kind of failure it is; decides the exit code.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    /// A rule blocks, and nothing was written.
    Blocked,
    /// The command line asks for something that cannot be.
    Usage,
    /// Disk or job folder could not be read or written; the disk is unchanged.
    Unchanged,
    /// Stopped between first and last write.
    Stopped,
}

/// A failure with all that is shown of it.
#[derive(Debug, thiserror::Error)]
#[error("{what}")]
pub(crate) struct CliError {
    pub(crate) kind: Kind,
    /// What, and where.
    pub(crate) what: String,
    /// Why it matters.
    pub(crate) why: &'static str,
    /// What to do or type next; each way in a line of its own.
    pub(crate) next: String,
}

impl CliError {
    pub(crate) fn new(
        kind: Kind,
        what: impl ToString,
        why: &'static str,
        next: impl Into<String>,
    ) -> Self {
        Self {
            kind,
            what: what.to_string(),
            why,
            next: next.into(),
        }
    }

    /// The one place where exit codes are made.
    pub(crate) fn exit_code(&self) -> u8 {
        match self.kind {
            Kind::Blocked => 1,
            Kind::Usage => 2,
            Kind::Unchanged => 3,
            Kind::Stopped => 4,
        }
    }

    /// Recovery stopped after its first write.
    fn between(what: String, job: &Path, error: &RecoverError) -> Self {
        let record = match error {
            RecoverError::Job(_) | RecoverError::Commit(CommitError::NotRecorded { .. }) => {
                format!(
                    "Make sure that {} can be written to and that its file system has some space.\n",
                    typed(job)
                )
            }
            _ => String::new(),
        };
        Self::new(
            Kind::Stopped,
            what,
            "The disk is written in part, and must not be started before the job is finished or taken back.",
            format!("{record}{}", either_way(job)),
        )
    }

    /// Recovery stopped before its first write: the disk is as the run found it.
    fn recovery_not_begun(disk: &Path, job: &Path, error: &CommitError) -> Self {
        Self::new(
            Kind::Unchanged,
            format!("{}: {error}", disk.display()),
            "This run has written nothing: disk and job are as they were.",
            either_way(job),
        )
    }

    /// A setting of a simulated PC was not changed.
    pub(crate) fn setting(machine: &Path, error: &SetError) -> Self {
        let (kind, why) = match error {
            SetError::Refused(Refusal::Unknown(_)) => (Kind::Usage, "Nothing was changed."),
            SetError::Refused(Refusal::GreyedOut { .. }) => (
                Kind::Blocked,
                "A real firmware setup would not allow this change now either.",
            ),
            SetError::File(_) | SetError::Variable(_) => (
                Kind::Unchanged,
                "The simulated PC keeps its settings in its machine file.",
            ),
        };
        let machine = typed(machine);
        let next = format!("See how it is set: schwelle firmware --machine {machine}");
        Self::new(kind, error, why, next)
    }

    /// A boot entry was not written.
    pub(crate) fn boot_entry(disk: &Path, error: &EntryError) -> Self {
        let shown = typed(disk);
        let ground = match error {
            EntryError::NotReported(ground) => format!(": {}", words::facts::ground(ground)),
            _ => String::new(),
        };
        let (kind, next) = match error {
            EntryError::NoEsp | EntryError::NoLoader { .. } => (
                Kind::Blocked,
                format!("Look at the disk first: schwelle rehearse {shown}"),
            ),
            EntryError::NotReported(_) => (
                Kind::Unchanged,
                format!(
                    "Start the rescue stick in UEFI mode, and repeat the command {}.",
                    here().with_rights
                ),
            ),
            EntryError::Full | EntryError::NotOffered => (
                Kind::Unchanged,
                "Delete an entry that is not needed, in the PC's setup.".into(),
            ),
            EntryError::Variable(_) => (
                Kind::Unchanged,
                format!("Choose the disk in the setup: schwelle firmware sheet {shown}"),
            ),
        };
        let why = "Firmware also finds the disk by its removable-media path; the entry makes sure of it. \
            The disk is unchanged.";
        Self::new(
            kind,
            format!("{}: {error}{ground}", disk.display()),
            why,
            next,
        )
    }

    /// The disk failed while it was read.
    pub(crate) fn reading(path: &Path, error: DeviceError) -> Self {
        Self::new(
            Kind::Unchanged,
            format!("{}: {error}", path.display()),
            "A disk that cannot be read may be failing; nothing was written to it.",
            "Copy what can be read to a sound disk first, and work on the copy.",
        )
    }

    /// The draft could not be built.
    pub(crate) fn drafting(path: &Path, error: DraftError) -> Self {
        let check = format!("Look at all findings: schwelle check {}", typed(path));
        Self::new(
            Kind::Blocked,
            format!("{}: no draft: {error}", path.display()),
            "Nothing was written.",
            check,
        )
    }

    /// The job folder could not be made or filled; the disk is untouched.
    pub(crate) fn job(error: &JobError) -> Self {
        if let JobError::ChangedMeanwhile { .. } = error {
            return Self::new(
                Kind::Unchanged,
                error,
                "What was drafted does not fit the disk any more. Nothing was written.",
                "Find out which program writes to the disk, end it, and repeat the command with a new job folder.",
            );
        }
        Self::new(
            Kind::Unchanged,
            error,
            "Nothing is written without a complete record of what is overwritten; the disk is \
                 unchanged.",
            "Name a new folder on another disk with enough space: --job DIR",
        )
    }

    /// The commit stopped.
    pub(crate) fn commit(disk: &Path, job: &Path, error: &CommitError) -> Self {
        let what = format!("{}: {error}", disk.display());
        match error {
            CommitError::Untouched(_) => Self::new(
                Kind::Unchanged,
                what,
                "The disk is unchanged.",
                format!(
                    "See whether the disk can be read: schwelle check {}",
                    typed(disk)
                ),
            ),
            CommitError::Interrupted { wrote: false, .. } => Self::new(
                Kind::Unchanged,
                what,
                "The disk is unchanged.",
                "When everything is ready, repeat the command with a new job folder.",
            ),
            CommitError::Stopped { .. }
            | CommitError::NotReadBack(_)
            | CommitError::Mismatch { .. }
            | CommitError::Interrupted { .. }
            | CommitError::NotRecorded { .. } => Self::new(
                Kind::Stopped,
                what,
                "The disk is written in part, and must not be started before the job is finished \
                 or taken back.",
                match error {
                    CommitError::NotRecorded { .. } => format!(
                        "Make sure that {} can be written to and that its file system has some space.\n{}",
                        typed(job),
                        either_way(job)
                    ),
                    _ => either_way(job),
                },
            ),
        }
    }

    /// The folder of a job could not be read.
    pub(crate) fn job_folder(error: &JobError) -> Self {
        Self::new(
            Kind::Unchanged,
            error,
            "`resume` and `undo` need the whole job folder. Nothing was \
             written.",
            "See whether this is the right folder, and whether its disk or stick can be read.",
        )
    }

    /// A folder that neither the disk nor the technician vouches for.
    pub(crate) fn not_vouched(job: &Path) -> Self {
        Self::new(
            Kind::Usage,
            format!(
                "{}: the disk does not prove that this job folder is its own",
                job.display()
            ),
            "Nothing was written.",
            "See where each job stands: schwelle report --jobs DIR",
        )
    }

    /// A job folder that may hold an unfinished job of the disk, and cannot be read.
    pub(crate) fn job_unreadable(disk: &Path, job: &Path, fault: &Cause) -> Self {
        Self::new(
            Kind::Unchanged,
            format!(
                "{}: {} is a job folder that cannot be read: {fault}",
                disk.display(),
                job.display()
            ),
            "It may be an unfinished job of this disk, and a second one on top would lose what it has saved. Nothing was \
             written.",
            format!(
                "Connect its medium to another port, or copy the folder to another medium; then see what it is: schwelle \
                 report --jobs {}",
                typed(job)
            ),
        )
    }

    /// A job that ended before the disk was touched.
    pub(crate) fn never_began(job: &Path) -> Self {
        Self::new(
            Kind::Unchanged,
            format!(
                "{}: the job stopped before anything was written to the disk",
                job.display()
            ),
            "There is nothing to finish and nothing to take back; the disk is unchanged.",
            "Delete the folder, and convert again: schwelle convert DISK --job DIR",
        )
    }

    /// A disk with an unfinished job.
    pub(crate) fn unfinished(disk: &Path, job: &Path) -> Self {
        Self::new(
            Kind::Blocked,
            format!(
                "{}: an earlier job on this disk was interrupted: {}",
                disk.display(),
                job.display()
            ),
            "A second one on top would lose what the first has saved. Nothing was written.",
            either_way(job),
        )
    }

    /// A job could not be finished or taken back.
    pub(crate) fn recovering(disk: &Path, job: &Path, failure: &RecoveryFailed) -> Self {
        let error = &failure.error;
        let what = format!("{}: {error}", disk.display());
        if failure.wrote {
            return Self::between(what, job, error);
        }
        let undo = || format!("Take it back: schwelle undo --job {}", typed(job));
        match error {
            RecoverError::Commit(error) => Self::recovery_not_begun(disk, job, error),
            RecoverError::Job(error) => Self::job_folder(error),
            RecoverError::Device(_) => Self::new(
                Kind::Unchanged,
                what,
                "What cannot be read decides what has to be written, and nothing is guessed. Nothing was written, and the \
                 job is as it was.",
                format!(
                    "Repeat the command; try another port or cable.\nIf it fails again, copy the disk to a sound one \
                     first, and work on the copy: --job {} --disk COPY",
                    typed(job)
                ),
            ),
            RecoverError::NeverBegan => Self::never_began(job),
            RecoverError::TakenBack => Self::new(
                Kind::Blocked,
                what,
                "The disk is the old one again. Nothing was written.",
                format!(
                    "Convert again with a new folder: schwelle convert {} --job DIR",
                    typed(disk)
                ),
            ),
            RecoverError::OtherDisk { .. } => Self::new(
                Kind::Blocked,
                what,
                "A job fits the disk it was made for and no other. Nothing was written.",
                "Connect that disk, or name it with --disk.",
            ),
            RecoverError::OtherDiskId => Self::new(
                Kind::Blocked,
                what,
                "Disks of a size and layout look alike; the GUID tells them apart. Nothing was written.",
                "Connect the job's disk, or let it be found by its content: leave --disk out.",
            ),
            RecoverError::OtherFolder => Self::new(
                Kind::Blocked,
                what,
                "Its EFI system partition holds the hash of the folder that it was written with, and this one has \
                 another. Nothing was written.",
                "Find the right folder: schwelle report --jobs DIR. Jobs on one disk are taken back from the last to the \
                 first.",
            ),
            RecoverError::Foreign { .. } => Self::new(
                Kind::Blocked,
                what,
                "A job writes into the partitions that it names, and this folder names others: it is another disk's, it \
                 was changed, or the disk's table was. Nothing was written.",
                "Find the right folder: schwelle report --jobs DIR",
            ),
            RecoverError::Differs { .. } => Self::new(
                Kind::Blocked,
                what,
                "The disk has been changed since, or it is another one. Nothing was written.",
                format!("Look at it: schwelle check {}", typed(disk)),
            ),
            RecoverError::VolumeUsed { .. } => Self::new(
                Kind::Blocked,
                what,
                "Finishing would put older file-system metadata over newer. Nothing was written.",
                undo(),
            ),
            RecoverError::PartitionSince { .. } => Self::new(
                Kind::Blocked,
                what,
                "Taking the conversion back would lose that partition. Nothing was written.",
                "Save what is on it, delete it, and repeat the command.",
            ),
            RecoverError::Lost { .. } => Self::new(
                Kind::Blocked,
                what,
                "Finishing would lose that data. Nothing was written.",
                undo(),
            ),
        }
    }
}

/// The two ways out of a half-written disk.
fn either_way(job: &Path) -> String {
    let job = typed(job);
    format!("Finish it: schwelle resume --job {job}\nOr take it back: schwelle undo --job {job}")
}

impl From<OpenError> for CliError {
    fn from(error: OpenError) -> Self {
        let here = here();
        let survey = format!(
            "See which disks there are: schwelle survey ({}, to see this PC's own)",
            here.with_rights
        );
        let free_it = format!(
            "{}, or let the other program finish; then repeat the command.",
            here.free_it
        );
        let rights = format!("{survey}\n{}", here.get_rights);
        let (why, next) = match &error {
            OpenError::Io { source, .. } if source.kind() == ErrorKind::PermissionDenied => {
                ("Nothing was read or written.", &rights[..])
            }
            OpenError::Io { .. } => ("Nothing was read or written.", &survey[..]),
            OpenError::NotADisk { .. } => (
                "Only a whole disk or an image of one has a partition table.",
                "See which disks there are: schwelle survey",
            ),
            OpenError::Truncated { .. } => (
                "An incomplete image would give an incomplete result.",
                "Make the image again, or name its sector size with --sector-size if it is not \
                 the default.",
            ),
            OpenError::SectorSizeOfDisk { .. } => (
                "A real disk knows its own sector size.",
                "Leave --sector-size out.",
            ),
            OpenError::InUse { .. } => (
                "Two programs writing to one disk would destroy it.",
                &free_it[..],
            ),
        };
        let kind = if matches!(error, OpenError::SectorSizeOfDisk { .. }) {
            Kind::Usage
        } else {
            Kind::Unchanged
        };
        Self::new(kind, error, why, next)
    }
}

/// A path that is missing from a command line where it is needed.
pub(crate) fn path_taken(path: PathBuf) -> CliError {
    CliError::new(
        Kind::Usage,
        format!("{} is there already and not empty", path.display()),
        "Nothing is overwritten.",
        "Name a new or empty folder.",
    )
}
