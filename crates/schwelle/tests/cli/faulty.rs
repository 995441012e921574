//! The built program on disks and job folders whose input and output fails. Every operation of every kind of job fails in
//! the domain's own tests (`crates/schwelle-core/tests/faults`); here it is seen what the technician sees.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;

use assert_cmd::cargo::cargo_bin;
use schwelle_testkit::{Run, hash, tool};
use tempfile::TempDir;

use crate::job_files::{job_args, journal, set_state, state};
use crate::recover::{full_disk, same_but_for_moves};
use crate::stopped::after_stages;
use crate::support::{Lab, peek};

/// Builds the tracer that makes a program's system calls fail.
fn tracer() -> &'static Path {
    static BUILT: OnceLock<(TempDir, PathBuf)> = OnceLock::new();
    let (_, tracer) = BUILT.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let tracer = folder.path().join("faults");
        let source = concat!(env!("CARGO_MANIFEST_DIR"), "/../../tools/faults/faults.c");
        tool("cc", &["-O1", "-o", tracer.to_str().unwrap(), source]);
        (folder, tracer)
    });
    tracer
}

/// Runs the program with faults.
fn run(lab: &Lab, faults: &[(&str, &str)], args: &[&str]) -> Run {
    let output = Command::new(tracer())
        .arg(cargo_bin("schwelle"))
        .args(args)
        .env_clear()
        .envs(faults.iter().copied())
        .current_dir(lab.path(""))
        .stdin(Stdio::null())
        .output()
        .unwrap();
    Run {
        code: output.status.code().unwrap_or(-1),
        stdout: String::from_utf8(output.stdout).unwrap(),
        stderr: String::from_utf8(output.stderr).unwrap(),
    }
}

/// A full disk as it was, one that was stopped in the stage `shrink`, and the job.
fn stopped_while_shrinking(lab: &Lab) -> (PathBuf, PathBuf, PathBuf) {
    let old = full_disk(lab, "old.img");
    let disk = lab.path("disk.img");
    fs::copy(&old, &disk).unwrap();
    let job = lab.path("job");
    assert_eq!(lab.convert(&disk, &job, &["--quiet"]).code, 0);
    after_stages(&old, &disk, &job, &["shrink"]);
    set_state(&job, "writing");
    fs::copy(job.join("state-a.json"), job.join("state-b.json")).unwrap();
    (old, disk, job)
}

/// Sectors of the MFT of the job's volume, some of each part.
fn sectors_of_mft(disk: &Path, job: &Path) -> Vec<u64> {
    let first = journal(job)["volumes"][0]["first_lba"].as_u64().unwrap();
    let boot = peek(disk, first * 512, 512);
    let cluster = u64::from_le_bytes(boot[0x30..0x38].try_into().unwrap());
    let mft = first + cluster * u64::from(boot[0x0D]);
    [0, 1, 8, 12, 33, 60, 90].map(|sector| mft + sector).into()
}

#[test]
fn an_unreadable_sector_stops_undo_and_resume_before_their_first_write() {
    let lab = Lab::new();
    let (old, disk, job) = stopped_while_shrinking(&lab);
    let before = hash(&disk);
    let folder = hash(&job.join("state-a.json"));
    for lba in sectors_of_mft(&disk, &job) {
        let text = lba.to_string();
        let faults = [
            ("FAULT_FILE", "disk.img"),
            ("FAULT_OP", "read"),
            ("FAULT_LBA", &text),
        ];
        for (command, more) in [("undo", &["--yes"][..]), ("resume", &[])] {
            let run = run(&lab, &faults, &job_args(command, &job, more));
            assert_eq!(
                run.code, 3,
                "{command}, {lba}: {}{}",
                run.stdout, run.stderr
            );
            for wanted in [&format!("LBA {lba}"), "Nothing was written", "COPY"] {
                assert!(
                    run.stderr.contains(wanted),
                    "{command}, {lba}: {}",
                    run.stderr
                );
            }
            assert_eq!(hash(&disk), before, "{command}, {lba}");
            assert_eq!(hash(&job.join("state-a.json")), folder, "{command}, {lba}");
        }
    }
    let undo = lab.run(&job_args("undo", &job, &["--yes"]));
    assert_eq!(undo.code, 0, "{}", undo.stderr);
    assert!(same_but_for_moves(&old, &disk, &job));
}

