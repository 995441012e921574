//! The view of a PC's firmware and its document; what the commands below `firmware` show is in `acts`, the switch
//! sheet in `views/sheet.rs`.

mod acts;

use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::firmware::{
    AttachedDisk, BootEntry, BootMode, Fact, Ground, Keys, Machine, Signature, Target,
};
use schwelle_core::host::PowerSource;
use schwelle_core::switch::Settings;
use serde::Serialize;

use super::common::{answer, item, paragraph};
use super::worded::Worded;
use crate::screen::{Tone, toned};
use crate::text::{pad, safe, typed};
use crate::words;
use crate::words::here::here;

pub(crate) use acts::{EntryWritten, SettingsDoc, SetupAsked, Started, render_entry, render_start};

/// `firmware`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Firmware {
    manufacturer: FactDoc<String>,
    model: FactDoc<String>,
    firmware: FactDoc<String>,
    firmware_date: FactDoc<String>,
    /// The PC can start in UEFI mode
    uefi: FactDoc<bool>,
    /// 32 or 64
    bits: FactDoc<u32>,
    /// How this session was started: "bios" or "uefi"
    session: FactDoc<String>,
    /// What the firmware is set to: "bios", "uefi" or "both"
    mode: FactDoc<String>,
    /// The CSM is on
    csm: FactDoc<bool>,
    secure_boot: FactDoc<bool>,
    /// Keys may be changed by anybody; Secure Boot cannot go on
    setup_mode: FactDoc<bool>,
    keys: FactDoc<KeysDoc>,
    /// What its manufacturer delivers, and its setup can enrol
    factory_keys: FactDoc<KeysDoc>,
    /// Those in the boot order first, in that order
    entries: FactDoc<Vec<EntryDoc>>,
    /// A session can ask for the setup screen at the next start
    can_ask_for_setup: FactDoc<bool>,
    /// "mains" or "battery"
    power: FactDoc<String>,
    /// Disks that could not be read: entries may lead to them
    unreadable_disks: Vec<String>,
}

/// A fact about a PC.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct FactDoc<T> {
    /// null when it is not reported
    value: Option<T>,
    /// Where from, or why not
    evidence: Worded<Ground>,
    /// How to find out, when it is not reported
    how: Option<String>,
}

/// Enrolled keys: the subjects of the certificates.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct KeysDoc {
    platform: Vec<String>,
    exchange: Vec<String>,
    /// In db
    allowed: Vec<String>,
    /// In dbx
    forbidden: Vec<String>,
    /// Hashes in db
    allowed_hashes: usize,
    /// Hashes in dbx
    forbidden_hashes: usize,
}

/// A boot entry.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct EntryDoc {
    /// "Boot0001"
    name: String,
    /// Place in the boot order, from 1; null where it is not in it
    place: Option<usize>,
    description: Option<String>,
    active: bool,
    /// What it leads to, in words
    target: String,
    /// The file it leads to is on an attached disk; null where it leads to something else than a file
    found: Option<bool>,
}

