//! Conversions that are cut off, finished, and taken back, with the built program.

use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use schwelle_core::device::{DiskFile, Extent, Window};
use schwelle_core::ntfs::NtfsVolume;
use serde_json::{Value, json};

use crate::blocked::{entry, with_table};
use crate::devices::Attached;
use crate::job_files::{job_args, journal, keep_state, reopen, state};
use crate::support::{COMPUTER, Lab, SIGNATURE, lba, peek, poke};
use crate::volumes::{Mount, Seen, is_consistent, snapshot};
use schwelle_testkit::{copy_image, extract, hash, tool};

/// MiB of a disk that the standard volumes fill to the last sector.
const FULL_MIB: u64 = 211;

/// The EFI system partition's size with which its files come to lie on the old place of clusters
/// that have moved, on a full disk.
pub(crate) const OVER_DATA: [&str; 2] = ["--esp-size", "107M"];

/// A standard disk without any gap: the room comes from the Windows volume.
pub(crate) fn full_disk(lab: &Lab, name: &str) -> PathBuf {
    lab.image(name, 512, FULL_MIB, |disk| {
        disk.standard(SIGNATURE, COMPUTER).unwrap();
    })
}

/// True when two images are the same but for the free clusters that took moved data.
pub(crate) fn same_but_for_moves(a: &Path, b: &Path, job: &Path) -> bool {
    let (mut a, mut b) = (fs::read(a).unwrap(), fs::read(b).unwrap());
    let journal = journal(job);
    let sector = journal["sector_bytes"].as_u64().unwrap();
    for moved in journal["moves"].as_array().unwrap() {
        let number = |key: &str| usize::try_from(moved[key].as_u64().unwrap() * sector).unwrap();
        let (first, len) = (number("to_lba"), number("sectors"));
        a[first..first + len].fill(0);
        b[first..first + len].fill(0);
    }
    a == b
}

#[test]
fn a_conversion_that_shrinks_is_taken_back_to_the_byte_and_made_again() {
    let lab = Lab::new();
    let (image, pristine) = (full_disk(&lab, "disk.img"), lab.path("old.img"));
    copy_image(&image, &pristine);
    let job = lab.path("job");
    let run = lab.convert(&image, &job, &OVER_DATA);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let plan: Value = serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
    let plan = &plan["plan"];
    assert_eq!(plan["placement"]["kind"], "shrink");
    assert_eq!(plan["placement"]["taken_from"], 2);
    assert!(plan["bytes_moved"].as_u64().unwrap() > 1 << 20);
    assert!(fs::read(&image).unwrap() != fs::read(&pristine).unwrap());
    // Resumed, a finished job writes nothing.
    let converted = hash(&image);
    let run = lab.run(&job_args("resume", &job, &[]));
    assert_eq!(run.code, 0, "{}", run.stderr);
    assert!(run.stdout.contains("finished already; nothing was written"));
    assert_eq!(hash(&image), converted);

    let run = lab.run(&job_args("undo", &job, &["--yes", "--json"]));
    assert_eq!(
        (run.code, &run.json()["exact"]),
        (0, &true.into()),
        "{}",
        run.stderr
    );
    assert!(same_but_for_moves(&image, &pristine, &job));
    for (command, expected) in [
        ("undo", "taken back already"),
        ("resume", "taken back already"),
    ] {
        let run = lab.run(&job_args(command, &job, &[]));
        assert_eq!(run.code, 1);
        assert!(run.stderr.contains(expected), "{}", run.stderr);
    }
    assert_eq!(
        lab.convert(&image, lab.path("second"), &["--quiet"]).code,
        0
    );
}

