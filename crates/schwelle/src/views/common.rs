//! Pieces that several views share.

use schwelle_core::device::Extent;
use schwelle_core::draft::{Change, MapPart};
use schwelle_core::gpt::attributes;
use schwelle_core::overview::DiskAnswer;
use schwelle_core::pipeline::Judged;
use schwelle_core::profile::{Origin, Partition, Role};
use schwelle_core::starts::SectorZero;

use super::map;
use crate::disk::Disk;
use crate::screen::{Look, Tone, toned};
use crate::text::{bytes, cut, pad, safe, width, wrap};
use crate::words::{self, lba_range, overview};

/// Which disk this is, and the systems on it.
pub(crate) fn head(disk: &Disk) -> String {
    let mut text = title(disk);
    for (number, title) in disk.profile.titles() {
        text += &format!("System: {} on partition {number}\n", safe(&title));
    }
    text
}

/// Which disk this is, and of each system on it whether it starts today, and once the disk is converted.
pub(crate) fn head_with_starts(disk: &Disk, judged: &Judged<'_, '_>, columns: usize) -> String {
    let starts = judged.starts();
    if starts.is_empty() {
        return head(disk);
    }
    let mut text = title(disk);
    // What goes to the active partition is what every disk has.
    let code = judged.sector_zero();
    let code = code.filter(|code| !matches!(code, SectorZero::ToActive { partition: Some(_) }));
    if let Some(code) = code {
        text += &item("Boot code:", &words::starts::sector_zero(&code), 0, columns);
    }
    for system in &starts {
        text += &item("System:", &words::starts::system(system), 0, columns);
        text += &paragraph("", &words::starts::both(system), 8, columns);
    }
    text
}

/// Which disk this is: path, size, table, model and serial, disk name.
fn title(disk: &Disk) -> String {
    let profile = &disk.profile;
    let size = bytes(profile.geometry.len_bytes());
    let mut facts = vec![
        safe(&disk.path.display().to_string()),
        size,
        profile.table_style().name().to_owned(),
        format!("{}-byte sectors", profile.geometry.logical_sector),
    ];
    facts.extend(profile.host.model.as_deref().map(safe));
    facts.extend(
        profile
            .host
            .serial
            .as_deref()
            .map(|serial| format!("serial {}", safe(serial))),
    );
    let mut text = format!("{}\n", toned(Tone::Heading, &facts.join("   ")));
    if let Some(name) = profile.disk_name() {
        text += &format!("Disk name: {}\n", safe(&name));
    }
    text
}

/// The partitions of a disk and its larger gaps, a line each.
pub(crate) fn partitions(disk: &Disk, look: Look) -> String {
    let profile = &disk.profile;
    let mut text = String::new();
    let mut lines: Vec<(u64, String)> = profile
        .partitions
        .iter()
        .map(|part| (part.extent.first.0, partition(disk, part, look)))
        .collect();
    for gap in profile
        .gaps
        .iter()
        .filter(|gap| gap.sectors() > profile.geometry.sectors_per_mib())
    {
        let size = bytes(profile.geometry.bytes_in(gap));
        let line = format!(
            "   -  {} {size:>10}  {}",
            pad("unused", 10),
            place(gap, look)
        );
        lines.push((gap.first.0, line.trim_end().to_owned()));
    }
    lines.sort();
    for (_, line) in lines {
        text += &format!("{line}\n");
    }
    text
}

fn partition(disk: &Disk, part: &Partition, look: Look) -> String {
    let size = bytes(disk.profile.geometry.bytes_in(&part.extent));
    let note = match part.origin {
        Origin::Mbr { active: true, .. } => "active",
        Origin::Mbr { logical: true, .. } => "logical",
        _ => "",
    };
    // What cannot be read may be anything.
    let role = if part.role == Role::Data && part.is_closed() {
        "not known"
    } else {
        part.role.name()
    };
    let kind = if part.is_opened() {
        "encrypted"
    } else {
        part.volume.kind.name()
    };
    // The label stands last: it may be of any script and length.
    let line = format!(
        "  {:>2}  {} {size:>10}  {}{} {} {}",
        part.number,
        pad(role, 10),
        place(&part.extent, look),
        pad(kind, 10),
        pad(note, 7),
        safe(&part.volume.label)
    );
    cut(line.trim_end(), look.columns)
}

/// Where something lies, in a column of its own, when that is wanted.
fn place(extent: &Extent, look: Look) -> String {
    match look.lba {
        true => pad(&format!("{} to {}", extent.first.0, extent.last().0), 24),
        false => String::new(),
    }
}

