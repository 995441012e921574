//! The switch sheet: on the screen, as Markdown, as a page to print.

#[cfg(feature = "schema")]
use std::borrow::Cow;
use std::path::Path;

use askama::Template;
#[cfg(feature = "schema")]
use schemars::{JsonSchema, Schema, SchemaGenerator};
use schwelle_core::firmware::{AttachedDisk, Machine, Verdict, verdict_on_loader};
use schwelle_core::profile::REMOVABLE_X64;
use schwelle_core::rehearse::{LinuxOnEsp, Rehearsal};
use schwelle_core::switch::{Already, EntryPlace, Missing, SheetFacts, SheetStep, SwitchSheet};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::common::{answer, item, paragraph};
#[cfg(feature = "schema")]
use super::worded::beside_schema;
use super::worded::{Worded, known};
use crate::disk::Disk;
use crate::policy::Policy;
use crate::screen::{Tone, toned};
use crate::text::{bytes, safe, typed};
use crate::words::{self, sheet::Lines};

/// `firmware sheet`
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Sheet {
    /// The switch may be made
    pub(crate) go: bool,
    /// What is missing; empty for GO
    pub(crate) missing: Vec<LinesDoc<Missing>>,
    pub(crate) pc: String,
    pub(crate) disk: String,
    /// What is right already
    pub(crate) already: Vec<Worded<Already>>,
    pub(crate) steps: Vec<LinesDoc<SheetStep>>,
    pub(crate) secure_boot: Worded<Verdict>,
    pub(crate) leave_alone: Vec<String>,
    pub(crate) trouble: Vec<TroubleDoc>,
    pub(crate) way_back: Vec<String>,
}

/// What can go wrong.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[cfg_attr(feature = "schema", schemars(rename = "Trouble"))]
pub(crate) struct TroubleDoc {
    /// When this is for
    pub(crate) what: String,
    /// What to do about it
    pub(crate) check: String,
}

/// A step, and what to see then.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(bound(serialize = "T: Serialize", deserialize = "T: DeserializeOwned"))]
pub(crate) struct LinesDoc<T> {
    #[serde(flatten, with = "known")]
    pub(crate) value: Option<T>,
    /// What to do
    pub(crate) what: String,
    /// What to see then
    pub(crate) check: String,
}

#[cfg(feature = "schema")]
impl<T: JsonSchema> JsonSchema for LinesDoc<T> {
    fn schema_name() -> Cow<'static, str> {
        format!("Lines{}", T::schema_name()).into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let fields = [("what", "What to do"), ("check", "What to see then")];
        beside_schema::<T>(generator, fields)
    }
}

impl<T> LinesDoc<T> {
    fn of(value: Option<T>, (what, check): Lines) -> Self {
        Self { value, what, check }
    }
}

impl Sheet {
    /// The sheet for a disk, which rehearses like this, in this PC.
    pub(crate) fn of_disk(
        disk: &Disk,
        machine: &Machine,
        rehearsal: &Rehearsal,
        policy: &Policy,
    ) -> Self {
        let profile = &disk.profile;
        let size = bytes(profile.geometry.len_bytes());
        let known_as = match (&profile.host.model, profile.disk_name()) {
            (Some(model), _) => format!("{model}, {size}"),
            (None, Some(name)) => format!("{name}, {size}"),
            (None, None) => size,
        };
        let manufacturer = machine.manufacturer.value();
        let mut systems = profile.systems.iter();
        let needs_csm =
            systems.any(|system| system.needs_csm() != Some(false) && profile.is_started(system));
        let device = &disk.device;
        let linux = LinuxOnEsp::find(device);
        let sheet = SwitchSheet::new(&SheetFacts {
            linux: linux.as_ref(),
            machine,
            rehearsal,
            verdict: &verdict_on_loader(device, machine, REMOVABLE_X64),
            setup_key: manufacturer.and_then(|manufacturer| policy.setup_key(manufacturer)),
            needs_csm,
            encryption: profile
                .opened_systems()
                .next()
                .map(|(_, encryption)| encryption),
            entry: EntryPlace::of(machine, AttachedDisk { name: "", device }),
        });
        Self::of(&sheet, machine, &disk.after_restart(), &known_as)
    }

