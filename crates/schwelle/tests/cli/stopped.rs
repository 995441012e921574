//! Disks on which a job was stopped: recognised with and without its folder.

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value;

use crate::devices::{Attached, FileSystem};
use crate::job_files::{job_args, journal, new_bytes, newest_state, set_state, state};
use crate::recover::full_disk;
use crate::support::{COMPUTER, Lab, peek, place, poke};
use crate::volumes::is_consistent;
use schwelle_testkit::{Run, extract, hash, tool};

/// Of this test alone: other tests' disks are not to be found by their job folders, nor theirs by these.
const OWN_SIGNATURE: u32 = 0x5709_9ED1;

/// Puts a disk into the state after some stages of a job: the old disk with what they write.
pub(crate) fn after_stages(old: &Path, disk: &Path, job: &Path, stages: &[&str]) {
    fs::copy(old, disk).unwrap();
    let journal = journal(job);
    let sector = journal["sector_bytes"].as_u64().unwrap();
    let bytes = |value: &Value| value.as_u64().unwrap() * sector;
    for moved in journal["moves"].as_array().unwrap() {
        let len = usize::try_from(bytes(&moved["sectors"])).unwrap();
        poke(
            disk,
            bytes(&moved["to_lba"]),
            &peek(old, bytes(&moved["from_lba"]), len),
        );
    }
    let extents = journal["extents"].as_array().unwrap();
    let done = |extent: &&Value| stages.contains(&extent["stage"].as_str().unwrap());
    for extent in extents.iter().filter(done) {
        poke(disk, bytes(&extent["first_lba"]), &new_bytes(job, extent));
    }
}

/// A disk without any gap, its job, and the converted disk.
struct Bench {
    lab: Lab,
    old: PathBuf,
    job: PathBuf,
}

impl Bench {
    fn new() -> Self {
        let lab = Lab::new();
        let old = lab.image("old.img", 512, 211, |disk| {
            disk.standard(OWN_SIGNATURE, COMPUTER).unwrap();
        });
        let disk = lab.path("converted.img");
        fs::copy(&old, &disk).unwrap();
        fs::create_dir(lab.path("stick")).unwrap();
        let job = lab.path("stick/job");
        let run = lab.convert(&disk, &job, &["--esp-size", "107M"]);
        assert_eq!(run.code, 0, "{}", run.stderr);
        Self { lab, old, job }
    }

    fn stopped_after(&self, name: &str, stages: &[&str]) -> PathBuf {
        fs::create_dir_all(self.lab.path("bench")).unwrap();
        let disk = self.lab.path("bench").join(name);
        after_stages(&self.old, &disk, &self.job, stages);
        disk
    }
}

fn finding(run: &Run, rule: &str) -> Value {
    let findings = run.json()["findings"].as_array().unwrap().clone();
    let of_rule = findings
        .into_iter()
        .filter(|finding| finding["rule"] == rule);
    // The most serious one.
    of_rule
        .min_by_key(|finding| finding["outcome"].to_string())
        .unwrap()
}

