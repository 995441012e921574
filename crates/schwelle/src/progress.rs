//! Shows how a commit goes: a bar on a terminal, plain lines elsewhere, and always the log of the
//! job. Takes the request to stop.

use std::fs::{File, OpenOptions};
use std::io::Write;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::screen::Screen;
use crate::text;
use indicatif::{ProgressBar, ProgressStyle};
use schwelle_core::commit::{Event, Observer};
use schwelle_core::host::this_pc;

/// Takes the events of a commit.
pub(crate) struct Progress {
    bar: ProgressBar,
    quiet: bool,
    log: Option<File>,
    stop: Arc<AtomicBool>,
}

impl Progress {
    /// Progress of the job in `folder`, which goes to its log as well.
    pub(crate) fn new(screen: &Screen, folder: &Path) -> Self {
        Self {
            bar: ProgressBar::hidden(),
            quiet: screen.is_quiet(),
            log: OpenOptions::new()
                .append(true)
                .open(folder.join("log.txt"))
                .ok(),
            stop: Arc::default(),
        }
    }

    /// From now on what asks a program to end is a request to stop that the commit heeds where that is clean.
    pub(crate) fn catch_stops(&self) {
        this_pc().heed_stops(&self.stop);
    }

    fn begin(&mut self, what: &'static str, bytes: u64) {
        self.bar.finish_and_clear();
        if !self.quiet {
            let template = "{msg:10} [{bar:30}] {bytes}/{total_bytes} {bytes_per_sec} {eta}";
            let style = ProgressStyle::with_template(template)
                .expect("the template is ours")
                .progress_chars("##-");
            // A bar of its own for each part: none is ever seen at 0 of 0. Hidden by itself where
            // stderr is no terminal.
            self.bar = ProgressBar::new(bytes).with_style(style).with_message(what);
        }
        self.line(&format!("{what}: {}", text::bytes(bytes)));
    }

    fn line(&mut self, line: &str) {
        if self.bar.is_hidden() && !self.quiet {
            eprintln!("{line}");
        }
        // The disk's own record matters more than a line of the log: a full job folder must not
        // stop a stage half-way.
        if let Some(log) = &mut self.log {
            writeln!(log, "{} {line}", jiff::Timestamp::now()).ok();
        }
    }
}

impl Observer for Progress {
    fn wants_to_stop(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    fn event(&mut self, event: Event) {
        match event {
            Event::StageStarted(stage, bytes) => self.begin(stage.name(), bytes),
            // Nothing was written in this part.
            Event::VerifyStarted(0) => {}
            Event::VerifyStarted(bytes) => self.begin("verify", bytes),
            Event::Written(bytes) | Event::Verified(bytes) => self.bar.inc(bytes),
            Event::StageFlushed(stage) => self.line(&format!("{}: on the medium", stage.name())),
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
