//! The overview of jobs: the right state and the next command of each, whatever its folder has become.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::Command;

use schwelle_testkit::{hash, tool};
use serde_json::{Value, json};

use crate::confirm::start_once;
use crate::greedy::bounded;
use crate::job_files::{reopen, set_state, state};
use crate::json::fits;
use crate::report::{each_text, page};
use crate::support::Lab;

/// A lab with a disk, and its finished job in "base".
fn bench() -> (Lab, PathBuf) {
    let lab = Lab::new();
    let (image, _) = lab.standard("Kunde Holm.img", 512);
    let pc = "[pc]\nmanufacturer = \"Skerry Works\"\nmodel = \"Tide Gauge 4\"\n[firmware]\nuefi = true\n";
    fs::write(lab.path("pc.toml"), pc).unwrap();
    let run = lab.convert(
        &image,
        lab.path("base"),
        &["--quiet", "--machine", "pc.toml"],
    );
    assert_eq!(run.code, 0, "{}", run.stderr);
    (lab, image)
}

/// A copy of a job folder: files that are never changed in place are the same ones.
fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let there = to.join(entry.file_name());
        match entry.path().extension().is_some_and(|kind| kind == "bin") {
            true => fs::hard_link(entry.path(), there).unwrap(),
            false => drop(fs::copy(entry.path(), there).unwrap()),
        }
    }
}

fn cut(folder: &Path, file: &str, bytes: u64) {
    let path = folder.join(file);
    let text = fs::read(&path).unwrap();
    fs::remove_file(&path).unwrap();
    fs::write(&path, &text[..usize::try_from(bytes).unwrap()]).unwrap();
}

fn edit(folder: &Path, file: &str, change: impl FnOnce(&mut Value)) {
    let path = folder.join(file);
    let mut value = serde_json::from_slice(&fs::read(&path).unwrap()).unwrap();
    change(&mut value);
    fs::write(&path, value.to_string()).unwrap();
}

/// The lines of the overview by the folder's name.
fn overview(lab: &Lab, place: &str) -> (Value, BTreeMap<String, Value>) {
    let run = lab.run(&["report", "--jobs", place, "--json"]);
    assert_eq!((run.code, &*run.stderr), (0, ""), "{}", run.stdout);
    let document = run.json();
    let jobs = document["jobs"].as_array().unwrap().clone();
    let name = |job: &Value| {
        let path = PathBuf::from(job["job"].as_str().unwrap());
        path.file_name().unwrap().to_str().unwrap().to_owned()
    };
    let jobs = jobs.into_iter().map(|job| (name(&job), job)).collect();
    (document, jobs)
}

/// What is done to a folder, and what is shown of it then.
type Case = (&'static str, fn(&Path), &'static str);