#[test]
fn a_disk_that_is_complete_is_no_failure_where_only_the_record_is_missing() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = hash(&image);
    let job = lab.path("job");
    // How often the state is written, and then the last time in both files not.
    let (count, states) = (lab.path("count"), ("FAULT_FILE", "job/state-"));
    let counted = [
        states,
        ("FAULT_OP", "write"),
        ("FAULT_COUNT", count.to_str().unwrap()),
    ];
    let spare = lab.path("spare.img");
    fs::copy(&image, &spare).unwrap();
    let convert = |disk: &Path, faults: &[(&str, &str)]| {
        let args = [
            "convert",
            disk.to_str().unwrap(),
            "--yes",
            "--job",
            job.to_str().unwrap(),
        ];
        run(&lab, faults, &args)
    };
    assert_eq!(convert(&spare, &counted).code, 0);
    fs::remove_dir_all(&job).unwrap();
    let last = |count: &Path| {
        let writes: u64 = fs::read_to_string(count).unwrap().trim().parse().unwrap();
        (writes - 2).to_string()
    };
    let at = last(&count);
    let fails = [
        states,
        ("FAULT_OP", "write"),
        ("FAULT_AT", &at),
        ("FAULT_FOR", "2"),
    ];
    let done = convert(&image, &fails);
    assert_eq!(
        (done.code, &*state(&job)),
        (0, "writing"),
        "{}",
        done.stderr
    );
    assert!(
        done.stderr.contains("The disk is complete"),
        "{}",
        done.stderr
    );
    let recorded = lab.run(&job_args("resume", &job, &[]));
    assert_eq!(
        (recorded.code, &*state(&job)),
        (0, "done"),
        "{}",
        recorded.stderr
    );

    // The same on the way back: counted on copies.
    let copied = lab.path("copied");
    crate::tampered::copy(&job, &copied);
    fs::copy(&image, &spare).unwrap();
    let on_spare = ["--yes", "--disk", spare.to_str().unwrap()];
    let states = ("FAULT_FILE", "copied/state-");
    let counted = [states, counted[1], counted[2]];
    let undone = run(&lab, &counted, &job_args("undo", &copied, &on_spare));
    assert_eq!(
        (undone.code, hash(&spare)),
        (0, before),
        "{}",
        undone.stderr
    );
    let at = last(&count);
    let fails = [fails[0], fails[1], ("FAULT_AT", &*at), fails[3]];
    let undo = job_args("undo", &job, &["--yes"]);
    let undone = run(&lab, &fails, &undo);
    assert_eq!(
        (undone.code, hash(&image)),
        (0, before),
        "{}",
        undone.stderr
    );
    assert_eq!(state(&job), "undoing");
    assert!(
        undone.stderr.contains("The disk is complete"),
        "{}",
        undone.stderr
    );
    let recorded = lab.run(&undo);
    assert_eq!(
        (recorded.code, &*state(&job)),
        (0, "undone"),
        "{}",
        recorded.stderr
    );
}

#[test]
fn either_state_file_is_enough_and_a_folder_without_both_is_no_secret() {
    let lab = Lab::new();
    let (_, disk, job) = stopped_while_shrinking(&lab);
    let all = ("FAULT_FOR", "100000");
    let reads = |file| {
        [
            ("FAULT_FILE", file),
            ("FAULT_OP", "read"),
            ("FAULT_AT", "0"),
            all,
        ]
    };
    let check = |faults: &[(&str, &str)]| {
        let run = run(&lab, faults, &["check", disk.to_str().unwrap(), "--json"]);
        assert_eq!(run.code, 1, "{}", run.stderr);
        let findings = run.json()["findings"].as_array().unwrap().clone();
        let is_it = |finding: &&serde_json::Value| finding["rule"] == "medium.stopped-job";
        let finding = findings.iter().find(is_it).unwrap().clone();
        assert_eq!(finding["outcome"], "block", "{finding}");
        finding["evidence"]["kind"].as_str().unwrap().to_owned()
    };
    for file in ["state-a.json", "state-b.json"] {
        assert_eq!(check(&reads(file)), "job-stopped", "{file}");
    }
    assert_eq!(check(&reads("job/state-")), "job-unreadable");
    let args = ["convert", disk.to_str().unwrap(), "--yes", "--job", "other"];
    run(&lab, &reads("job/state-"), &args).refuses(3, "cannot be read");
    let jobs = run(
        &lab,
        &reads("job/state-"),
        &["report", "--jobs", ".", "--json"],
    );
    assert_eq!(
        jobs.json()["jobs"][0]["state"],
        "incomplete",
        "{}",
        jobs.stdout
    );
    for (file, command, more) in [
        ("state-a.json", "resume", &[][..]),
        ("state-b.json", "undo", &["--yes"]),
    ] {
        let run = run(&lab, &reads(file), &job_args(command, &job, more));
        assert_eq!(run.code, 0, "{file}: {}", run.stderr);
    }
}

#[test]
fn a_transfer_that_had_to_be_repeated_leaves_a_trace() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let once = |operation| {
        let file = ("FAULT_FILE", "disk.img");
        [file, ("FAULT_OP", operation), ("FAULT_AT", "3")]
    };
    let check = run(
        &lab,
        &once("read"),
        &["check", image.to_str().unwrap(), "--json"],
    );
    let findings = check.json()["findings"].as_array().unwrap().clone();
    let is_it = |finding: &&serde_json::Value| finding["rule"] == "medium.health";
    let finding = findings.iter().find(is_it).unwrap();
    assert_eq!(finding["evidence"]["kind"], "retried", "{finding}");
    assert_eq!(finding["outcome"], "caution", "{finding}");
    let args = ["convert", image.to_str().unwrap(), "--yes", "--job", "job"];
    let done = run(&lab, &once("write"), &args);
    let trace = "failed and succeeded when repeated (first a write at LBA";
    assert_eq!(done.code, 0, "{}", done.stderr);
    assert!(done.stderr.contains(trace), "{}", done.stderr);
    let log = fs::read_to_string(lab.path("job/log.txt")).unwrap();
    assert!(log.contains(trace), "{log}");
}
