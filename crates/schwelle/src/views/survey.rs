//! The view of `survey`: some lines for each disk.

use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::overview::{DiskAnswer, Overview};
use schwelle_core::profile::TableStyle;
use schwelle_core::rules::{Outcome, RuleId};
use serde::Serialize;

use super::check::Tally;
use super::common::{ANSWER_COLUMNS, answer_line, paragraph};
use crate::disk::Disk;
use crate::error::CliError;
use crate::text::{bytes, pad, safe, sentence, typed, width};
use crate::words;
use schwelle_core::pipeline::Judged;

/// The whole view; `options` are those that a check needs as well.
pub(crate) fn render(disks: &[Surveyed], options: &str, columns: usize) -> String {
    let name = |disk: &Surveyed| safe(&disk.disk);
    let names = disks
        .iter()
        .map(|disk| width(&name(disk)))
        .max()
        .unwrap_or(0);
    // A long path shifts its own line only.
    let names = names.min(columns / 2);
    let mut text = String::new();
    for disk in disks {
        let facts = [
            pad(&name(disk), names),
            pad(disk.table.map_or("-", TableStyle::name), 7),
            format!("{:>10}", disk.size_bytes.map(bytes).unwrap_or_default()),
            disk.disk_name.as_deref().map(safe).unwrap_or_default(),
        ];
        text += &answer_line(disk.answer, &facts.join("  "), columns);
        let mut more = disk.systems.clone();
        more.extend(disk.model.clone());
        more.extend(
            disk.serial
                .as_ref()
                .map(|serial| format!("serial {serial}")),
        );
        if !more.is_empty() {
            text += &paragraph("", &more.join("; "), ANSWER_COLUMNS + 1, columns);
        }
        let reason = match (&disk.rule, &disk.reason) {
            (Some(rule), Some(reason)) => sentence(&format!("{rule}: {reason}")),
            (None, Some(reason)) => sentence(reason),
            _ => continue,
        };
        text += &paragraph("", &reason, ANSWER_COLUMNS + 1, columns);
    }
    let next = disks
        .iter()
        .find(|disk| disk.answer != DiskAnswer::Unreadable)
        .map_or("DISK", |disk| &disk.disk);
    let mut tally = Tally::default();
    disks.iter().for_each(|disk| tally.count(disk.answer));
    text + &tally.render(&(typed(Path::new(next)) + options))
}

/// `survey`: one in a line for each disk
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Surveyed {
    pub(crate) disk: String,
    /// Null when the disk could not be read
    pub(crate) table: Option<TableStyle>,
    pub(crate) size_bytes: Option<u64>,
    pub(crate) sector_bytes: Option<u32>,
    pub(crate) model: Option<String>,
    pub(crate) serial: Option<String>,
    pub(crate) disk_name: Option<String>,
    pub(crate) systems: Vec<String>,
    pub(crate) answer: DiskAnswer,
    /// The first rule that blocks or cautions, where the answer is about a conversion
    pub(crate) rule: Option<RuleId>,
    /// That rule's evidence, why the answer is another one, or why the disk could not be read
    pub(crate) reason: Option<String>,
    /// False where a rule blocks: the exit code is then 1, whatever the answer is
    pub(crate) convertible: bool,
}

impl Surveyed {
    pub(crate) fn of(disk: &Disk, judged: &Judged<'_, '_>) -> Self {
        let profile = &disk.profile;
        let overview = Overview::of(judged);
        let decisive = judged.with(judged.answer()).next();
        let rule = decisive
            .filter(|finding| overview.answer.is_of_rules() && finding.outcome > Outcome::Unknown);
        let reason = match rule {
            Some(finding) => words::rules::found(&finding.evidence, finding.by_policy),
            None => words::overview::reason(&overview, profile.table_style()),
        };
        Self {
            disk: disk.path.display().to_string(),
            table: Some(profile.table_style()),
            size_bytes: Some(profile.geometry.len_bytes()),
            sector_bytes: Some(profile.geometry.logical_sector),
            model: profile.host.model.clone(),
            serial: profile.host.serial.clone(),
            disk_name: profile.disk_name(),
            systems: profile
                .titles()
                .into_iter()
                .map(|(_, title)| title)
                .collect(),
            answer: overview.answer,
            rule: rule.map(|finding| finding.rule),
            reason: (!reason.is_empty()).then_some(reason),
            convertible: !judged.is_blocked(),
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
            disk_name: None,
            systems: Vec::new(),
            answer: DiskAnswer::Unreadable,
            rule: None,
            reason: Some(error.what.clone()),
            convertible: false,
        }
    }
}
