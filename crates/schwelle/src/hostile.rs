//! For fuzzing: what of the command line reads files that others have made. No interface for anybody else.

use std::path::Path;

use schwelle_core::job::{JobFolder, scan_jobs};

use crate::commands::convert::{self, ConvertArgs};
use crate::options::{Common, Shown, WhenColored};
use crate::policy;
use crate::screen::Screen;
use crate::views;
use crate::views::jobs::{JobLine, Jobs};
use crate::views::report::{self, Report};

/// The text is a policy.
pub fn policy(text: &str) -> bool {
    policy::is_sound(text)
}

/// The folder's report can be made; made as a page, and as one to share.
pub fn report(folder: &Path) -> bool {
    let Ok(folder) = JobFolder::open(folder) else {
        return false;
    };
    let Ok((made, picture)) = Report::of(&folder, String::new()) else {
        return false;
    };
    let shared = report::shared(&made);
    let pages = [
        report::html(&made, picture.as_deref()),
        report::html(&shared, None),
    ];
    pages
        .iter()
        .all(|page| !page.to_lowercase().contains("<script"))
}

/// The folder's line in the overview of jobs, on the screen and on the page.
pub fn overview(folder: &Path) -> bool {
    let mut lines = Vec::new();
    let Ok(scanned) = scan_jobs(folder, 1, &mut |summary| lines.push(JobLine::of(&summary))) else {
        return false;
    };
    let jobs = Jobs::of(folder, String::new(), lines, &scanned);
    let (shown, page) = (
        views::jobs::render(&jobs, Some(80)),
        views::jobs::html(&jobs),
    );
    !shown.contains('\u{202E}') && !page.to_lowercase().contains("<script")
}

/// Converts an image, silently.
pub fn convert(image: &Path, job: &Path) -> bool {
    let common = Common {
        progress: Shown::Text,
        json: false,
        quiet: true,
        lba: false,
        color: WhenColored::Never,
    };
    let args = ConvertArgs::of(image.to_owned(), job.to_owned());
    convert::run(&args, &Screen::new(&common)).is_ok_and(|code| code == 0)
}
