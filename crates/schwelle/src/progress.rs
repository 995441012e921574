//! Shows how a commit goes: a bar on a terminal, plain lines elsewhere, and always the log of the
//! job.

use indicatif::{ProgressBar, ProgressStyle};
use schwelle_core::commit::{Event, Observer};
use schwelle_core::job::JobFolder;

use crate::screen::Screen;
use crate::text;

/// Takes the events of a commit.
pub(crate) struct Progress<'a> {
    bar: ProgressBar,
    quiet: bool,
    job: &'a mut JobFolder,
}

impl<'a> Progress<'a> {
    pub(crate) fn new(screen: &Screen, job: &'a mut JobFolder) -> Self {
        // Hidden by itself where stderr is no terminal.
        let bar = if screen.is_quiet() {
            ProgressBar::hidden()
        } else {
            ProgressBar::new(0)
        };
        let template = "{msg:10} [{bar:40}] {bytes}/{total_bytes} {bytes_per_sec} {eta}";
        bar.set_style(
            ProgressStyle::with_template(template)
                .expect("the template is ours")
                .progress_chars("##-"),
        );
        Self {
            bar,
            quiet: screen.is_quiet(),
            job,
        }
    }

    fn begin(&mut self, what: &'static str, bytes: u64) {
        self.bar.reset();
        self.bar.set_length(bytes);
        self.bar.set_message(what);
        self.line(&format!("{what}: {}", text::bytes(bytes)));
    }

    fn line(&mut self, line: &str) {
        if self.bar.is_hidden() && !self.quiet {
            eprintln!("{line}");
        }
        // The disk's own record matters more than a line of the log: a full job folder must not
        // stop a stage half-way.
        self.job
            .log(&format!("{} {line}", jiff::Timestamp::now()))
            .ok();
    }
}

impl Observer for Progress<'_> {
    fn event(&mut self, event: Event) {
        match event {
            Event::StageStarted(stage, bytes) => self.begin(stage.name(), bytes),
            Event::VerifyStarted(bytes) => self.begin("verify", bytes),
            Event::Written(bytes) | Event::Verified(bytes) => self.bar.inc(bytes),
            Event::StageFlushed(stage) => self.line(&format!("{}: on the medium", stage.name())),
        }
    }
}

impl Drop for Progress<'_> {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
