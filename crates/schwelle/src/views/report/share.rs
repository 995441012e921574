//! The report for asking a colleague: layout and findings as they are, without what names people, PCs, disks and files.
//! What a text is goes by the key under which it stands; sentences are made anew from the values, once those are
//! replaced.

use std::collections::BTreeMap;
use std::path::Path;

use schwelle_core::profile::is_systems_own;

use super::{Report, with_texts};

/// A shorter name is not looked for within sentences: it is also part of words.
const SHORTEST: usize = 4;

/// What the text under a key is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Sort {
    /// It identifies no one, and stays: words of closed sets, times, hashes, versions, GUIDs, names of types.
    Plain,
    /// It names something of this one disk or PC, and is replaced by this word with a number.
    Names(&'static str),
    /// A path on a volume; it stays where every Windows installation has it.
    Path,
    /// A sentence of ours that may name the disk, the job folder, the PC or the workshop.
    Sentence,
    /// What a reader's error says; it may also name a file.
    Cause,
    /// A sentence that is made anew from the value beside it.
    Retold,
}

/// Every key of the report with a text.
const SORTS: &[(Sort, &[&str])] = &[
    (
        Sort::Plain,
        &[
            "operation",
            "after",
            "answer",
            "answered_by",
            "as_device",
            "attributes",
            "backup",
            "because",
            "before",
            "blake3",
            "by",
            "change",
            "code",
            "copies",
            "copy",
            "disk_use",
            "do",
            "encrypted",
            "fact",
            "fields",
            "fat",
            "finished",
            "foreign",
            "gpt-partition",
            "gpt_type",
            "hive",
            "how",
            "id",
            "ids",
            "issuer",
            "kept",
            "key",
            "kind",
            "letter",
            "letters",
            "loader",
            "machine",
            "made",
            "made_by",
            "manager",
            "missing",
            "mode",
            "model",
            "name",
            "names",
            "object",
            "opened_by",
            "origin",
            "outcome",
            "own",
            "owner",
            "partition",
            "primary",
            "program",
            "programs",
            "recovery_ids",
            "role",
            "rule",
            "says",
            "section",
            "set",
            "severity",
            "signer",
            "stage",
            "started",
            "started_from",
            "state",
            "step",
            "store",
            "style",
            "system",
            "systems",
            "table",
            "through",
            "to",
            "type",
            "version",
            "volume",
            "volume_id",
            "warning",
            "was",
            "weight",
            "why",
            "written",
        ],
    ),
    (Sort::Names("label"), &["label"]),
    (
        Sort::Names("entry"),
        &["becomes", "default", "entries", "taken_out", "title"],
    ),
    (Sort::Names("name"), &["disk_name"]),
    (Sort::Names("serial number"), &["serial"]),
    (Sort::Names("workshop"), &["shop"]),
    (Sort::Names("question"), &["questions"]),
    (Sort::Names("line"), &["line"]),
    (
        Sort::Names("file"),
        &["at", "file_name", "file_names", "files", "lost"],
    ),
    (
        Sort::Path,
        &[
            "place",
            "folder",
            "menu_path",
            "ram_disks",
            "root",
            "files_added",
            "files_replaced",
            "path",
        ],
    ),
    (
        Sort::Sentence,
        &[
            "check",
            "command",
            "device",
            "disk",
            "file",
            "job",
            "leave_alone",
            "log",
            "pc",
            "value",
            "way_back",
            "what",
        ],
    ),
    (Sort::Cause, &["fault", "unread"]),
    (Sort::Retold, &["text"]),
];

/// What the text under a key is. What is not known may name anything.
fn sort_of(key: &str) -> Sort {
    let found = SORTS.iter().find(|(_, keys)| keys.contains(&key));
    found.map_or(Sort::Names("text"), |(sort, _)| *sort)
}

/// The report with everything replaced that identifies a person or a thing.
pub(crate) fn shared(report: &Report) -> Report {
    let mut masks = Masks::default();
    masks.identity("disk", &report.disk);
    masks.identity("job folder", &report.job);
    let names = [
        ("workshop", &report.shop),
        ("serial number", &report.serial),
        ("name", &report.disk_facts.disk_name),
    ];
    for (word, name) in names {
        name.iter().for_each(|name| masks.identity(word, name));
    }
    let mut report = with_texts(report, &mut |key, text| match sort_of(key) {
        _ if text.is_empty() => String::new(),
        Sort::Plain | Sort::Retold => text.to_owned(),
        Sort::Names(word) => masks.of(word, text),
        Sort::Path => masks.path(text),
        Sort::Sentence => masks.sentence(text),
        Sort::Cause => masks.cause(text),
    });
    report.retell();
    report.shared = true;
    report
}

/// What is replaced, and by what.
#[derive(Debug, Default)]
struct Masks {
    /// By the text that is replaced.
    known: BTreeMap<String, String>,
    counts: BTreeMap<&'static str, usize>,
    /// What is also looked for within sentences; what is contained in another one comes after it.
    identities: Vec<String>,
}

impl Masks {
    /// The mask of a text; the same one for the same text.
    fn of(&mut self, word: &'static str, text: &str) -> String {
        if let Some(known) = self.known.get(text) {
            return known.clone();
        }
        let count = self.counts.entry(word).or_default();
        *count += 1;
        let mask = format!("[{word} {count}]");
        self.known.insert(text.to_owned(), mask.clone());
        mask
    }

