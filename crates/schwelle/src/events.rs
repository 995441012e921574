//! What `--progress json` puts on stderr: all that people would read there, as lines of JSON, so that one console can
//! show many disks.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::commit::StageKind;
use serde::Serialize;

use crate::document;
use crate::text;

/// A line on stderr with `--progress json`.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Line<'a> {
    /// RFC 3339
    time: String,
    #[serde(flatten)]
    event: Event<'a>,
}

/// What happened.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "event", rename_all = "kebab-case")]
pub(crate) enum Event<'a> {
    /// Something has begun whose length is not known
    Working { what: &'a str },
    /// How far a part of the writing has come: when it begins, then some times a second, and when it is through
    Progress {
        /// The disk
        disk: &'a str,
        /// The stage that is written, or "verify" while all of it is read back
        part: &'a str,
        /// Done so far
        bytes: u64,
        /// To be done in this part
        total: u64,
    },
    /// A stage is on the medium
    Flushed { disk: &'a str, stage: StageKind },
    /// Something to know
    Note { text: &'a str },
    /// Something that must be known although the work is done
    Warning { text: &'a str },
    /// A question that stdin answers
    Question { text: &'a str },
    /// Why the work was not done
    Error {
        /// What, and where
        what: &'a str,
        /// Why it matters
        why: &'a str,
        /// What to type next, each way in a line of its own
        next: &'a str,
        exit_code: u8,
    },
}

/// An event in a line, with the time of now.
pub(crate) fn line(event: Event<'_>) -> String {
    let line = Line {
        time: jiff::Timestamp::now().to_string(),
        event,
    };
    text::safe_json(&document::line(&line)) + "\n"
}