impl Firmware {
    pub(crate) fn of(
        machine: &Machine,
        disks: &[AttachedDisk<'_>],
        unreadable_disks: Vec<String>,
    ) -> Self {
        let entry = |entry: &BootEntry| entry_doc(entry, disks);
        let entries = |entries: &Vec<BootEntry>| entries.iter().map(entry).collect();
        let mode = |mode: &BootMode| mode.name().to_owned();
        Self {
            manufacturer: fact(&machine.manufacturer, Clone::clone),
            model: fact(&machine.model, Clone::clone),
            firmware: fact(&machine.firmware, Clone::clone),
            firmware_date: fact(&machine.firmware_date, Clone::clone),
            uefi: fact(&machine.uefi, |&value| value),
            bits: fact(&machine.bits, |&value| value),
            session: fact(&machine.session, mode),
            mode: fact(&machine.mode, mode),
            csm: fact(&machine.csm, |&value| value),
            secure_boot: fact(&machine.secure_boot, |&value| value),
            setup_mode: fact(&machine.setup_mode, |&value| value),
            keys: fact(&machine.keys, keys_doc),
            factory_keys: fact(&machine.factory_keys, keys_doc),
            entries: fact(&machine.entries, entries),
            can_ask_for_setup: fact(&machine.can_ask_for_setup, |&value| value),
            power: fact(&machine.power, |power| {
                match power {
                    PowerSource::Mains => "mains",
                    PowerSource::Battery => "battery",
                    PowerSource::Unknown => "not known",
                }
                .to_owned()
            }),
            unreadable_disks,
        }
    }
}

fn fact<T, U>(fact: &Fact<T>, of: impl Fn(&T) -> U) -> FactDoc<U> {
    FactDoc {
        value: fact.value().map(of),
        evidence: Worded::of(fact.ground().clone(), words::facts::ground),
        how: fact.how().map(|how| words::facts::how(how).to_owned()),
    }
}

fn keys_doc(keys: &Keys) -> KeysDoc {
    let hashes = |list: &[Signature]| {
        let is_certificate = |entry: &&Signature| matches!(entry, Signature::Certificate(_));
        list.len() - list.iter().filter(is_certificate).count()
    };
    KeysDoc {
        platform: Keys::subjects(&keys.platform),
        exchange: Keys::subjects(&keys.exchange),
        allowed: Keys::subjects(&keys.allowed),
        forbidden: Keys::subjects(&keys.forbidden),
        allowed_hashes: hashes(&keys.allowed),
        forbidden_hashes: hashes(&keys.forbidden),
    }
}

fn entry_doc(entry: &BootEntry, disks: &[AttachedDisk<'_>]) -> EntryDoc {
    let option = entry.option.as_ref().ok();
    let name = |disk: usize| disks.get(disk).map_or("", |disk| disk.name);
    let (target, found) = match &entry.option {
        Err(error) => (error.to_string(), Some(false)),
        Ok(option) => match Target::of(option, disks) {
            Target::File {
                disk,
                partition,
                path,
            } => (
                format!("{}, partition {partition}, {path}", name(disk)),
                Some(true),
            ),
            Target::NoFile {
                disk,
                partition,
                path,
            } => {
                let text = format!("{}, partition {partition}, {path}: not there", name(disk));
                (text, Some(false))
            }
            Target::NoPartition => (
                "a partition that is on no attached disk".to_owned(),
                Some(false),
            ),
            Target::Other(what) => (words::facts::other_target(what).to_owned(), None),
        },
    };
    EntryDoc {
        name: format!("Boot{:04X}", entry.number),
        place: entry.place.map(|place| place + 1),
        description: option.map(|option| option.description.clone()),
        active: option.is_some_and(|option| option.is_active()),
        target,
        found,
    }
}

/// Columns before a fact's value.
const INDENT: usize = 26;

/// The facts of a PC.
pub(crate) fn render(
    name: &str,
    facts: &Firmware,
    settings: Option<&Settings>,
    file: Option<&Path>,
    columns: usize,
) -> String {
    let switch = |on: &bool| if *on { "on" } else { "off" }.to_owned();
    let yes = |yes: &bool| if *yes { "yes" } else { "no" }.to_owned();
    let mut list = FactList::new(columns);
    list.add("Manufacturer", &facts.manufacturer, String::clone);
    list.add("Model", &facts.model, String::clone);
    list.add("Firmware", &facts.firmware, String::clone);
    list.add("Firmware date", &facts.firmware_date, String::clone);
    list.add("UEFI mode", &facts.uefi, |can| {
        if *can { "supported" } else { "not supported" }.to_owned()
    });
    list.add("Firmware architecture", &facts.bits, |bits| {
        format!("{bits}-bit")
    });
    list.add("This session", &facts.session, |mode| {
        format!("started in {} mode", mode.to_uppercase())
    });
    list.add("Boot mode", &facts.mode, |mode| mode.to_uppercase());
    list.add("CSM", &facts.csm, switch);
    list.add("Secure Boot", &facts.secure_boot, switch);
    list.add("Setup mode", &facts.setup_mode, yes);
    list.add("Setup screen on demand", &facts.can_ask_for_setup, yes);
    if let Some(settings) = settings {
        list.line("Setup password", &switch(&settings.setup_password));
    }
    list.add("Power", &facts.power, String::clone);
    list.add("Enrolled keys", &facts.keys, keys_line);
    list.add("Factory keys", &facts.factory_keys, keys_line);
    if facts.entries.value.is_none() {
        list.add("Boot entries", &facts.entries, |_| String::new());
    }
    let mut text = format!("{}\n{}", toned(Tone::Heading, &safe(name)), list.text);
    if let Some(entries) = &facts.entries.value {
        let heading = "Boot entries, in the order they are tried";
        text += &format!("\n{}\n", toned(Tone::Heading, heading));
        if entries.is_empty() {
            text += "  none: the firmware looks for \\EFI\\BOOT\\BOOTX64.EFI on each disk\n";
        }
        for entry in entries {
            text += &entry_lines(entry, columns);
        }
        text += &not_read(&facts.unreadable_disks, columns);
    }
    let (tone, word) = match facts.uefi.value {
        Some(true) => (Tone::Good, "It can start in UEFI mode"),
        Some(false) => (Tone::Bad, "It cannot start in UEFI mode"),
        None => (
            Tone::Open,
            "Whether it can start in UEFI mode is not reported",
        ),
    };
    let option = file.map_or(String::new(), |file| format!(" --machine {}", typed(file)));
    let next = format!("Next, for a disk in it: schwelle firmware sheet DISK{option}");
    text += &list.how_to_find_out();
    if let Some(about) = here().about_facts.filter(|_| file.is_none()) {
        text += &format!("\n{}", paragraph("", about, 0, columns));
    }
    text + &answer(tone, word, &next)
}

/// Which disks could not be looked at.
fn not_read(disks: &[String], columns: usize) -> String {
    if disks.is_empty() {
        return String::new();
    }
    let text = format!(
        "Not read (run it {}): {}. What leads nowhere above may lead there.",
        here().with_rights,
        disks.join(", ")
    );
    paragraph("", &text, 2, columns)
}

/// Facts, a line each; how to find out what is not reported comes after all of them, each way once.
struct FactList {
    text: String,
    ways: Vec<(String, Vec<&'static str>)>,
    columns: usize,
}

impl FactList {
    fn new(columns: usize) -> Self {
        Self {
            text: String::new(),
            ways: Vec::new(),
            columns,
        }
    }

    fn line(&mut self, label: &str, value: &str) {
        let body = paragraph("", value, INDENT, self.columns);
        self.text += &format!("  {}{}", pad(label, INDENT - 2), body.trim_start());
    }

    fn add<T>(&mut self, label: &'static str, fact: &FactDoc<T>, show: impl Fn(&T) -> String) {
        match &fact.value {
            Some(value) => self.line(
                label,
                &format!("{}   [{}]", show(value), fact.evidence.text),
            ),
            None => self.line(label, &format!("not reported: {}", fact.evidence.text)),
        }
        if let Some(how) = &fact.how {
            match self.ways.iter_mut().find(|(known, _)| known == how) {
                Some((_, labels)) => labels.push(label),
                None => self.ways.push((how.clone(), vec![label])),
            }
        }
    }

    fn how_to_find_out(&self) -> String {
        if self.ways.is_empty() {
            return String::new();
        }
        let mut text = format!(
            "\n{}\n",
            toned(Tone::Heading, "To find out what is not reported")
        );
        for (how, labels) in &self.ways {
            text += &item(
                "-",
                &format!("{}: {how}", labels.join(", ")),
                2,
                self.columns,
            );
        }
        text
    }
}

fn keys_line(keys: &KeysDoc) -> String {
    let list = |names: &[String], hashes: usize| {
        let mut all: Vec<String> = names.iter().map(|name| format!("\"{name}\"")).collect();
        if hashes > 0 {
            all.push(format!("{hashes} hashes"));
        }
        if all.is_empty() {
            "none".to_owned()
        } else {
            all.join(", ")
        }
    };
    format!(
        "platform key {}; may start (db): {}; may not (dbx): {}",
        list(&keys.platform, 0),
        list(&keys.allowed, keys.allowed_hashes),
        list(&keys.forbidden, keys.forbidden_hashes)
    )
}

fn entry_lines(entry: &EntryDoc, columns: usize) -> String {
    let place = entry
        .place
        .map_or("-".to_owned(), |place| place.to_string());
    let (tone, mark) = match (entry.found, entry.active) {
        (Some(true), true) => (Tone::Good, "+"),
        (Some(false), true) => (Tone::Careful, "!"),
        (None, true) | (_, false) => (Tone::Faint, " "),
    };
    let description = entry.description.as_deref().unwrap_or("?");
    let off = if entry.active { "" } else { ", not active" };
    let body = format!("\"{description}\"{off} -> {}", entry.target);
    let body = paragraph("", &body, 18, columns);
    format!(
        "  {place:>2} {} {}  {}",
        toned(tone, mark),
        pad(&entry.name, 10),
        body.trim_start()
    )
}
