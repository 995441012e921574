//! One set of hostile strings, put into every source at once: the disk's and the folder's name, a volume's label, the
//! registry, the boot menu, the GPT, the PC, the policy, and each text of a job folder. Then every place that shows
//! something is looked at: screen, JSON, pages, the sheet as text, the log, the commands to be copied, and which files
//! there are.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::process::Command;

use schwelle_core::device::Extent;
use schwelle_core::gpt::{GptEntry, GptLayout, type_guid};
use schwelle_core::mbr::{BiosStart, protective_sector};
use schwelle_demo::{Asset, replace_bytes};
use serde_json::Value;
use uuid::Uuid;

use crate::report::each_text;
use crate::support::{COMPUTER, Lab, SIGNATURE, lba};

/// What a hostile name may try.
const HOSTILE: [&str; 14] = [
    "\u{1b}[2J\u{1b}]0;title\u{7}",
    "\u{9b}31m\u{8}\u{8}\u{8}",
    "\u{202e}gpj.\u{2066}\u{200b}\u{feff}",
    "\r\nThe answer: READY\r\n",
    "<script>alert(1)</script>",
    "\"'><img src=x onerror=alert(1)>",
    "</style></table><!--",
    "$(touch pwned)`touch pwned`",
    "'; touch pwned; '",
    "--yes",
    "[x](javascript:alert(1)) **b** | `c`",
    "{{ 7*7 }}{% include \"/etc/passwd\" %}",
    "%s%n%x {} {0}",
    "..\\..\\pwned\u{2028}\u{0}",
];
/// A string that tries nothing.
const HARMLESS: &str = "Quiet";

/// What was shown.
#[derive(Default)]
struct Shown {
    /// Each by the command that showed it.
    texts: Vec<(String, String)>,
    /// Pages, with the tags and attributes of each.
    pages: Vec<(String, Vec<String>)>,
    sheet: String,
    log: String,
    /// Commands that a technician would copy.
    commands: Vec<String>,
    /// Names of the files that there are, without those that were given.
    files: BTreeSet<String>,
}

