//! The view and the document of a start on real firmware.

use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::firmware::BootMode;
use schwelle_core::rehearse::StepOutcome;
use schwelle_emulator::{EmulatedStepId, Emulation, Ending, Seen};
use serde::{Deserialize, Serialize};

use super::common::{item, paragraph};
use super::rehearse::outcome;
use super::worded::Worded;
use crate::emulate::Emulated;
use crate::screen::{Tone, toned};
use crate::text::{pad, safe, typed};
use crate::words;

/// A start on real firmware, in JSON.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct EmulatedDoc {
    /// False when there is no emulator here
    pub(crate) ran: bool,
    /// What is missing, when it did not run
    pub(crate) missing: Option<String>,
    /// No step failed; null when it did not run
    pub(crate) passed: Option<bool>,
    pub(crate) steps: Vec<EmulatedStepDoc>,
    /// How it ended
    pub(crate) ending: Option<Worded<Ending>>,
    pub(crate) seconds: Option<f64>,
    /// What was kept: the console's text, a picture of the screen
    pub(crate) kept: Vec<String>,
}

/// A step of it.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct EmulatedStepDoc {
    pub(crate) step: EmulatedStepId,
    /// "caution" where it is not known
    pub(crate) outcome: StepOutcome,
    /// What was seen
    pub(crate) evidence: Worded<Seen>,
}

impl EmulatedDoc {
    pub(crate) fn of(emulated: &Emulated, kept: &[PathBuf]) -> Self {
        let kept = kept.iter().map(|path| path.display().to_string()).collect();
        match emulated {
            Emulated::Missing { what, .. } => Self {
                ran: false,
                missing: Some(what.clone()),
                passed: None,
                steps: Vec::new(),
                ending: None,
                seconds: None,
                kept,
            },
            Emulated::Ran { emulation, .. } => Self {
                ran: true,
                missing: None,
                passed: Some(emulation.passed()),
                steps: steps(emulation),
                ending: Some(Worded::of(emulation.ending, |ending| {
                    words::emulated::ending(*ending).to_owned()
                })),
                seconds: Some((emulation.took.as_secs_f64() * 10.0).round() / 10.0),
                kept,
            },
        }
    }
}

fn steps(emulation: &Emulation) -> Vec<EmulatedStepDoc> {
    let steps = emulation.steps.iter().map(|step| EmulatedStepDoc {
        step: step.id,
        outcome: step.outcome,
        evidence: Worded::of(step.seen.clone(), words::emulated::seen),
    });
    steps.collect()
}

/// What real firmware did with it.
pub(crate) fn render(emulated: &Emulated, kept: &[PathBuf], columns: usize) -> String {
    const INDENT: usize = 31;
    let emulation = match emulated {
        Emulated::Missing { what, install } => {
            let heading = toned(Tone::Heading, "On real firmware");
            let text = format!("not started: {what}. The walk stands by itself. {install}");
            return format!("\n{heading}\n{}", paragraph("", &text, 2, columns));
        }
        Emulated::Ran { emulation, .. } => emulation,
    };
    let firmware = match emulation.mode {
        BootMode::Bios => "BIOS",
        BootMode::Uefi | BootMode::Both => "UEFI",
    };
    let heading = format!("On real firmware ({firmware}, in the emulator)");
    let mut text = format!("\n{}\n", toned(Tone::Heading, &heading));
    for step in &emulation.steps {
        let (tone, word) = outcome(step.outcome);
        let evidence = paragraph("", &words::emulated::seen(&step.seen), INDENT, columns);
        let head = format!(
            "     {}  {} ",
            toned(tone, &pad(word, 7)),
            pad(step.id.name(), 16)
        );
        text += &format!("{head}{}", evidence.trim_start());
    }
    let seconds = emulation.took.as_secs_f64();
    let ended = format!(
        "after {seconds:.1} s: {}",
        words::emulated::ending(emulation.ending)
    );
    text += &paragraph("", &ended, 2, columns);
    if !emulation.last_lines.is_empty() {
        text += "  The console's last lines:\n";
        for line in &emulation.last_lines {
            text += &item("|", &safe(line), 4, columns);
        }
    }
    for path in kept {
        text += &format!("  Kept: {}\n", typed(path));
    }
    text
}
