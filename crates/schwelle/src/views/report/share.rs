//! The report for asking a colleague: layout and findings as they are, without what names people, PCs, disks
//! and files.

use std::collections::BTreeMap;
use std::path::Path;

use super::{Report, with_texts};

/// Words that stand on many disks, and in our own texts: they name nobody.
const COMMON: &[&str] = &[
    "and",
    "basic",
    "boot",
    "cd",
    "data",
    "dev",
    "disk",
    "drive",
    "efi",
    "hdd",
    "home",
    "img",
    "job",
    "jobs",
    "local",
    "manager",
    "media",
    "microsoft",
    "mnt",
    "new",
    "no",
    "os",
    "partition",
    "raw",
    "re",
    "recovery",
    "reserved",
    "root",
    "run",
    "sda",
    "sdb",
    "ssd",
    "system",
    "the",
    "tmp",
    "tools",
    "usb",
    "user",
    "usr",
    "var",
    "volume",
    "windows",
    "work",
];

/// Folders and files that every Windows has; paths of nothing else name nobody.
const SYSTEM_NAMES: &[&str] = &[
    "bcd",
    "boot",
    "bootmgfw.efi",
    "bootmgfw_ex.efi",
    "bootmgr",
    "bootmgr.efi",
    "bootmgr_ex.efi",
    "bootx64.efi",
    "bootia32.efi",
    "bootaa64.efi",
    "bootnxt",
    "bootstat.dat",
    "config",
    "crossing.json",
    "efi",
    "efi_ex",
    "fonts",
    "fonts_ex",
    "hiberfil.sys",
    "memtest.efi",
    "memtest.exe",
    "microsoft",
    "ntoskrnl.exe",
    "pcat",
    "reagent.xml",
    "recovery",
    "resources",
    "resources_ex",
    "schwelle",
    "software",
    "system",
    "system32",
    "windows",
    "windowsre",
    "winload.efi",
    "winload.exe",
    "winre.wim",
    "winresume.efi",
    "winresume.exe",
];

/// The report with everything replaced that names somebody or something.
pub(crate) fn shared(report: &Report) -> Report {
    let mut names = Names::default();
    names.add_path("path", &report.disk);
    names.add_path("path", &report.job);
    names.add("workshop", report.shop.as_deref());
    names.add("serial number", report.serial.as_deref());
    names.add("name", report.disk_facts.short_name.as_deref());
    for question in &report.questions {
        names.add("question", Some(question));
    }
    if let Some(draft) = &report.plan.draft {
        for part in draft.before.iter().chain(&draft.after) {
            names.add("label", Some(&part.label));
        }
        if let Some(menu) = &draft.menu {
            let titles = menu
                .entries
                .iter()
                .chain(&menu.default)
                .chain(&menu.taken_out);
            titles.for_each(|title| names.add("entry", Some(title)));
        }
    }
    names.sort();
    let mut report = with_texts(report, &mut |key, text| match key {
        // A label that is too short to be looked for in other texts is replaced where it stands.
        "label" if !is_common(text) => names.known(text).unwrap_or_else(|| "label".to_owned()),
        "label" | "made" | "started" | "finished" | "blake3" | "before" | "after" => {
            text.to_owned()
        }
        "title" | "becomes" if !is_common(text) => {
            names.known(text).unwrap_or_else(|| "text".to_owned())
        }
        // The names of files that an audit or a look into a folder has come upon.
        "name" | "names" if !is_windows(text) => names.file(text),
        "signer" | "issuer" | "through" => text.to_owned(),
        _ => names.replace(text, ["fault", "log", "what"].contains(&key)),
    });
    report.retell();
    report.shop = None;
    report.shared = true;
    report
}

/// What is replaced, and by what.
#[derive(Debug, Default)]
struct Names {
    /// The longest first.
    known: Vec<(String, String)>,
    counts: BTreeMap<&'static str, usize>,
    files: Vec<String>,
}

/// The name of a Windows, as the registry has it.
fn is_windows(text: &str) -> bool {
    text.starts_with("Windows ")
}

