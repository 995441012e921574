//! The rules' answers: a file per family.

mod back;
mod backup;
mod boot;
mod common;
mod firmware;
mod medium;
pub(crate) mod questions;
mod room;
mod system;
mod table;
mod volume;

use schwelle_core::rules::{ByPolicy, Evidence, Remedy, Subject};

pub(super) use system::letters_and_names;

use super::titled;

/// What a finding is about.
pub(crate) fn subject(subject: &Subject) -> String {
    match subject {
        Subject::Disk => "disk".to_owned(),
        Subject::PartitionTable => "partition table".to_owned(),
        Subject::ExtendedBootRecord => "extended boot record".to_owned(),
        Subject::Partition(partition) => titled(partition),
        Subject::System { name } => name.clone(),
        Subject::BcdStore => "BCD store".to_owned(),
        Subject::Entry { title } => format!("entry \"{title}\""),
        Subject::JobFolder => "job folder".to_owned(),
        Subject::Pc => "PC".to_owned(),
        Subject::CustomerData => "customer's data".to_owned(),
    }
}

/// What was found, and what a policy makes of it.
pub(crate) fn found(found: &Evidence, by_policy: Option<ByPolicy>) -> String {
    let evidence = evidence(found);
    match by_policy {
        None => evidence,
        Some(by) => format!(
            "{evidence} (by itself: {}; {} by the policy)",
            by.was.name(),
            by.severity.name()
        ),
    }
}

fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::Common(evidence) => common::evidence(evidence),
        Evidence::Medium(evidence) => medium::evidence(evidence),
        Evidence::Table(evidence) => table::evidence(evidence),
        Evidence::Room(evidence) => room::evidence(evidence),
        Evidence::Volume(evidence) => volume::evidence(evidence),
        Evidence::System(evidence) => system::evidence(evidence),
        Evidence::Boot(evidence) => boot::evidence(evidence),
        Evidence::Firmware(evidence) => firmware::evidence(evidence),
        Evidence::Back(evidence) => back::evidence(evidence),
        Evidence::Backup(evidence) => backup::evidence(evidence),
    }
}

/// What to do. `next` are the commands for what the remedy names as next, as they are typed.
pub(crate) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    match remedy {
        Remedy::Common(remedy) => common::remedy(remedy, next),
        Remedy::Medium(remedy) => medium::remedy(remedy, next),
        Remedy::Table(remedy) => table::remedy(remedy, next),
        Remedy::Room(remedy) => room::remedy(remedy, next),
        Remedy::Volume(remedy) => volume::remedy(remedy),
        Remedy::System(remedy) => system::remedy(remedy, next),
        Remedy::Boot(remedy) => boot::remedy(remedy, next),
        Remedy::Firmware(remedy) => firmware::remedy(remedy),
        Remedy::Back(remedy) => back::remedy(remedy, next),
        Remedy::Backup(remedy) => backup::remedy(remedy),
    }
}
