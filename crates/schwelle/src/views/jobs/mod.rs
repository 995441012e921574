//! The overview of jobs: what each of many job folders says, what needs a hand first.
//!
//! All of it comes from the folders, and any of it may be torn or made up: a document that is not what this program
//! writes counts as none.

mod brief;
mod page;

use std::io;
use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::confirm;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::identities::Style;
use schwelle_core::job::{JobFacts, JobKind, JobState, JobStatus, JobSummary, ScanResult};
use schwelle_core::rehearse;
use serde::Serialize;

use super::common::paragraph;
use crate::disk::options;
use crate::screen::{Tone, toned};
use crate::text::{cut, pad, safe, sentence, typed, width};
use crate::words;
use brief::{Brief, Confirmed, Ended, text};

pub(crate) use page::html;

/// `report --jobs`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Jobs {
    pub(crate) made_by: String,
    /// RFC 3339
    pub(crate) made: String,
    /// Where they were looked for
    pub(crate) folder: String,
    /// What needs a hand first; among equals the newest
    pub(crate) jobs: Vec<JobLine>,
    /// Folders that hold no job
    pub(crate) others: usize,
    /// Folders that could not be looked into
    pub(crate) unread: Vec<UnreadDoc>,
    /// There are more folders than are looked into
    pub(crate) cut_off: bool,
}

/// A job.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct JobLine {
    /// Its folder
    pub(crate) job: String,
    pub(crate) state: JobStatus,
    /// Why, where the state does not say all
    pub(crate) reason: Option<String>,
    /// What was done
    pub(crate) kind: Option<JobKind>,
    /// The table that the disk gets
    pub(crate) to: Option<Style>,
    pub(crate) disk_use: Option<DiskUse>,
    /// Manufacturer and model
    pub(crate) pc: Option<String>,
    /// As it was named
    pub(crate) disk: Option<String>,
    pub(crate) disk_name: Option<String>,
    pub(crate) serial: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) systems: Vec<String>,
    /// RFC 3339
    pub(crate) started: Option<String>,
    /// RFC 3339; when it last ended, as far as the folder knows
    pub(crate) finished: Option<String>,
    /// RFC 3339
    pub(crate) confirmed: Option<String>,
    /// The next command, to be typed at the PC with the disk; null where nothing is left to do
    pub(crate) next: Option<String>,
}

/// A folder that could not be looked into.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct UnreadDoc {
    pub(crate) folder: String,
    /// What the system said
    pub(crate) error: String,
}

impl Jobs {
    pub(crate) fn of(
        folder: &Path,
        made: String,
        mut jobs: Vec<JobLine>,
        scanned: &ScanResult,
    ) -> Self {
        jobs.sort_by(|one, other| {
            let newest = |job: &JobLine| job.when().map(str::to_owned);
            let state = one.state.cmp(&other.state);
            let time = newest(other).cmp(&newest(one));
            state.then(time).then_with(|| one.job.cmp(&other.job))
        });
        let unread = scanned.unread.iter().map(|(folder, error)| UnreadDoc {
            folder: folder.display().to_string(),
            error: error.to_string(),
        });
        Self {
            made_by: concat!("schwelle ", env!("CARGO_PKG_VERSION")).to_owned(),
            made,
            folder: folder.display().to_string(),
            jobs,
            others: scanned.others,
            unread: unread.collect(),
            cut_off: scanned.cut_off,
        }
    }

    /// How many jobs there are, and of each standing.
    fn tally(&self) -> String {
        let count = self.jobs.len();
        let mut each: Vec<String> = Vec::new();
        for equals in self.jobs.chunk_by(|one, other| one.state == other.state) {
            let first = equals.iter().map(|job| words::jobs::name(job.state)).next();
            each.push(format!("{} {}", equals.len(), first.unwrap_or_default()));
        }
        match count {
            0 => "No job".to_owned(),
            1 => format!("1 job: {}", each.join(", ")),
            _ => format!("{count} jobs: {}", each.join(", ")),
        }
    }

