//! The overview as a page: a line for each job, its details folded.

use askama::Template;

use schwelle_core::job::JobStatus;

use super::{JobLine, Jobs, minute, tone};
use crate::screen::Tone;
use crate::text::safe;
use crate::words;

#[derive(Template)]
#[template(path = "jobs.html")]
struct Page {
    folder: String,
    tally: String,
    jobs: Vec<Row>,
    remarks: Vec<String>,
    made_by: String,
    made: String,
}

/// A job: what stands in its line, and what is folded.
struct Row {
    class: &'static str,
    state: &'static str,
    name: String,
    disk: String,
    pc: String,
    what: String,
    when: String,
    next: Option<String>,
    meaning: String,
    facts: Vec<(&'static str, String)>,
}

/// As a page. What comes from a folder is made harmless first; the template escapes the rest.
pub(crate) fn html(jobs: &Jobs) -> String {
    let page = Page {
        folder: safe(&jobs.folder),
        tally: jobs.tally(),
        jobs: jobs.jobs.iter().map(|job| row(job, &jobs.folder)).collect(),
        remarks: jobs.remarks().iter().map(|remark| safe(remark)).collect(),
        made_by: jobs.made_by.clone(),
        made: minute(&jobs.made),
    };
    page.render()
        .expect("a template without input or output of its own does not fail")
}

fn row(job: &JobLine, place: &str) -> Row {
    let class = match tone(job.state) {
        Tone::Good => "good",
        Tone::Careful => "care",
        Tone::Bad => "bad",
        _ => "open",
    };
    let shown = |text: &Option<String>| text.as_deref().map(safe);
    let time = |text: &Option<String>| text.as_deref().map(|time| safe(&minute(time)));
    let meaning = words::jobs::meaning(job.state);
    let reason = shown(&job.reason).map(|reason| format!(" {reason}"));
    let other = match job.state {
        JobStatus::NeedsResume => job.next.as_deref(),
        _ => None,
    };
    let back = other.map(|next| safe(&next.replacen("resume", "undo", 1)));
    let systems = job.systems.iter().map(|system| safe(system));
    let systems = systems.collect::<Vec<_>>().join("; ");
    let facts = [
        ("Job folder", Some(safe(&job.job))),
        ("Or take it back", back),
        ("Disk", shown(&job.disk)),
        ("Disk name", shown(&job.disk_name)),
        ("Serial number", shown(&job.serial)),
        ("Model", shown(&job.model)),
        ("PC", shown(&job.pc)),
        ("System", (!systems.is_empty()).then_some(systems)),
        ("Begun", time(&job.started)),
        ("Ended", time(&job.finished)),
        ("Confirmation", time(&job.confirmed)),
    ];
    Row {
        class,
        state: words::jobs::name(job.state),
        name: safe(&job.name(place)),
        disk: match (&job.disk_name, &job.serial) {
            (Some(name), Some(serial)) => format!("{}, serial {}", safe(name), safe(serial)),
            (Some(one), None) | (None, Some(one)) => safe(one),
            (None, None) => String::new(),
        },
        pc: shown(&job.pc).unwrap_or_default(),
        what: job.what(),
        when: job
            .when()
            .map(|time| safe(&minute(time)))
            .unwrap_or_default(),
        next: shown(&job.next),
        meaning: meaning.to_owned() + &reason.unwrap_or_default(),
        facts: facts
            .into_iter()
            .filter_map(|(name, fact)| Some((name, fact?)))
            .collect(),
    }
}
