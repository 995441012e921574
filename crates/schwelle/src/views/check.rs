//! The view of `check`.

use std::collections::BTreeMap;

use schwelle_core::overview::{DiskAnswer, Overview};
use schwelle_core::profile::TableStyle;
use schwelle_core::rules::Outcome;

use super::common::{
    answer, answer_line, answer_tone, head_with_starts, item, paragraph, partitions,
};
use super::json::Check;
use super::worded::FindingDoc;
use crate::disk::{Disk, options_of};
use crate::screen::{Look, Tone, toned};
use crate::text::{pad, safe, sentence, width};
use crate::words;
use schwelle_core::pipeline::Judged;

/// Columns of the families' names beside their findings.
const FAMILY_COLUMNS: usize = 12;
/// Columns of a rule's name beside what it tells.
const NAME_COLUMNS: usize = 14;

/// Blocks and cautions in full, then what is not known and what passed: in a line each and a line for each family,
/// or where all is wanted, in full as well.
pub(crate) fn render(disk: &Disk, judged: &Judged<'_, '_>, look: Look) -> String {
    let overview = Overview::of(judged);
    let mut text = blocks_and_cautions(disk, judged, &overview, look);
    for (outcome, tone, title, word) in [
        (Outcome::Unknown, Tone::Open, "To find out", "not known"),
        (Outcome::Pass, Tone::Good, "Passed", "passed"),
    ] {
        let found = found(disk, judged, outcome);
        // What else a conversion needs says nothing about a disk that needs none.
        if found.is_empty() || !(look.all || overview.answer.is_of_rules()) {
            continue;
        }
        text += &section(tone, title, found.len());
        text += &match (look.all, outcome) {
            (false, _) => by_family_in_lines(&found, word, look.columns),
            (true, Outcome::Pass) => passed_in_full(&found, look),
            (true, _) => telling(&found, tone, look.columns),
        };
    }
    if !look.all {
        let all = disk.next("check") + &options_of(judged) + " --all";
        text += &paragraph("", &format!("All in full: {all}"), 2, look.columns);
    }
    text + &verdict(disk, judged, &overview, look.columns)
}

/// What passed: by family, each with what it has to say.
fn passed_in_full(passed: &[FindingDoc], look: Look) -> String {
    let mut text = String::new();
    for findings in by_family(passed) {
        let (silent, telling): (Vec<&FindingDoc>, Vec<&FindingDoc>) =
            findings.iter().partition(|finding| finding.is_silent());
        let mut body = String::new();
        let columns = look.columns - FAMILY_COLUMNS;
        for finding in telling {
            let name = pad(finding.rule.name_in_family(), NAME_COLUMNS);
            body += &item(&name, &sentence(&finding.text()), 0, columns);
        }
        let names: Vec<&str> = silent
            .iter()
            .map(|finding| finding.rule.name_in_family())
            .collect();
        if !names.is_empty() {
            body += &paragraph(
                "",
                &format!("Nothing found: {}.", names.join(", ")),
                0,
                columns,
            );
        }
        text += &beside(findings, &body);
    }
    text
}

/// How many of each family, and as many names as fit into the line.
fn by_family_in_lines(findings: &[FindingDoc], word: &str, columns: usize) -> String {
    let mut text = String::new();
    for findings in by_family(findings) {
        let mut line = format!("{:>2} {word}: ", findings.len());
        let mut names: Vec<&str> = findings
            .iter()
            .map(|finding| finding.rule.name_in_family())
            .collect();
        names.dedup();
        for (at, name) in names.into_iter().enumerate() {
            let comma = if at == 0 { "" } else { ", " };
            let name = format!("{comma}{name}");
            if FAMILY_COLUMNS + width(&line) + width(&name) + 5 > columns {
                line += ", ...";
                break;
            }
            line += &name;
        }
        text += &beside(findings, &line);
    }
    text
}

/// What `plan` and `convert` show of a disk that they do not convert.
pub(crate) fn render_blocked(disk: &Disk, judged: &Judged<'_, '_>, look: Look) -> String {
    not_done(disk, judged, &Overview::of(judged), look)
}

/// The same of a disk that `mend` does not mend.
pub(crate) fn render_not_mended(disk: &Disk, judged: &Judged<'_, '_>, look: Look) -> String {
    let blocked = Overview {
        answer: DiskAnswer::Blocked,
        step: None,
    };
    not_done(disk, judged, &blocked, look)
}

fn not_done(disk: &Disk, judged: &Judged<'_, '_>, overview: &Overview, look: Look) -> String {
    blocks_and_cautions(disk, judged, overview, look)
        + &verdict(disk, judged, overview, look.columns)
}

fn blocks_and_cautions(
    disk: &Disk,
    judged: &Judged<'_, '_>,
    overview: &Overview,
    look: Look,
) -> String {
    let mut text = head_with_starts(disk, judged, look.columns) + &partitions(disk, look);
    // Red is for a disk that should be converted and cannot be.
    let blocked = match overview.answer {
        DiskAnswer::Blocked => (Outcome::Block, Tone::Bad, "Blocked"),
        _ => (Outcome::Block, Tone::Open, "Not converted, because"),
    };
    for (outcome, tone, title) in [blocked, (Outcome::Caution, Tone::Careful, "Caution")] {
        let found = found(disk, judged, outcome);
        if !found.is_empty() {
            text += &section(tone, title, found.len());
            text += &telling(&found, tone, look.columns);
        }
    }
    text
}