#[test]
#[ignore = "needs root and outside programs"]
fn undo_leaves_a_volume_that_was_used_since_as_it_is_and_says_so() {
    let lab = Lab::new();
    let image = full_disk(&lab, "disk.img");
    let job = lab.path("job");
    assert_eq!(lab.convert(&image, &job, &OVER_DATA).code, 0);
    let shrunk = &journal(&job)["volumes"][0];
    let number = |key: &str| shrunk[key].as_u64().unwrap();
    let (first, len) = (number("first_lba") * 512, number("sectors_after") * 512);
    let volume = lab.path("windows.img");
    extract(&image, (first, len), &volume);
    fs::write(
        Mount::new(&volume, true).path("since.txt"),
        "written in UEFI mode",
    )
    .unwrap();
    poke(&image, first, &fs::read(&volume).unwrap());
    let kept = snapshot(&volume);

    // A question that is not answered changes nothing.
    let before = hash(&image);
    let run = lab.run_with(&job_args("undo", &job, &[]), "no\n");
    assert_eq!(run.code, 2, "{}", run.stderr);
    assert!(
        [
            "has been used since",
            "It keeps its new size",
            "SYSTEM: C: and 2 volume names"
        ]
        .iter()
        .all(|expected| run.stdout.contains(expected)),
        "{}",
        run.stdout
    );
    assert_eq!(hash(&image), before);
    let run = lab.run(&job_args("undo", &job, &["--yes", "--json"]));
    assert_eq!(
        (run.code, &run.json()["exact"]),
        (0, &false.into()),
        "{}",
        run.stderr
    );

    // An MBR disk again, its second entry as long as the volume is now.
    let check = lab.run(&["check", image.to_str().unwrap(), "--json"]);
    assert_eq!(
        (check.code, &check.json()["answer"]),
        (0, &"ready".into()),
        "the updated files name the MBR disk: {}",
        check.stdout
    );
    let sectors = u32::from_le_bytes(peek(&image, 446 + 16 + 12, 4).try_into().unwrap());
    assert_eq!(u64::from(sectors), number("sectors_after"));
    let again = lab.path("again.img");
    extract(&image, (first, len), &again);
    is_consistent(&again).unwrap();
    // But for the two files that name the disk.
    let others = |mut files: BTreeMap<PathBuf, Seen>| {
        files.retain(|path, _| !path.ends_with("config/SYSTEM") && !path.ends_with("ReAgent.xml"));
        files
    };
    assert!(others(snapshot(&again)) == others(kept));
}

#[test]
fn an_unfinished_job_stands_in_the_way_of_a_second_one() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = fs::read(&image).unwrap();
    let job = lab.path("job");
    assert_eq!(lab.convert(&image, &job, &["--quiet"]).code, 0);
    reopen(&job);
    poke(&image, 0, &before[..512]);
    let half = hash(&image);
    for folder in [&job, &lab.path("another")] {
        let run = lab.convert(&image, folder, &[]);
        assert_eq!(run.code, 1, "{}", run.stderr);
        for expected in [
            "an earlier job on this disk was interrupted",
            "schwelle resume --job",
            "schwelle undo",
        ] {
            assert!(run.stderr.contains(expected), "{}", run.stderr);
        }
        assert!(run.stderr.contains(job.to_str().unwrap()));
        assert_eq!(hash(&image), half);
    }
    assert!(!lab.path("another").exists());
    assert_eq!(lab.run(&job_args("resume", &job, &[])).code, 0);
    assert_eq!(
        lab.run(&["rehearse", image.to_str().unwrap(), "--quiet"])
            .code,
        0
    );
}

#[test]
fn the_disk_is_found_by_its_content_and_no_other_is_taken() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let (other, _) = lab.standard("other.img", 512);
    let old = fs::read(&image).unwrap();
    let job = lab.path("job");
    assert_eq!(lab.convert(&image, &job, &["--quiet"]).code, 0);
    reopen(&job);
    let moved = lab.path("moved.img");
    fs::rename(&image, &moved).unwrap();
    let strange = lab.image("strange.img", 512, 340, |disk| {
        disk.standard(0x0DD, COMPUTER).unwrap();
    });
    // The name leads to another disk now.
    fs::rename(&strange, &image).unwrap();
    let before = [hash(&image), hash(&other)];
    let run = lab.run(&job_args("resume", &job, &[]));
    run.refuses(3, "the job's disk was not found");
    let smaller = lab.image("smaller.img", 512, 100, |_| {});
    for (disk, expected) in [
        (&image, "is neither what it was"),
        (&smaller, "not this one"),
    ] {
        let run = lab.run(&job_args(
            "resume",
            &job,
            &["--disk", disk.to_str().unwrap()],
        ));
        assert_eq!(run.code, 1);
        assert!(run.stderr.contains(expected), "{}", run.stderr);
    }
    assert_eq!([hash(&image), hash(&other)], before);
    let named = ["--disk", moved.to_str().unwrap()];
    assert_eq!(lab.run(&job_args("resume", &job, &named)).code, 0);
    let run = lab.run(&job_args("undo", &job, &[&named[..], &["--yes"]].concat()));
    assert_eq!(run.code, 0, "{}", run.stderr);
    assert!(fs::read(&moved).unwrap() == old);
}