    /// In words. `disk` is the disk as it is typed, `known_as` what the technician knows it by.
    fn of(sheet: &SwitchSheet, machine: &Machine, disk: &str, known_as: &str) -> Self {
        let missing = sheet.missing.iter().map(|missing| {
            LinesDoc::of(Some(missing.clone()), words::sheet::missing(missing, disk))
        });
        let steps = sheet
            .steps
            .iter()
            .map(|step| LinesDoc::of(Some(step.clone()), words::sheet::step(step, disk, known_as)));
        let already = sheet.already.iter().map(|&already| {
            Worded::of(already, |already| {
                words::sheet::already(*already).to_owned()
            })
        });
        let trouble = words::sheet::trouble(disk).into_iter();
        Self {
            go: sheet.is_go(),
            missing: missing.collect(),
            pc: pc(machine),
            disk: format!("{known_as} ({disk})"),
            already: already.collect(),
            steps: steps.collect(),
            secure_boot: match &sheet.secure_boot {
                Some(verdict) => Worded::of(verdict.clone(), words::secure_boot::advice),
                None => Worded {
                    value: None,
                    text: words::sheet::NO_SECURE_BOOT.to_owned(),
                },
            },
            leave_alone: words::sheet::LEAVE_ALONE.map(str::to_owned).to_vec(),
            trouble: trouble
                .map(|(when, what)| TroubleDoc {
                    what: when,
                    check: what,
                })
                .collect(),
            way_back: words::sheet::WAY_BACK.map(str::to_owned).to_vec(),
        }
    }
}

/// The PC, in a line.
fn pc(machine: &Machine) -> String {
    let name = match (machine.manufacturer.value(), machine.model.value()) {
        (Some(manufacturer), Some(model)) => format!("{manufacturer} {model}"),
        (Some(one), None) | (None, Some(one)) => one.clone(),
        (None, None) => "manufacturer and model are not known".to_owned(),
    };
    let date = machine.firmware_date.value();
    let date = date.map_or(String::new(), |date| format!(", firmware of {date}"));
    format!("{name}{date}")
}

/// Why it says GO.
const GO: &str = "The disk has passed its rehearsal, and the PC can start in UEFI mode.";
/// What it says else.
const NOT_YET: &str = "Do not change the firmware before this is done:";

/// On the screen.
pub(crate) fn render(sheet: &Sheet, written: &[&Path], columns: usize) -> String {
    let heading = |text: &str| format!("\n{}\n", toned(Tone::Heading, text));
    let mut text = format!("{}\n", toned(Tone::Heading, "Switch sheet"));
    text += &paragraph("PC:   ", &sheet.pc, 2, columns);
    text += &paragraph("Disk: ", &sheet.disk, 2, columns);
    if !sheet.go {
        text += &answer(Tone::Bad, "NOT YET", NOT_YET);
        for one in &sheet.missing {
            text += &item("-", &one.what, 2, columns);
            text += &paragraph("", &one.check, 4, columns);
        }
    }
    if !sheet.already.is_empty() {
        text += &heading("Already right");
        for one in &sheet.already {
            text += &item("-", &one.text, 2, columns);
        }
    }
    text += &heading("In this order");
    for (at, step) in sheet.steps.iter().enumerate() {
        text += &item(&format!("{}.", at + 1), &step.what, 2, columns);
        text += &paragraph("You should see: ", &step.check, 5, columns);
    }
    text += &heading("Secure Boot");
    text += &paragraph("", &sheet.secure_boot.text, 2, columns);
    text += &heading("Leave alone");
    for one in &sheet.leave_alone {
        text += &item("-", one, 2, columns);
    }
    text += &heading("If something goes wrong");
    for one in &sheet.trouble {
        text += &item("-", &format!("{}:", one.what), 2, columns);
        text += &paragraph("", &one.check, 4, columns);
    }
    text += &heading("The way back");
    for (at, one) in sheet.way_back.iter().enumerate() {
        text += &item(&format!("{}.", at + 1), one, 2, columns);
    }
    for path in written {
        text += &format!("\nWritten: {}\n", typed(path));
    }
    if sheet.go {
        let print = "Take it along on paper or on a phone: this PC's screen will show its setup. \
            --html FILE makes a page to print.";
        let rest = if written.is_empty() {
            format!("{GO} {print}")
        } else {
            GO.to_owned()
        };
        text += &paragraph_answer(Tone::Good, "GO", &rest, columns);
    } else {
        text += &paragraph_answer(
            Tone::Bad,
            "NOT YET",
            "What is missing is shown above.",
            columns,
        );
    }
    text
}

