//! The report as a page: one file, nothing from outside.

use askama::Template;
use schwelle_core::profile::{Role, TableStyle};
use schwelle_core::rules::Outcome;

use super::{Report, with_texts};
use crate::text::{bytes, safe, sentence};
use crate::views::json::{DraftDoc, PartDoc, StageDoc, StagePartDoc};
use crate::views::map::{Stretch, shares};
use crate::views::worded::FindingDoc;

/// Units across the picture of the disk.
const MAP_UNITS: usize = 1000;
/// The narrowest part, in these units.
const LEAST_UNITS: usize = 22;
/// Units that a character takes.
const CHAR_UNITS: usize = 8;
/// Rows of the list of what was written, at most; the document has all.
const MAX_ROWS: usize = 120;

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'a> {
    report: &'a Report,
    title: String,
    sentence: String,
    facts: Vec<(&'static str, String)>,
    findings: Vec<(&'static str, &'static str, Vec<&'a FindingDoc>)>,
    /// Ids of rules and what they found; without an id those that had nothing to say.
    passed: Vec<(String, String)>,
    maps: Vec<Map>,
    tables: Vec<(String, Vec<Row>)>,
    stages: Vec<[String; 4]>,
    written: Vec<[String; 4]>,
    written_more: usize,
    made: String,
    /// The picture of the emulator's screen, in base64.
    picture: Option<String>,
}

/// A disk as a bar.
struct Map {
    title: &'static str,
    cells: Vec<MapCell>,
}

/// A part of the bar.
struct MapCell {
    x: usize,
    width: usize,
    /// Name of the pattern.
    pattern: String,
    changed: bool,
    label: String,
    size: String,
}

/// A partition in a table.
struct Row {
    mark: &'static str,
    number: String,
    role: String,
    size: String,
    place: String,
    kind: String,
    label: String,
}

/// As a page. What comes from a disk is made harmless first; the template escapes the rest.
pub(crate) fn html(report: &Report, picture: Option<&[u8]>) -> String {
    use base64::Engine;
    let report = with_texts(report, &mut |_, text| safe(text));
    let report = &report;
    let of_outcome = |outcome: Outcome| {
        let found = report.plan.findings.iter();
        found
            .filter(|finding| finding.outcome == outcome)
            .collect::<Vec<_>>()
    };
    let findings = [
        ("block", "Blocks", of_outcome(Outcome::Block)),
        ("caution", "Cautions", of_outcome(Outcome::Caution)),
        ("unknown", "Not known", of_outcome(Outcome::Unknown)),
    ];
    let (mut maps, mut tables) = (Vec::new(), Vec::new());
    if let Some(draft) = &report.plan.draft {
        let sector = u64::from(draft.sector_bytes);
        maps.push(map("before", &draft.before, sector));
        maps.push(map("after", &draft.after, sector));
        let after = report.plan.to.name().to_uppercase();
        tables.push((
            format!(
                "Before ({})",
                report.disk_facts.table.map_or("-", TableStyle::name)
            ),
            rows(&draft.before, sector),
        ));
        tables.push((format!("After ({after})"), rows(&draft.after, sector)));
    }
    let written = report.written.iter().take(MAX_ROWS).map(|extent| {
        [
            extent.stage.name().to_owned(),
            extent.what.text.clone(),
            format!("{} to {}", extent.first_lba, extent.last_lba),
            format!("{} / {}", short(&extent.before), short(&extent.after)),
        ]
    });
    let page = Page {
        title: title(report),
        sentence: report.sentence(),
        facts: facts(report),
        findings: findings
            .into_iter()
            .filter(|(_, _, found)| !found.is_empty())
            .collect(),
        passed: passed(&of_outcome(Outcome::Pass)),
        maps,
        stages: report.plan.draft.as_ref().map_or_else(Vec::new, stages),
        made: time(&report.made),
        tables,
        written: written.collect(),
        written_more: report.written.len().saturating_sub(MAX_ROWS),
        picture: picture.map(|png| base64::engine::general_purpose::STANDARD.encode(png)),
        report,
    };
    page.render()
        .expect("a template without input or output of its own does not fail")
}

fn title(report: &Report) -> String {
    let name = report
        .disk_facts
        .disk_name
        .as_deref()
        .unwrap_or(&report.disk);
    match report.plan.mended.is_empty() {
        true => format!("Conversion of {name}"),
        false => format!("Mending of {name}"),
    }
}

/// The first characters of a hash: enough to compare by eye.
fn short(hash: &str) -> String {
    hash.chars().take(12).collect()
}

fn facts(report: &Report) -> Vec<(&'static str, String)> {
    let disk = &report.disk_facts;
    let mut facts = vec![("Disk", report.disk.clone())];
    let sector = report
        .plan
        .draft
        .as_ref()
        .map_or(512, |draft| draft.sector_bytes);
    facts.push((
        "Size",
        format!("{}, {sector}-byte sectors", bytes(disk.size_bytes)),
    ));
    let some = [
        ("Model", disk.model.clone()),
        ("Serial number", report.serial.clone()),
        ("Disk name", disk.disk_name.clone()),
        (
            "System",
            (!disk.systems.is_empty()).then(|| disk.systems.join("; ")),
        ),
        ("Begun", Some(time(&report.started))),
        ("Ended", report.finished.as_deref().map(time)),
        (
            "Questions",
            Some(format!("answered by {}", report.answered_by)),
        ),
        ("Job folder", Some(report.job.clone())),
    ];
    facts.extend(
        some.into_iter()
            .filter_map(|(name, fact)| Some((name, fact?))),
    );
    facts
}

/// A time as people read it; one that is none as it stands.
fn time(text: &str) -> String {
    let time = text.parse::<jiff::Timestamp>();
    time.map_or_else(
        |_| text.to_owned(),
        |time| time.strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
    )
}

/// What each stage writes, and where.
fn stages(draft: &DraftDoc) -> Vec<[String; 4]> {
    let row = |stage: &str, part: &StagePartDoc| {
        let extents = part.extents.iter();
        let sectors = extents
            .clone()
            .fold(0_u64, |all, extent| all.saturating_add(extent.sectors()));
        let first = extents.clone().map(|extent| extent.first.0).min();
        let last = extents.map(|extent| extent.last().0).max();
        let (first, last) = (first.unwrap_or(0), last.unwrap_or(0));
        let place = match part.extents.len() {
            0 => return None,
            1 if first == last => first.to_string(),
            1 => format!("{first} to {last}"),
            several => format!("{several} extents in {first} to {last}"),
        };
        let size = bytes(sectors.saturating_mul(draft.sector_bytes.into()));
        Some([stage.to_owned(), part.what.text.clone(), size, place])
    };
    let of_stage = |stage: &'_ StageDoc| -> Vec<_> {
        stage
            .parts
            .iter()
            .filter_map(|part| row(stage.stage.name(), part))
            .collect()
    };
    draft.stages.iter().flat_map(of_stage).collect()
}