/// What can become of a folder, and where its job stands then.
const WHOLE: [Case; 5] = [
    ("done", |_| {}, "to-confirm"),
    ("writing", reopen, "needs-resume"),
    ("undoing", |job| set_state(job, "undoing"), "needs-undo"),
    ("saving", |job| set_state(job, "saving"), "not-begun"),
    ("undone", |job| set_state(job, "undone"), "undone"),
];
const TORN: [Case; 18] = [
    // Either state file is enough.
    (
        "a-state-torn",
        |job| cut(job, "state-a.json", 100),
        "to-confirm",
    ),
    (
        "a-state-empty",
        |job| cut(job, "state-b.json", 0),
        "to-confirm",
    ),
    (
        "states-empty",
        |job| {
            ["state-a.json", "state-b.json"]
                .iter()
                .for_each(|name| cut(job, name, 0));
        },
        "incomplete",
    ),
    (
        "states-gone",
        |job| {
            ["state-a.json", "state-b.json"]
                .iter()
                .for_each(|name| fs::remove_file(job.join(name)).unwrap());
        },
        "incomplete",
    ),
    (
        "journal-cut",
        |job| cut(job, "journal.json", 3000),
        "incomplete",
    ),
    (
        "journal-empty",
        |job| cut(job, "journal.json", 0),
        "incomplete",
    ),
    (
        "journal-gone",
        |job| fs::remove_file(job.join("journal.json")).unwrap(),
        "incomplete",
    ),
    (
        "journal-edited",
        |job| edit(job, "journal.json", |journal| journal["sectors"] = 7.into()),
        "incomplete",
    ),
    ("saved-cut", |job| cut(job, "saved.bin", 512), "incomplete"),
    (
        "new-gone",
        |job| fs::remove_file(job.join("new.bin")).unwrap(),
        "incomplete",
    ),
    (
        "state-forged",
        |job| {
            edit(job, "state-a.json", |state| {
                state["state"] = "undone".into();
            });
        },
        "to-confirm",
    ),
    (
        "journal-linked",
        |job| {
            fs::rename(job.join("journal.json"), job.join("elsewhere")).unwrap();
            symlink("elsewhere", job.join("journal.json")).unwrap();
        },
        "incomplete",
    ),
    (
        "state-a-pipe",
        |job| {
            fs::remove_file(job.join("state-a.json")).unwrap();
            tool(
                "mkfifo",
                &[job.join("state-a.json").to_str().unwrap_or_default()],
            );
        },
        "to-confirm",
    ),
    // What only people need.
    ("record-empty", |job| cut(job, "job.json", 0), "to-confirm"),
    ("record-cut", |job| cut(job, "job.json", 999), "to-confirm"),
    (
        "record-foreign",
        |job| fs::write(job.join("job.json"), "[1, 2]").unwrap(),
        "to-confirm",
    ),
    (
        "outcome-cut",
        |job| cut(job, "outcome.json", 99),
        "to-confirm",
    ),
    (
        "all-but-record-and-log",
        |job| {
            for entry in fs::read_dir(job).unwrap() {
                let path = entry.unwrap().path();
                if !path.ends_with("job.json") && !path.ends_with("log.txt") {
                    fs::remove_file(path).unwrap();
                }
            }
        },
        "incomplete",
    ),
];

#[test]
fn three_hundred_folders_stand_where_they_stand_within_bounds_and_unchanged() {
    let (lab, _) = bench();
    let base = lab.path("base");
    let mut expected = BTreeMap::new();
    for (at, (name, change, stands)) in (0..282)
        .map(|at| (at, WHOLE[at % WHOLE.len()]))
        .chain(TORN.into_iter().enumerate())
    {
        let name = format!("{name}-{at}");
        let folder = lab.path(&format!("jobs/2026-1{}/{name}", at % 3));
        copy(&base, &folder);
        change(&folder);
        expected.insert(name, stands.to_owned());
    }
    // None of these is a job.
    fs::create_dir_all(lab.path("jobs/photos/a/b/c/d/e")).unwrap();
    fs::create_dir_all(lab.path("jobs/site")).unwrap();
    fs::write(lab.path("jobs/site/job.json"), "{}").unwrap();
    symlink("/", lab.path("jobs/root")).unwrap();
    symlink(&base, lab.path("jobs/linked")).unwrap();
    let looks = || {
        let mut files = BTreeMap::new();
        let mut folders = vec![lab.path("jobs")];
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder).unwrap() {
                let entry = entry.unwrap();
                let data = entry.metadata().unwrap();
                let changed = data.modified().unwrap();
                if data.is_dir() {
                    folders.push(entry.path());
                }
                let hash = data.is_file().then(|| hash(&entry.path()));
                files.insert(entry.path(), (changed, hash));
            }
        }
        files
    };
    let before = looks();
    let (document, jobs) = overview(&lab, "jobs");
    let stands = |job: &Value| job["state"].as_str().unwrap().to_owned();
    let found: BTreeMap<String, String> = jobs
        .iter()
        .map(|(name, job)| (name.clone(), stands(job)))
        .collect();
    assert_eq!(found, expected);
    fits("jobs", &document);
    assert_eq!(document["others"], 4, "{document}");
    // What needs a hand first.
    let order = [
        "needs-resume",
        "needs-undo",
        "incomplete",
        "to-confirm",
        "not-begun",
        "undone",
    ];
    let listed = document["jobs"].as_array().unwrap().iter();
    let places: Vec<usize> = listed
        .map(|job| {
            order
                .iter()
                .position(|state| *state == stands(job))
                .unwrap()
        })
        .collect();
    assert!(places.is_sorted());
    for (name, job) in &jobs {
        // Of a folder without a record the journal still says which disk it was.
        let torn =
            name.starts_with("all-") || name.starts_with("states-") || name.contains("journal");
        assert!(
            torn || job["disk"].as_str().unwrap().ends_with("Kunde Holm.img"),
            "{job}"
        );
        let explains = stands(job) == "incomplete";
        assert_eq!(job["reason"].is_string(), explains, "{job}");
    }
    for more in [&["--json"][..], &["--html", "jobs.html"], &[]] {
        let args = [&["report", "--jobs", "jobs"], more].concat();
        assert_eq!(bounded(&lab, &args), Ok(0), "{more:?}");
    }
    assert_eq!(looks(), before, "it only reads");
    assert!(page(&lab.path("jobs.html")).contains("300 jobs: "));
}

