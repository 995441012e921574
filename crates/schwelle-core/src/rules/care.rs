//! Rules about the care that only the technician can take.

use super::{Answer, Facts, Rule};

pub(super) static RULES: &[Rule] = &[Rule {
    id: "care.backup",
    question: "Is there a backup of the customer's data?",
    why: "Schwelle keeps what it overwrites, but a disk can fail on any day, and a disk that \
            needs converting is seldom new. Only the technician knows whether there is a \
            backup: it is asked for and recorded, never assumed.",
    to: None,
    check: backup,
}];

fn backup(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.backup_confirmed {
        return vec![Answer::pass(
            "customer's data",
            "there is a backup: it was confirmed",
        )];
    }
    let remedy = "Make one, or make sure of it; convert asks and records the answer.";
    vec![Answer::unknown("customer's data", "not asked yet", remedy)]
}
