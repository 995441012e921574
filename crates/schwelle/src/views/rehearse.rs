//! The view of `rehearse`, and its short form in a plan.

use schwelle_core::disk_use::DiskUse;
use schwelle_core::identities::Style;
use schwelle_core::rehearse::{Answer, Rehearsal, StepOutcome};
use schwelle_core::switch::ByBootOrder;

use super::common::{answer, head, paragraph};
use super::worded::StepDoc;
use crate::disk::{Disk, options};
use crate::screen::{Tone, toned};
use crate::text::{pad, safe};

/// The whole view of a data disk.
pub(crate) fn render_data(disk: &Disk, rehearsal: &Rehearsal, columns: usize) -> String {
    let title = "From sector 0 to the volumes";
    let text = format!("{}\n{}\n", head(disk), toned(Tone::Heading, title));
    let text = text + &steps(disk, rehearsal, columns);
    match rehearsal.answer() {
        Answer::Starts => {
            let rest = match rehearsal.style {
                Style::Gpt => "Both copies of the table agree, and every partition can be read.",
                Style::Mbr => "The table is sound, and every partition can be read.",
            };
            text + &answer(Tone::Good, "Sound", rest)
        }
        Answer::Depends => text + &answer(Tone::Careful, "Depends", &depends(rehearsal, disk)),
        Answer::DoesNotStart => text + &answer(Tone::Bad, "Not sound", &ends_at(rehearsal)),
    }
}

/// What an answer that depends comes from, and what would change it.
fn depends(rehearsal: &Rehearsal, disk: &Disk) -> String {
    if rehearsal.ends_closed() {
        return "All steps as far as the encrypted volume hold; whether Windows starts is not seen. To see it: open \
                the volume (--unlock FILE)."
            .to_owned();
    }
    let faults = rehearsal
        .steps
        .iter()
        .filter(|step| step.id.is_on_the_way() && step.outcome == StepOutcome::Caution);
    let names: Vec<&str> = faults.map(|step| step.id.name()).collect();
    let names = names.join(", ");
    match rehearsal.style {
        Style::Gpt => {
            let mend = disk.next("mend");
            let option = options(rehearsal.style, rehearsal.disk_use);
            let what = match rehearsal.disk_use {
                DiskUse::System => {
                    "Some firmware starts this disk and some does not, or it starts from a backup copy"
                }
                DiskUse::Data => "Some systems take this table and some do not",
            };
            format!("{what}: {names}. To fix it: {mend}{option}")
        }
        Style::Mbr => format!("Whether it starts is not known: {names}."),
    }
}

fn ends_at(rehearsal: &Rehearsal) -> String {
    let at = rehearsal.steps.last().map_or("", |step| step.id.name());
    format!("The walk ends at the step {at}.")
}

/// The whole view of a system disk; `emulated` is what real firmware did with it, rendered.
pub(crate) fn render(
    disk: &Disk,
    rehearsal: &Rehearsal,
    by_order: Option<&ByBootOrder>,
    emulated: (&str, bool),
    columns: usize,
) -> String {
    let mut text = head(disk);
    text += &by_order.map_or_else(String::new, |by_order| boot_order(disk, by_order, columns));
    let goes = match rehearsal.style {
        Style::Gpt => "UEFI firmware",
        Style::Mbr => "a BIOS",
    };
    let title = format!("From sector 0 to the kernel, as {goes} and the boot manager go");
    text += &format!("\n{}\n", toned(Tone::Heading, &title));
    let (shown, is_good) = emulated;
    text += &steps(disk, rehearsal, columns);
    text += shown;
    let mode = mode(rehearsal.style);
    text + &match (rehearsal.answer(), is_good) {
        (Answer::Starts | Answer::Depends, false) => answer(
            Tone::Bad,
            "Does not start",
            "The walk finds everything that a start needs, but real firmware does not start it. Do not switch the \
             firmware before you know why.",
        ),
        (Answer::Starts, true) => {
            let next = match rehearsal.style {
                Style::Gpt => format!(" Next: {}", disk.next("firmware sheet")),
                Style::Mbr => String::new(),
            };
            if rehearsal.cautions() == 0 {
                let rest =
                    format!("This disk has everything that a start in {mode} mode needs.{next}");
                answer(Tone::Good, "Starts", &rest)
            } else {
                let rest = format!("Read what is marked \"caution\" first.{next}");
                answer(Tone::Careful, "Starts, with caution", &rest)
            }
        }
        (Answer::Depends, true) => answer(
            Tone::Careful,
            &format!("Depends, in {mode} mode"),
            &depends(rehearsal, disk),
        ),
        (Answer::DoesNotStart, _) => answer(
            Tone::Bad,
            &format!("Does not start in {mode} mode"),
            &ends_at(rehearsal),
        ),
    }
}

