//! What the overview reads from a folder's documents: only what it shows, of bounded length.

use std::io;
use std::path::Path;

use schwelle_core::confirm;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::identities::Style;
use schwelle_core::job::{JobKind, JobSummary};
use schwelle_core::rehearse;
use serde::Deserialize;
use serde::de::{DeserializeOwned, IgnoredAny};
use serde_json::Value;

use crate::document;
use crate::text::{cut, typed};
use crate::views::job::{CONFIRMATION, DiskDoc, OUTCOME, RECORD};

/// A text that is shown, at most.
const MOST_COLUMNS: usize = 200;
/// Systems that are shown, at most.
const MOST_SYSTEMS: usize = 8;

/// A text from a document, of a length that an overview can show.
pub(super) fn text(text: &str) -> String {
    cut(text, MOST_COLUMNS)
}

/// Reads a document; `None` if there is none, or if it is damaged.
///
/// # Errors
///
/// It cannot be read.
fn document<T: DeserializeOwned>(summary: &JobSummary, name: &str) -> io::Result<Option<T>> {
    let text = summary.document(name)?;
    Ok(text.and_then(|text| document::read(&text).ok()))
}

/// Of `job.json`.
#[derive(Deserialize)]
pub(super) struct Brief {
    pub(super) started: String,
    pub(super) disk: String,
    pub(super) serial: Option<String>,
    lasting_name: String,
    pub(super) disk_facts: DiskDoc,
    pc: Vec<PcFact>,
    pub(super) plan: Plan,
}

#[derive(Deserialize)]
struct PcFact {
    fact: String,
    value: String,
}

/// Of the plan in it.
#[derive(Deserialize)]
pub(super) struct Plan {
    pub(super) to: Style,
    pub(super) disk_use: DiskUse,
    mended: Vec<IgnoredAny>,
}

impl Plan {
    pub(super) fn kind(&self) -> JobKind {
        match self.mended.is_empty() {
            true => JobKind::Convert,
            false => JobKind::Mend,
        }
    }
}

impl Brief {
    pub(super) fn of(summary: &JobSummary) -> io::Result<Option<Self>> {
        document(summary, RECORD)
    }

    /// Manufacturer and model of the PC.
    pub(super) fn pc(&self) -> Option<String> {
        let fact = |name: &str| self.pc.iter().find(|fact| fact.fact == name);
        let facts = [fact("manufacturer"), fact("model")];
        let named: Vec<&str> = facts.iter().flatten().map(|fact| &*fact.value).collect();
        (!named.is_empty()).then(|| text(&named.join(" ")))
    }

    pub(super) fn systems(&self) -> Vec<String> {
        let systems = self.disk_facts.systems.iter().take(MOST_SYSTEMS);
        systems.map(|system| text(system)).collect()
    }

    /// The name that lasts, or else the one it was given, as it is typed. The folder may hold anything, so what is
    /// typed already is typed anew.
    pub(super) fn disk_as_typed(&self) -> Option<String> {
        let lasting = &*self.lasting_name;
        let bare = ['\'', '"'].into_iter().find_map(|quote| {
            let bare = lasting.strip_prefix(quote)?.strip_suffix(quote)?;
            (!bare.contains(quote)).then_some(bare)
        });
        let names = [bare.unwrap_or(lasting), &self.disk];
        let name = names.into_iter().find(|name| !name.is_empty())?;
        (name.len() <= MOST_COLUMNS).then(|| typed(Path::new(name)))
    }
}

/// Of `outcome.json`.
#[derive(Deserialize)]
pub(super) struct Ended {
    pub(super) finished: String,
    pub(super) rehearsal: Option<Walk>,
    sheet: Option<Sheet>,
    pub(super) exact: Option<bool>,
}

/// Of the rehearsal in it.
#[derive(Deserialize)]
pub(super) struct Walk {
    pub(super) answer: rehearse::Answer,
}

#[derive(Deserialize)]
struct Sheet {
    steps: Vec<Value>,
}

impl Ended {
    pub(super) fn of(summary: &JobSummary) -> io::Result<Option<Self>> {
        document(summary, OUTCOME)
    }

    /// There is an installed Windows that can be asked how it was started: the sheet has a step for it. One that is not to be
    /// carried out yet has none.
    pub(super) fn is_to_be_confirmed(&self) -> bool {
        let steps = self.sheet.iter().flat_map(|sheet| &sheet.steps);
        let mut kinds = steps.filter_map(|step| step.get("kind").and_then(Value::as_str));
        kinds.clone().any(|kind| kind == "confirm") || !kinds.any(|kind| kind == "linux-afterwards")
    }
}

/// Of `confirmation.json`.
#[derive(Deserialize)]
pub(super) struct Confirmed {
    pub(super) made: String,
    pub(super) answer: confirm::Answer,
}

impl Confirmed {
    pub(super) fn of(summary: &JobSummary) -> io::Result<Option<Self>> {
        document(summary, CONFIRMATION)
    }
}