fn paragraph_answer(tone: Tone, word: &str, rest: &str, columns: usize) -> String {
    let lines = paragraph(&format!("{word}. "), rest, 0, columns);
    let lines = lines
        .strip_prefix(&format!("{word}."))
        .unwrap_or(&lines)
        .to_owned();
    format!("\n{}{lines}", toned(tone, &format!("{word}.")))
}

/// As Markdown.
pub(crate) fn markdown(sheet: &Sheet) -> String {
    let mut text = format!(
        "# Switch sheet\n\n- PC: {}\n- Disk: {}\n\n",
        plain(&sheet.pc),
        plain(&sheet.disk)
    );
    if sheet.go {
        text += &format!("**GO.** {GO}\n");
    } else {
        text += &format!("**NOT YET.** {NOT_YET}\n\n");
        for item in &sheet.missing {
            text += &format!("- {}\n  {}\n", plain(&item.what), plain(&item.check));
        }
    }
    if !sheet.already.is_empty() {
        text += "\n## Already right\n\n";
        for item in &sheet.already {
            text += &format!("- {}\n", plain(&item.text));
        }
    }
    text += "\n## In this order\n\n";
    for (at, step) in sheet.steps.iter().enumerate() {
        let (what, check) = (plain(&step.what), plain(&step.check));
        text += &format!("{}. [ ] {what}\n   *You should see:* {check}\n", at + 1);
    }
    text += &format!("\n## Secure Boot\n\n{}\n", plain(&sheet.secure_boot.text));
    text += "\n## Leave alone\n\n";
    for item in &sheet.leave_alone {
        text += &format!("- {}\n", plain(item));
    }
    text += "\n## If something goes wrong\n\n";
    for item in &sheet.trouble {
        text += &format!("- **{}.** {}\n", plain(&item.what), plain(&item.check));
    }
    text += "\n## The way back\n\n";
    for (at, item) in sheet.way_back.iter().enumerate() {
        text += &format!("{}. {}\n", at + 1, plain(item));
    }
    text
}

/// Text in which nothing is taken as Markdown or markup.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for c in safe(text).chars() {
        if "\\`*_{}[]<>#|&".contains(c) {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

#[derive(Template)]
#[template(path = "switch-sheet.html")]
struct Page<'a> {
    sheet: &'a Sheet,
}

/// As a page to print. The template escapes what it is given.
pub(crate) fn html(sheet: &Sheet) -> String {
    // Control and direction characters first: escaping markup leaves them as they are.
    let mut sheet = sheet.clone();
    for text in [&mut sheet.pc, &mut sheet.disk, &mut sheet.secure_boot.text] {
        *text = safe(text);
    }
    let lines = |what: &mut String, check: &mut String| {
        (*what, *check) = (safe(what), safe(check));
    };
    for one in &mut sheet.missing {
        lines(&mut one.what, &mut one.check);
    }
    for one in &mut sheet.steps {
        lines(&mut one.what, &mut one.check);
    }
    for one in &mut sheet.trouble {
        lines(&mut one.what, &mut one.check);
    }
    Page { sheet: &sheet }
        .render()
        .expect("a template without input or output of its own does not fail")
}
