//! The view of `check`.

use schwelle_core::rules::{Finding, NOTHING_FOUND, Outcome};

use super::common::{answer, head, paragraph, partitions};
use super::json::Check;
use crate::disk::{Disk, Judgement};
use crate::screen::{Tone, toned};
use crate::text::{cut, pad, safe, typed};

/// All findings, the worst first.
pub(crate) fn render(disk: &Disk, judgement: &Judgement, columns: usize) -> String {
    let mut text = open_questions_and_worse(disk, judgement, columns);
    let (silent, telling): (Vec<&Finding>, Vec<&Finding>) = judgement
        .with(Outcome::Pass)
        .partition(|finding| finding.evidence == NOTHING_FOUND);
    text += &format!(
        "\n{}\n",
        toned(
            Tone::Good,
            &format!("Passed ({})", silent.len() + telling.len())
        )
    );
    for finding in telling {
        const INDENT: usize = 25;
        let told = format!("{}: {}", finding.subject, finding.evidence);
        let told = paragraph("", &told, INDENT, columns);
        text += &format!("  {} {}", pad(finding.rule, 22), told.trim_start());
    }
    let ids: Vec<&str> = silent.iter().map(|finding| finding.rule).collect();
    text += &paragraph("Nothing found against it: ", &ids.join(", "), 2, columns);
    text + &verdict(disk, judgement)
}

/// The same without what passed: what `plan` and `convert` show of a blocked disk.
pub(crate) fn render_blocked(disk: &Disk, judgement: &Judgement, columns: usize) -> String {
    open_questions_and_worse(disk, judgement, columns) + &verdict(disk, judgement)
}

fn open_questions_and_worse(disk: &Disk, judgement: &Judgement, columns: usize) -> String {
    let mut text = head(disk) + &partitions(disk);
    for (outcome, tone, title) in [
        (Outcome::Block, Tone::Bad, "Blocked"),
        (Outcome::Caution, Tone::Careful, "Caution"),
        (Outcome::Unknown, Tone::Open, "To find out"),
    ] {
        let found: Vec<&Finding> = judgement.with(outcome).collect();
        if found.is_empty() {
            continue;
        }
        text += &format!("\n{}\n", toned(tone, &format!("{title} ({})", found.len())));
        for finding in found {
            text += &format!(
                "  {}  {}\n",
                toned(tone, finding.rule),
                safe(&finding.subject)
            );
            text += &paragraph("", &finding.evidence, 4, columns);
            if let Some(remedy) = &finding.remedy {
                text += &paragraph("What to do: ", remedy, 4, columns);
            }
        }
    }
    text
}

fn verdict(disk: &Disk, judgement: &Judgement) -> String {
    let path = typed(&disk.path) + &judgement.options();
    match judgement.answer {
        Outcome::Block => {
            let rule = judgement
                .with(Outcome::Block)
                .next()
                .map_or("ID", |finding| finding.rule);
            answer(
                Tone::Bad,
                "Blocked",
                &format!("Nothing was written. Why this rule: schwelle rules {rule}"),
            )
        }
        Outcome::Caution => answer(
            Tone::Careful,
            "Caution",
            &format!("It can be converted; read the cautions first. Next: schwelle plan {path}"),
        ),
        Outcome::Pass | Outcome::Unknown => answer(
            Tone::Good,
            "Ready",
            &format!("Nothing found stands against it. Next: schwelle plan {path}"),
        ),
    }
}

/// One of several disks, in a line: answer, disk, the first that stands against it.
pub(crate) fn line(check: &Check, columns: usize) -> String {
    let tone = match check.answer.as_str() {
        "ready" => Tone::Good,
        "caution" => Tone::Careful,
        _ => Tone::Bad,
    };
    let decisive = match check.answer.as_str() {
        "blocked" => "block",
        _ => "caution",
    };
    let mut findings = check.findings.iter();
    let finding = findings.find(|finding| finding.outcome == decisive);
    let reason = match (finding, &check.unreadable) {
        (Some(finding), _) => format!("{}: {}", finding.rule, finding.evidence),
        (None, Some(why)) => why.clone(),
        (None, None) => check.short_name.clone().unwrap_or_default(),
    };
    let rest = format!("{}  {}", safe(&check.disk), safe(&reason));
    let answer = pad(&check.answer, ANSWER_COLUMNS);
    let rest = cut(&rest, columns.saturating_sub(ANSWER_COLUMNS + 1));
    format!("{} {}\n", toned(tone, &answer), rest.trim_end())
}

/// Columns of the longest answer.
const ANSWER_COLUMNS: usize = 10;

/// How many disks got which answer.
#[derive(Debug, Default)]
pub(crate) struct Tally {
    ready: usize,
    caution: usize,
    pub(crate) blocked: usize,
    pub(crate) unreadable: usize,
}

impl Tally {
    pub(crate) fn count(&mut self, answer: &str) {
        match answer {
            "ready" => self.ready += 1,
            "caution" => self.caution += 1,
            "blocked" => self.blocked += 1,
            _ => self.unreadable += 1,
        }
    }

    pub(crate) fn render(&self) -> String {
        format!(
            "\n{} disks: {} ready, {} with caution, {} blocked, {} unreadable. All about one: schwelle \
             check DISK\n",
            self.ready + self.caution + self.blocked + self.unreadable,
            self.ready,
            self.caution,
            self.blocked,
            self.unreadable
        )
    }
}