/// What passed: a line for each rule that has something to tell, and one for the others.
fn passed(findings: &[&FindingDoc]) -> Vec<(String, String)> {
    let (silent, telling): (Vec<&FindingDoc>, Vec<&FindingDoc>) =
        findings.iter().partition(|finding| finding.is_silent());
    let line = |finding: &FindingDoc| (finding.rule.to_string(), sentence(&finding.text()));
    let mut lines: Vec<(String, String)> = telling.into_iter().map(line).collect();
    let silent: Vec<&str> = silent.iter().map(|finding| finding.rule.name()).collect();
    if !silent.is_empty() {
        lines.push((
            String::new(),
            format!("Nothing found: {}.", silent.join(", ")),
        ));
    }
    lines
}

fn stretch(part: &PartDoc) -> Stretch {
    Stretch {
        number: part.number,
        sectors: sectors(part),
        role: part.role,
        change: part.change,
        active: part.active,
    }
}

/// Sectors of a part; of one that ends before it begins, none.
fn sectors(part: &PartDoc) -> u64 {
    part.last_lba
        .saturating_add(1)
        .saturating_sub(part.first_lba)
}

fn map(title: &'static str, parts: &[PartDoc], sector_bytes: u64) -> Map {
    let mut x = 0;
    let cells = shares(parts.iter().map(stretch), MAP_UNITS, LEAST_UNITS);
    let cells = cells.into_iter().map(|(cell, width)| {
        let [full, short] = cell.labels;
        let fits = |label: &String| (label.chars().count() + 1) * CHAR_UNITS <= width;
        let size = bytes(cell.sectors.saturating_mul(sector_bytes));
        let shown = MapCell {
            x,
            width,
            pattern: cell.kind.replace(' ', "-"),
            changed: full.starts_with(['+', '<']),
            size: Some(size).filter(fits).unwrap_or_default(),
            label: Some(full).filter(fits).unwrap_or(short),
        };
        x += width;
        shown
    });
    let cells = cells.collect();
    Map { title, cells }
}

/// A line for each partition, and for each larger gap.
fn rows(parts: &[PartDoc], sector_bytes: u64) -> Vec<Row> {
    let shown = parts.iter().filter(|part| {
        part.number.is_some() || sectors(part).saturating_mul(sector_bytes) > 1 << 20
    });
    let row = |part: &PartDoc| Row {
        mark: stretch(part).mark(),
        number: part
            .number
            .map_or(String::new(), |number| number.to_string()),
        role: part.role.map_or("unused", Role::name).to_owned(),
        size: bytes(sectors(part).saturating_mul(sector_bytes)),
        place: format!("{} to {}", part.first_lba, part.last_lba),
        kind: part.role.map_or(String::new(), |_| part.kind.clone()),
        label: part.label.clone(),
    };
    shown.map(row).collect()
}
