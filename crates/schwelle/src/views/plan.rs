//! The view of `plan`, which `convert` shows before it asks, and what `convert` says at its end.

use std::path::Path;

use schwelle_core::bcd::BcdStore;
use schwelle_core::commit::Stage;
use schwelle_core::device::{Extent, Geometry};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::{Change, MapPart, NewStart, Plan};
use schwelle_core::gpt::attributes;
use schwelle_core::identities::Style;
use schwelle_core::job::bytes_needed;
use schwelle_core::mbr;
use schwelle_core::profile::Role;
use schwelle_core::rehearse::Rehearsal;
use schwelle_core::rules::Outcome;

use super::common::{answer, gone_line, head_with_starts, item, lbas, map_line, paragraph};
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
    head_with_starts(disk, judged, look.columns) + &body(disk, judged, plan, rehearsal, look)
}

/// The view without its header.
pub(super) fn body(
    disk: &Disk,
    judged: &Judged<'_, '_>,
    plan: &Plan<'_>,
    rehearsal: &Rehearsal,
    look: Look,
) -> String {
    let columns = look.columns;
    let mut text = layout(disk, plan, look);
    text += &room(plan, look);
    text += &writes(disk, plan, look);
    if let Some(start) = &plan.start {
        if let Some(store) = &start.store {
            text += &menu(start, store, plan.table.style(), look);
        }
        text += &linux(start, columns);
    }
    let cautions = check::found(disk, judged, Outcome::Caution);
    if !cautions.is_empty() {
        text += &format!(
            "\n{}\n",
            toned(Tone::Careful, &format!("Caution ({})", cautions.len()))
        );
        text += &check::telling(&cautions, Tone::Careful, columns);
    }
    if rehearsal.passed() && rehearsal.cautions() == 0 && !look.all {
        let steps = rehearsal.steps.len();
        let all = match rehearsal.disk_use {
            DiskUse::System => "from sector 0 to the kernel, menu, letters and recovery",
            DiskUse::Data => "from sector 0 to the volumes, all of them sound",
        };
        let line = format!("pass, all {steps} steps {all}");
        return text + "\n" + &titled("Rehearsal of the draft: ", &line, 0, columns);
    }
    text += &format!("\n{}\n", toned(Tone::Heading, "Rehearsal of the draft"));
    text + &rehearse::steps(disk, rehearsal, columns)
}

/// A paragraph that begins with its title.
fn titled(title: &str, text: &str, indent: usize, columns: usize) -> String {
    let text = paragraph(title, text, indent, columns);
    text.replacen(title, &toned(Tone::Heading, title), 1)
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
    let bar_columns = columns.saturating_sub(8);
    let mut text = format!(
        "\nbefore  {}\nafter   {}\n",
        map::bar(&plan.before, bar_columns, look.draws),
        map::bar(&plan.after, bar_columns, look.draws)
    );
    let legend = "+ new or changed, < smaller, - gone, * active";
    text += &paragraph("", legend, 8, columns);
    text += &table(disk, plan, look);
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
            Change::Smaller => "it is shrunk, its files stay",
            _ => "nothing on it is changed",
        };
        let letter = match part.attributes & attributes::NO_DRIVE_LETTER {
            0 => "keeps its drive letter",
            _ => "is data without a drive letter now",
        };
        let line = format!("Partition {number}, System Reserved, {letter}; {rest}.");
        text += &paragraph("", &line, 2, columns);
    }
    text
}

/// Every partition, and every larger gap of the finished disk, with its size before and after. Places do not change,
/// so a partition is the same where it begins at the same sector.
fn table(disk: &Disk, plan: &Plan<'_>, look: Look) -> String {
    let sector = u64::from(disk.profile.geometry.logical_sector);
    let (old, new) = (disk.profile.table_style().name(), plan.table.style());
    let new = new.name().to_uppercase();
    let (old, new) = match old == new {
        true => ("before", "after"),
        false => (old, new.as_str()),
    };
    let heading = format!("      {} {old:>10}  {new:>10}", pad("", 10));
    let mut text = format!("\n{}\n", toned(Tone::Heading, heading.trim_end()));
    let shown = |part: &&MapPart| {
        part.number.is_some() || part.extent.sectors().saturating_mul(sector) > 1 << 20
    };
    let is_gone = |before: &&MapPart| {
        let mut after = plan.after.iter();
        before.number.is_some()
            && !after.any(|part| part.number.is_some() && part.extent.first == before.extent.first)
    };
    let mut lines: Vec<(u64, String)> = Vec::new();
    for part in plan.after.iter().filter(shown) {
        let mut before = plan.before.iter();
        let before = before
            .find(|before| before.number.is_some() && before.extent.first == part.extent.first);
        let before = before.filter(|_| part.number.is_some());
        let line = map_line(part, before, sector, look);
        lines.push((part.extent.first.0, line));
    }
    for part in plan.before.iter().filter(is_gone) {
        lines.push((part.extent.first.0, gone_line(part, sector, look)));
    }
    lines.sort_by_key(|(first, _)| *first);
    for (_, line) in lines {
        text += &format!("{line}\n");
    }
    text
}

