//! What a plan writes and edits.

use schwelle_core::draft::Edit;

use super::rules::letters_and_names;

/// A change to a file that is kept.
pub(crate) fn edit(edit: &Edit) -> String {
    match edit {
        Edit::PendingApplied => "the changes pending in its log, applied".to_owned(),
        Edit::NamesCross { letters, names, to } => format!(
            "{} now name {} partitions",
            letters_and_names(letters, *names),
            to.name().to_uppercase()
        ),
        Edit::RecoveryCrosses { to } => format!(
            "the recovery environment's place now names the {} disk",
            to.name().to_uppercase()
        ),
    }
}
