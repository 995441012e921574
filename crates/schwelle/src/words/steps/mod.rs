//! What the steps of a walk find: a file per family.

mod around;
mod bios;
mod linux;
mod start;
mod table;

use schwelle_core::rehearse::{Evidence, Remedy};

/// What a step found.
pub(crate) fn found(evidence: &Evidence) -> String {
    match evidence {
        Evidence::Table(evidence) => table::evidence(evidence),
        Evidence::Start(evidence) => start::evidence(evidence),
        Evidence::Bios(evidence) => bios::evidence(evidence),
        Evidence::Linux(evidence) => linux::evidence(evidence),
        Evidence::Around(evidence) => around::evidence(evidence),
    }
}

/// What to do. `next` are the commands for what the remedy names as next, as they are typed.
pub(crate) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    match remedy {
        Remedy::Table(remedy) => table::remedy(remedy, next),
        Remedy::Start(remedy) => start::remedy(remedy, next),
        Remedy::Bios(remedy) => bios::remedy(remedy, next),
        Remedy::Linux(remedy) => linux::remedy(remedy),
        Remedy::Around(remedy) => around::remedy(remedy),
    }
}
