//! The way to the terminal: colour, width, quiet, JSON.

use std::io::{IsTerminal, Write};
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;

use crate::document;
use crate::error::{CliError, Kind};
use crate::events::{self, Event};
use crate::options::{Common, Shown, WhenColored};
use crate::text::{self, Glyphs};
use crate::words::here::here;

/// Columns where neither the terminal nor `COLUMNS` tells, as in a pipe.
const DEFAULT_COLUMNS: usize = 100;
/// What takes longer says what it is.
const SILENT: Duration = Duration::from_secs(1);

/// What a piece of text is, for its colour. The words say the same without.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tone {
    Good,
    Careful,
    Bad,
    Open,
    Heading,
    Faint,
}

impl Tone {
    fn style(self) -> Style {
        let color = |color: AnsiColor| Style::new().fg_color(Some(color.into()));
        match self {
            Self::Good => color(AnsiColor::Green),
            Self::Careful => color(AnsiColor::Yellow).bold(),
            Self::Bad => color(AnsiColor::Red).bold(),
            Self::Open => color(AnsiColor::Cyan),
            Self::Heading => Style::new().bold(),
            Self::Faint => Style::new().dimmed(),
        }
    }
}

/// Puts text in a tone. Colours are taken out again where they are not wanted.
pub(crate) fn toned(tone: Tone, text: &str) -> String {
    let style = tone.style();
    format!("{style}{text}{style:#}")
}

/// How much fits, and what is wanted beside the necessary.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Look {
    /// Columns to fill.
    pub(crate) columns: usize,
    /// Numbers of sectors beside sizes.
    pub(crate) lba: bool,
    /// Everything in full.
    pub(crate) all: bool,
    /// The terminal can show line and block characters.
    pub(crate) draws: bool,
}

/// Where output goes.
#[derive(Debug)]
pub(crate) struct Screen {
    color: ColorChoice,
    look: Look,
    /// Lines that are too long are broken. Not in a pipe, where a program may look for them.
    fits_lines: bool,
    json: bool,
    quiet: bool,
    /// What would be read on stderr is an event in a line of JSON.
    events: bool,
    /// What the terminals at stdout and stderr can show.
    glyphs: [Glyphs; 2],
}

impl Screen {
    pub(crate) fn new(common: &Common) -> Self {
        let color = match common.color {
            WhenColored::Auto => ColorChoice::Auto,
            WhenColored::Always => ColorChoice::Always,
            WhenColored::Never => ColorChoice::Never,
        };
        let terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
        let shown = || std::env::var("COLUMNS").ok()?.parse().ok();
        let known = terminal.or_else(shown);
        let columns = known.unwrap_or(DEFAULT_COLUMNS);
        let setting = |name: &str| std::env::var(name).ok();
        let glyphs = |is_terminal| match is_terminal {
            true if here().all_characters => Glyphs::All,
            true => Glyphs::of_terminal(setting),
            false => Glyphs::AsTheyAre,
        };
        let look = Look {
            columns: columns.clamp(60, 160),
            lba: common.lba,
            all: false,
            draws: glyphs(std::io::stdout().is_terminal()) == Glyphs::All
                && text::can_draw(setting("TERM").as_deref()),
        };
        Self {
            color,
            look,
            fits_lines: known.is_some(),
            json: common.json,
            quiet: common.quiet,
            events: common.progress == Shown::Json,
            glyphs: [
                glyphs(std::io::stdout().is_terminal()),
                glyphs(std::io::stderr().is_terminal()),
            ],
        }
    }

    /// What the views go by.
    pub(crate) fn look(&self) -> Look {
        self.look
    }

    /// Columns to fill.
    pub(crate) fn columns(&self) -> usize {
        self.look.columns
    }

    /// Columns to fill, where they are known: not in a pipe.
    pub(crate) fn known_columns(&self) -> Option<usize> {
        self.fits_lines.then_some(self.look.columns)
    }

    /// JSON is wanted in place of text.
    pub(crate) fn is_json(&self) -> bool {
        self.json
    }

    /// Neither text nor progress is wanted.
    pub(crate) fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Shows text, unless JSON or silence is wanted.
    pub(crate) fn show(&self, text: &str) {
        if !self.json && !self.quiet {
            self.out(&self.fitted(text));
        }
    }

    /// Says on stderr what takes a while, unless silence is wanted.
    pub(crate) fn note(&self, text: &str) {
        if self.events {
            self.event(Event::Note { text });
        } else if !self.quiet {
            self.err(&format!("{text}\n"));
        }
    }

    /// Says on stderr what must be known although the work is done, also where silence is wanted.
    pub(crate) fn warn(&self, text: &str) {
        if self.events {
            return self.event(Event::Warning { text });
        }
        let mark = toned(Tone::Careful, "warning");
        self.err(&format!("{mark}: {}\n", text::safe(text)));
    }