/// What the PC's boot order starts, in short: only the step that does not hold is shown.
fn boot_order(disk: &Disk, by_order: &ByBootOrder, columns: usize) -> String {
    let rehearsal = &by_order.rehearsal;
    let (tone, word) = match rehearsal.answer() {
        Answer::Starts => (Tone::Good, "starts"),
        Answer::Depends => (Tone::Careful, "depends"),
        Answer::DoesNotStart => (Tone::Bad, "does not start"),
    };
    let title = toned(Tone::Heading, "By this PC's boot order");
    let entry = format!(
        "Boot{:04X} \"{}\": {}: ",
        by_order.number,
        safe(&by_order.name),
        safe(&by_order.path)
    );
    let mut text = format!("\n{title}\n  {entry}{}\n", toned(tone, word));
    if let Some(fault) = rehearsal.first_fault() {
        let shown = StepDoc::of(disk, fault);
        let found = format!("{}: {}", fault.id.name(), shown.evidence.text);
        text += &paragraph("", &found, 2, columns);
        if let Some(remedy) = &shown.remedy {
            text += &paragraph("What to do: ", &remedy.worded.text, 2, columns);
        }
    }
    text
}

/// The mode in which a PC starts from a disk with this table.
pub(crate) fn mode(style: Style) -> &'static str {
    match style {
        Style::Gpt => "UEFI",
        Style::Mbr => "BIOS",
    }
}

/// The view of an MBR disk that a BIOS has started in the emulator.
pub(crate) fn render_bios(disk: &Disk, shown: &str, starts: bool) -> String {
    let text = head(disk) + shown;
    let check = disk.next("check");
    if starts {
        let rest = format!("To convert it: {check}");
        text + &answer(Tone::Good, "Starts in BIOS mode", &rest)
    } else {
        let rest = format!("Look at what the firmware showed, and at the disk: {check}");
        text + &answer(Tone::Bad, "Does not start in BIOS mode", &rest)
    }
}

/// The steps taken, the failed one with its remedy.
pub(crate) fn steps(disk: &Disk, rehearsal: &Rehearsal, columns: usize) -> String {
    const INDENT: usize = 31;
    let mut text = String::new();
    for (index, step) in rehearsal.steps.iter().enumerate() {
        let (tone, word) = outcome(step.outcome);
        let shown = StepDoc::of(disk, step);
        let evidence = paragraph("", &shown.evidence.text, INDENT, columns);
        let head = format!(
            "  {:>2} {}  {} ",
            index + 1,
            toned(tone, &pad(word, 7)),
            pad(step.id.name(), 16)
        );
        text += &format!("{head}{}", evidence.trim_start());
        if let Some(remedy) = &shown.remedy {
            text += &paragraph("What to do: ", &remedy.worded.text, INDENT, columns);
        }
    }
    text
}

/// How a step went, in a word.
pub(crate) fn outcome(outcome: StepOutcome) -> (Tone, &'static str) {
    match outcome {
        StepOutcome::Pass => (Tone::Good, "pass"),
        StepOutcome::Caution => (Tone::Careful, "caution"),
        StepOutcome::Fail => (Tone::Bad, "FAIL"),
    }
}
