//! The view of `plan`, which `convert` shows before it asks, and what `convert` says at its end.

use std::path::Path;

use schwelle_core::crossing::Style;
use schwelle_core::device::Extent;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::{Change, MapPart, NewStart, Plan};
use schwelle_core::gpt::attributes;
use schwelle_core::job::bytes_needed;
use schwelle_core::mbr;
use schwelle_core::profile::Role;
use schwelle_core::rehearse::Rehearsal;
use schwelle_core::rules::Outcome;

use super::common::{answer, head, item, lbas, map_line, paragraph};
use super::{check, map, rehearse};
use crate::disk::{Disk, options};
use crate::screen::{Look, Tone, toned};
use crate::text::{bytes, pad, safe, typed};
use crate::words;
use schwelle_core::pipeline::Judged;

/// The whole view.
pub(crate) fn render(
    disk: &Disk,
    judged: &Judged<'_, '_>,
    plan: &Plan<'_>,
    rehearsal: &Rehearsal,
    look: Look,
) -> String {
    head(disk) + &body(disk, judged, plan, rehearsal, look)
}

/// The view without its head.
pub(super) fn body(
    disk: &Disk,
    judged: &Judged<'_, '_>,
    plan: &Plan<'_>,
    rehearsal: &Rehearsal,
    look: Look,
) -> String {
    let columns = look.columns;
    let mut text = layout(disk, plan, look);
    text += &room(plan, columns);
    text += &writes(disk, plan, look);
    if let Some(start) = &plan.start {
        text += &menu(start, plan.table.style(), columns);
    }
    let cautions = check::told(disk, judged, Outcome::Caution);
    if !cautions.is_empty() {
        text += &format!(
            "\n{}\n",
            toned(Tone::Careful, &format!("Caution ({})", cautions.len()))
        );
        text += &check::telling(&cautions, Tone::Careful, columns);
    }
    text += &format!("\n{}\n", toned(Tone::Heading, "Rehearsal of the draft"));
    if rehearsal.passed() {
        let count = rehearsal.steps.len();
        let pass = toned(Tone::Good, "pass");
        match rehearsal.cautions() {
            0 => {
                let all = match rehearsal.disk_use {
                    DiskUse::System => {
                        "from sector 0 to the kernel, menu, drive letters and recovery"
                    }
                    DiskUse::Data => "from sector 0 to the volumes, all of them sound",
                };
                let all = paragraph("", &format!("all {count} steps: {all}"), 8, columns);
                text + &format!("  {pass}  {}", all.trim_start())
            }
            _ => text + &rehearse::steps(disk, rehearsal, columns),
        }
    } else {
        text + &rehearse::steps(disk, rehearsal, columns)
    }
}

/// The last line of `plan`, and of a `convert` that goes no further.
/// `is_good` is false when real firmware did not start it.
pub(crate) fn verdict(disk: &Disk, rehearsal: &Rehearsal, is_good: bool) -> String {
    let (good, bad) = match rehearsal.disk_use {
        DiskUse::System => ("The draft starts", "The draft does not start"),
        DiskUse::Data => ("The draft is sound", "The draft is not sound"),
    };
    let option = options(rehearsal.style, rehearsal.disk_use);
    if rehearsal.passed() && is_good {
        let command = disk.next("convert");
        let next = format!("Nothing has been written. Next: {command}{option} --job DIR");
        answer(Tone::Good, good, &next)
    } else {
        let rest = "It will not be written. Nothing has been written.";
        answer(Tone::Bad, bad, rest)
    }
}

fn layout(disk: &Disk, plan: &Plan<'_>, look: Look) -> String {
    let columns = look.columns;
    let sector = u64::from(disk.profile.geometry.logical_sector);
    let bar_columns = columns.saturating_sub(8);
    let mut text = format!(
        "\nbefore  {}\nafter   {}\n",
        map::bar(&plan.before, bar_columns),
        map::bar(&plan.after, bar_columns)
    );
    let legend = "+ new or changed, < smaller, * active, . unused";
    text += &paragraph("", legend, 8, columns);
    let before = format!("Before ({})", disk.profile.table_style().name());
    let after = format!("After ({})", plan.table.style().name().to_uppercase());
    for (title, parts) in [
        (before.as_str(), &plan.before),
        (after.as_str(), &plan.after),
    ] {
        text += &format!("\n{}\n", toned(Tone::Heading, title));
        for part in parts
            .iter()
            .filter(|part| part.number.is_some() || part.extent.sectors() * sector > 1 << 20)
        {
            text += &format!("{}\n", map_line(part, sector, look));
        }
    }
    let more = plan.newly_usable_bytes();
    if more > 0 {
        let line = format!(
            "{} lie where no MBR partition can begin (LBA {} on); the new table reaches them.",
            bytes(more),
            mbr::REACH
        );
        text += &paragraph("", &line, 2, columns);
    }
    let is_old = |part: &&MapPart| part.role == Some(Role::Boot) && !part.active;
    for part in plan.after.iter().filter(is_old) {
        let number = part.number.unwrap_or(0);
        let rest = match part.change {
            Change::Smaller => "it becomes smaller, its files stay",
            _ => "nothing on it is changed",
        };
        let letter = match part.attributes & attributes::NO_DRIVE_LETTER {
            0 => "keeps its drive letter",
            _ => "stays as data without a drive letter",
        };
        let line = format!("Partition {number}, the old boot partition, {letter}; {rest}.");
        text += &paragraph("", &line, 2, columns);
    }
    text
}

