//! The view and the document of a start on real firmware.

use std::path::PathBuf;

use schemars::JsonSchema;
use schwelle_core::firmware::BootMode;
use schwelle_core::rehearse::StepOutcome;
use schwelle_core::rehearse::emulator::Emulation;
use serde::{Deserialize, Serialize};

use super::common::{item, paragraph};
use super::rehearse::outcome;
use crate::emulate::Emulated;
use crate::screen::{Tone, toned};
use crate::text::{pad, safe, typed};

/// A start on real firmware, in JSON.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct EmulatedDoc {
    /// False when there is no emulator here
    pub(crate) ran: bool,
    /// What is missing, when it did not run
    pub(crate) missing: Option<String>,
    /// No step failed; null when it did not run
    pub(crate) passed: Option<bool>,
    pub(crate) steps: Vec<EmulatedStepDoc>,
    /// How it ended
    pub(crate) ending: Option<String>,
    pub(crate) seconds: Option<f64>,
    /// What was kept: the console's text, a picture of the screen
    pub(crate) kept: Vec<String>,
}

/// A step of it.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct EmulatedStepDoc {
    pub(crate) step: String,
    /// "caution" where it cannot be told
    pub(crate) outcome: StepOutcome,
    pub(crate) evidence: String,
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
                ending: Some(emulation.ending.clone()),
                seconds: Some((emulation.took.as_secs_f64() * 10.0).round() / 10.0),
                kept,
            },
        }
    }
}

fn steps(emulation: &Emulation) -> Vec<EmulatedStepDoc> {
    let steps = emulation.steps.iter().map(|step| EmulatedStepDoc {
        step: step.name.to_owned(),
        outcome: step.outcome,
        evidence: step.evidence.clone(),
    });
    steps.collect()
}

/// What real firmware did with it.
pub(crate) fn render(emulated: &Emulated, kept: &[PathBuf], columns: usize) -> String {
    const INDENT: usize = 28;
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
        let evidence = paragraph("", &step.evidence, INDENT, columns);
        let head = format!("     {}  {} ", toned(tone, word), pad(step.name, 16));
        text += &format!("{head}{}", evidence.trim_start());
    }
    let seconds = emulation.took.as_secs_f64();
    let ended = format!("after {seconds:.1} s: {}", emulation.ending);
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