    /// What else is to be known of the place.
    fn remarks(&self) -> Vec<String> {
        let mut remarks = Vec::new();
        if self.others > 0 {
            let folders = if self.others == 1 {
                "folder holds"
            } else {
                "folders hold"
            };
            remarks.push(format!("{} other {folders} no job.", self.others));
        }
        for UnreadDoc { folder, error } in &self.unread {
            remarks.push(format!("{folder} cannot be looked into: {error}."));
        }
        if self.cut_off {
            let line = "There are more folders than are looked into: name a smaller part of them.";
            remarks.push(line.to_owned());
        }
        remarks
    }
}

impl JobLine {
    /// What a folder says of its job.
    pub(crate) fn of(summary: &JobSummary) -> Self {
        let mut unread = None;
        let brief = or_unread(Brief::of(summary), &mut unread);
        let ended = or_unread(Ended::of(summary), &mut unread);
        let confirmed = or_unread(Confirmed::of(summary), &mut unread);
        let facts = summary.facts.as_ref();
        let plan = brief.as_ref().map(|brief| &brief.plan);
        let standing = match standing(summary, ended.as_ref(), confirmed.as_ref()) {
            // How it started since is unknown then.
            JobStatus::ToConfirm | JobStatus::Done if unread.is_some() => JobStatus::Incomplete,
            known => known,
        };
        let name = brief.as_ref().and_then(Brief::disk_as_typed);
        let disk = facts.map(|facts| facts.disk.display().to_string());
        let pc = brief.as_ref().and_then(Brief::pc);
        let disk_facts = brief.as_ref().map(|brief| &brief.disk_facts);
        let shown = |what: Option<&String>| what.map(|what| text(what));
        let mut line = Self {
            job: here(summary.path()).display().to_string(),
            state: standing,
            reason: reason(summary, standing, ended.as_ref(), unread.as_ref()),
            kind: facts
                .map(|facts| facts.kind)
                .or_else(|| plan.map(brief::Plan::kind)),
            to: facts
                .map(|facts| facts.to)
                .or_else(|| plan.map(|plan| plan.to)),
            disk_use: facts
                .map(|facts| facts.disk_use)
                .or_else(|| plan.map(|plan| plan.disk_use)),
            pc,
            disk: shown(brief.as_ref().map(|brief| &brief.disk).or(disk.as_ref())),
            disk_name: shown(disk_facts.and_then(|disk| disk.disk_name.as_ref())),
            serial: shown(
                facts
                    .and_then(|facts: &JobFacts| facts.serial.as_ref())
                    .or_else(|| brief.as_ref().and_then(|brief| brief.serial.as_ref())),
            ),
            model: shown(disk_facts.and_then(|disk| disk.model.as_ref())),
            systems: brief.as_ref().map(Brief::systems).unwrap_or_default(),
            started: shown(brief.as_ref().map(|brief| &brief.started)),
            finished: shown(ended.as_ref().map(|ended| &ended.finished)),
            confirmed: confirmed.map(|confirmed| text(&confirmed.made)),
            next: None,
        };
        let name = name.or_else(|| disk.as_deref().map(|disk| typed(Path::new(disk))));
        line.next = line.next(name.as_deref());
        line
    }

    /// What to type next; `disk` is the disk as it is typed.
    fn next(&self, disk: Option<&str>) -> Option<String> {
        let job = typed(Path::new(&self.job));
        let about = |command: &str| {
            let Some(disk) = disk else {
                return "schwelle survey".to_owned();
            };
            let options = options(
                self.to.unwrap_or_default(),
                self.disk_use.unwrap_or_default(),
            );
            match command {
                "firmware sheet" => format!("schwelle {command} {disk}"),
                _ => format!("schwelle {command} {disk}{options}"),
            }
        };
        Some(match self.state {
            JobStatus::NeedsResume => format!("schwelle resume --job {job}"),
            JobStatus::NeedsUndo => format!("schwelle undo --job {job}"),
            JobStatus::Incomplete => match disk {
                Some(disk) => format!("schwelle check {disk}"),
                None => "schwelle survey".to_owned(),
            },
            JobStatus::DoesNotStart => about("rehearse"),
            JobStatus::NotConfirmed => about("firmware sheet"),
            JobStatus::NotBegun => about("plan"),
            JobStatus::ToConfirm => {
                let disk = disk.map(|disk| format!(" {disk}")).unwrap_or_default();
                format!("schwelle confirm{disk} --job {job}")
            }
            JobStatus::Done | JobStatus::Confirmed | JobStatus::Undone => return None,
        })
    }