/// Where the room for the EFI system partition comes from, and why not from elsewhere.
fn room(plan: &Plan<'_>, columns: usize) -> String {
    if plan.placement.considered.is_empty() && plan.placement.trims.is_empty() {
        return String::new();
    }
    let heading = toned(Tone::Heading, "Where the room comes from");
    let mut text = format!("\n{heading}\n");
    for place in &plan.placement.considered {
        let taken = if place.chosen {
            "taken    "
        } else {
            "not taken"
        };
        let line = words::places::line(place);
        text += &item(&format!("{taken} "), &line, 2, columns);
    }
    for trim in &plan.placement.trims {
        let for_esp = plan.placement.esp.and_then(|esp| esp.from.partition());
        if Some(trim.number) != for_esp {
            let line = format!(
                "the tail of partition {}, which reached to the end of the disk",
                trim.number
            );
            text += &paragraph("for the backup table  ", &line, 2, columns);
        }
    }
    text
}

fn writes(disk: &Disk, plan: &Plan<'_>, look: Look) -> String {
    let columns = look.columns;
    let geometry = disk.profile.geometry;
    let mut text = format!(
        "\n{}\n",
        toned(Tone::Heading, "What is written, in this order")
    );
    for stage in &plan.changes.stages {
        for part in &stage.parts {
            let sectors: u64 = part.extents.iter().map(|extent| extent.sectors()).sum();
            let size = bytes(sectors * u64::from(geometry.logical_sector));
            let place = match part.extents[..] {
                [] => continue,
                [only] => lbas(&only),
                [first, ..] => {
                    let all = part.extents.iter();
                    let span = all.fold(first, |span, extent| Extent {
                        first: span.first.min(extent.first),
                        end: span.end.max(extent.end),
                    });
                    format!("{} extents in {}", part.extents.len(), lbas(&span))
                }
            };
            let line = format!(
                "  {} {} {size:>10}",
                pad(stage.kind.name(), 8),
                pad(&part.what.to_string(), 29)
            );
            text += &match look.lba {
                true => item(&format!("{line} "), &place, 0, columns),
                false => format!("{line}\n"),
            };
        }
    }
    let (total, moved) = (plan.changes.bytes(), plan.changes.moved_bytes());
    let mut summary = format!(
        "{} in all. What is overwritten, {}, is read first and saved in the job folder.",
        bytes(total),
        bytes(total - moved)
    );
    if moved > 0 {
        summary += " What moves goes to free clusters, and is read back before its old place is \
            given up.";
    }
    summary += &format!(
        " The job folder needs up to {}.",
        bytes(bytes_needed(&plan.changes, 0))
    );
    text += &paragraph("", &summary, 2, columns);
    if plan.files_edited.is_empty() {
        text += "  No file on the kept volumes is edited.\n";
    } else {
        text += "  Files edited on the kept volumes:\n";
    }
    for file in &plan.files_edited {
        let changes: Vec<String> = file.changes.iter().map(words::plan::edit).collect();
        let line = format!("{}: {}", safe(&file.path), changes.join("; "));
        let head = format!("partition {}  ", file.partition);
        text += &paragraph(&head, &safe(&line), 4, columns);
    }
    if let Some(start) = &plan.start {
        let files = format!("{} files, {}", start.files.len(), bytes(start.bytes));
        let place = match plan.table.style() {
            Style::Gpt => "New on the EFI system partition: ",
            Style::Mbr => "New on the active partition, until now the EFI system partition: ",
        };
        text += &paragraph(place, &files, 2, columns);
        if !start.replaced.is_empty() {
            let replaced = start.replaced.join(", ");
            text += &paragraph("In place of others there: ", &replaced, 2, columns);
        }
    }
    text
}

