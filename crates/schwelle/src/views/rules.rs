//! The views of `rules`.

use schwelle_core::crossing::Style;
use schwelle_core::rules::Rule;

use super::common::paragraph;
use crate::screen::{Tone, toned};
use crate::text::pad;

/// All rules by family, a line each.
pub(crate) fn list(rules: &[&Rule], _columns: usize) -> String {
    let mut text = String::new();
    let mut family = "";
    for rule in rules {
        if rule.family() != family {
            family = rule.family();
            text += &format!("\n{}\n", toned(Tone::Heading, family));
        }
        text += &format!("  {} {}\n", pad(rule.id, 22), rule.question);
    }
    text += "\nThe family \"back\" is asked with --to mbr, in place of table, room and firmware.\n";
    text + "\nA rule in full: schwelle rules ID\n"
}

/// One rule in full.
pub(crate) fn one(rule: &Rule, columns: usize) -> String {
    let mut text = format!("{}\n", toned(Tone::Heading, rule.id));
    text += &paragraph("", rule.question, 2, columns);
    text += "\n";
    text += &paragraph("", rule.why, 2, columns);
    text += "\n";
    let option = match rule.to {
        Some(Style::Mbr) => " --to mbr",
        _ => "",
    };
    text + &format!("  What a disk says to it: schwelle check DISK{option}\n")
}