    /// A name that sentences may hold: a path also as the name of its file.
    fn identity(&mut self, word: &'static str, name: &str) {
        let file = Path::new(name).file_name().and_then(|name| name.to_str());
        for name in [Some(name), file].into_iter().flatten() {
            // Where a disk is attached identifies no one.
            if name.starts_with("/dev/") || self.known.contains_key(name) {
                continue;
            }
            self.of(word, name);
            if name.chars().count() >= SHORTEST {
                self.identities.push(name.to_owned());
            }
        }
        self.identities
            .sort_by_key(|name| std::cmp::Reverse(name.len()));
    }

    fn path(&mut self, path: &str) -> String {
        match is_systems_own(path) {
            true => path.to_owned(),
            false => self.of("file", path),
        }
    }

    fn sentence(&self, text: &str) -> String {
        if let Some(mask) = self.known.get(text) {
            return mask.clone();
        }
        let mut text = text.to_owned();
        for name in &self.identities {
            if let Some(mask) = self.known.get(name) {
                text = replaced(&text, name, mask);
            }
        }
        text
    }

    /// Paths in it go from a backslash to a colon, which no name has; what is quoted is a name too.
    fn cause(&mut self, text: &str) -> String {
        let text = self.sentence(text);
        let pieces = text.split('"').enumerate();
        let pieces = pieces.map(|(at, piece)| match at % 2 {
            1 => self.path(piece),
            _ => match piece.find('\\') {
                None => piece.to_owned(),
                Some(at) => {
                    let (before, path) = piece.split_at(at);
                    let (path, after) = path.split_at(path.find(':').unwrap_or(path.len()));
                    format!("{before}{}{after}", self.path(path))
                }
            },
        });
        pieces.collect::<Vec<_>>().join("\"")
    }
}

/// Replaces a name wherever it stands, in any case.
fn replaced(text: &str, name: &str, mask: &str) -> String {
    let (mut out, mut rest) = (String::new(), text);
    while let Some((at, len)) = position(rest, name) {
        let (before, found) = rest.split_at(at);
        out += before;
        out += mask;
        rest = found.split_at(len).1;
    }
    out + rest
}

/// Where the name stands, and the length of what stands there.
fn position(text: &str, name: &str) -> Option<(usize, usize)> {
    let mut places = text.char_indices();
    places.find_map(|(at, _)| Some((at, matched(text.get(at..)?, name)?)))
}

/// The length of what stands at the beginning of `text` and is `name` but for upper and lower case.
fn matched(text: &str, name: &str) -> Option<usize> {
    let mut at = text.char_indices();
    for wanted in name.chars() {
        let (_, found) = at.next()?;
        if !found.to_lowercase().eq(wanted.to_lowercase()) {
            return None;
        }
    }
    Some(at.next().map_or(text.len(), |(at, _)| at))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use serde_json::Value;

    use super::*;

    /// The keys with a text, below a schema.
    fn texts(schema: &Value, key: &str, all: &Value, seen: &mut BTreeSet<(String, String)>) {
        if let Some(name) = schema["$ref"].as_str() {
            if seen.insert((key.to_owned(), name.to_owned())) {
                let name = name.trim_start_matches("#/$defs/");
                texts(&all["$defs"][name], key, all, seen);
            }
            return;
        }
        let is_text = match &schema["type"] {
            Value::Array(types) => types.iter().any(|one| one == "string"),
            one => one == "string",
        };
        if is_text || schema["const"].is_string() {
            seen.insert((key.to_owned(), String::new()));
        }
        for forms in ["oneOf", "anyOf", "allOf", "prefixItems"] {
            let forms = schema[forms].as_array().into_iter().flatten();
            forms.for_each(|form| texts(form, key, all, seen));
        }
        for inner in ["items", "additionalProperties"] {
            if let Some(inner) = schema.get(inner).filter(|inner| inner.is_object()) {
                texts(inner, key, all, seen);
            }
        }
        let properties = schema["properties"].as_object().into_iter().flatten();
        properties.for_each(|(key, property)| texts(property, key, all, seen));
    }

    #[test]
    fn what_every_text_of_a_report_is_has_been_thought_about() {
        let schema = serde_json::to_value(schemars::schema_for!(Report)).unwrap();
        let mut seen = BTreeSet::new();
        texts(&schema, "", &schema, &mut seen);
        let found: BTreeSet<&str> = seen
            .iter()
            .filter(|(_, name)| name.is_empty())
            .map(|(key, _)| key.as_str())
            .collect();
        let listed: Vec<&str> = SORTS.iter().flat_map(|(_, keys)| *keys).copied().collect();
        assert_eq!(listed.iter().copied().collect::<BTreeSet<_>>(), found);
        assert_eq!(listed.len(), found.len(), "a key stands in one place");
    }

    #[test]
    fn names_go_and_what_is_ours_stays() {
        let mut masks = Masks::default();
        masks.identity("name", "LANTERN-ONE");
        masks.identity("disk", "/home/tom/Kunde Holm.img");
        masks.identity("job folder", "job");
        for (text, shown) in [
            ("Lantern-One, 600 MiB", "[name 1], 600 MiB"),
            (
                "/home/tom/Kunde Holm.img (LANTERN-ONE)",
                "[disk 1] ([name 1])",
            ),
            ("kunde holm.IMG", "[disk 2]"),
            ("the job goes on", "the job goes on"),
            ("job", "[job folder 1]"),
        ] {
            assert_eq!(masks.sentence(text), shown);
        }
        for (text, shown) in [
            (
                "\\Users\\Ada Holm\\a, b (1).txt: LBA 5: bad",
                "[file 1]: LBA 5: bad",
            ),
            ("\\Boot\\BCD: 9 objects", "\\Boot\\BCD: 9 objects"),
            (
                "the name \"\\EFI\\Ada\" is none",
                "the name \"[file 2]\" is none",
            ),
        ] {
            assert_eq!(masks.cause(text), shown);
        }
    }
}
