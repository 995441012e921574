//! The view of `check`.

use schwelle_core::rules::Outcome;

use super::common::{answer, answer_line, head, item, paragraph, partitions};
use super::disk_answer::DiskAnswer;
use super::json::Check;
use super::told::FindingDoc;
use crate::disk::{Disk, options_of};
use crate::screen::{Look, Tone, toned};
use crate::text::{pad, safe, sentence};
use schwelle_core::pipeline::Judged;

/// Columns of the families' names beside their findings.
const FAMILY_COLUMNS: usize = 12;
/// Columns of a rule's name beside what it tells.
const NAME_COLUMNS: usize = 14;

/// All findings: what stands against it first, each outcome by family.
pub(crate) fn render(disk: &Disk, judged: &Judged<'_, '_>, look: Look) -> String {
    let mut text = open_questions_and_worse(disk, judged, look);
    let passed = told(disk, judged, Outcome::Pass);
    text += &section(Tone::Good, "Passed", passed.len());
    for findings in by_family(&passed) {
        let (silent, telling): (Vec<&FindingDoc>, Vec<&FindingDoc>) =
            findings.iter().partition(|finding| finding.is_silent());
        let mut body = String::new();
        let columns = look.columns - FAMILY_COLUMNS;
        for finding in telling {
            let name = pad(finding.rule.short_name(), NAME_COLUMNS);
            body += &item(&name, &sentence(&finding.told()), 0, columns);
        }
        let names: Vec<&str> = silent
            .iter()
            .map(|finding| finding.rule.short_name())
            .collect();
        if !names.is_empty() {
            body += &paragraph(
                "",
                &format!("Nothing against it: {}.", names.join(", ")),
                0,
                columns,
            );
        }
        text += &beside(findings, &body);
    }
    text + &verdict(disk, judged)
}

/// The same without what passed: what `plan` and `convert` show of a blocked disk.
pub(crate) fn render_blocked(disk: &Disk, judged: &Judged<'_, '_>, look: Look) -> String {
    open_questions_and_worse(disk, judged, look) + &verdict(disk, judged)
}

fn open_questions_and_worse(disk: &Disk, judged: &Judged<'_, '_>, look: Look) -> String {
    let mut text = head(disk) + &partitions(disk, look);
    for (outcome, tone, title) in [
        (Outcome::Block, Tone::Bad, "Blocked"),
        (Outcome::Caution, Tone::Careful, "Caution"),
        (Outcome::Unknown, Tone::Open, "To find out"),
    ] {
        let found = told(disk, judged, outcome);
        if !found.is_empty() {
            text += &section(tone, title, found.len());
            text += &telling(&found, tone, look.columns);
        }
    }
    text
}

/// The findings with this outcome, in words.
pub(super) fn told(disk: &Disk, judged: &Judged<'_, '_>, outcome: Outcome) -> Vec<FindingDoc> {
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
                body += &paragraph("What to do: ", &sentence(&remedy.told.text), 2, columns);
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

fn verdict(disk: &Disk, judged: &Judged<'_, '_>) -> String {
    let next = disk.next("plan") + &options_of(judged);
    match judged.answer() {
        Outcome::Block => {
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
        Outcome::Caution => answer(
            Tone::Careful,
            "Caution",
            &format!("It can be converted; read the cautions first. Next: {next}"),
        ),
        Outcome::Pass | Outcome::Unknown => answer(
            Tone::Good,
            "Ready",
            &format!("Nothing found stands against it. Next: {next}"),
        ),
    }
}

/// One of several disks, in a line: answer, disk, the first that stands against it.
pub(crate) fn line(check: &Check, columns: usize) -> String {
    let decisive = match check.answer {
        DiskAnswer::Blocked => Outcome::Block,
        _ => Outcome::Caution,
    };
    let mut findings = check.findings.iter();
    let finding = findings.find(|finding| finding.outcome == decisive);
    let reason = match (finding, &check.unreadable) {
        (Some(finding), _) => format!("{}: {}", finding.rule, finding.evidence.text),
        (None, Some(why)) => why.clone(),
        (None, None) => check.short_name.clone().unwrap_or_default(),
    };
    let rest = format!("{}  {}", safe(&check.disk), safe(&reason));
    answer_line(check.answer, &rest, columns)
}

/// How many disks got which answer.
#[derive(Debug, Default)]
pub(crate) struct Tally {
    ready: usize,
    caution: usize,
    pub(crate) blocked: usize,
    pub(crate) unreadable: usize,
}

impl Tally {
    pub(crate) fn count(&mut self, answer: DiskAnswer) {
        match answer {
            DiskAnswer::Ready => self.ready += 1,
            DiskAnswer::Caution => self.caution += 1,
            DiskAnswer::Blocked => self.blocked += 1,
            DiskAnswer::Unreadable => self.unreadable += 1,
        }
    }

    /// The last line of a list; `one` is a disk of it.
    pub(crate) fn render(&self, one: &str) -> String {
        format!(
            "\n{} disks: {} ready, {} with caution, {} blocked, {} unreadable.\nAll about one: schwelle \
             check {one}\n",
            self.ready + self.caution + self.blocked + self.unreadable,
            self.ready,
            self.caution,
            self.blocked,
            self.unreadable
        )
    }
}