    /// What was done.
    fn what(&self) -> String {
        words::jobs::what(self.kind, self.to, self.disk_use)
    }

    /// When it was last known to be done, or was begun.
    fn when(&self) -> Option<&str> {
        self.finished.as_deref().or(self.started.as_deref())
    }

    /// The folder as it is called below the place.
    fn name(&self, place: &str) -> String {
        let path = Path::new(&self.job);
        let below = path.strip_prefix(place).ok();
        let below = below.filter(|below| !below.as_os_str().is_empty());
        below.unwrap_or(path).display().to_string()
    }
}

/// A path below the current folder, without the dot.
fn here(path: &Path) -> &Path {
    let below = path.strip_prefix(".").unwrap_or(path);
    match below.as_os_str().is_empty() {
        true => path,
        false => below,
    }
}

fn standing(
    summary: &JobSummary,
    ended: Option<&Ended>,
    confirmed: Option<&Confirmed>,
) -> JobStatus {
    if summary.fault.is_some() {
        return JobStatus::Incomplete;
    }
    match summary.state {
        None => JobStatus::Incomplete,
        Some(JobState::Saving) => JobStatus::NotBegun,
        Some(JobState::Writing) => JobStatus::NeedsResume,
        Some(JobState::Undoing) => JobStatus::NeedsUndo,
        Some(JobState::Undone) => JobStatus::Undone,
        Some(JobState::Done) => {
            let walk = ended.and_then(|ended| ended.rehearsal.as_ref());
            if walk.is_some_and(|walk| walk.answer == rehearse::Answer::DoesNotStart) {
                return JobStatus::DoesNotStart;
            }
            match confirmed.map(|confirmed| confirmed.answer) {
                Some(confirm::Answer::Confirmed) => return JobStatus::Confirmed,
                Some(confirm::Answer::NotConfirmed) => return JobStatus::NotConfirmed,
                Some(confirm::Answer::Unknown) | None => {}
            }
            let facts = summary.facts.as_ref();
            let starts = facts
                .is_none_or(|facts| facts.to == Style::Gpt && facts.disk_use == DiskUse::System);
            // The sheet knows whether there is an installed Windows that could be asked.
            match starts && ended.is_none_or(Ended::is_to_be_confirmed) {
                true => JobStatus::ToConfirm,
                false => JobStatus::Done,
            }
        }
    }
}

/// Keeps the error of a document that cannot be read.
fn or_unread<T>(found: io::Result<Option<T>>, unread: &mut Option<io::Error>) -> Option<T> {
    found.unwrap_or_else(|error| {
        unread.get_or_insert(error);
        None
    })
}

fn reason(
    summary: &JobSummary,
    standing: JobStatus,
    ended: Option<&Ended>,
    unread: Option<&io::Error>,
) -> Option<String> {
    if let Some(bytes) = summary.unchecked_bytes {
        return Some(words::jobs::unchecked(bytes));
    }
    match standing {
        JobStatus::Incomplete => {
            if let (None, Some(error)) = (&summary.fault, unread) {
                return Some(words::jobs::unread(&text(&error.to_string())));
            }
            let why = match &summary.fault {
                Some(fault) => text(&fault.to_string()),
                None => words::jobs::NO_STATE.to_owned(),
            };
            Some(format!(
                "{} {}",
                sentence(&why),
                words::jobs::incomplete(summary.state)
            ))
        }
        JobStatus::Undone if ended.is_some_and(|ended| ended.exact == Some(false)) => {
            Some(words::jobs::NOT_EXACT.to_owned())
        }
        _ => None,
    }
}

