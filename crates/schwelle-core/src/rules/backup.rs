//! Rules about what only the technician knows.

use super::answers::backup::{Evidence, Remedy};
use super::{Answer, Facts, Rule, RuleId, Subject};

pub(super) static RULES: &[Rule] = &[Rule::always(RuleId::BackupMade, backup)];

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
