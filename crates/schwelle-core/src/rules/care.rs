//! Rules about the care that only the technician can take.

use super::answers::care::{Evidence, Remedy};
use super::{Answer, Facts, Rule, RuleId, Subject};

pub(super) static RULES: &[Rule] = &[Rule {
    id: RuleId::CareBackup,
    to: None,
    check: backup,
}];

fn backup(facts: &Facts<'_>) -> Vec<Answer> {
    vec![match facts.backup_confirmed {
        true => Answer::pass(Subject::CustomerData, Evidence::BackupConfirmed),
        false => Answer::unknown(
            Subject::CustomerData,
            Evidence::BackupNotAsked,
            Remedy::MakeBackup,
        ),
    }]
}