    /// While this is kept, work is under way that is shown on a terminal if it takes longer than a second, next to a
    /// spinner. Elsewhere nothing is shown, so that the output does not depend on how fast the machine is.
    pub(crate) fn busy(&self, what: impl Into<String>) -> Busy {
        let what = what.into();
        if self.events {
            self.event(Event::Working { what: &what });
        }
        let what = self.glyphs[1].fit(&text::safe(&what));
        Busy::new(what, self.quiet || self.events)
    }

    /// Shows a document when JSON is wanted.
    pub(crate) fn document<T: Serialize>(&self, document: &T) {
        if self.json {
            let text = document::pretty(document);
            self.out(&format!("{}\n", text::safe_json(&text)));
        }
    }

    /// Shows one of several documents, in a line, when JSON is wanted.
    pub(crate) fn document_line<T: Serialize>(&self, document: &T) {
        if self.json {
            let text = document::line(document);
            self.out(&format!("{}\n", text::safe_json(&text)));
        }
    }

    /// True where what happens is wanted as events.
    pub(crate) fn has_events(&self) -> bool {
        self.events
    }

    /// Puts an event on stderr.
    pub(crate) fn event(&self, event: Event<'_>) {
        // A reader that went away is no failure of the job.
        std::io::stderr()
            .write_all(events::line(event).as_bytes())
            .ok();
    }

    fn fitted(&self, text: &str) -> String {
        match self.fits_lines {
            true => text::fit_lines(text, self.look.columns),
            false => text.to_owned(),
        }
    }

    fn out(&self, text: &str) {
        // A reader that went away (a closed pipe) is no failure of the job.
        AutoStream::new(std::io::stdout(), self.color)
            .write_all(self.glyphs[0].fit(text).as_bytes())
            .ok();
    }

    fn err(&self, text: &str) {
        let text = self.fitted(text);
        let mut stderr = AutoStream::new(std::io::stderr(), self.color);
        stderr
            .write_all(self.glyphs[1].fit(&text).as_bytes())
            .and_then(|()| stderr.flush())
            .ok();
    }

    /// Shows an error: what, why it matters, what next.
    pub(crate) fn error(&self, error: &CliError) {
        if self.events {
            return self.event(Event::Error {
                what: &error.what,
                why: error.why,
                next: &error.next,
                exit_code: error.exit_code(),
            });
        }
        let head = match error.kind {
            Kind::Blocked | Kind::Usage | Kind::Unchanged => "error",
            Kind::Stopped => "STOPPED",
        };
        let next: Vec<String> = error.next.lines().map(text::safe).collect();
        let text = format!(
            "{}: {}\n  {}\n  Next: {}\n",
            toned(Tone::Bad, head),
            text::safe(&error.what),
            error.why,
            next.join("\n        ")
        );
        self.err(&text);
    }

    /// Asks a question that is answered with yes or no, in any case and by the first letter too. Anything else is asked
    /// again, three times at most; then, and at the end of the input, it counts as no.
    pub(crate) fn confirms(&self, question: &str) -> bool {
        const TIMES: usize = 3;
        let mut text = format!("{question} (yes/no)");
        for _ in 0..TIMES {
            let Some(answer) = self.ask(&text) else {
                return false;
            };
            match answer.to_lowercase().as_str() {
                "y" | "yes" => return true,
                "n" | "no" => return false,
                _ => text = format!("Please answer yes or no. {question} (yes/no)"),
            }
        }
        false
    }

    /// Asks a question on stderr and reads the answer from stdin; `None` at its end.
    pub(crate) fn ask(&self, question: &str) -> Option<String> {
        match self.events {
            true => self.event(Event::Question { text: question }),
            false => self.err(&format!("{question} ")),
        }
        let mut line = String::new();
        let stdin = std::io::stdin();
        let read = stdin.read_line(&mut line).ok()?;
        if !stdin.is_terminal() && !self.events {
            // It was not typed where the question stands.
            self.err(&format!("{}\n", text::safe(line.trim())));
        }
        (read > 0).then(|| line.trim().to_owned())
    }
}

/// Something that is going on; see [`Screen::busy`].
#[derive(Debug)]
pub(crate) struct Busy {
    done: Option<Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Busy {
    fn new(what: String, quiet: bool) -> Self {
        let (done, wait) = channel();
        let show = move || {
            if wait.recv_timeout(SILENT) != Err(RecvTimeoutError::Timeout) {
                return;
            }
            let bar = ProgressBar::new_spinner().with_style(spinner());
            bar.set_message(what);
            bar.enable_steady_tick(Duration::from_millis(120));
            // An error too means that it is done.
            wait.recv().ok();
            bar.finish_and_clear();
        };
        Self {
            done: Some(done),
            thread: (!quiet).then(|| std::thread::spawn(show)),
        }
    }
}

/// A turning sign that every console can show.
fn spinner() -> ProgressStyle {
    ProgressStyle::with_template("{spinner} {msg}")
        .expect("the template is ours")
        .tick_chars("|/-\\ ")
}

impl Drop for Busy {
    fn drop(&mut self) {
        drop(self.done.take());
        if let Some(thread) = self.thread.take() {
            thread.join().ok();
        }
    }
}
