//! The view of `rehearse`, and its short form in a plan.

use schwelle_core::rehearse::{Rehearsal, StepOutcome};

use super::common::{answer, head, paragraph};
use crate::disk::Disk;
use crate::screen::{Tone, toned};
use crate::text::pad;

/// The whole view.
pub(crate) fn render(disk: &Disk, rehearsal: &Rehearsal, columns: usize) -> String {
    let mut text = head(disk);
    text += &format!(
        "\n{}\n",
        toned(
            Tone::Heading,
            "The way from sector 0 to the kernel, as UEFI firmware and the boot manager go it, and \
             what the system finds around it"
        )
    );
    text += &steps(rehearsal, columns);
    if rehearsal.starts() {
        let next = "Next: switch the firmware to UEFI mode.";
        if rehearsal.cautions() == 0 {
            let rest = format!("This disk has all that a start in UEFI mode needs. {next}");
            text + &answer(Tone::Good, "Starts", &rest)
        } else {
            let rest = format!("Read what is marked \"care\" first. {next}");
            text + &answer(Tone::Careful, "Starts, with caution", &rest)
        }
    } else {
        let at = rehearsal.steps.last().map_or("", |step| step.id.name());
        text + &answer(
            Tone::Bad,
            "Does not start",
            &format!("The walk ends at the step {at}."),
        )
    }
}

/// The steps taken, the failed one with its remedy.
pub(crate) fn steps(rehearsal: &Rehearsal, columns: usize) -> String {
    const INDENT: usize = 28;
    let mut text = String::new();
    for (index, step) in rehearsal.steps.iter().enumerate() {
        let (tone, word) = match step.outcome {
            StepOutcome::Pass => (Tone::Good, "pass"),
            StepOutcome::Caution => (Tone::Careful, "care"),
            StepOutcome::Fail => (Tone::Bad, "FAIL"),
        };
        let evidence = paragraph("", &step.evidence, INDENT, columns);
        let head = format!(
            "  {:>2} {}  {} ",
            index + 1,
            toned(tone, word),
            pad(step.id.name(), 16)
        );
        text += &format!("{head}{}", evidence.trim_start());
        if let Some(remedy) = &step.remedy {
            text += &paragraph("What to do: ", remedy, INDENT, columns);
        }
    }
    text
}