/// A text in which every word is one of many disks', or a number.
fn is_common(text: &str) -> bool {
    text.split(|c: char| !c.is_alphanumeric()).all(|word| {
        let word = word.to_lowercase();
        word.chars().all(|c| c.is_ascii_digit()) && word.len() < 5
            || COMMON.contains(&word.as_str())
    })
}

impl Names {
    fn add(&mut self, kind: &'static str, name: Option<&str>) {
        let Some(name) = name.filter(|name| !is_common(name)) else {
            return;
        };
        if self.known.iter().any(|(known, _)| known == name) {
            return;
        }
        let count = self.counts.entry(kind).or_default();
        *count += 1;
        self.known
            .push((name.to_owned(), format!("[{kind} {count}]")));
    }

    /// A path as a whole, and each part of it that is no common word.
    fn add_path(&mut self, kind: &'static str, path: &str) {
        if path.starts_with("/dev/") {
            return;
        }
        self.add(kind, Some(path));
        for part in Path::new(path).components() {
            let name = part.as_os_str().to_string_lossy();
            self.add(kind, Some(name.as_ref()));
            let stem = Path::new(name.as_ref())
                .file_stem()
                .unwrap_or_default()
                .to_string_lossy()
                .into_owned();
            self.add(kind, Some(&stem));
        }
    }

    fn sort(&mut self) {
        self.known
            .sort_by_key(|(name, _)| std::cmp::Reverse(name.len()));
    }

    fn known(&self, name: &str) -> Option<String> {
        let known = self.known.iter().find(|(known, _)| known == name);
        known.map(|(_, mask)| mask.clone())
    }

    fn file(&mut self, name: &str) -> String {
        let at = self.files.iter().position(|known| known == name);
        let at = at.unwrap_or_else(|| {
            self.files.push(name.to_owned());
            self.files.len() - 1
        });
        format!("[file {}]", at + 1)
    }

    /// A text without the names. With `from_disk` also without what is quoted, and without the names of files,
    /// which is how they stand in evidence.
    fn replace(&mut self, text: &str, from_disk: bool) -> String {
        let mut text = text.to_owned();
        for (name, mask) in &self.known {
            text = replaced(&text, name, mask);
        }
        text = self.without_paths(&text);
        if from_disk {
            text = self.without_records(&text);
            text = self.without_rest(&text, "would be lost: ");
            text = self.without_quoted(&text);
        }
        text
    }

    /// Paths: a backslash and what follows, up to a colon, which no name has, or a sign that our texts put
    /// behind one.
    fn without_paths(&mut self, text: &str) -> String {
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find('\\') {
            let (before, path) = rest.split_at(at);
            out += before;
            let end = known_path(path)
                .unwrap_or_else(|| path.find([':', '"', '\n']).unwrap_or(path.len()));
            let (path, after) = path.split_at(end);
            out += &match known_path(path) {
                Some(_) => path.to_owned(),
                None => self.file(path),
            };
            rest = after;
        }
        out + rest
    }

    /// "file record 57 (NAME)": up to what our texts go on with.
    fn without_records(&mut self, text: &str) -> String {
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find("file record ") {
            let Some(open) = rest.get(at..).and_then(|text| text.find('(')) else {
                break;
            };
            let (before, name) = rest.split_at(at + open + 1);
            out += before;
            let ends = [
                ") is in use",
                ") cannot be",
                "): ",
                ") and to record",
                ") as well",
            ];
            let end = ends.iter().filter_map(|end| name.find(end)).min();
            let (name, after) = name.split_at(end.unwrap_or(name.len()));
            out += &self.file(name);
            rest = after;
        }
        out + rest
    }

    /// A list of names that goes on to the end.
    fn without_rest(&mut self, text: &str, lead: &str) -> String {
        match text.split_once(lead) {
            Some((before, names)) => format!("{before}{lead}{}", self.file(names)),
            None => text.to_owned(),
        }
    }

    fn without_quoted(&mut self, text: &str) -> String {
        let pieces = text.split('"').enumerate();
        let pieces = pieces.map(|(at, piece)| match at % 2 {
            1 if !is_common(piece)
                && !piece.starts_with('[')
                && known_path(piece) != Some(piece.len()) =>
            {
                "[text]".to_owned()
            }
            _ => piece.to_owned(),
        });
        pieces.collect::<Vec<_>>().join("\"")
    }
}

