//! The rules about the backup.

use schwelle_core::rules::answers::backup::{Evidence, Remedy};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::BackupConfirmed => "there is a backup: it was confirmed",
        Evidence::BackupNotAsked => "not asked yet",
    }
    .to_owned()
}

pub(super) fn remedy(remedy: &Remedy) -> String {
    match remedy {
        Remedy::MakeBackup => "Make one, or make sure of it; convert asks and records the answer.",
    }
    .to_owned()
}