#[test]
fn a_disk_or_a_folder_that_has_changed_since_is_refused_with_the_place() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 480, |disk| {
        with_table(disk, |entries| {
            let extended = Extent::new(lba(900_000), 40_000).unwrap();
            entries.push(entry(false, 5, extended));
        });
        let logical = entry(false, 0x83, Extent::new(lba(2048), 30_000).unwrap());
        disk.boot_record(lba(900_000), 0, &[logical]).unwrap();
    });
    let job = lab.path("job");
    let run = lab.convert(&image, &job, &["--quiet"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    reopen(&job);
    let refused = |command: &str, code: i32, expected: &str| {
        let before = hash(&image);
        let yes: &[&str] = if command == "undo" { &["--yes"] } else { &[] };
        let run = lab.run(&job_args(command, &job, yes));
        assert_eq!(run.code, code, "{}", run.stderr);
        assert!(run.stderr.contains(expected), "{expected}: {}", run.stderr);
        assert!(run.stderr.contains("Nothing was written") || run.stderr.contains("unchanged"));
        assert_eq!(hash(&image), before);
    };
    // A boot record that the plan relies on, a sector of the journal, a new partition.
    let with = |offset: u64, bytes: &[u8], check: &dyn Fn()| {
        let old = peek(&image, offset, bytes.len());
        poke(&image, offset, bytes);
        check();
        poke(&image, offset, &old);
    };
    with(900_000 * 512 + 460, &[9], &|| {
        refused("resume", 1, "LBA 900000 (extended boot record)");
        refused("undo", 1, "LBA 900000 (extended boot record)");
    });
    let place = journal(&job)["extents"][3]["first_lba"].as_u64().unwrap();
    with(place * 512 + 7, &[0xEE], &|| {
        refused(
            "resume",
            1,
            &format!("LBA {place} (EFI system partition) is neither"),
        );
    });
    with(100, &[0xEE], &|| {
        refused("undo", 3, "the job's disk was not found");
    });
    for (file, expected) in [
        ("journal.json", "its hash is not the one in the job's state"),
        ("new.bin", "their hash differs"),
    ] {
        let path = job.join(file);
        let whole = fs::read(&path).unwrap();
        let mut damaged = whole.clone();
        let middle = damaged.len() / 2;
        damaged[middle] ^= 0x80;
        fs::write(&path, &damaged).unwrap();
        refused("resume", 3, expected);
        fs::write(&path, &whole).unwrap();
    }
    assert_eq!(lab.run(&job_args("undo", &job, &["--yes"])).code, 0);
}

#[test]
fn a_job_that_never_began_has_nothing_to_finish() {
    let lab = Lab::new();
    let job = lab.path("job");
    fs::create_dir(&job).unwrap();
    for (command, more) in [("resume", &[][..]), ("undo", &["--yes"][..])] {
        let run = lab.run(&job_args(command, &job, more));
        assert_eq!(run.code, 3, "no job at all: {}", run.stderr);
    }
    let state =
        json!({ "number": 1, "state": "saving", "journal": "", "stage": null, "moved": null });
    keep_state(&job, &state);
    let run = lab.run(&job_args("resume", &job, &[]));
    assert_eq!(run.code, 3);
    assert!(
        run.stderr.contains("before anything was written"),
        "{}",
        run.stderr
    );
}

/// A conversion under way; lines of its progress can be waited for.
struct UnderWay {
    child: Child,
    lines: std::io::Lines<BufReader<std::process::ChildStderr>>,
    /// What it has said so far.
    said: Vec<String>,
}

impl UnderWay {
    fn begin(disk: &Path, job: &Path, more: &[&str]) -> Self {
        let mut child = Command::new(assert_cmd::cargo::cargo_bin("schwelle"))
            .args(["convert", disk.to_str().unwrap(), "--yes", "--job"])
            .arg(job)
            .args(more)
            .env_clear()
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let lines = BufReader::new(child.stderr.take().unwrap()).lines();
        let said = Vec::new();
        Self { child, lines, said }
    }

    /// Reads progress until a line begins so; false at its end.
    fn wait_for(&mut self, begin: &str) -> bool {
        for line in self.lines.by_ref().map_while(Result::ok) {
            self.said.push(line);
            if self.said.last().is_some_and(|line| line.starts_with(begin)) {
                return true;
            }
        }
        false
    }

    fn end(mut self) -> (i32, String) {
        self.said.extend(self.lines.map_while(Result::ok));
        let status = self.child.wait().unwrap();
        (status.code().unwrap_or(-1), self.said.join("\n"))
    }
}

#[test]
#[ignore = "needs root"]
fn a_killed_conversion_on_a_real_device_is_finished_and_taken_back() {
    let lab = Lab::new();
    for sector in [512, 4096] {
        let (pristine, more) = if sector == 512 {
            (full_disk(&lab, "old-512.img"), &OVER_DATA[..])
        } else {
            (lab.standard("old-4096.img", 4096).0, &[][..])
        };
        let stages = [
            "move:",
            "shrink:",
            "prepare:",
            "prepare: on",
            "commit:",
            "verify:",
        ];
        let points = stages
            .iter()
            .flat_map(|stage| [0, 300, 2000].map(|delay| (*stage, delay)));
        let (mut finished, mut undone) = (0, 0);
        for (index, (stage, delay)) in points.enumerate() {
            let image = lab.path("disk.img");
            tool(
                "cp",
                &[
                    "--sparse=always",
                    pristine.to_str().unwrap(),
                    image.to_str().unwrap(),
                ],
            );
            let disk = Attached::new(&image, &["--sector-size", &sector.to_string()]);
            let job = lab.path(&format!("job-{sector}-{index}"));
            let mut run = UnderWay::begin(&disk.0, &job, more);
            let reached = run.wait_for(stage);
            std::thread::sleep(Duration::from_micros(delay));
            run.child.kill().unwrap();
            let (code, said) = run.end();
            // It comes to each stage that there is, or to its end.
            assert!(reached || code == 0, "{sector}, {stage}: {code}: {said}");
            let unfinished = state(&job) == "writing";
            if index % 2 == 0 {
                let run = lab.run(&job_args("resume", &job, &[]));
                assert_eq!(run.code, 0, "{stage}+{delay}: {}", run.stderr);
                assert_eq!(lab.run(&["rehearse", disk.path(), "--quiet"]).code, 0);
                finished += u32::from(unfinished);
            } else {
                let run = lab.run(&job_args("undo", &job, &["--yes"]));
                assert_eq!(run.code, 0, "{stage}+{delay}: {}", run.stderr);
                assert!(
                    same_but_for_moves(&image, &pristine, &job),
                    "{stage}+{delay}"
                );
                undone += u32::from(unfinished);
            }
        }
        assert!(
            finished >= 3 && undone >= 3,
            "{finished}, {undone}: killed too late"
        );
    }
}

#[test]
fn ctrl_c_stops_between_stages_and_says_what_to_do() {
    use rustix::process::{Pid, Signal, kill_process};
    let lab = Lab::new();
    let pristine = full_disk(&lab, "old.img");
    // The signal may come too early or too late on a busy machine; then it is tried again.
    for attempt in 0..40 {
        let image = lab.path(&format!("disk-{attempt}.img"));
        tool(
            "cp",
            &[
                "--sparse=always",
                pristine.to_str().unwrap(),
                image.to_str().unwrap(),
            ],
        );
        let job = lab.path(&format!("job-{attempt}"));
        let mut run = UnderWay::begin(&image, &job, &OVER_DATA);
        assert!(run.wait_for("move:"));
        std::thread::sleep(Duration::from_micros(200 * attempt));
        kill_process(Pid::from_child(&run.child), Signal::INT).unwrap();
        let (code, shown) = run.end();
        if code == 3 {
            // Before the first write: then there is no job to speak of.
            assert!(shown.contains("The disk is unchanged"), "{shown}");
            assert_eq!(state(&job), "undone");
        }
        if code == 0 || code == 3 {
            continue;
        }
        assert_eq!(code, 4, "{shown}");
        for words in [
            "stopped as asked",
            "schwelle resume --job",
            "schwelle undo --job",
        ] {
            assert!(shown.contains(words), "{shown}");
        }
        let run = lab.run(&job_args("resume", &job, &[]));
        assert_eq!(run.code, 0, "{}", run.stderr);
        assert!(run.stdout.contains("Converted."));
        return;
    }
    panic!("the signal was never heeded");
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_volume_that_was_used_half_way_is_not_finished_but_taken_back() {
    let lab = Lab::new();
    let (image, pristine) = (full_disk(&lab, "disk.img"), lab.path("old.img"));
    copy_image(&image, &pristine);
    let job = lab.path("job");
    assert_eq!(lab.convert(&image, &job, &["--quiet"]).code, 0);
    reopen(&job);
    // Cut before anything but the moved clusters was written, and then Windows was started.
    copy_image(&pristine, &image);
    let number = |key: &str| journal(&job)["volumes"][0][key].as_u64().unwrap();
    let (first, len) = (number("first_lba"), number("sectors_before"));
    let volume = lab.path("windows.img");
    extract(&image, (first * 512, len * 512), &volume);
    fs::write(
        Mount::new(&volume, true).path("since.txt"),
        "written in BIOS mode",
    )
    .unwrap();
    poke(&image, first * 512, &fs::read(&volume).unwrap());
    let used = hash(&image);
    let run = lab.run(&job_args("resume", &job, &[]));
    assert_eq!(run.code, 1, "{}", run.stderr);
    assert!(run.stderr.contains("schwelle") && run.stderr.contains("Nothing was written"));
    assert_eq!(hash(&image), used);
    let run = lab.run(&job_args("undo", &job, &["--yes"]));
    assert_eq!(run.code, 0, "{}", run.stderr);
    let device = DiskFile::open_read(&image, Some(512)).unwrap();
    let window = Window::new(&device, Extent::new(lba(first), len).unwrap()).unwrap();
    let opened = NtfsVolume::open(&window).unwrap();
    assert!(opened.find("\\since.txt").unwrap().is_some());
    assert_eq!(opened.audit().unwrap().faults, []);
}