/// The tone of a standing.
fn tone(standing: JobStatus) -> Tone {
    match standing {
        JobStatus::NeedsResume
        | JobStatus::NeedsUndo
        | JobStatus::Incomplete
        | JobStatus::DoesNotStart
        | JobStatus::NotConfirmed => Tone::Bad,
        JobStatus::ToConfirm => Tone::Careful,
        JobStatus::NotBegun | JobStatus::Undone => Tone::Open,
        JobStatus::Done | JobStatus::Confirmed => Tone::Good,
    }
}

/// A time as people read it, to the minute; one that is none as it stands.
fn minute(time: &str) -> String {
    let parsed = time.parse::<jiff::Timestamp>();
    parsed.map_or_else(
        |_| time.to_owned(),
        |time| time.strftime("%Y-%m-%d %H:%M").to_string(),
    )
}

/// Columns of the longest standing.
const STATE_COLUMNS: usize = 14;

/// The whole view: a line for each job, in so many columns, or without a bound. Where that is too narrow, some lines.
pub(crate) fn render(jobs: &Jobs, columns: Option<usize>) -> String {
    let rows: Vec<[String; 6]> = jobs.jobs.iter().map(|job| row(job, &jobs.folder)).collect();
    let mut widths = [0; 6];
    for row in &rows {
        for (most, cell) in widths.iter_mut().zip(row) {
            *most = width(cell).max(*most);
        }
    }
    let all = widths.iter().filter(|most| **most > 0);
    let all = all.fold(STATE_COLUMNS, |all, most| all + 2 + most);
    let is_narrow = columns.is_some_and(|columns| all > columns);
    let indent = STATE_COLUMNS + 1;
    let room = columns.unwrap_or(usize::MAX);
    let mut text = String::new();
    for (job, row) in jobs.jobs.iter().zip(rows) {
        let cells = row.iter().zip(widths).enumerate();
        let is_beside = |at: usize| is_narrow && ASIDE.contains(&at);
        let cells = cells.filter(|(at, (_, most))| *most > 0 && !is_beside(*at));
        let cells: Vec<String> = cells.map(|(_, (cell, most))| pad(cell, most)).collect();
        let state = pad(words::jobs::name(job.state), STATE_COLUMNS);
        let line = format!("{} {}", toned(tone(job.state), &state), cells.join("  "));
        text += line.trim_end();
        let next = job.next.as_deref().unwrap_or_default();
        if is_narrow {
            let more = ASIDE.map(|at| row[at].as_str());
            let more: Vec<&str> = more.into_iter().filter(|cell| !cell.is_empty()).collect();
            text.push('\n');
            for line in [&*more.join("; "), next] {
                if !line.is_empty() {
                    text += &format!("{}{line}\n", " ".repeat(indent));
                }
            }
        } else {
            text += &format!("  {next}");
            text.truncate(text.trim_end().len());
            text.push('\n');
        }
        if let Some(reason) = &job.reason {
            text += &paragraph("", reason, indent, room);
        }
    }
    text += &format!("\n{}.\n", jobs.tally());
    for remark in jobs.remarks() {
        text += &paragraph("", &remark, 0, room);
    }
    if !jobs.jobs.is_empty() {
        text += "The commands are for the PC with the disk, and the folder at hand there.\n";
    }
    text
}

/// Cells of a row that stand below it where the screen is narrow: the PC, and the serial number.
const ASIDE: [usize; 2] = [2, 3];

/// What stands in a job's line after its state.
fn row(job: &JobLine, place: &str) -> [String; 6] {
    const MOST: usize = 28;
    let some = |text: Option<&String>| text.map(|text| safe(text)).unwrap_or_default();
    [
        safe(&job.name(place)),
        some(job.disk_name.as_ref()),
        some(job.pc.as_ref()),
        some(job.serial.as_ref()),
        job.what(),
        job.when()
            .map(minute)
            .map(|time| safe(&time))
            .unwrap_or_default(),
    ]
    .map(|cell| cut(&cell, MOST))
}
