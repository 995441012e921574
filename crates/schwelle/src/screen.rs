//! The way to the terminal: colour, width, quiet, JSON.

use std::io::Write;

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use serde::Serialize;

use crate::cli::{ColorWish, Common};
use crate::error::{CliError, Kind};
use crate::text;

/// Columns where the terminal does not tell, as in a pipe.
const DEFAULT_COLUMNS: usize = 100;

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

/// Where output goes.
#[derive(Debug)]
pub(crate) struct Screen {
    color: ColorChoice,
    columns: usize,
    json: bool,
    quiet: bool,
}

impl Screen {
    pub(crate) fn new(common: &Common) -> Self {
        let color = match common.color {
            ColorWish::Auto => ColorChoice::Auto,
            ColorWish::Always => ColorChoice::Always,
            ColorWish::Never => ColorChoice::Never,
        };
        let told = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
        let columns = told.unwrap_or(DEFAULT_COLUMNS).clamp(60, 160);
        Self {
            color,
            columns,
            json: common.json,
            quiet: common.quiet,
        }
    }

    /// Columns to fill.
    pub(crate) fn columns(&self) -> usize {
        self.columns
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
            self.out(text);
        }
    }

    /// Says on stderr what takes a while, unless silence is wanted.
    pub(crate) fn note(&self, text: &str) {
        if !self.quiet {
            let line = format!("{text}\n");
            AutoStream::new(std::io::stderr(), self.color)
                .write_all(line.as_bytes())
                .ok();
        }
    }

    /// Shows a document when JSON is wanted.
    pub(crate) fn document<T: Serialize>(&self, document: &T) {
        if self.json {
            let text = serde_json::to_string_pretty(document)
                .expect("documents hold only text, numbers and lists");
            self.out(&format!("{text}\n"));
        }
    }

    /// Shows one of several documents, in a line, when JSON is wanted.
    pub(crate) fn document_line<T: Serialize>(&self, document: &T) {
        if self.json {
            let text = serde_json::to_string(document)
                .expect("documents hold only text, numbers and lists");
            self.out(&format!("{text}\n"));
        }
    }

    fn out(&self, text: &str) {
        // A reader that went away (a closed pipe) is no failure of the job.
        AutoStream::new(std::io::stdout(), self.color)
            .write_all(text.as_bytes())
            .ok();
    }

    /// Shows an error: what, why it matters, what next.
    pub(crate) fn error(&self, error: &CliError) {
        let head = match error.kind {
            Kind::Blocked | Kind::Usage | Kind::Unchanged => "error",
            Kind::Stopped => "STOPPED",
        };
        let text = format!(
            "{}: {}\n  {}\n  Next: {}\n",
            toned(Tone::Bad, head),
            text::safe(&error.what),
            error.why,
            text::safe(&error.next)
        );
        AutoStream::new(std::io::stderr(), self.color)
            .write_all(text.as_bytes())
            .ok();
    }

    /// Asks a question on stderr and reads the answer from stdin; `None` at its end.
    pub(crate) fn ask(&self, question: &str) -> Option<String> {
        let mut stderr = AutoStream::new(std::io::stderr(), self.color);
        stderr
            .write_all(format!("{question} ").as_bytes())
            .and_then(|()| stderr.flush())
            .ok();
        let mut line = String::new();
        let read = std::io::stdin().read_line(&mut line).ok()?;
        (read > 0).then(|| line.trim().to_owned())
    }
}