fn menu(start: &NewStart, style: Style, columns: usize) -> String {
    let store = &start.store;
    let heading = match start.translated {
        Some(_) => "Boot menu, carried over",
        None => "Boot menu, made anew",
    };
    let mut text = format!("\n{}\n", toned(Tone::Heading, heading));
    let default = store.default_entry().map(|entry| entry.id().to_owned());
    for entry in store.menu() {
        let mark = if default.as_deref() == Some(entry.id()) {
            "  (default)"
        } else {
            ""
        };
        text += &format!("  {}{mark}\n", safe(&entry.title()));
    }
    let timeout = store
        .manager()
        .and_then(|manager| manager.integer(schwelle_core::bootstore::element::TIMEOUT));
    let wait = timeout.map_or(String::new(), |seconds| {
        format!(", waits {seconds} seconds")
    });
    let Some(done) = &start.translated else {
        return text;
    };
    for title in &done.dropped {
        let line = format!(
            "{}: runs in BIOS mode only, no longer in the menu",
            safe(title)
        );
        text += &paragraph("taken out  ", &line, 2, columns);
    }
    if let Some(title) = &done.new_default {
        let line = format!("{}, since the old default cannot be started", safe(title));
        text += &paragraph("new default  ", &line, 2, columns);
    }
    let (devices, paths) = (done.devices, done.paths.len());
    let summary = match style {
        Style::Gpt => {
            format!("{devices} devices now by GUID, {paths} programs by their UEFI path{wait}")
        }
        Style::Mbr => format!(
            "{devices} devices now by disk signature and place, {paths} programs by their BIOS path{wait}"
        ),
    };
    text += &paragraph("", &summary, 2, columns);
    text
}

/// What the switch sheet is called in a job folder.
pub(crate) const SHEETS: [&str; 2] = ["switch-sheet.html", "switch-sheet.md"];

/// What `convert` and `mend` say at their end; `word` is what was done.
pub(crate) fn done(
    word: &str,
    disk: &Disk,
    job: &Path,
    plan: &Plan<'_>,
    rehearsal: &Rehearsal,
) -> String {
    let sheet = job.join(SHEETS[0]);
    let sheet = match sheet.is_file() {
        true => format!(
            "  The switch sheet, to read on another screen: {}\n",
            typed(&sheet)
        ),
        false => String::new(),
    };
    format!(
        "\n{}\n  {} written and read back. What was there before is saved in {job}\n  The record to hand \
         over: schwelle report --job {job}\n{sheet}{}",
        toned(Tone::Heading, "Done"),
        bytes(plan.changes.bytes()),
        finished(word, disk, job, rehearsal),
        job = typed(job),
    )
}

/// Whether the finished disk starts, and what comes next.
pub(crate) fn finished(word: &str, disk: &Disk, job: &Path, rehearsal: &Rehearsal) -> String {
    let back = format!("  The way back: schwelle undo --job {}\n", typed(job));
    if rehearsal.disk_use == DiskUse::Data {
        return finished_data(word, disk, &back, rehearsal);
    }
    let again = disk.next("rehearse") + &options(rehearsal.style, rehearsal.disk_use);
    if rehearsal.starts() {
        let pass = toned(Tone::Good, "pass");
        let steps = rehearsal.steps.len();
        let care = match rehearsal.cautions() {
            0 => String::new(),
            some => format!(", {some} with caution: {again}"),
        };
        let text = format!("  Rehearsal of the disk: {pass}, all {steps} steps{care}\n{back}");
        match rehearsal.style {
            Style::Gpt => {
                let next = format!(
                    "Next: what to change in the PC's firmware, in the right order: {}",
                    disk.next("firmware sheet")
                );
                let confirm = disk.next_after_restart("confirm");
                let then = format!("Afterwards, from the rescue stick: {confirm}\n");
                text + &answer(Tone::Good, word, &next) + &then
            }
            Style::Mbr => text + &answer(Tone::Good, word, BACK_IN_THE_SETUP),
        }
    } else {
        let next = format!("Do not switch the firmware yet. See all steps: {again}");
        let fail = toned(Tone::Bad, "FAIL");
        format!("  Rehearsal of the disk: {fail}\n{back}")
            + &answer(Tone::Bad, &format!("{word}, but does not start"), &next)
    }
}

/// What is to be set in the PC's setup after the way back, in this order.
const BACK_IN_THE_SETUP: &str = "Next, in the PC's setup, in this order:
  1. Secure Boot off
  2. the compatibility module on
  3. the boot mode to BIOS (or legacy)
  4. this disk as the first to start from";

/// The same of a data disk.
fn finished_data(word: &str, disk: &Disk, back: &str, rehearsal: &Rehearsal) -> String {
    let steps = rehearsal.steps.len();
    if rehearsal.passed() {
        let pass = toned(Tone::Good, "pass");
        let next = "Next: connect it to the PC that uses it, and see there that its volumes are all there, \
            with their old drive letters.";
        format!("  Rehearsal of the disk: {pass}, all {steps} steps\n{back}")
            + &answer(Tone::Good, word, next)
    } else {
        let fail = toned(Tone::Bad, "FAIL");
        let again = disk.next("rehearse") + &options(rehearsal.style, rehearsal.disk_use);
        let next = format!("See all steps: {again}");
        format!("  Rehearsal of the disk: {fail}\n{back}")
            + &answer(Tone::Bad, &format!("{word}, but not sound"), &next)
    }
}
