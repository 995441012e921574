//! The hand-over record: what the job folder says, harmless, and without names where it is shared.

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value;

use crate::job_files::{reopen, state};
use crate::json::fits;
use crate::support::Lab;
use schwelle_testkit::tool;

const LABEL: &str = "Haus Nordlicht";
const SERIAL: &str = "ZX-4711-0815";

/// A lab in a folder with a telling name, with a disk on which a third volume has a label, converted into "job".
fn bench(label: &[u8]) -> (Lab, PathBuf) {
    let lab = Lab::new();
    let image = lab.labelled("Nordlicht-Kasse.img", (7, "KASSE-NORD1"), label, |_, _| {});
    let text = "[pc]\nmanufacturer = \"Skerry <b>Works</b>\"\nmodel = \"<script>alert(1)</script>\"\n[firmware]\nuefi = true\n";
    fs::write(lab.path("pc.toml"), text).unwrap();
    let run = lab.convert(&image, "job", &["--quiet", "--machine", "pc.toml"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    (lab, image)
}

/// How a PNG begins.
const PNG: &[u8] = b"\x89PNG\r\n\x1a\n";

/// A record of a start in an emulator.
fn emulated() -> Value {
    serde_json::json!({"ran": true, "steps": [], "kept": []})
}

/// Changes a document of the job folder.
fn edit(lab: &Lab, file: &str, change: impl FnOnce(&mut Value)) {
    let path = lab.path("job").join(file);
    let mut value = serde_json::from_str(&fs::read_to_string(&path).unwrap()).unwrap();
    change(&mut value);
    fs::write(&path, value.to_string()).unwrap();
}

/// Changes every text in a document; words of a closed set are none.
pub(crate) fn each_text(value: &mut Value, change: &dyn Fn(&mut String)) {
    const CLOSED: [&str; 11] = [
        "answer", "change", "disk_use", "do", "outcome", "role", "rule", "stage", "step", "table",
        "to",
    ];
    match value {
        Value::String(text) => change(text),
        Value::Array(list) => list.iter_mut().for_each(|value| each_text(value, change)),
        Value::Object(map) => map
            .iter_mut()
            .filter(|(key, value)| !(value.is_string() && CLOSED.contains(&key.as_str())))
            .for_each(|(_, value)| each_text(value, change)),
        _ => {}
    }
}

/// The page, which loads nothing and runs nothing.
pub(crate) fn page(path: &Path) -> String {
    let page = fs::read_to_string(path).unwrap();
    let lower = page.to_lowercase();
    for foreign in [
        "http:",
        "https:",
        "//",
        "src=\"/",
        "<script",
        "<link",
        "<iframe",
        "url(h",
        "@import",
        "onload",
        "javascript:",
    ] {
        assert!(!lower.contains(foreign), "{foreign}");
    }
    for hidden in ['\u{202E}', '\x1b', '\u{200B}'] {
        assert!(!page.contains(hidden));
    }
    page
}

#[test]
fn the_page_tells_the_whole_job_and_the_document_fits_its_schema() {
    let (lab, image) = bench(LABEL.as_bytes());
    let run = lab.run(&["report", "--job", "job"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    assert!(
        run.stdout.contains("It starts, by its rehearsal."),
        "{}",
        run.stdout
    );
    let page = page(&lab.path("job/report.html"));
    let document = lab.run(&["report", "--job", "job", "--json"]).json();
    fits("report", &document);
    for shown in [
        "Conversion of KASSE-NORD1",
        "Nordlicht-Kasse.img",
        LABEL,
        "Skerry &#60;b&#62;Works",
        "sector 0: the protective MBR",
        "\\Windows\\System32\\config\\SYSTEM",
        "protective-mbr",
        "Switch sheet",
        "firmware.uefi",
        "url(#p-EFI-system)",
    ] {
        assert!(page.contains(shown), "{shown}");
    }
    // Every rule's answer, and every extent of the journal.
    let journal: Value =
        serde_json::from_str(&fs::read_to_string(lab.path("job/journal.json")).unwrap()).unwrap();
    let written = document["written"].as_array().unwrap();
    let extents = journal["extents"].as_array().unwrap();
    assert_eq!(written.len(), extents.len());
    for (shown, extent) in written.iter().zip(extents) {
        let number = |value: &Value| value.as_u64().unwrap();
        let sectors = number(&shown["last_lba"]) + 1 - number(&shown["first_lba"]);
        assert_eq!(sectors, number(&extent["sectors"]), "{shown}");
    }
    for finding in document["plan"]["findings"].as_array().unwrap() {
        assert!(page.contains(finding["rule"].as_str().unwrap()));
    }
    let saved = fs::read(lab.path("job/saved.bin")).unwrap();
    assert_eq!(
        document["checksums"][1]["blake3"],
        blake3::hash(&saved).to_hex().as_str()
    );
    assert_eq!(document["answer"], "converted");

    // Where the page goes is not overwritten, but for its own place.
    assert_eq!(lab.run(&["report", "--job", "job"]).code, 0);
    let taken = lab.run(&["report", "--job", "job", "--html", "pc.toml"]);
    assert_eq!(taken.code, 3);
    let undone = lab.run(&[
        "undo",
        "--job",
        "job",
        "--disk",
        image.to_str().unwrap(),
        "--yes",
        "--quiet",
    ]);
    assert_eq!(undone.code, 0, "{}", undone.stderr);
    let document = lab.run(&["report", "--job", "job", "--json"]).json();
    fits("report", &document);
    assert_eq!(
        (&document["answer"], &document["exact"]),
        (&"undone".into(), &true.into())
    );
    let shown = lab.run(&["report", "--job", "job"]).stdout;
    assert!(
        shown.contains("everything it had overwritten is restored"),
        "{shown}"
    );
}

#[test]
fn nothing_from_a_disk_or_a_pc_is_markup() {
    let (lab, _) = bench(b"<img src=x>\xE2\x80\xAE\x1b[2J");
    for file in ["job.json", "outcome.json"] {
        edit(&lab, file, |value| {
            each_text(value, &|text| {
                text.push_str("\"'><script>alert(1)</script></style>\u{202E}\x1b{{7}}");
            });
        });
    }
    for args in [
        &["report", "--job", "job"][..],
        &["report", "--job", "job", "--share"],
    ] {
        let run = lab.run(args);
        assert_eq!(run.code, 0, "{}", run.stderr);
        assert!(!run.stdout.contains('\u{202E}') && !run.stdout.contains('\x1b'));
    }
    let page = page(&lab.path("job/report.html"));
    assert!(
        page.contains("&#60;script&#62;") && page.contains("\\u{202e}") && page.contains("{{7}}")
    );
    assert_eq!(page.matches("</style>").count(), 1);
    // A word of a closed set that is none of them is reported, and nothing is made of it.
    edit(&lab, "job.json", |record| {
        record["plan"]["to"] = "\u{202E}apm".into();
    });
    let run = lab.run(&["report", "--job", "job", "--html", "other.html"]);
    assert_eq!(run.code, 3);
    assert!(run.stderr.contains("unknown variant") && !run.stderr.contains('\u{202E}'));
    assert!(!lab.path("other.html").exists());
}

#[test]
fn a_shared_report_names_nobody() {
    let (lab, _) = bench(LABEL.as_bytes());
    edit(&lab, "job.json", |record| {
        record["serial"] = SERIAL.into();
        record["shop"] = "Nordlicht Reparaturen".into();
        record["questions"] = serde_json::json!(["Has Frau Nordlicht signed?"]);
        let findings = record["plan"]["findings"].as_array_mut().unwrap();
        let finding = findings
            .iter_mut()
            .find(|finding| finding["rule"] == "volume.consistent")
            .unwrap();
        finding["outcome"] = "caution".into();
        let mut other = finding.clone();
        other["rule"] = "system.boot-files".into();
        other["evidence"] = serde_json::json!({
            "kind": "program-unfit",
            "path": "\\Users\\Nordlicht\\geheim.txt",
            "why": { "kind": "unreadable", "fault": "bad" },
            "text": "\\Users\\Nordlicht\\geheim.txt: bad",
        });
        finding["evidence"] = serde_json::json!({
            "kind": "audit-fault",
            "fault": { "kind": "runlist", "record": 71, "name": "Nordlicht (2).doc" },
            "text": "file record 71 (Nordlicht (2).doc): a runlist is damaged or leaves the volume",
        });
        findings.push(other);
    });
    // The screen may show anything.
    edit(&lab, "job.json", |record| {
        record["plan"]["emulated"] = emulated();
    });
    fs::write(lab.path("job/firmware-screen.png"), PNG).unwrap();
    let whole = lab.run(&["report", "--job", "job", "--json"]).stdout;
    let shared = lab.run(&["report", "--job", "job", "--share", "--json"]);
    let run = lab.run(&["report", "--job", "job", "--share"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let page = page(&lab.path("job/report-to-share.html"));
    for name in [
        "nordlicht",
        "kasse",
        "geheim",
        "Leuchtturm",
        SERIAL,
        LABEL,
        "night watch",
        "System-reserviert",
    ] {
        let has = |text: &str| text.to_lowercase().contains(&name.to_lowercase());
        assert!(
            has(&whole) && !has(&page) && !has(&shared.stdout) && !has(&run.stdout),
            "{name}"
        );
    }
    assert!(!page.contains("<img "), "no picture of a screen");
    // The layout and the findings are all there.
    let (whole, shared): (Value, Value) = (serde_json::from_str(&whole).unwrap(), shared.json());
    fits("report", &shared);
    for key in ["before", "after"] {
        let of = |document: &Value| -> Vec<(Value, Value, Value)> {
            let parts = document["plan"][key].as_array().unwrap().iter();
            parts
                .map(|part| {
                    (
                        part["first_lba"].clone(),
                        part["last_lba"].clone(),
                        part["type"].clone(),
                    )
                })
                .collect()
        };
        assert_eq!(of(&whole), of(&shared));
    }
    let of = |document: &Value| -> Vec<(Value, Value)> {
        let findings = document["plan"]["findings"].as_array().unwrap().iter();
        findings
            .map(|finding| (finding["rule"].clone(), finding["outcome"].clone()))
            .collect()
    };
    assert_eq!(of(&whole), of(&shared));
    assert!(
        page.contains("a runlist is damaged") && page.contains("\\Recovery\\WindowsRE\\Winre.wim")
    );
}

#[test]
fn a_job_folder_that_is_none_or_damaged_is_refused() {
    let (lab, _) = bench(b"x");
    fs::create_dir(lab.path("empty")).unwrap();
    assert_eq!(lab.run(&["report", "--job", "empty"]).code, 3);
    reopen(&lab.path("job"));
    let stopped = lab.run(&["report", "--job", "job"]);
    assert!(
        stopped
            .stdout
            .contains("was interrupted: the disk needs resume or undo"),
        "{}",
        stopped.stdout
    );
    // What it had come to before it was begun again is not reported as its end.
    let document = lab.run(&["report", "--job", "job", "--json"]).json();
    for key in ["finished", "rehearsal", "sheet"] {
        assert!(document[key].is_null(), "{key}");
    }
    edit(&lab, "job.json", |record| record["plan"] = 5.into());
    let damaged = lab.run(&["report", "--job", "job"]);
    assert_eq!(damaged.code, 3);
    assert!(damaged.stderr.contains("job.json"), "{}", damaged.stderr);
}

#[test]
#[ignore = "needs root"]
fn a_report_is_made_from_a_folder_that_cannot_be_written() {
    let (lab, _) = bench(b"x");
    fs::create_dir(lab.path("stick")).unwrap();
    let (job, stick) = (lab.path("job"), lab.path("stick"));
    let (job, stick) = (job.to_str().unwrap(), stick.to_str().unwrap());
    tool("mount", &["--bind", "-o", "ro", job, stick]);
    let own = lab.run(&["report", "--job", "stick"]);
    let named = lab.run(&["report", "--job", "stick", "--html", "page.html"]);
    let document = lab.run(&["report", "--job", "stick", "--json"]);
    tool("umount", &[stick]);
    assert_eq!(own.code, 3);
    assert!(
        own.stderr.contains("stick/report.html") && own.stderr.contains("--html FILE"),
        "{}",
        own.stderr
    );
    assert_eq!((named.code, document.code), (0, 0), "{}", named.stderr);
    page(&lab.path("page.html"));
}

#[test]
fn a_large_log_is_shown_by_its_end_and_what_is_no_picture_of_a_screen_is_left_out() {
    let (lab, _) = bench(b"x");
    let log: Vec<String> = (0..700).map(|line| format!("line {line}")).collect();
    fs::write(lab.path("job/log.txt"), log.join("\n")).unwrap();
    let document = lab.run(&["report", "--job", "job", "--json"]).json();
    let lines = document["log"].as_array().unwrap();
    assert_eq!((&lines[0], lines.len()), (&"line 200".into(), 500));

    edit(&lab, "job.json", |record| {
        record["plan"]["emulated"] = emulated();
    });
    let picture = |start: &[u8], len: usize| {
        let bytes = [start, &vec![0; len - start.len()]].concat();
        fs::write(lab.path("job/firmware-screen.png"), bytes).unwrap();
        assert_eq!(lab.run(&["report", "--job", "job"]).code, 0);
        page(&lab.path("job/report.html")).contains("<img ")
    };
    assert!(picture(PNG, 2000));
    assert!(!picture(b"GIF89a", 2000));
    assert!(!picture(PNG, (8 << 20) + 1));
}

/// What only the report needs is no reason to leave a disk half-way.
#[test]
fn a_job_is_finished_without_a_policy_and_without_its_outcome_kept() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let job = lab.path("job");
    assert_eq!(lab.convert(&image, &job, &[]).code, 0);
    reopen(&job);
    fs::create_dir_all(lab.path("config/schwelle")).unwrap();
    fs::write(lab.path("config/schwelle/policy.toml"), "wrong = 1\n").unwrap();
    fs::remove_file(job.join("outcome.json")).unwrap();
    fs::create_dir_all(job.join("outcome.json/taken")).unwrap();
    let config = lab.path("config");
    let env = [("XDG_CONFIG_HOME", config.to_str().unwrap())];
    assert_eq!(lab.run_env(&env, &["check", "disk.img"], "").code, 2);
    let run = lab.run_env(&env, &["resume", "--job", "job"], "");
    assert_eq!((run.code, &state(&job)[..]), (0, "done"), "{}", run.stderr);
    let log = fs::read_to_string(job.join("log.txt")).unwrap();
    assert!(log.contains("how it ended is not kept: "), "{log}");
}