/// Where the space for the EFI system partition comes from; where all is wanted, why not from elsewhere.
fn room(plan: &Plan<'_>, look: Look) -> String {
    let columns = look.columns;
    if plan.placement.considered.is_empty() && plan.placement.shrinks.is_empty() {
        return String::new();
    }
    let mut text = "\n".to_owned();
    if !look.all {
        let mut chosen = plan.placement.considered.iter();
        if let Some(place) = chosen.find(|place| place.chosen) {
            let line = words::places::line(place);
            text += &titled("Space for the EFI system partition: ", &line, 0, columns);
        }
    } else {
        let heading = toned(Tone::Heading, "Space for the EFI system partition");
        text += &format!("{heading}\n");
    }
    let all = plan.placement.considered.iter().filter(|_| look.all);
    for place in all {
        let taken = if place.chosen {
            "taken    "
        } else {
            "not taken"
        };
        let line = words::places::line(place);
        text += &item(&format!("{taken} "), &line, 2, columns);
    }
    for shrink in &plan.placement.shrinks {
        let for_esp = plan.placement.esp.and_then(|esp| esp.from.partition());
        if Some(shrink.number) != for_esp {
            let line = format!(
                "the tail of partition {}, which reached to the end of the disk",
                shrink.number
            );
            text += &titled("Space for the backup table: ", &line, 0, columns);
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
        if !(look.all || look.lba) {
            text += &stage_line(stage, geometry, columns);
            continue;
        }
        for part in &stage.parts {
            let sectors: u64 = part.extents.iter().map(|extent| extent.sectors()).sum();
            let size = bytes(sectors * u64::from(geometry.logical_sector));
            let place = match part.extents[..] {
                [] => continue,
                [only] => lbas(&only),
                [first, ..] => {
                    let all = part.extents.iter();
                    let span = all.fold(first, |span, extent| {
                        Extent::between(span.first.min(extent.first), span.end.max(extent.end))
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
        "{} in all. The {} that are overwritten are saved in the job folder first (up to {} there).",
        bytes(total),
        bytes(total - moved),
        bytes(bytes_needed(&plan.changes, 0))
    );
    if moved > 0 {
        summary += " Moved data is read back before its old place is given up.";
    }
    text += &paragraph("", &summary, 2, columns);
    if plan.files_edited.is_empty() {
        text += "  No file on the kept volumes is edited.\n";
    } else if look.all {
        text += "  Files edited on the kept volumes:\n";
    }
    for file in plan.files_edited.iter().filter(|_| look.all) {
        let changes: Vec<String> = file.changes.iter().map(words::plan::edit).collect();
        let line = format!("{}: {}", safe(&file.path), changes.join("; "));
        let head = format!("partition {}  ", file.partition);
        text += &paragraph(&head, &safe(&line), 4, columns);
    }
    if let Some(start) = &plan.start {
        let files = format!("{} files, {}", start.files.len(), bytes(start.bytes));
        let place = match plan.table.style() {
            Style::Gpt => "New on the EFI system partition: ",
            Style::Mbr => "New on the active partition, the EFI system partition until now: ",
        };
        text += &paragraph(place, &files, 2, columns);
        if !start.replaced.is_empty() {
            let replaced = start.replaced.join(", ");
            text += &paragraph("Replaced there: ", &replaced, 2, columns);
        }
    }
    text
}

/// What a stage writes, in a line.
fn stage_line(stage: &Stage, geometry: Geometry, columns: usize) -> String {
    let parts: Vec<String> = stage
        .parts
        .iter()
        .map(|part| part.what.to_string())
        .collect();
    let size = bytes(stage.bytes(geometry));
    let lead = format!("  {} {size:>10}  ", pad(stage.kind.name(), 8));
    item(lead.trim_end(), &parts.join(", "), 0, columns)
}

/// The Linux systems that get boot loaders, and which system firmware starts without a boot entry.
fn linux(start: &NewStart, columns: usize) -> String {
    if start.linux.is_empty() {
        return String::new();
    }
    let mut text = format!(
        "\n{}\n",
        toned(Tone::Heading, "Linux, with its own boot loaders")
    );
    for linux in &start.linux {
        let line = format!("{}: {}\\{}", linux.name, linux.folder, linux.loader);
        text += &paragraph("", &line, 2, columns);
    }
    let first = start.linux.iter().find(|linux| linux.is_first);
    let first = first.map_or("Windows", |linux| linux.name.as_str());
    let line = format!("Without a boot entry, firmware starts {first}.");
    text + &paragraph("", &line, 2, columns)
}

fn menu(start: &NewStart, store: &BcdStore, style: Style, look: Look) -> String {
    let columns = look.columns;
    let heading = match start.translated {
        Some(_) => "Boot menu, carried over",
        None => "Boot menu, new",
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
        .and_then(|manager| manager.integer(schwelle_core::bcd::element::TIMEOUT));
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
    if look.all {
        text += &paragraph("", &summary, 2, columns);
    }
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
        let cautions = match rehearsal.cautions() {
            0 => String::new(),
            some => format!(", {some} with caution: {again}"),
        };
        let text = format!("  Rehearsal of the disk: {pass}, all {steps} steps{cautions}\n{back}");
        match rehearsal.style {
            Style::Gpt => {
                let next = format!(
                    "Next: what to change in the PC's firmware, in the right order: {}",
                    disk.next("firmware sheet")
                );
                let confirm = disk.next_after_restart("confirm");
                let then = match disk.profile.systems.is_empty() {
                    // What a Linux shows of its start is on the sheet.
                    true => String::new(),
                    false => format!(
                        "Afterwards, in that Windows: schwelle confirm\n\
                         Or from the rescue stick: {confirm} --job {}\n",
                        typed(job)
                    ),
                };
                text + &answer(Tone::Good, word, &next) + &then
            }
            Style::Mbr => text + &answer(Tone::Good, word, BACK_IN_THE_SETUP),
        }
    } else if rehearsal.ends_closed() {
        let seen = toned(Tone::Careful, "ends at the encrypted volume");
        let next = format!(
            "Whether Windows starts is not seen, since its volume is encrypted and not open here. To see it: {again} \
             --unlock FILE"
        );
        format!("  Rehearsal of the disk: {seen}\n{back}") + &answer(Tone::Careful, word, &next)
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
  2. the CSM on
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
