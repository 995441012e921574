//! Errors as the technician meets them: what, where, why it matters, the next command; and the exit
//! code.

use std::path::{Path, PathBuf};

use schwelle_core::commit::CommitError;
use schwelle_core::device::{DeviceError, OpenError};
use schwelle_core::draft::DraftError;
use schwelle_core::job::JobError;

use crate::text::typed;

/// What kind of failure it is; decides the exit code.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    /// Something stands against it, and nothing was written.
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
    /// What to do or type next.
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

    /// The job folder could not be used. `wrote`: the disk may have been written already.
    pub(crate) fn job(error: &JobError, wrote: bool) -> Self {
        let kind = if wrote {
            Kind::Stopped
        } else {
            Kind::Unchanged
        };
        let why = match kind {
            Kind::Stopped => "The disk has been written, but the job's record of it is incomplete.",
            _ => {
                "Without a complete record of what is overwritten nothing may be written; the \
                 disk is unchanged."
            }
        };
        Self::new(
            kind,
            error,
            why,
            "Name a new folder on a disk with room: --job DIR",
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
            CommitError::Stopped { .. } | CommitError::Mismatch { .. } => Self::new(
                Kind::Stopped,
                what,
                "The disk is written in part. Until sector 0 is replaced it is still the old MBR \
                 disk.",
                format!(
                    "See what state it is in: schwelle rehearse {} . What was overwritten is \
                     saved in {}",
                    typed(disk),
                    typed(job)
                ),
            ),
        }
    }
}

impl From<OpenError> for CliError {
    fn from(error: OpenError) -> Self {
        let (why, next) = match &error {
            OpenError::Io { .. } => (
                "Nothing was read or written.",
                "See which disks there are: schwelle survey (as root, to see this PC's own)",
            ),
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
                "Two programs at work on one disk would destroy it.",
                "Unmount its volumes or let the other program finish; then the same command again.",
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
