//! The view of `confirm`, and its document.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::confirm::{Answer, Confirmation, Evidence, Lasting, Reason, Says, Weight};
use schwelle_core::rehearse::{StepId, StepOutcome};
use serde::{Deserialize, Serialize};

use super::common::{answer, head, paragraph};
use super::json::Rehearsed;
use super::rehearse;
use super::worded::{StepDoc, Worded};
use crate::disk::Disk;
use crate::screen::{Tone, toned};
use crate::text::{pad, typed};
use crate::words;

/// The whole view.
pub(crate) fn render(disk: &Disk, confirmation: &Confirmation, columns: usize) -> String {
    let mut text = head(disk);
    let heading = |text: &str| format!("\n{}\n", toned(Tone::Heading, text));
    let is_running = |piece: &Evidence| piece.weight == Weight::Decisive;
    text += &heading(match confirmation.evidence.iter().any(is_running) {
        true => "Did it start in UEFI mode? What the running Windows says, and what is on the disk",
        false => "Did it start in UEFI mode? What a start leaves on the disk, and how strong it is",
    });
    for piece in confirmation
        .evidence
        .iter()
        .filter(|piece| !is_aside(piece))
    {
        text += &evidence(piece, columns);
    }
    text += &heading("Is everything where it should be?");
    for piece in confirmation.evidence.iter().filter(|piece| is_aside(piece)) {
        text += &evidence(piece, columns);
    }
    if confirmation.rehearsal.starts() {
        let around = [StepId::Menu, StepId::Letters, StepId::Recovery];
        let steps = confirmation.rehearsal.steps.iter();
        for step in steps.filter(|step| around.contains(&step.id)) {
            let (tone, word) = match step.outcome {
                StepOutcome::Pass => (Tone::Good, "pass"),
                _ => (Tone::Careful, "caution"),
            };
            let shown = StepDoc::of(disk, step);
            text += &line(tone, word, step.id.name(), &shown.evidence.text, columns);
            if let Some(remedy) = &shown.remedy {
                text += &paragraph("What to do: ", &remedy.worded.text, INDENT, columns);
            }
        }
    } else {
        text += &rehearse::steps(disk, &confirmation.rehearsal, columns);
    }
    let reason = upper(&words::confirm::reason(confirmation.reason));
    let path = typed(&disk.path);
    text + &match confirmation.answer {
        Answer::Confirmed if confirmation.rehearsal.cautions() > 0 => {
            answer(Tone::Careful, "Confirmed", &format!("{reason}."))
        }
        Answer::Confirmed => answer(Tone::Good, "Confirmed", &format!("{reason}.")),
        Answer::NotConfirmed => {
            let next = if confirmation.rehearsal.starts() {
                "Set the PC's firmware to UEFI mode, start Windows from this disk, shut it down, and \
                 repeat the command"
                    .to_owned()
            } else {
                format!("See all steps: schwelle rehearse {path}")
            };
            let next = paragraph("", &format!("{next}."), 0, columns);
            answer(Tone::Bad, "Not confirmed", &format!("{reason}.")) + &next
        }
        Answer::Unknown => {
            let next = match confirmation.reason {
                Reason::Unreadable { .. } => {
                    "Repeat the command; try another port or cable. If it stays so, copy the disk."
                }
                _ => "Start Windows and look at its system information: it shows the boot mode.",
            };
            let next = paragraph("", next, 0, columns);
            answer(Tone::Open, "Unknown", &format!("{reason}.")) + &next
        }
    }
}

const INDENT: usize = 32;

fn is_aside(piece: &Evidence) -> bool {
    piece.weight == Weight::Aside
}

fn evidence(piece: &Evidence, columns: usize) -> String {
    let (tone, word) = match (piece.says, piece.weight) {
        (Says::Yes, _) => (Tone::Good, "yes"),
        (Says::No, Weight::Aside) => (Tone::Careful, "caution"),
        (Says::No, _) => (Tone::Bad, "NO"),
        (Says::Nothing, Weight::Aside) => (Tone::Good, "pass"),
        (Says::Nothing, _) => (Tone::Faint, "open"),
    };
    let name = piece.found.name();
    let name = match is_aside(piece) {
        true => name.to_owned(),
        false => format!("{name}, {}", piece.weight.name()),
    };
    line(
        tone,
        word,
        &name,
        &words::confirm::found(&piece.found),
        columns,
    )
}

fn line(tone: Tone, word: &str, name: &str, text: &str, columns: usize) -> String {
    let shown = paragraph("", text, INDENT, columns);
    let word = toned(tone, &pad(word, 7));
    format!("  {word} {} {}", pad(name, 21), shown.trim_start())
}

fn upper(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| {
        first.to_uppercase().chain(chars).collect()
    })
}

/// `confirm`
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Confirmed {
    pub(crate) answer: Answer,
    /// Why
    pub(crate) reason: Worded<Reason>,
    pub(crate) evidence: Vec<EvidenceDoc>,
    /// The disk's rehearsal; its steps menu, drive-letters and recovery say whether all is where it
    /// should be
    pub(crate) rehearsal: Rehearsed,
}

/// A piece of evidence.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct EvidenceDoc {
    /// A stable name
    pub(crate) name: String,
    /// "aside" where it is about something else
    pub(crate) weight: Weight,
    /// What it says to "did it start in UEFI mode"
    pub(crate) says: Says,
    /// Number of the partition with the installed Windows it is about; null where it is about all
    pub(crate) system: Option<usize>,
    /// What was found
    pub(crate) found: Worded<Lasting>,
}

impl Confirmed {
    pub(crate) fn of(disk: &Disk, confirmation: &Confirmation) -> Self {
        let evidence = confirmation.evidence.iter().map(|piece| EvidenceDoc {
            name: piece.found.name().to_owned(),
            weight: piece.weight,
            says: piece.says,
            system: piece.system,
            found: Worded::of(piece.found.clone(), words::confirm::found),
        });
        Self {
            answer: confirmation.answer,
            reason: Worded::of(confirmation.reason, |reason| {
                words::confirm::reason(*reason)
            }),
            evidence: evidence.collect(),
            rehearsal: Rehearsed::of(disk, &confirmation.rehearsal),
        }
    }
}
