//! The view of `survey`: a table, a line or two a disk.

use std::path::Path;

use comfy_table::{ContentArrangement, Table, presets};

use super::json::{Survey, Surveyed};
use crate::text::{bytes, safe, typed};

/// The whole view.
pub(crate) fn render(survey: &Survey, columns: usize) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    table.set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(u16::try_from(columns).unwrap_or(u16::MAX));
    table.set_header(["disk", "table", "size", "short name", "system", "answer"]);
    for disk in &survey.disks {
        table.add_row(row(disk));
    }
    let lines = table.to_string();
    let lines: Vec<&str> = lines.lines().map(str::trim_end).collect();
    let next = survey
        .disks
        .iter()
        .find(|disk| disk.answer != "unreadable")
        .map_or("DISK", |disk| &disk.disk);
    format!(
        "{}\n\nMore about one: schwelle check {}\n",
        lines.join("\n"),
        typed(Path::new(next))
    )
}

fn row(disk: &Surveyed) -> [String; 6] {
    let mut name = safe(&disk.disk);
    for text in [&disk.model, &disk.serial].into_iter().flatten() {
        name += &format!("\n{}", safe(text));
    }
    let systems: Vec<String> = disk.systems.iter().map(|system| safe(system)).collect();
    // The rule's id says enough here, but for disks without an MBR table, and for those that could
    // not be read.
    let id = disk.rule.as_ref().filter(|id| *id != "table.mbr");
    let answer = match id.or(disk.reason.as_ref()) {
        Some(reason) => format!("{}: {}", disk.answer, safe(reason)),
        None => disk.answer.clone(),
    };
    [
        name,
        disk.table.clone().unwrap_or_default(),
        disk.size_bytes.map(bytes).unwrap_or_default(),
        disk.short_name.as_deref().map(safe).unwrap_or_default(),
        if systems.is_empty() {
            "-".to_owned()
        } else {
            systems.join("\n")
        },
        answer,
    ]
}
