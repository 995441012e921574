//! The views of `rules`, and its document.

use std::collections::BTreeMap;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::identities::Style;
use schwelle_core::rules::{Rule, RuleId, Severity};
use serde::Serialize;

use super::common::{item, paragraph};
use crate::policy::Policy;
use crate::screen::{Tone, toned};
use crate::text::{bytes, pad, safe};
use crate::words::rules::questions;

/// All rules by family, a line each; then what the policy decides.
pub(crate) fn list(rules: &[&Rule], policy: &Policy, columns: usize) -> String {
    const INDENT: usize = 25;
    let mut text = String::new();
    let mut family = None;
    for rule in rules {
        if family != Some(rule.id.family()) {
            family = Some(rule.id.family());
            let name = rule.id.family().name();
            text += &format!("\n{}\n", toned(Tone::Heading, name));
        }
        let question = questions::of(rule.id).question;
        let severity = policy.severities.get(&rule.id);
        let severity = severity.map_or(String::new(), |severity| format!(" [{}]", severity.name()));
        let question = paragraph("", &format!("{question}{severity}"), INDENT, columns);
        text += &format!(
            "  {} {}",
            pad(rule.id.name(), INDENT - 3),
            question.trim_start()
        );
    }
    text += "\n";
    let back = "The family \"back\" is asked with --to mbr, instead of table, room and firmware.";
    text += &paragraph("", back, 0, columns);
    if policy.from.is_some() {
        text += &decided(policy, columns);
    }
    text + "\nA rule in full: schwelle rules ID\n"
}

/// What a policy decides, and what it leaves as it is.
fn decided(policy: &Policy, columns: usize) -> String {
    let document = PolicyDoc::of(policy);
    let file = safe(&document.file.unwrap_or_default());
    let mut text = format!(
        "\n{}\n",
        toned(Tone::Heading, &format!("The policy in {file}"))
    );
    let severities: Vec<String> = policy
        .severities
        .iter()
        .map(|(rule, severity)| format!("{rule} {}", severity.name()))
        .collect();
    let keys = document.setup_keys.iter();
    let keys: Vec<String> = keys
        .map(|(manufacturer, key)| format!("{manufacturer}: {key}"))
        .collect();
    let yes = if document.yes_option {
        "may answer"
    } else {
        "is refused"
    };
    let or = |text: Option<String>, none: &str| text.unwrap_or_else(|| none.to_owned());
    let list = |list: &[String]| match list {
        [] => "none".to_owned(),
        some => some.join(", "),
    };
    for (what, value) in [
        ("name on reports", or(document.shop, "none")),
        (
            "job folders in",
            or(document.job_root, "as named with --job"),
        ),
        (
            "EFI partition",
            or(document.esp_size_bytes.map(bytes), "as large as fits best"),
        ),
        ("its room from", list(&document.places)),
        ("--yes", yes.to_owned()),
        ("questions", list(&document.questions)),
        ("severities", list(&severities)),
        ("setup keys", list(&keys)),
        ("types", list(&document.types)),
    ] {
        text += &item(&pad(what, 16), &value, 2, columns);
    }
    if !severities.is_empty() {
        let line = "strict: cautions and open questions become blocks. known: they pass. A block stays a block.";
        text += &paragraph("", line, 2, columns);
    }
    text
}

/// One rule in full.
pub(crate) fn one(rule: &Rule, policy: &Policy, columns: usize) -> String {
    let asked = questions::of(rule.id);
    let mut text = format!("{}\n", toned(Tone::Heading, rule.id.name()));
    text += &paragraph("", asked.question, 2, columns);
    text += "\n";
    text += &paragraph("", asked.why, 2, columns);
    text += "\n";
    let effect = match policy.severities.get(&rule.id) {
        Some(Severity::Strict) => Some("By the policy its cautions and open questions are blocks."),
        Some(Severity::Known) => Some("By the policy its cautions and open questions pass."),
        None => None,
    };
    if let Some(effect) = effect {
        text += &format!("{}\n", paragraph("", effect, 2, columns));
    }
    let option = match rule.to {
        Some(Style::Mbr) => " --to mbr",
        _ => "",
    };
    text + &format!("  To check a disk: schwelle check DISK{option}\n")
}