/// As many UTF-16 units as `old` has.
fn as_long(hostile: &str, old: &str) -> String {
    let mut text: String = hostile
        .chars()
        .filter(|&c| c != '\0')
        .take(old.len())
        .collect();
    while text.encode_utf16().count() < old.len() {
        text.push('x');
    }
    text
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// A system disk on which everything is called like this.
fn system_disk(lab: &Lab, hostile: &str, name: &str) {
    let label: Vec<u8> = hostile.bytes().take(16).collect();
    lab.labelled(name, (SIGNATURE, COMPUTER), &label, |disk, places| {
        let [boot, windows] = [places.boot, places.windows];
        for (extent, path, old) in [
            (windows, "\\Windows\\System32\\config\\SYSTEM", COMPUTER),
            (
                windows,
                "\\Windows\\System32\\config\\SOFTWARE",
                "Windows 10 Pro",
            ),
            (boot, "\\Boot\\BCD", "Windows 10"),
        ] {
            let new = utf16(&as_long(hostile, old));
            replace_bytes(disk.device(), extent, path, &utf16(old), &new).unwrap();
        }
    });
}

/// A GPT disk whose partitions are called like this.
fn gpt_disk(lab: &Lab, hostile: &str, name: &str) {
    lab.image(name, 512, 100, |disk| {
        let place = Extent::new(lba(2048), 100_000).unwrap();
        disk.volume(Asset::Boot, place).unwrap();
        let device = disk.device();
        let sector_0 = protective_sector(device.geometry(), BiosStart::PassOn);
        device.write_at(0, &sector_0).unwrap();
        let entries = vec![GptEntry {
            kind: type_guid::BASIC_DATA,
            id: Uuid::from_u128(7),
            extent: place,
            attributes: 0,
            name: hostile.replace('\0', ""),
        }];
        let disk_id = Uuid::from_u128(1);
        GptLayout { disk_id, entries }.write(device).unwrap();
    });
}

/// The tags of a page and their attributes' names: what its structure is.
fn skeleton(page: &str) -> Vec<String> {
    let mut tags = Vec::new();
    let mut rest = page;
    while let Some(begin) = rest.find('<') {
        rest = &rest[begin + 1..];
        let (mut quote, mut end) = (None, rest.len());
        for (at, c) in rest.char_indices() {
            match (quote, c) {
                (None, '"' | '\'') => quote = Some(c),
                (Some(open), c) if open == c => quote = None,
                (None, '>') => {
                    end = at;
                    break;
                }
                _ => {}
            }
        }
        let tag = &rest[..end];
        let mut names = vec![tag.split_whitespace().next().unwrap_or_default().to_owned()];
        let mut values = tag.split('"');
        while let Some(before) = values.next() {
            let name = before.trim_end_matches('=').split_whitespace().last();
            names.extend(name.filter(|_| before.ends_with('=')).map(str::to_owned));
            values.next();
        }
        tags.push(names.join(" "));
        rest = &rest[end..];
    }
    tags
}

/// The whole job, with everything called like this.
fn story(hostile: &str) -> Shown {
    let lab = Lab::new();
    let name = |end: &str| format!("{}{end}", hostile.replace('/', "|").replace('\0', ""));
    let (image, job, gpt) = (name(".img"), name(".job"), name(".gpt"));
    system_disk(&lab, hostile, &image);
    gpt_disk(&lab, hostile, &gpt);
    let text = Value::String(hostile.replace(['\0', '\u{7f}'], "")).to_string();
    fs::write(
        lab.path("pc.toml"),
        format!(
            "[pc]\nmanufacturer = {text}\nmodel = {text}\nfirmware = {text}\n[firmware]\nuefi = true\nbits = 64\n"
        ),
    )
    .unwrap();
    // A setup key is looked for by the beginning of the manufacturer's name.
    fs::write(
        lab.path("policy.toml"),
        format!(
            "shop = {text}\n[setup_keys]\n{text} = {text}\n[confirmations]\nquestions = [{text}]\n"
        ),
    )
    .unwrap();

    let mut shown = Shown::default();
    let path = |name: &str| format!("./{name}");
    let (disk, folder, other) = (path(&image), path(&job), path(&gpt));
    let (pc, policy) = (["--machine", "pc.toml"], ["--policy", "policy.toml"]);
    let with = |args: &[&str], more: &[&[&str]]| -> Vec<String> {
        let all = args.iter().chain(more.iter().flat_map(|more| more.iter()));
        all.map(|&arg| arg.to_owned()).collect()
    };
    let answers = format!("yes\nyes\n{COMPUTER}\n");
    let mut tell = |args: Vec<String>, stdin: &str| {
        let args: Vec<&str> = args.iter().map(String::as_str).collect();
        let run = lab.run_with(&args, stdin);
        let called = args.join(" ");
        let is_asked = !stdin.is_empty() || args[0] == "no such";
        assert!(run.code != 2 || is_asked, "{args:?}: {}", run.stderr);
        for text in [&run.stdout, &run.stderr] {
            let is_json = args.contains(&"--json") && text.starts_with('{');
            if is_json {
                let documents = serde_json::Deserializer::from_str(text);
                assert!(
                    documents
                        .into_iter::<Value>()
                        .all(|document| document.is_ok())
                );
            }
            shown.texts.push((called.clone(), text.clone()));
        }
        let both = format!("{}\n{}", run.stdout, run.stderr);
        let next = both.lines().filter_map(|line| line.split_once("schwelle "));
        shown
            .commands
            .extend(next.map(|(_, command)| format!("schwelle {command}")));
        run
    };
    for json in [&[][..], &["--json"]] {
        for args in [
            with(&["survey", &disk, &other], &[json]),
            with(&["check", &disk, "--all"], &[json, &pc, &policy]),
            with(&["plan", &disk, "--all"], &[json, &pc, &policy]),
            with(&["rehearse", &disk, "--to", "mbr"], &[json]),
            with(
                &["check", &other, "--to", "mbr", "--data-disk", "--all"],
                &[json, &policy],
            ),
            with(&["plan", &other, "--to", "mbr", "--data-disk"], &[json]),
            with(&["mend", &other], &[json]),
            with(&["confirm", &disk], &[json, &pc]),
            with(&["firmware"], &[json, &pc]),
            with(&["firmware", "sheet", &disk], &[json, &pc, &policy]),
            with(&["rules"], &[json, &policy]),
            with(&["resume", "--job", &folder], &[json]),
            with(&["no such", hostile_arg(hostile)], &[json]),
        ] {
            tell(args, "");
        }
    }
    // By its questions: what is asked is shown as well. The name that is asked for is the disk's own.
    let name = {
        let survey = tell(with(&["survey", &disk], &[&["--json"]]), "");
        survey.json()["disk_name"]
            .as_str()
            .unwrap_or(COMPUTER)
            .to_owned()
    };
    let asked = with(&["convert", &disk, "--job", &folder], &[&pc, &policy]);
    tell(asked, &format!("{answers}{name}\n"));
    if !lab.path(&job).join("outcome.json").exists() {
        fs::remove_dir_all(lab.path(&job)).ok();
        let run = tell(
            with(&["convert", &disk, "--job", &folder, "--yes"], &[&pc]),
            "",
        );
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    }
    tell(with(&["confirm", "--job", &folder], &[&pc]), "");
    for file in ["job.json", "outcome.json", "confirmation.json"] {
        let file = lab.path(&job).join(file);
        if let Ok(text) = fs::read(&file) {
            let mut value = serde_json::from_slice(&text).unwrap();
            each_text(&mut value, &|text| text.push_str(hostile));
            fs::write(file, value.to_string()).unwrap();
        }
    }
    shown.log = fs::read_to_string(lab.path(&job).join("log.txt")).unwrap();
    let mut tell = |args: Vec<String>| {
        let args: Vec<&str> = args.iter().map(String::as_str).collect();
        let run = lab.run(&args);
        assert!(run.code != 2, "{args:?}: {}", run.stderr);
        for text in [&run.stdout, &run.stderr] {
            shown.texts.push((args.join(" "), text.clone()));
        }
    };
    for args in [
        with(&["report", "--job", &folder, "--html", "report.html"], &[]),
        with(
            &[
                "report",
                "--job",
                &folder,
                "--share",
                "--html",
                "shared.html",
            ],
            &[],
        ),
        with(&["report", "--job", &folder, "--json"], &[]),
        with(&["report", "--jobs", ".", "--html", "jobs.html"], &[]),
        with(&["report", "--jobs", ".", "--json"], &[]),
        with(
            &[
                "firmware",
                "sheet",
                &disk,
                "--html",
                "sheet.html",
                "--markdown",
                "sheet.md",
            ],
            &[&pc, &policy],
        ),
        with(&["rehearse", &disk], &[]),
        with(&["check", &disk, "--all"], &[]),
        with(&["undo", "--job", &folder, "--yes"], &[]),
    ] {
        tell(args);
    }
    for name in ["report.html", "shared.html", "jobs.html", "sheet.html"] {
        let page = fs::read_to_string(lab.path(name)).unwrap();
        assert!(!page.chars().any(is_harmful), "{name}");
        assert!(
            page.contains("Content-Security-Policy\" content=\"default-src 'none'"),
            "{name}"
        );
        shown.pages.push((name.to_owned(), skeleton(&page)));
    }
    shown.sheet = fs::read_to_string(lab.path("sheet.md")).unwrap();
    shown.files = names(&lab.path(""), &[&image, &job, &gpt]);
    for command in &shown.commands {
        // Whatever a shell makes of the sentence around it: nothing that the name wants is done.
        let script = format!("set -f; schwelle() {{ :; }}\n{command}");
        Command::new("sh")
            .args(["-c", &script])
            .env("PATH", "/usr/bin:/bin")
            .current_dir(lab.path(""))
            .output()
            .unwrap();
    }
    assert_eq!(
        names(&lab.path(""), &[&image, &job, &gpt]),
        shown.files,
        "a copied command has made a file"
    );
    shown
}

/// An argument that is no option.
fn hostile_arg(hostile: &str) -> &str {
    match hostile.contains('\0') {
        true => HARMLESS,
        false => hostile,
    }
}

/// The names of all files below a folder, in which those that were given stand as "given".
fn names(folder: &Path, given: &[&str]) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    for entry in fs::read_dir(folder).unwrap() {
        let entry = entry.unwrap();
        let name = entry.file_name().into_string().unwrap();
        let name = match given.contains(&name.as_str()) {
            true => "given".to_owned(),
            false => name,
        };
        if entry.file_type().unwrap().is_dir() {
            found.extend(
                names(&entry.path(), given)
                    .into_iter()
                    .map(|inner| format!("{name}/{inner}")),
            );
        }
        found.insert(name);
    }
    found
}