/// The findings with this outcome, in words.
pub(super) fn found(disk: &Disk, judged: &Judged<'_, '_>, outcome: Outcome) -> Vec<FindingDoc> {
    let found = judged.with(outcome);
    found.map(|finding| FindingDoc::of(disk, finding)).collect()
}

fn section(tone: Tone, title: &str, count: usize) -> String {
    format!("\n{}\n", toned(tone, &format!("{title} ({count})")))
}

/// Findings by family, each with its evidence, and with what to do.
pub(super) fn telling(findings: &[FindingDoc], tone: Tone, columns: usize) -> String {
    let columns = columns - FAMILY_COLUMNS;
    let mut text = String::new();
    for findings in by_family(findings) {
        let mut body = String::new();
        for finding in findings {
            let subject = safe(&finding.subject.text);
            body += &format!("{}  {subject}\n", toned(tone, finding.rule.name()));
            body += &paragraph("", &sentence(&finding.evidence.text), 2, columns);
            if let Some(remedy) = &finding.remedy {
                body += &paragraph("What to do: ", &sentence(&remedy.worded.text), 2, columns);
            }
        }
        text += &beside(findings, &body);
    }
    text
}

/// Findings that stand together, by their rules' families.
fn by_family(findings: &[FindingDoc]) -> impl Iterator<Item = &[FindingDoc]> {
    findings.chunk_by(|a, b| a.rule.family() == b.rule.family())
}

/// The family's name, with lines beside it.
fn beside(findings: &[FindingDoc], body: &str) -> String {
    let family = findings
        .first()
        .map_or("", |finding| finding.rule.family().name());
    let mut lead = pad(family, FAMILY_COLUMNS - 2);
    let mut text = String::new();
    for line in body.lines() {
        text += &format!("  {}{line}\n", toned(Tone::Heading, &lead));
        lead = " ".repeat(FAMILY_COLUMNS - 2);
    }
    text
}

/// The last lines: the answer, and what to type next.
fn verdict(disk: &Disk, judged: &Judged<'_, '_>, overview: &Overview, columns: usize) -> String {
    let next = disk.next("plan") + &options_of(judged);
    let style = disk.profile.table_style();
    match overview.answer {
        DiskAnswer::Blocked => {
            let rule = judged
                .with(Outcome::Block)
                .next()
                .map_or("ID", |finding| finding.rule.name());
            answer(
                Tone::Bad,
                "Blocked",
                &format!("Nothing was written. Why this rule: schwelle rules {rule}"),
            )
        }
        DiskAnswer::Caution => answer(
            Tone::Careful,
            "Caution",
            &format!("It can be converted; read the cautions first. Next: {next}"),
        ),
        DiskAnswer::Ready => answer(
            Tone::Good,
            "Ready",
            &format!("No blocking issue. Next: {next}"),
        ),
        other => {
            let word = sentence(words::overview::name(other));
            let mut rest = sentence(&words::overview::reason(overview, style));
            if let Some(next) = next_of(disk, other, style) {
                rest += &format!(" {next}");
            }
            let text = paragraph(&format!("{word} "), &rest, 0, columns);
            let toned = toned(answer_tone(other), &word);
            format!("\n{}", text.replacen(&word, &toned, 1))
        }
    }
}

/// What to type about a disk that needs no conversion.
fn next_of(disk: &Disk, answer: DiskAnswer, style: TableStyle) -> Option<String> {
    Some(match answer {
        DiskAnswer::Starts => format!("Each step: {}", disk.next("rehearse")),
        DiskAnswer::Depends | DiskAnswer::DoesNotStart => {
            format!("What can be fixed: {}", disk.next("mend"))
        }
        DiskAnswer::Data if style == TableStyle::Mbr => {
            format!("To convert it: {} --data-disk", disk.next("check"))
        }
        DiskAnswer::Blank => {
            format!(
                "To give it an empty GPT: {} --data-disk",
                disk.next("check")
            )
        }
        _ => return None,
    })
}

/// One of several disks, in a line: answer, disk, the first finding that blocks or cautions.
pub(crate) fn line(check: &Check, columns: usize) -> String {
    let decisive = match check.answer {
        DiskAnswer::Blocked => Some(Outcome::Block),
        DiskAnswer::Caution => Some(Outcome::Caution),
        _ => None,
    };
    let mut findings = check.findings.iter();
    let finding = findings.find(|finding| Some(finding.outcome) == decisive);
    let reason = match (finding, &check.unreadable) {
        (Some(finding), _) => format!("{}: {}", finding.rule, finding.evidence.text),
        (None, Some(why)) => why.clone(),
        (None, None) if check.reason.is_empty() => check.disk_name.clone().unwrap_or_default(),
        (None, None) => check.reason.clone(),
    };
    let rest = format!("{}  {}", safe(&check.disk), safe(&reason));
    answer_line(check.answer, &rest, columns)
}

/// How many disks got which answer.
#[derive(Debug, Default)]
pub(crate) struct Tally {
    counts: BTreeMap<DiskAnswer, usize>,
}

impl Tally {
    pub(crate) fn count(&mut self, answer: DiskAnswer) {
        *self.counts.entry(answer).or_default() += 1;
    }

    /// The last line of a list; `one` is a disk of it.
    pub(crate) fn render(&self, one: &str) -> String {
        let all: usize = self.counts.values().sum();
        let each: Vec<String> = self
            .counts
            .iter()
            .map(|(answer, count)| format!("{count} {}", words::overview::name(*answer)))
            .collect();
        let disks = if all == 1 { "disk" } else { "disks" };
        format!(
            "\n{all} {disks}: {}.\nAll about one: schwelle check {one}\n",
            each.join(", ")
        )
    }
}
