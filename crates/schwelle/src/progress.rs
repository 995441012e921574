//! Shows how a commit goes: a bar on a terminal, plain lines elsewhere, or events, and always the log of the
//! job. Takes the request to stop.

use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crate::events::Event as Happened;
use crate::screen::Screen;
use crate::text;
use indicatif::{ProgressBar, ProgressStyle};
use schwelle_core::commit::{Event, Observer};
use schwelle_core::host::this_pc;

/// Events of a part are this far from each other, but for its first and last.
const BETWEEN: Duration = Duration::from_millis(200);

/// Takes the events of a commit.
pub(crate) struct Progress<'a> {
    screen: &'a Screen,
    /// The disk, as it is named.
    disk: String,
    bar: ProgressBar,
    part: Option<Running>,
    log: Option<File>,
    stop: Arc<AtomicBool>,
}

/// The part that is being written, or read back.
struct Running {
    name: &'static str,
    bytes: u64,
    total: u64,
    shown: Instant,
}

impl<'a> Progress<'a> {
    /// Progress on `disk` of the job in `folder`, which goes to its log as well.
    pub(crate) fn new(screen: &'a Screen, disk: &Path, folder: &Path) -> Self {
        Self {
            screen,
            disk: disk.display().to_string(),
            bar: ProgressBar::hidden(),
            part: None,
            log: this_pc()
                .hold_folder(folder)
                .and_then(|folder| folder.open("log.txt", true))
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
        if self.screen.has_events() {
            self.part = Some(Running {
                name: what,
                bytes: 0,
                total: bytes,
                shown: Instant::now(),
            });
            self.say_part();
        } else if !self.screen.is_quiet() {
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

    fn go_on(&mut self, bytes: u64) {
        self.bar.inc(bytes);
        let Some(running) = &mut self.part else {
            return;
        };
        running.bytes = running.bytes.saturating_add(bytes);
        if running.bytes >= running.total || running.shown.elapsed() >= BETWEEN {
            running.shown = Instant::now();
            self.say_part();
        }
    }

    fn say_part(&self) {
        if let Some(running) = &self.part {
            self.screen.event(Happened::Progress {
                disk: &self.disk,
                part: running.name,
                bytes: running.bytes,
                total: running.total,
            });
        }
    }

    fn line(&mut self, line: &str) {
        let is_shown = !self.screen.is_quiet() && !self.screen.has_events();
        if self.bar.is_hidden() && is_shown {
            eprintln!("{line}");
        }
        // The disk's own record matters more than a line of the log: a full job folder must not
        // stop a stage half-way.
        if let Some(log) = &mut self.log {
            let text = format!("{} {line}\n", jiff::Timestamp::now());
            let added = log.seek(SeekFrom::End(0));
            added.and_then(|_| log.write_all(text.as_bytes())).ok();
        }
    }
}

impl Observer for Progress<'_> {
    fn wants_to_stop(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    fn event(&mut self, event: Event) {
        match event {
            Event::StageStarted(stage, bytes) => self.begin(stage.name(), bytes),
            // Nothing was written in this part.
            Event::VerifyStarted(0) => {}
            Event::VerifyStarted(bytes) => self.begin("verify", bytes),
            Event::Written(bytes) | Event::Verified(bytes) => self.go_on(bytes),
            Event::StageFlushed(stage) => {
                if self.screen.has_events() {
                    let disk = &self.disk;
                    self.screen.event(Happened::Flushed { disk, stage });
                }
                self.line(&format!("{}: on the medium", stage.name()));
            }
        }
    }
}

impl Drop for Progress<'_> {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