/// A paragraph, indented, broken to `columns`; the first line after `lead`.
pub(crate) fn paragraph(lead: &str, text: &str, indent: usize, columns: usize) -> String {
    let blanks = " ".repeat(indent);
    let body = format!("{lead}{}", safe(text));
    let lines = wrap(&body, columns.saturating_sub(indent));
    lines
        .iter()
        .map(|line| format!("{blanks}{line}\n"))
        .collect()
}

/// An item of a list: `mark`, and the text beside it however many lines it takes.
pub(crate) fn item(mark: &str, text: &str, indent: usize, columns: usize) -> String {
    let body = paragraph("", text, indent + width(mark) + 1, columns);
    format!("{}{mark} {}", " ".repeat(indent), body.trim_start())
}

/// The last line of a view: the answer, and what to type next.
pub(crate) fn answer(tone: Tone, word: &str, rest: &str) -> String {
    format!("\n{} {rest}\n", toned(tone, &format!("{word}.")))
}

/// A part of the finished disk, with its size before and after; marked when it is new, changed or active.
pub(crate) fn map_line(
    part: &MapPart,
    before: Option<&MapPart>,
    sector_bytes: u64,
    look: Look,
) -> String {
    let tone = match (part.change, part.active) {
        (Change::New | Change::Filled | Change::Formatted | Change::Retyped, _) => Tone::Good,
        (Change::Smaller, _) => Tone::Careful,
        (Change::Kept, true) => Tone::Open,
        (Change::Kept, false) => Tone::Faint,
    };
    let size = |part: &MapPart| bytes(part.extent.sectors() * sector_bytes);
    let mark = map::Stretch::from(part).mark();
    size_line(
        (tone, mark),
        part,
        [before.map(size), Some(size(part))],
        look,
    )
}

/// A partition that the finished disk does not have.
pub(crate) fn gone_line(part: &MapPart, sector_bytes: u64, look: Look) -> String {
    let size = bytes(part.extent.sectors() * sector_bytes);
    size_line((Tone::Careful, "-"), part, [Some(size), None], look)
}

fn size_line(
    (tone, mark): (Tone, &str),
    part: &MapPart,
    sizes: [Option<String>; 2],
    look: Look,
) -> String {
    let number = part
        .number
        .map_or("-".to_owned(), |number| number.to_string());
    let role = part.role.map_or("unused", Role::name);
    let no_letter = part.attributes & attributes::NO_DRIVE_LETTER != 0;
    let note = match (no_letter, part.active) {
        (true, _) => "no letter",
        (false, true) => "active",
        (false, false) => "",
    };
    // An unused stretch has no type and no label.
    let kind = part.role.map_or("", |_| &part.kind);
    let [before, after] = sizes.map(|size| size.unwrap_or_else(|| "-".to_owned()));
    let line = format!(
        "{number:>3}  {} {before:>10}  {after:>10}  {}{} {} {}",
        pad(role, 10),
        place(&part.extent, look),
        pad(kind, 17),
        pad(note, 9),
        safe(&part.label)
    );
    format!(
        "{}{}",
        toned(tone, &pad(mark, 1)),
        cut(line.trim_end(), look.columns - 1)
    )
}

/// "LBA 5", "LBA 5 to 9".
pub(crate) fn lbas(extent: &Extent) -> String {
    match extent.sectors() {
        1 => extent.first.to_string(),
        _ => lba_range(extent),
    }
}

/// Columns of the longest answer.
pub(crate) const ANSWER_COLUMNS: usize = 14;

/// The tone of an answer about a disk. Red is for what should be otherwise.
pub(super) fn answer_tone(answer: DiskAnswer) -> Tone {
    match answer {
        DiskAnswer::Ready | DiskAnswer::Starts => Tone::Good,
        DiskAnswer::Caution | DiskAnswer::Depends => Tone::Careful,
        DiskAnswer::Blocked | DiskAnswer::DoesNotStart | DiskAnswer::Unreadable => Tone::Bad,
        DiskAnswer::Closed
        | DiskAnswer::NoWindows
        | DiskAnswer::Data
        | DiskAnswer::Blank
        | DiskAnswer::Unknown => Tone::Open,
    }
}

/// A disk's line in a list: its answer, and what else is in that line.
pub(crate) fn answer_line(answer: DiskAnswer, rest: &str, columns: usize) -> String {
    let rest = cut(rest, columns - ANSWER_COLUMNS - 1);
    format!(
        "{} {}\n",
        toned(
            answer_tone(answer),
            &pad(overview::name(answer), ANSWER_COLUMNS)
        ),
        rest.trim_end()
    )
}
