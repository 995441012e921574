//! `schwelle report`

use std::io::Write;
use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::host::this_pc;
use schwelle_core::job::{JobFolder, scan_jobs};

use super::carry_out::warn_if_readable;
use crate::error::{CliError, Kind};
use crate::screen::Screen;
use crate::text::typed;
use crate::views;
use crate::views::jobs::{JobLine, Jobs};
use crate::views::report::{self, Report, ReportError};

/// Levels below a folder of job folders: by month, by customer, and the job.
const DEPTH: u32 = 3;

/// Make the hand-over record of a job, or the overview of many
///
/// All of it comes from the job folders; the disks need not be there. The record is a page, or with --json a
/// document; its page is one file without anything from outside, fit for screen and paper. The overview has a line
/// for each job in a folder of job folders, what needs a hand first, with the next command; a page of it is made where
/// --html names one. Nothing else is written.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle report --job /media/stick/job-0815\n  schwelle report --job job-0815 \
        --share --html question.html\n  schwelle report --job job-0815 --json\n  schwelle report --jobs /media/stick --html \
        jobs.html"
)]
pub(crate) struct ReportArgs {
    /// The job's folder
    #[arg(long, value_name = "DIR")]
    job: Option<PathBuf>,
    /// A folder with job folders in it, up to three levels down
    #[arg(long, value_name = "DIR", conflicts_with_all = ["job", "share"])]
    jobs: Option<PathBuf>,
    /// Where the page goes, a new file [default: for one job report.html in its folder, with --share
    /// report-to-share.html; made anew each time]
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
    /// Replace names, labels, serial numbers and file names, and leave pictures out, to show it to a colleague
    #[arg(long)]
    share: bool,
}

impl ReportArgs {
    /// The report of a job, in its folder.
    pub(crate) fn of(job: PathBuf) -> Self {
        Self {
            job: Some(job),
            jobs: None,
            html: None,
            share: false,
        }
    }

    /// The overview of the jobs in a folder.
    pub(crate) fn of_all(jobs: PathBuf) -> Self {
        Self {
            job: None,
            jobs: Some(jobs),
            html: None,
            share: false,
        }
    }
}

pub(crate) fn run(args: &ReportArgs, screen: &Screen) -> Result<u8, CliError> {
    match (&args.jobs, &args.job) {
        (Some(place), _) => overview(place, args.html.as_deref(), screen),
        (None, Some(job)) => record(job, args, screen),
        (None, None) => Err(CliError::new(
            Kind::Usage,
            "no job folder is named",
            "A record is made from a job folder, and an overview from a folder of them.",
            "Name one: --job DIR, or --jobs DIR",
        )),
    }
}

/// The overview of the jobs in a folder.
fn overview(place: &Path, html: Option<&Path>, screen: &Screen) -> Result<u8, CliError> {
    let busy = screen.busy(format!("Looking for job folders in {}", place.display()));
    let mut jobs = Vec::new();
    let scanned = scan_jobs(place, DEPTH, &mut |summary| {
        jobs.push(JobLine::of(&summary));
    });
    let scanned = scanned.map_err(|error| {
        CliError::new(
            Kind::Unchanged,
            format!("{}: {error}", place.display()),
            "The job folders in it cannot be listed.",
            "Name a folder that can be read: --jobs DIR",
        )
    })?;
    drop(busy);
    let jobs = Jobs::of(place, jiff::Timestamp::now().to_string(), jobs, &scanned);
    screen.show(&views::jobs::render(&jobs, screen.known_columns()));
    if let Some(path) = html {
        write_new(path, views::jobs::html(&jobs).as_bytes())?;
        screen.show(&format!("Written: {}\n", typed(path)));
    }
    screen.document(&jobs);
    Ok(0)
}

/// The record of a job.
fn record(job: &Path, args: &ReportArgs, screen: &Screen) -> Result<u8, CliError> {
    let failed = |error: ReportError| match error {
        ReportError::Job(error) => CliError::job_folder(&error),
        other => CliError::new(
            Kind::Unchanged,
            format!("{}: {other}", job.display()),
            "A report shows only what is in the job folder.",
            "See whether this is the right folder, and whether its disk or stick can be read.",
        ),
    };
    let folder = JobFolder::open(job).map_err(|error| failed(error.into()))?;
    warn_if_readable(folder.path(), screen);
    let made = jiff::Timestamp::now().to_string();
    let (report, picture) = Report::of(&folder, made).map_err(failed)?;
    let (report, picture) = match args.share {
        true => (report::shared(&report), None),
        false => (report, picture),
    };
    // A document was asked for: the page as well only where it is named.
    if screen.is_json() && args.html.is_none() {
        screen.document(&report);
        return Ok(0);
    }
    let page = report::html(&report, picture.as_deref());
    let path = match &args.html {
        Some(path) => {
            write_new(path, page.as_bytes())?;
            path.clone()
        }
        None => {
            let name = if args.share {
                "report-to-share.html"
            } else {
                "report.html"
            };
            replace(job, name, page.as_bytes())?
        }
    };
    screen.show(&report::render(&report, &path, screen.columns()));
    screen.document(&report);
    Ok(0)
}

/// Writes a page of the job folder in place of the one that was there.
fn replace(folder: &Path, name: &str, page: &[u8]) -> Result<PathBuf, CliError> {
    let new_name = format!("{name}.new");
    let (path, new) = (folder.join(name), folder.join(&new_name));
    // One that a report before could not finish, or what was put there: a link is never followed.
    std::fs::remove_file(&new).ok();
    // It shows what is in the folder, so it is as private as the rest.
    let held = this_pc().hold_folder(folder);
    let written = held.and_then(|held| held.create(&new_name)?.write_all(page));
    let written = written.and_then(|()| std::fs::rename(&new, &path));
    written.map_err(|error| not_written(&path, &error))?;
    Ok(path)
}

/// Writes a file that is not there yet.
pub(super) fn write_new(path: &Path, page: &[u8]) -> Result<(), CliError> {
    let file = std::fs::File::create_new(path);
    let written = file.and_then(|mut file| file.write_all(page));
    written.map_err(|error| not_written(path, &error))
}

fn not_written(path: &Path, error: &std::io::Error) -> CliError {
    CliError::new(
        Kind::Unchanged,
        format!("{}: {error}", path.display()),
        "The page was not written; nothing else is changed.",
        "Name a new file in a folder that can be written and has space: --html FILE",
    )
}