/// The length of the path at the beginning of a text that every Windows has, or `None`.
fn known_path(text: &str) -> Option<usize> {
    let mut end = 0;
    while let Some(name) = text.get(end..).and_then(|rest| rest.strip_prefix('\\')) {
        let len = name
            .find(|c: char| !(c.is_ascii_alphanumeric() || "._-*".contains(c)))
            .unwrap_or(name.len());
        let word = name
            .get(..len)
            .unwrap_or_default()
            .trim_end_matches('.')
            .to_lowercase();
        if word.is_empty() && end > 0 {
            break;
        }
        if !word.is_empty() && word != "*" && !SYSTEM_NAMES.contains(&word.as_str()) {
            return None;
        }
        end += 1 + len;
    }
    // What goes on as a name could is another file.
    let goes_on = text.get(end..).and_then(|rest| rest.chars().next());
    (end > 0 && goes_on.is_none_or(|c| " ,;:\")".contains(c))).then_some(end)
}

/// Replaces a name wherever it stands, in any case. Three characters or fewer must stand alone, and less than
/// three are left: they name nobody.
fn replaced(text: &str, name: &str, mask: &str) -> String {
    let chars = name.chars().count();
    if chars < 3 {
        return text.to_owned();
    }
    let (mut out, mut rest) = (String::new(), text);
    while let Some(at) = position(rest, name) {
        let (before, found) = rest.split_at(at);
        let (found, after) = found.split_at(matched(found, name).unwrap_or(found.len()));
        let alone = |c: Option<char>| c.is_none_or(|c| !c.is_alphanumeric());
        let stands_alone = alone(before.chars().next_back()) && alone(after.chars().next());
        out += before;
        out += if chars > 3 || stands_alone {
            mask
        } else {
            found
        };
        rest = after;
    }
    out + rest
}

fn position(text: &str, name: &str) -> Option<usize> {
    text.char_indices().map(|(at, _)| at).find(|&at| {
        text.get(at..)
            .and_then(|rest| matched(rest, name))
            .is_some()
    })
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
    use super::*;

    #[test]
    fn names_go_and_what_is_ours_stays() {
        let mut names = Names::default();
        names.add("name", Some("LANTERN-ONE"));
        names.add("label", Some("Tom"));
        names.add("label", Some("Windows"));
        names.add_path("path", "/home/tom/Kunde Holm.img");
        names.sort();
        for (text, shown) in [
            ("Lantern-One, 600 MiB", "[name 1], 600 MiB"),
            ("tomorrow (Tom)", "tomorrow ([label 1])"),
            ("partition 2 (Windows)", "partition 2 (Windows)"),
            (
                "/home/tom/Kunde Holm.img (LANTERN-ONE)",
                "[path 1] ([name 1])",
            ),
            ("kunde holm.job", "[path 4].job"),
            (
                "switched on, \\Recovery\\WindowsRE\\Winre.wim on partition 1; stays",
                "switched on, \\Recovery\\WindowsRE\\Winre.wim on partition 1; stays",
            ),
            (
                "\\Users\\Ada Holm\\a, b (1).txt: LBA 5: bad",
                "[file 1]: LBA 5: bad",
            ),
            ("\\Windows\\System32\\Ada.exe is missing", "[file 2]"),
            ("\\Boot\\BCD: 9 objects", "\\Boot\\BCD: 9 objects"),
            (
                "file record 57 (a) b.txt): a runlist is damaged",
                "file record 57 ([file 3]): a runlist is damaged",
            ),
            (
                "2 files or folders on it are no boot files and would be lost: x.doc, y",
                "2 files or folders on it are no boot files and would be lost: [file 4]",
            ),
            (
                "entry \"Ada's\" of \"Windows 10\"",
                "entry \"[text]\" of \"Windows 10\"",
            ),
        ] {
            assert_eq!(names.replace(text, true), shown);
        }
    }
}