#[test]
fn a_job_is_to_be_confirmed_until_confirm_keeps_its_answer_in_the_folder() {
    let (lab, image) = bench();
    let job = |state: &str, next: Option<&str>| {
        let (_, jobs) = overview(&lab, "base");
        assert_eq!(jobs["base"]["state"], state);
        let image = format!("'{}'", image.display());
        let next = next.map(|next| next.replace("IMAGE", &image));
        assert_eq!(jobs["base"]["next"], json!(next));
        jobs["base"].clone()
    };
    let line = job("to-confirm", Some("schwelle confirm IMAGE --job base"));
    assert_eq!(
        (&line["pc"], &line["kind"], &line["to"]),
        (
            &json!("Skerry Works Tide Gauge 4"),
            &json!("convert"),
            &json!("gpt")
        )
    );
    let before = hash(&image);
    let path = image.to_str().unwrap();
    // Not started yet; the disk is found by its content.
    let run = lab.run(&["confirm", "--job", "base"]);
    assert_eq!(run.code, 1, "{}", run.stderr);
    assert!(
        run.stdout.contains("kept in the job folder"),
        "{}",
        run.stdout
    );
    job("not-confirmed", Some("schwelle firmware sheet IMAGE"));
    assert_eq!(hash(&image), before);

    start_once(&lab, &image, "base");
    let run = lab.run(&["confirm", path, "--job", "base", "--json"]);
    assert_eq!((run.code, &run.json()["answer"]), (0, &json!("confirmed")));
    let line = job("confirmed", None);
    let kept = fs::read(lab.path("base/confirmation.json")).unwrap();
    let kept: Value = serde_json::from_slice(&kept).unwrap();
    fits("confirmation", &kept);
    assert_eq!(line["confirmed"], kept["made"]);
    // The record has it as well, and without names where it is to be shown.
    for more in [&[][..], &["--share"]] {
        let args = [&["report", "--job", "base", "--json"], more].concat();
        let report = lab.run(&args).json();
        fits("report", &report);
        assert_eq!(report["confirmation"]["answer"], "confirmed");
    }
    assert_eq!(lab.run(&["report", "--job", "base"]).code, 0);
    assert!(
        page(&lab.path("base/report.html")).contains("started from the new EFI system partition")
    );

    // Another disk's job keeps nothing of it, nor one that is not done.
    let other = lab.image("other.img", 512, 340, |disk| {
        disk.standard(7, "KASSE-NORD1").unwrap();
    });
    let run = lab.run(&["confirm", other.to_str().unwrap(), "--job", "base"]);
    run.refuses(2, "about another disk");
    let run = lab.run(&["undo", "--job", "base", "--disk", path, "--yes", "--quiet"]);
    assert_eq!((run.code, state(&lab.path("base"))), (0, "undone".into()));
    let run = lab.run(&["confirm", path, "--job", "base"]);
    assert_eq!(run.code, 2, "{}", run.stderr);
    let undone = job("undone", None);
    assert!(
        undone["reason"].as_str().unwrap().contains("newer files"),
        "{undone}"
    );
}