#[test]
#[ignore = "needs outside programs"]
fn a_disk_that_was_left_half_way_is_told_without_the_job_folder() {
    let bench = Bench::new();
    for (name, stages, expected) in [
        (
            "shrink.img",
            &["shrink"][..],
            "the boot sector's copy of the larger volume",
        ),
        (
            "prepare.img",
            &["shrink", "prepare"],
            "begins the EFI system partition of a conversion",
        ),
    ] {
        let disk = bench.stopped_after(name, stages);
        let path = disk.to_str().unwrap();
        let before = hash(&disk);
        let check = bench.lab.run(&["check", path, "--json"]);
        let found = finding(&check, "medium.stopped-job");
        assert_eq!(
            (check.code, &found["outcome"]),
            (1, &"block".into()),
            "{found}"
        );
        let all = check.stdout.clone();
        assert!(
            all.contains("a job was interrupted here") && all.contains(expected),
            "{all}"
        );
        let survey = bench.lab.run(&["survey", path, "--json"]).json();
        assert_eq!(survey["rule"], "medium.stopped-job");
        let second = bench.lab.convert(&disk, bench.lab.path("second"), &[]);
        assert_eq!((second.code, hash(&disk)), (1, before), "{}", second.stderr);

        // With the folder lost for good, the hole is used, and nothing is shrunk again.
        let job = bench.lab.path(&format!("{name}.second"));
        let run = bench.lab.convert(&disk, &job, &["--job-lost"]);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        let record: Value =
            serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
        assert_eq!(record["plan"]["shrunk"].as_array().unwrap().len(), 0);
        assert_eq!(record["plan"]["bytes_moved"], 0);
        assert_eq!(bench.lab.run(&["rehearse", path, "--quiet"]).code, 0);
        let volume = bench.lab.path("volume.ntfs");
        extract(&disk, place(&record, "Windows"), &volume);
        is_consistent(&volume).unwrap();
        // And back: what the second job found is what undo restores.
        let undo = bench.lab.run(&job_args("undo", &job, &["--yes"]));
        assert_eq!((undo.code, hash(&disk)), (0, before), "{}", undo.stderr);
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_stopped_job_is_named_wherever_its_folder_is_mounted() {
    let bench = Bench::new();
    let disk = bench.stopped_after("disk.img", &["shrink"]);
    set_state(&bench.job, "writing");
    let stick = bench.lab.path("stick.img");
    fs::File::create(&stick).unwrap().set_len(64 << 20).unwrap();
    tool("mkfs.ext4", &["-q", stick.to_str().unwrap()]);
    let mounted = FileSystem::new(
        bench.lab.path("mounted"),
        &["-o", "loop", stick.to_str().unwrap()],
    );
    let jobs = mounted.0.join("jobs");
    fs::create_dir(&jobs).unwrap();
    let there = jobs.join("job-7");
    tool(
        "cp",
        &["-r", bench.job.to_str().unwrap(), there.to_str().unwrap()],
    );
    let device = Attached::new(&disk, &[]);
    let named = there.to_str().unwrap();
    for command in [
        &["check", device.path()][..],
        &["convert", device.path(), "--job", "other", "--yes"],
        &[
            "convert",
            device.path(),
            "--job",
            "other",
            "--yes",
            "--job-lost",
        ],
        &["survey", device.path(), "--json"],
    ] {
        let run = bench.lab.run(command);
        let said = format!("{}{}", run.stdout, run.stderr).replace('\n', " ");
        assert!(run.code == 1 && said.contains(named), "{command:?}: {said}");
    }
    let run = bench.lab.run(&job_args(
        "resume",
        Path::new(named),
        &["--disk", device.path()],
    ));
    assert_eq!(run.code, 0, "{}", run.stderr);
    // A job that is done blocks nothing.
    let check = bench
        .lab
        .run(&["check", device.path(), "--to", "mbr", "--json"]);
    let found = finding(&check, "medium.stopped-job");
    assert_eq!(found["outcome"], "pass", "{found}");
    assert!(
        found["evidence"]["text"].as_str().unwrap().contains(named),
        "{found}"
    );
}

/// Tears the newest of the two states, in a way of tearing.
fn tear_newest(job: &Path, tear: impl Fn(&mut Vec<u8>)) {
    let number = newest_state(job)["number"].as_u64().unwrap();
    let name = if number.is_multiple_of(2) {
        "state-a.json"
    } else {
        "state-b.json"
    };
    let mut text = fs::read(job.join(name)).unwrap();
    tear(&mut text);
    fs::write(job.join(name), text).unwrap();
}

#[test]
fn a_folder_whose_newest_state_is_torn_goes_by_the_one_before() {
    let empty: fn(&mut Vec<u8>) = Vec::clear;
    let half: fn(&mut Vec<u8>) = |text| text.truncate(100);
    let zeros: fn(&mut Vec<u8>) = |text| text.fill(0);
    let flipped: fn(&mut Vec<u8>) = |text| text[30] ^= 1;
    for tear in [empty, half, zeros, flipped] {
        let lab = Lab::new();
        let image = full_disk(&lab, "disk.img");
        let before = hash(&image);
        let job = lab.path("job");
        assert_eq!(lab.convert(&image, &job, &[]).code, 0);
        let converted = hash(&image);
        tear_newest(&job, tear);
        // The one before says that the disk is being written.
        let run = lab.run(&job_args("resume", &job, &[]));
        assert_eq!((run.code, hash(&image)), (0, converted), "{}", run.stderr);
        assert_eq!(state(&job), "done");
        tear_newest(&job, tear);
        let run = lab.run(&job_args("undo", &job, &["--yes"]));
        assert_eq!(run.code, 0, "{}", run.stderr);
        assert_ne!(hash(&image), converted);
        assert!(before == hash(&image) || !journal(&job)["moves"].as_array().unwrap().is_empty());
        // With neither of the two there is nothing to go by.
        for name in ["state-a.json", "state-b.json"] {
            fs::write(job.join(name), "").unwrap();
        }
        let run = lab.run(&job_args("undo", &job, &["--yes"]));
        assert_eq!(run.code, 3);
        assert!(run.stderr.contains("a whole state"), "{}", run.stderr);
    }
}

#[test]
fn another_converted_disk_of_the_same_size_is_not_taken_for_the_jobs() {
    let lab = Lab::new();
    for (name, signature) in [("one", OWN_SIGNATURE + 1), ("other", OWN_SIGNATURE + 2)] {
        let image = lab.image(&format!("{name}.img"), 512, 340, |disk| {
            disk.standard(signature, COMPUTER).unwrap();
        });
        assert_eq!(lab.convert(&image, format!("{name}.job"), &[]).code, 0);
    }
    let [one, other] = ["one.img", "other.img"].map(|name| lab.path(name));
    assert_eq!(
        peek(&one, 0, 512),
        peek(&other, 0, 512),
        "nothing in sector 0 distinguishes them"
    );
    set_state(&lab.path("one.job"), "writing");
    // Of the two disks beside it, the job is about one.
    let stopped = |name: &str| {
        let run = lab.run(&["check", name, "--to", "mbr", "--json"]);
        finding(&run, "medium.stopped-job")["outcome"] == "block"
    };
    assert!(stopped("one.img") && !stopped("other.img"));
    let run = lab.run(&["resume", "--job", "one.job", "--disk", "other.img"]);
    assert_eq!(run.code, 1, "{}", run.stderr);
}