/// `rules`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Rules {
    pub(crate) rules: Vec<RuleDoc>,
    pub(crate) policy: PolicyDoc,
}

/// What the workshop has decided; null or empty where nothing is
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct PolicyDoc {
    /// The file; null where there is none
    pub(crate) file: Option<String>,
    /// The workshop's name
    pub(crate) shop: Option<String>,
    pub(crate) job_root: Option<String>,
    /// Size of a new EFI system partition
    pub(crate) esp_size_bytes: Option<u64>,
    /// Where its room may come from: "gap", "shrink", "takeover"
    pub(crate) places: Vec<String>,
    /// --yes may answer
    pub(crate) yes_option: bool,
    /// What is asked before a disk is written, beside the question about a backup
    pub(crate) questions: Vec<String>,
    /// Beginnings of manufacturers' names, and their keys
    pub(crate) setup_keys: BTreeMap<String, String>,
    /// MBR type bytes that the policy gives a form, in hex
    pub(crate) types: Vec<String>,
}

impl PolicyDoc {
    pub(crate) fn of(policy: &Policy) -> Self {
        let path = |path: &std::path::PathBuf| path.display().to_string();
        Self {
            file: policy.from.as_ref().map(path),
            shop: policy.shop.clone(),
            job_root: policy.job_root.as_ref().map(path),
            esp_size_bytes: policy.esp_size,
            places: policy
                .places
                .iter()
                .map(|place| place.name().to_owned())
                .collect(),
            yes_option: policy.confirmations.yes_option,
            questions: policy.confirmations.questions.clone(),
            setup_keys: policy.setup_keys.clone(),
            types: policy
                .types
                .kinds()
                .map(|kind| format!("{:02X}", kind.0))
                .collect(),
        }
    }
}

/// A rule.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct RuleDoc {
    pub(crate) id: RuleId,
    pub(crate) family: String,
    pub(crate) question: String,
    pub(crate) why: String,
    /// The table that it is asked about; null for both
    pub(crate) to: Option<Style>,
    /// How seriously the policy takes it; null where as it is
    pub(crate) severity: Option<Severity>,
}

impl Rules {
    pub(crate) fn of(rules: &[&Rule], policy: &Policy) -> Self {
        let document = |rule: &&Rule| RuleDoc {
            id: rule.id,
            family: rule.id.family().name().to_owned(),
            question: questions::of(rule.id).question.to_owned(),
            why: questions::of(rule.id).why.to_owned(),
            to: rule.to,
            severity: policy.severities.get(&rule.id).copied(),
        };
        Self {
            rules: rules.iter().map(document).collect(),
            policy: PolicyDoc::of(policy),
        }
    }
}

#[cfg(test)]
mod tests {

    use schwelle_core::rules::{self, Rule};

    use super::*;

    fn page() -> String {
        let intro = "Made from the table of rules; `SCHWELLE_RENEW=1 cargo test -p schwelle rules` renews it. Ids are \
            promised to scripts. The family \"back\" is asked with `--to mbr`, in place of table, room and firmware; all \
            others are asked on both ways. How a rule answers: pass, caution (read it, then go on), block (it will \
            not be converted), unknown (how to find out is shown).";
        let wrapped = |text: &str| paragraph("", text, 0, 110);
        let mut text = format!("# The rules\n\n{}", wrapped(intro));
        let mut family = "";
        for Rule { id, to, .. } in rules::all() {
            let questions::Asked { question, why } = questions::of(*id);
            if id.family().name() != family {
                family = id.family().name();
                text += &format!("\n## {family}\n");
            }
            let way = match to {
                Some(Style::Gpt) => " Asked on the way to GPT.",
                Some(Style::Mbr) => " Asked on the way to MBR.",
                None => "",
            };
            let asked = wrapped(&format!("**{question}** {why}{way}"));
            text += &format!("\n### {id}\n\n{asked}");
        }
        text
    }

    #[test]
    fn the_page_of_rules_is_made_from_their_table() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/rules.md");
        schwelle_testkit::is_up_to_date(path.as_ref(), &page());
    }
}