#[test]
fn what_does_not_start_and_what_needs_no_confirmation() {
    let (lab, _) = bench();
    let data = lab.image("data.img", 512, 40, |disk| {
        disk.boot_record(crate::support::lba(0), 7, &[]).unwrap();
    });
    let run = lab.convert(&data, lab.path("jobs/data"), &["--data-disk", "--quiet"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    copy(&lab.path("base"), &lab.path("jobs/fails"));
    edit(&lab.path("jobs/fails"), "outcome.json", |outcome| {
        outcome["rehearsal"]["answer"] = "does-not-start".into();
    });
    let (_, jobs) = overview(&lab, "jobs");
    assert_eq!(jobs["data"]["state"], "done");
    assert_eq!(jobs["data"]["next"], Value::Null);
    assert_eq!(jobs["fails"]["state"], "does-not-start");
    let next = jobs["fails"]["next"].as_str().unwrap();
    assert!(next.starts_with("schwelle rehearse '"), "{next}");
    // On the screen: a line for each job with all of it.
    let shown = lab.run(&["report", "--jobs", "jobs"]).stdout;
    let lines: Vec<&str> = shown.lines().collect();
    assert!(lines[0].starts_with("does not start fails"), "{shown}");
    assert!(
        lines[0].ends_with(next) && lines[0].contains("Skerry Works Tide Gauge 4  to GPT"),
        "{shown}"
    );
    assert!(lines[1].starts_with("done           data"), "{shown}");
    assert!(
        shown.contains("2 jobs: 1 does not start, 1 done."),
        "{shown}"
    );
    for (place, what) in [("nowhere", "No such file"), ("data.img", "Not a directory")] {
        let run = lab.run(&["report", "--jobs", place]);
        assert_eq!(run.code, 3);
        assert!(run.stderr.contains(what), "{}", run.stderr);
    }
    let empty = lab.path("empty");
    fs::create_dir(empty).unwrap();
    assert!(
        lab.run(&["report", "--jobs", "empty"])
            .stdout
            .contains("No job.")
    );
}

#[test]
fn hostile_names_are_harmless_on_screen_on_the_page_and_in_the_next_command() {
    const HOSTILE: [&str; 6] = [
        "<script>alert(1)</script>",
        "$(touch pwned)`touch pwned`; touch pwned",
        "\x1b[2J\u{202E}gpj",
        "--yes",
        "it's \"quoted\"\nand broken",
        "'a' ; touch pwned '",
    ];
    let (lab, _) = bench();
    for (at, text) in HOSTILE.iter().enumerate() {
        let folder = lab
            .path("jobs")
            .join(format!("{at}{}", text.replace('/', "|")));
        copy(&lab.path("base"), &folder);
        edit(&folder, "job.json", |record| {
            let plan = record["plan"].take();
            each_text(record, &|old| old.replace_range(.., text));
            record["plan"] = plan;
        });
        edit(&folder, "outcome.json", |outcome| {
            outcome["finished"] = (*text).into();
            outcome["rehearsal"]["answer"] = "does-not-start".into();
        });
    }
    // As long as a document may be.
    let long = lab.path("jobs/long");
    copy(&lab.path("base"), &long);
    edit(&long, "job.json", |record| {
        record["disk"] = "x".repeat(7 << 20).into();
        record["lasting_name"] = "y".repeat(1000).into();
    });
    let run = lab.run(&["report", "--jobs", "jobs", "--html", "jobs.html"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    for harmful in ['\x1b', '\u{202E}'] {
        assert!(!run.stdout.contains(harmful));
    }
    // Six lines and the long one, whatever the names hold.
    let listed = run
        .stdout
        .lines()
        .filter(|line| line.contains("  to GPT  "));
    assert_eq!(listed.count(), 7, "{}", run.stdout);
    let page = page(&lab.path("jobs.html"));
    assert!(page.contains("&#60;script&#62;") || page.contains("&lt;script&gt;"));
    let (_, jobs) = overview(&lab, "jobs");
    for job in jobs.values() {
        let text = job.to_string();
        assert!(text.len() < 4000, "{}", text.len());
        let next = job["next"].as_str().unwrap();
        // What the shell makes of it: the program with a disk that is no option.
        let script = format!("schwelle() {{ printf '%s\\n' \"$#\" \"$2\"; }}\n{next}");
        let output = Command::new("sh")
            .args(["-c", &script])
            .current_dir(lab.path(""))
            .output()
            .unwrap();
        let said = String::from_utf8(output.stdout).unwrap();
        let is_long = job["job"].as_str().unwrap().ends_with("long");
        let (count, disk) = said.split_once('\n').unwrap();
        assert_eq!(count, if is_long { "4" } else { "2" }, "{next}");
        assert!(!disk.starts_with('-'), "{next}");
    }
    assert!(!lab.path("pwned").exists());
}