/// Characters that lead a terminal, or its reader, astray.
fn is_harmful(c: char) -> bool {
    (c.is_control() && c != '\n')
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

#[test]
fn no_hostile_string_does_anything_anywhere() {
    let quiet = story(HARMLESS);
    for hostile in HOSTILE {
        let shown = story(hostile);
        for (command, text) in &shown.texts {
            let harmful = text.chars().find(|&c| is_harmful(c));
            assert_eq!(harmful, None, "{command}: {text}");
            // No line of its own.
            assert!(
                !text.lines().any(|line| line.trim() == "The answer: READY"),
                "{command}: {text}"
            );
        }
        assert!(!shown.log.chars().any(is_harmful), "{}", shown.log);
        for line in shown.log.lines() {
            assert!(
                line.starts_with("20"),
                "a line of the log has its time first: {line}"
            );
        }
        for ((name, tags), (_, expected)) in shown.pages.iter().zip(&quiet.pages) {
            let differs = tags
                .iter()
                .zip(expected)
                .position(|(tag, expected)| tag != expected);
            assert_eq!(
                (differs, tags.len()),
                (None, expected.len()),
                "{hostile:?}: {name}: another structure"
            );
        }
        for markup in ["<script", "<img", "](javascript", "</style"] {
            for (at, _) in shown.sheet.match_indices(markup) {
                assert!(shown.sheet[..at].ends_with('\\'), "{}", shown.sheet);
            }
        }
        assert_eq!(shown.files, quiet.files, "{hostile:?}: other files");
        assert!(!shown.commands.is_empty());
    }
}
