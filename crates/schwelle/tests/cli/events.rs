//! `--progress json`: all that people would read on stderr, as lines of JSON.

use std::fs;

use serde_json::Value;

use crate::job_files::job_args;
use crate::json::all_fit;
use crate::recover::{OVER_DATA, full_disk};
use crate::support::Lab;
use schwelle_testkit::Run;

/// The events, each of which fits the schema.
fn events(run: &Run) -> Vec<Value> {
    let lines = run.stderr.lines();
    let events: Vec<Value> = lines
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    all_fit("event", &events);
    events
}

/// The parts of the writing in their order, each of which begins at 0 and comes to its end.
fn parts(events: &[Value], disk: &str) -> Vec<String> {
    let mut parts: Vec<(String, u64, u64)> = Vec::new();
    for event in events.iter().filter(|event| event["event"] == "progress") {
        assert_eq!(event["disk"], disk);
        let part = event["part"].as_str().unwrap();
        let [bytes, total] = ["bytes", "total"].map(|key| event[key].as_u64().unwrap());
        match parts.last_mut().filter(|(last, ..)| last == part) {
            Some((_, before, all)) => {
                assert!(
                    *before <= bytes && bytes <= total && total == *all,
                    "{event}"
                );
                *before = bytes;
            }
            None => {
                assert_eq!(bytes, 0, "{event}");
                parts.push((part.to_owned(), bytes, total));
            }
        }
    }
    parts
        .into_iter()
        .map(|(part, bytes, total)| {
            assert!(bytes == total && total > 0, "{part}: {bytes} of {total}");
            part
        })
        .collect()
}

#[test]
fn every_part_of_the_writing_is_followed_from_its_beginning_to_its_end() {
    let lab = Lab::new();
    let image = full_disk(&lab, "disk.img");
    let (job, disk) = (lab.path("job"), image.to_str().unwrap());
    let as_events = ["--progress", "json", "--quiet"];
    let run = lab.convert(&image, &job, &[&OVER_DATA[..], &as_events].concat());
    assert_eq!((run.code, &*run.stdout), (0, ""), "{}", run.stderr);
    let seen = events(&run);
    let of_conversion = [
        "move", "verify", "shrink", "prepare", "commit", "edit", "verify",
    ];
    assert_eq!(parts(&seen, disk), of_conversion);
    let flushed = seen.iter().filter(|event| event["event"] == "flushed");
    let flushed: Vec<&str> = flushed
        .map(|event| event["stage"].as_str().unwrap())
        .collect();
    assert_eq!(flushed, ["move", "shrink", "prepare", "commit", "edit"]);
    // The document goes to stdout as ever.
    let args = job_args("undo", &job, &["--yes", "--json", "--progress", "json"]);
    let run = lab.run(&args);
    assert_eq!((run.code, &run.json()["exact"]), (0, &true.into()));
    assert!(parts(&events(&run), disk).contains(&"commit".to_owned()));
}

#[test]
fn errors_warnings_and_questions_are_events_as_well() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let last = |run: &Run| events(run).pop().unwrap();
    let run = lab.run(&["check", "no.img", "--progress", "json"]);
    let error = last(&run);
    assert_eq!((run.code, &error["event"]), (3, &"error".into()));
    assert_eq!(error["exit_code"], 3);
    assert!(error["next"].as_str().unwrap().contains("schwelle survey"));

    let args = [
        "convert",
        image.to_str().unwrap(),
        "--job",
        "job",
        "--progress",
        "json",
    ];
    let run = lab.run_with(&args, "yes\nWRONG\n");
    let asked: Vec<String> = events(&run)
        .iter()
        .filter(|event| event["event"] == "question")
        .map(|event| event["text"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!((run.code, asked.len()), (2, 2), "{asked:?}");
    assert!(asked[0].contains("backup") && asked[1].contains("disk name"));
    assert!(!lab.path("job").exists());

    assert_eq!(lab.convert(&image, lab.path("job"), &["--quiet"]).code, 0);
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    fs::set_permissions(lab.path("job"), open).unwrap();
    let run = lab.run(&["report", "--job", "job", "--progress", "json"]);
    let warning = last(&run);
    assert_eq!((run.code, &warning["event"]), (0, &"warning".into()));
    assert!(warning["text"].as_str().unwrap().contains("Other users"));
}
