//! The switch sheet: on the screen, as Markdown, as a page to print.

use std::path::Path;

use askama::Template;
use schemars::JsonSchema;
use schwelle_core::firmware::{SheetStep, SwitchSheet};
use serde::{Deserialize, Serialize};

use super::common::{answer, item, paragraph};
use crate::screen::{Tone, toned};
use crate::text::{safe, typed};

/// `firmware sheet`
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Sheet {
    /// The switch may be made
    pub(crate) go: bool,
    /// What is missing; empty for GO
    pub(crate) missing: Vec<SheetStepDoc>,
    pub(crate) pc: String,
    pub(crate) disk: String,
    /// What is right already
    #[serde(default)]
    pub(crate) already: Vec<String>,
    pub(crate) steps: Vec<SheetStepDoc>,
    pub(crate) secure_boot: String,
    pub(crate) leave_alone: Vec<String>,
    pub(crate) trouble: Vec<SheetStepDoc>,
    pub(crate) way_back: Vec<String>,
}

/// A step, or an advice.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct SheetStepDoc {
    pub(crate) what: String,
    pub(crate) check: String,
}

impl Sheet {
    pub(crate) fn of(sheet: &SwitchSheet) -> Self {
        let steps = |steps: &[SheetStep]| {
            let step = |step: &SheetStep| SheetStepDoc {
                what: step.what.clone(),
                check: step.check.clone(),
            };
            steps.iter().map(step).collect()
        };
        Self {
            go: sheet.is_go(),
            missing: steps(&sheet.missing),
            pc: sheet.pc.clone(),
            disk: sheet.disk.clone(),
            already: sheet.already.clone(),
            steps: steps(&sheet.steps),
            secure_boot: sheet.secure_boot.clone(),
            leave_alone: sheet.leave_alone.clone(),
            trouble: steps(&sheet.trouble),
            way_back: sheet.way_back.clone(),
        }
    }
}

/// Why it says GO.
const GO: &str = "The disk has passed its rehearsal, and the PC can start in UEFI mode.";
/// What it says else.
const NOT_YET: &str = "Do not change the firmware before this is settled:";

/// On the screen.
pub(crate) fn render(sheet: &SwitchSheet, written: &[&Path], columns: usize) -> String {
    let heading = |text: &str| format!("\n{}\n", toned(Tone::Heading, text));
    let mut text = format!("{}\n", toned(Tone::Heading, "Switch sheet"));
    text += &paragraph("PC:   ", &sheet.pc, 2, columns);
    text += &paragraph("Disk: ", &sheet.disk, 2, columns);
    if !sheet.is_go() {
        text += &answer(Tone::Bad, "NOT YET", NOT_YET);
        for one in &sheet.missing {
            text += &item("-", &one.what, 2, columns);
            text += &paragraph("", &one.check, 4, columns);
        }
    }
    if !sheet.already.is_empty() {
        text += &heading("Right already");
        for one in &sheet.already {
            text += &item("-", one, 2, columns);
        }
    }
    text += &heading("In this order");
    for (at, step) in sheet.steps.iter().enumerate() {
        text += &item(&format!("{}.", at + 1), &step.what, 2, columns);
        text += &paragraph("To see: ", &step.check, 5, columns);
    }
    text += &heading("Secure Boot");
    text += &paragraph("", &sheet.secure_boot, 2, columns);
    text += &heading("Leave alone");
    for one in &sheet.leave_alone {
        text += &item("-", one, 2, columns);
    }
    text += &heading("If it does not go as it should");
    for one in &sheet.trouble {
        text += &item("-", &format!("{}:", one.what), 2, columns);
        text += &paragraph("", &one.check, 4, columns);
    }
    text += &heading("The way back");
    for (at, one) in sheet.way_back.iter().enumerate() {
        text += &item(&format!("{}.", at + 1), one, 2, columns);
    }
    for path in written {
        text += &format!("\nWritten: {}\n", typed(path));
    }
    if sheet.is_go() {
        let print = "Take it along on paper or on a telephone: this PC's screen shows its setup then. \
            --html FILE makes a page to print.";
        let rest = if written.is_empty() {
            format!("{GO} {print}")
        } else {
            GO.to_owned()
        };
        text += &paragraph_answer(Tone::Good, "GO", &rest, columns);
    } else {
        text += &paragraph_answer(Tone::Bad, "NOT YET", "See above what is missing.", columns);
    }
    text
}

fn paragraph_answer(tone: Tone, word: &str, rest: &str, columns: usize) -> String {
    let lines = paragraph(&format!("{word}. "), rest, 0, columns);
    let lines = lines
        .strip_prefix(&format!("{word}."))
        .unwrap_or(&lines)
        .to_owned();
    format!("\n{}{lines}", toned(tone, &format!("{word}.")))
}

/// As Markdown.
pub(crate) fn markdown(sheet: &SwitchSheet) -> String {
    let mut text = format!(
        "# Switch sheet\n\n- PC: {}\n- Disk: {}\n\n",
        plain(&sheet.pc),
        plain(&sheet.disk)
    );
    if sheet.is_go() {
        text += &format!("**GO.** {GO}\n");
    } else {
        text += &format!("**NOT YET.** {NOT_YET}\n\n");
        for item in &sheet.missing {
            text += &format!("- {}\n  {}\n", plain(&item.what), plain(&item.check));
        }
    }
    if !sheet.already.is_empty() {
        text += "\n## Right already\n\n";
        for item in &sheet.already {
            text += &format!("- {}\n", plain(item));
        }
    }
    text += "\n## In this order\n\n";
    for (at, step) in sheet.steps.iter().enumerate() {
        let (what, check) = (plain(&step.what), plain(&step.check));
        text += &format!("{}. [ ] {what}\n   *To see:* {check}\n", at + 1);
    }
    text += &format!("\n## Secure Boot\n\n{}\n", plain(&sheet.secure_boot));
    text += "\n## Leave alone\n\n";
    for item in &sheet.leave_alone {
        text += &format!("- {}\n", plain(item));
    }
    text += "\n## If it does not go as it should\n\n";
    for item in &sheet.trouble {
        text += &format!("- **{}.** {}\n", plain(&item.what), plain(&item.check));
    }
    text += "\n## The way back\n\n";
    for (at, item) in sheet.way_back.iter().enumerate() {
        text += &format!("{}. {}\n", at + 1, plain(item));
    }
    text
}

/// Text in which nothing is taken as Markdown or markup.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for c in safe(text).chars() {
        if "\\`*_{}[]<>#|&".contains(c) {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

#[derive(Template)]
#[template(path = "switch-sheet.html")]
struct Page<'a> {
    sheet: &'a SwitchSheet,
}

/// As a page to print. The template escapes what it is given.
pub(crate) fn html(sheet: &SwitchSheet) -> String {
    // Control and direction characters first: escaping markup leaves them as they are.
    let mut sheet = sheet.clone();
    for text in [&mut sheet.pc, &mut sheet.disk, &mut sheet.secure_boot] {
        *text = safe(text);
    }
    for step in sheet
        .steps
        .iter_mut()
        .chain(&mut sheet.missing)
        .chain(&mut sheet.trouble)
    {
        (step.what, step.check) = (safe(&step.what), safe(&step.check));
    }
    Page { sheet: &sheet }
        .render()
        .expect("a template without input or output of its own does not fail")
}
