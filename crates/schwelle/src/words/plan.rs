//! What a plan writes and edits.

use schwelle_core::draft::{Edit, WhyNotUpdated};

use super::rules::letters_and_names;

/// A change to a file that is kept.
pub(crate) fn edit(edit: &Edit) -> String {
    match edit {
        Edit::PendingApplied => "the changes pending in its log, applied".to_owned(),
        Edit::NamesCarriedOver { letters, names, to } => format!(
            "{} now name {} partitions",
            letters_and_names(letters, *names),
            to.name().to_uppercase()
        ),
        Edit::RecoveryCarriedOver { to } => format!(
            "the recovery environment's place now names the {} disk",
            to.name().to_uppercase()
        ),
    }
}

/// Why the names in a system's files are not updated, and what to do about it.
pub(crate) fn not_updated(why: &WhyNotUpdated) -> String {
    let (why, fix) = match why {
        WhyNotUpdated::Encrypted => {
            return "its volume is encrypted, and not opened for this. Windows assigns drive letters anew at its next \
                    start, and its recovery environment (WinRE) must be disabled and enabled again there."
                .to_owned();
        }
        WhyNotUpdated::Hibernated => (
            "its session is hibernated (Fast Startup does that too) and would overwrite the change"
                .to_owned(),
            "start Windows on the disk as it is now, turn hibernation off (powercfg /h off), shut down",
        ),
        WhyNotUpdated::NotClosed => (
            "its volume was not closed".to_owned(),
            "start Windows on the disk as it is now, let it check the volume, shut it down completely",
        ),
        WhyNotUpdated::Damaged => (
            "its volume is damaged".to_owned(),
            "start Windows on the disk as it is now, check the volume (chkdsk /f), shut it down completely",
        ),
        WhyNotUpdated::Uneditable { fault } => (
            format!("a file cannot be edited: {fault}"),
            "start Windows on the disk as it is now, shut it down completely",
        ),
    };
    format!(
        "{why}. Better answer no, {fix}, and run this command again. Otherwise Windows assigns drive letters \
         anew at its next start, and its recovery environment (WinRE) must be disabled and enabled again there."
    )
}
