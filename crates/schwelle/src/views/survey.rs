//! The view of `survey`: a table, a line or two a disk.

use std::path::Path;

use comfy_table::{ContentArrangement, Table, presets};
use schemars::JsonSchema;
use serde::Serialize;

use crate::disk::{Disk, Judgement, answer_name};
use crate::error::CliError;
use crate::text::{bytes, safe, typed};

/// The whole view.
pub(crate) fn render(disks: &[Surveyed], columns: usize) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    table.set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(u16::try_from(columns).unwrap_or(u16::MAX));
    table.set_header(["disk", "table", "size", "short name", "system", "answer"]);
    for disk in disks {
        table.add_row(row(disk));
    }
    let lines = table.to_string();
    let lines: Vec<&str> = lines.lines().map(str::trim_end).collect();
    let next = disks
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

/// `survey`: one in a line for each disk
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Surveyed {
    pub(crate) disk: String,
    /// "MBR", "GPT", "hybrid", "bare volume", "blank", "unknown"; null when the disk could not be
    /// read
    pub(crate) table: Option<String>,
    pub(crate) size_bytes: Option<u64>,
    pub(crate) sector_bytes: Option<u32>,
    pub(crate) model: Option<String>,
    pub(crate) serial: Option<String>,
    pub(crate) short_name: Option<String>,
    pub(crate) systems: Vec<String>,
    /// "ready", "caution", "blocked", or "unreadable"
    pub(crate) answer: String,
    /// The first rule that stands against it
    pub(crate) rule: Option<String>,
    /// That rule's evidence, or why the disk could not be read
    pub(crate) reason: Option<String>,
}

impl Surveyed {
    pub(crate) fn of(disk: &Disk, judgement: &Judgement) -> Self {
        let profile = &disk.profile;
        let reason = judgement
            .with(judgement.answer)
            .find(|_| judgement.answer > schwelle_core::rules::Outcome::Unknown);
        Self {
            disk: disk.path.display().to_string(),
            table: Some(profile.table_style().to_owned()),
            size_bytes: Some(profile.geometry.len_bytes()),
            sector_bytes: Some(profile.geometry.logical_sector),
            model: profile.host.model.clone(),
            serial: profile.host.serial.clone(),
            short_name: profile.short_name(),
            systems: profile
                .systems
                .iter()
                .map(|system| system.title())
                .collect(),
            answer: answer_name(judgement.answer).to_owned(),
            rule: reason.map(|finding| finding.rule.to_owned()),
            reason: reason.map(|finding| finding.evidence.clone()),
        }
    }

    pub(crate) fn unreadable(path: &Path, error: &CliError) -> Self {
        Self {
            disk: path.display().to_string(),
            table: None,
            size_bytes: None,
            sector_bytes: None,
            model: None,
            serial: None,
            short_name: None,
            systems: Vec::new(),
            answer: "unreadable".to_owned(),
            rule: None,
            reason: Some(error.what.clone()),
        }
    }
}
