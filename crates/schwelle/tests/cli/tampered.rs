//! Job folders that were edited or swapped: the disk tells its own folder from others, and
//! where it cannot, the technician is asked for the folder's name.

use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::Extent;
use schwelle_testkit::{hash, tool};
use serde_json::{Value, json};

use crate::job_files::{job_args, journal, keep_state, new_bytes, newest_state, reopen, set_state};
use crate::recover::{OVER_DATA, full_disk};
use crate::support::{Lab, lba, peek, place, poke};

const NOT_PROVEN: &str = "the disk does not prove that this job folder is its own";
const OTHER_ID: &str = "the disk's GUID is neither the one that the job's disk had before";
const OTHER_FOLDER: &str = "another job folder belongs to it, or that this one has been changed";

/// Edits the journal, with its hash made anew.
fn edit(job: &Path, change: impl FnOnce(&mut Value)) {
    let mut edited = journal(job);
    let before = edited.clone();
    change(&mut edited);
    assert_ne!(edited, before, "the edit changes nothing");
    let text = edited.to_string();
    fs::write(job.join("journal.json"), &text).unwrap();
    let mut state = newest_state(job);
    state["journal"] = blake3::hash(text.as_bytes()).to_hex().as_str().into();
    keep_state(job, &state);
}

/// A copy of a folder, all of it.
pub(crate) fn copy(from: &Path, to: &Path) {
    fs::remove_dir_all(to).ok();
    fs::create_dir(to).unwrap();
    for file in fs::read_dir(from).unwrap() {
        let file = file.unwrap();
        fs::copy(file.path(), to.join(file.file_name())).unwrap();
    }
}

/// Adds bytes to a file of the folder; how a journal refers to them.
fn stored(job: &Path, name: &str, bytes: &[u8]) -> Value {
    let mut file = fs::read(job.join(name)).unwrap();
    let offset = file.len();
    file.extend(bytes);
    fs::write(job.join(name), file).unwrap();
    json!({ "offset": offset, "blake3": blake3::hash(bytes).to_hex().as_str() })
}

/// A disk and its finished job, in a folder called "job".
fn bench() -> (Lab, PathBuf, PathBuf) {
    let lab = Lab::new();
    let image = full_disk(&lab, "disk.img");
    let run = lab.convert(
        &image,
        lab.path("job"),
        &[&["--quiet"], &OVER_DATA[..]].concat(),
    );
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let job = lab.path("job");
    (lab, image, job)
}

/// The command is refused for this reason, and nothing is written.
fn refused(lab: &Lab, image: &Path, args: &[&str], stdin: &str, reason: &str) {
    let before = hash(image);
    let run = lab.run_with(args, stdin);
    assert!(
        run.code != 0 && run.stderr.contains(reason),
        "{args:?}, not \"{reason}\": {}{}",
        run.stdout,
        run.stderr
    );
    assert_eq!(hash(image), before, "{args:?}: {reason}");
}

#[test]
fn a_folder_that_was_edited_is_noticed_by_the_disk_even_where_a_technician_vouches_for_it() {
    let (lab, image, job) = bench();
    let whole = lab.path("whole");
    fs::rename(&job, &whole).unwrap();
    type Change = fn(&mut Value, &Path);
    let changes: &[(&str, Change)] = &[
        ("old bytes", |journal, job| {
            let extents = journal["extents"].as_array_mut().unwrap();
            let old = stored(job, "saved.bin", &[0xEE; 512]);
            let one = extents.iter_mut().find(|one| one["sectors"] == 1);
            one.unwrap()["old"] = old;
        }),
        ("new bytes", |journal, job| {
            let extents = journal["extents"].as_array_mut().unwrap();
            let new = stored(job, "new.bin", &[0xEE; 512]);
            let one = extents.iter_mut().find(|one| one["sectors"] == 1);
            one.unwrap()["new"] = new;
        }),
        ("an extent less", |journal, _| {
            drop(journal["extents"].as_array_mut().unwrap().pop());
        }),
        ("a place", |journal, _| {
            let moves = journal["moves"].as_array_mut().unwrap();
            moves.swap(0, 1);
        }),
        ("a volume's hash", |journal, _| {
            journal["volumes"][0]["before"] = journal["volumes"][0]["after"].clone();
        }),
        ("the place of the hash", |journal, _| {
            journal["bound_at"] = Value::Null;
        }),
        ("the disk's name", |journal, _| {
            journal["job"]["disk"] = "elsewhere.img".into();
        }),
        // Of a kind that leaves no hash.
        ("the kind", |journal, _| {
            journal["job"]["kind"] = "mend".into();
            journal["bound_at"] = Value::Null;
        }),
        ("the table", |journal, _| {
            journal["job"]["to"] = "mbr".into();
        }),
        ("the use", |journal, _| {
            journal["job"]["disk_use"] = "data".into();
        }),
    ];
    for (name, change) in changes {
        copy(&whole, &job);
        edit(&job, |journal| change(journal, &job));
        let disk = ["--disk", image.to_str().unwrap()];
        println!("{name}");
        for command in ["undo", "resume"] {
            set_state(&job, "writing");
            let args = match command {
                "undo" => [&disk[..], &["--yes"]].concat(),
                _ => disk.to_vec(),
            };
            refused(
                &lab,
                &image,
                &job_args(command, &job, &args),
                "",
                OTHER_FOLDER,
            );
        }
    }
    // What has moved is not in the journal: without it, nothing could be moved back.
    copy(&whole, &job);
    let mut state = newest_state(&job);
    state["moved"] = Value::Null;
    keep_state(&job, &state);
    refused(
        &lab,
        &image,
        &job_args("undo", &job, &["--yes"]),
        "",
        OTHER_FOLDER,
    );
    // A list of hashes of something else: the volume stays as it is, instead of being spoiled.
    copy(&whole, &job);
    let hashes = fs::read(job.join("moved.json")).unwrap();
    let mut hashes: Vec<String> = serde_json::from_slice(&hashes).unwrap();
    hashes[0] = blake3::hash(b"").to_hex().to_string();
    let text = json!(hashes).to_string();
    fs::write(job.join("moved.json"), &text).unwrap();
    let mut state = newest_state(&job);
    state["moved"] = blake3::hash(text.as_bytes()).to_hex().as_str().into();
    keep_state(&job, &state);
    let run = lab.run_with(&job_args("undo", &job, &[]), "no\n");
    assert!(
        run.stdout.contains("has been used since the conversion"),
        "{}",
        run.stdout
    );

    // The folder as it was needs no name, and says that it is proven.
    copy(&whole, &job);
    let run = lab.run(&["undo", "--job", "job", "--yes", "--json"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    assert_eq!(run.json()["folder_is_proven"], true);
}

#[test]
fn files_swapped_between_two_jobs_are_noticed() {
    let (lab, image, job) = bench();
    let other = {
        let image = full_disk(&lab, "other.img");
        let run = lab.convert(
            &image,
            lab.path("other"),
            &[&["--quiet"], &OVER_DATA[..]].concat(),
        );
        assert_eq!(run.code, 0, "{}", run.stderr);
        lab.path("other")
    };
    let named = ["--disk", image.to_str().unwrap(), "--yes"];
    // Both disks have the same size and the same sector 0, and each its own folder.
    refused(
        &lab,
        &image,
        &job_args("undo", &other, &named),
        "",
        OTHER_ID,
    );
    for (files, reason) in [
        (&["saved.bin"][..], "their hash differs"),
        (
            &["journal.json"],
            "its hash is not the one in the job's state",
        ),
        (
            &["moved.json"],
            "its hash is not the one in the job's state",
        ),
        (
            &[
                "journal.json",
                "saved.bin",
                "new.bin",
                "state-a.json",
                "state-b.json",
                "moved.json",
            ],
            OTHER_ID,
        ),
    ] {
        let swapped = lab.path("swapped");
        copy(&job, &swapped);
        for file in files {
            fs::copy(other.join(file), swapped.join(file)).unwrap();
        }
        let same = files
            .iter()
            .all(|file| fs::read(job.join(file)).unwrap() == fs::read(other.join(file)).unwrap());
        if !same {
            refused(
                &lab,
                &image,
                &job_args("undo", &swapped, &named),
                "",
                reason,
            );
        }
    }
}

#[test]
fn of_two_jobs_on_a_disk_it_proves_both_and_no_other() {
    let (lab, image, job) = bench();
    let (spoil, damaged) = (|| poke(&image, 512, &[0; 512]), lab.path("damaged.img"));
    spoil();
    schwelle_testkit::copy_image(&image, &damaged);
    let mended = lab.path("mended");
    let disk = image.to_str().unwrap();
    let mend = job_args("mend", &mended, &[disk, "--yes", "--quiet"]);
    let run = lab.run(&mend);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    // One that says of itself that it leaves no hash.
    let forged = lab.path("forged");
    copy(&mended, &forged);
    edit(&forged, |journal| {
        journal["bound_at"] = Value::Null;
        journal["extents"].as_array_mut().unwrap().remove(0);
    });
    let undo = job_args("undo", &forged, &["--yes", "--disk", disk]);
    refused(&lab, &image, &undo, "", OTHER_FOLDER);
    // The later one is taken back first, or the earlier one at once.
    let taken_back = |job: &Path| {
        let run = lab.run(&job_args("undo", job, &["--yes", "--json"]));
        assert_eq!(run.code, 0, "{}", run.stderr);
        assert_eq!(run.json()["folder_is_proven"], true);
    };
    taken_back(&mended);
    assert_eq!(hash(&image), hash(&damaged));
    fs::remove_dir_all(&mended).unwrap();
    assert_eq!(lab.run(&mend).code, 0);
    taken_back(&job);
}

#[test]
fn where_the_disk_holds_no_hash_the_folder_is_asked_for_by_its_name() {
    // A data disk gets none.
    let lab = Lab::new();
    let data = lab.image("data.img", 512, 100, |disk| {
        let place = Extent::new(lba(2048), 150_000).unwrap();
        disk.volume(schwelle_demo::Asset::Boot, place).unwrap();
        let entry = schwelle_demo::MbrEntry {
            active: false,
            kind: 7,
            first: 2048,
            sectors: 150_000,
        };
        disk.boot_record(lba(0), 0x1234_5678, &[entry]).unwrap();
    });
    let before = hash(&data);
    let job = lab.path("stick/job-0815");
    fs::create_dir(lab.path("stick")).unwrap();
    let run = lab.convert(&data, &job, &["--quiet", "--data-disk"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let folder = job.to_str().unwrap();
    let undo = ["undo", "--job", folder];
    for (more, stdin, reason) in [
        (&["--yes"][..], "", NOT_PROVEN),
        (&[], "", NOT_PROVEN),
        (&[], "yes\nyes\n", NOT_PROVEN),
        (&[], "job-0816\nyes\n", NOT_PROVEN),
        (&[], "job-0815\nno\n", "it was not confirmed"),
        (
            &["--yes", "--folder-name", "job-0816"],
            "",
            "this folder is called job-0815, and not job-0816",
        ),
    ] {
        refused(&lab, &data, &[&undo[..], more].concat(), stdin, reason);
    }
    // A name that cannot be typed is named as it is shown, or by its path.
    for (strange, named) in [("-x \u{1b}[2J", "-x \\u{1b}[2J"), ("-y", "./-y")] {
        let strange = lab.path(strange);
        copy(&job, &strange);
        let named = format!("--folder-name={named}");
        let args = ["undo", "--job", strange.to_str().unwrap(), &named];
        refused(&lab, &data, &args, "no\n", "it was not confirmed");
    }
    let run = lab.run_with(&[&undo[..], &["--json"]].concat(), "job-0815\nyes\n");
    assert_eq!((run.code, hash(&data)), (0, before), "{}", run.stderr);
    assert_eq!(run.json()["folder_is_proven"], false);
    assert!(
        run.stderr.contains("This job leaves no hash"),
        "{}",
        run.stderr
    );

    // A name is compared where it is not needed, too; and a finished job needs none.
    let (lab, image, _) = bench();
    refused(
        &lab,
        &image,
        &["undo", "--job", "job", "--yes", "--folder-name", "jab"],
        "",
        "and not jab",
    );
    let run = lab.run(&["resume", "--job", "job"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
}

#[test]
fn a_cut_before_the_hash_is_on_the_disk_is_asked_about_and_one_after_it_is_not() {
    let (lab, image, job) = bench();
    let finished = hash(&image);
    let converted = lab.path("converted.img");
    fs::rename(&image, &converted).unwrap();
    let old = full_disk(&lab, "old.img");
    let extents = journal(&job)["extents"].as_array().unwrap().clone();
    let whole = lab.path("whole");
    fs::rename(&job, &whole).unwrap();
    for (stages, is_asked) in [(&["shrink"][..], true), (&["shrink", "prepare"], false)] {
        schwelle_testkit::copy_image(&old, &image);
        copy(&whole, &job);
        // Moved clusters are where they are on the converted disk.
        for moved in journal(&job)["moves"].as_array().unwrap() {
            let bytes = |key: &str| moved[key].as_u64().unwrap() * 512;
            let len = usize::try_from(bytes("sectors")).unwrap();
            poke(
                &image,
                bytes("to_lba"),
                &peek(&converted, bytes("to_lba"), len),
            );
        }
        let done = |extent: &&Value| stages.contains(&extent["stage"].as_str().unwrap());
        for extent in extents.iter().filter(done) {
            poke(
                &image,
                extent["first_lba"].as_u64().unwrap() * 512,
                &new_bytes(&job, extent),
            );
        }
        reopen(&job);
        let resume = ["resume", "--job", "job", "--json"];
        if is_asked {
            refused(&lab, &image, &resume, "", NOT_PROVEN);
            // Another PC's disk of the same kind, as far as the folder says.
            edit(&job, |journal| {
                journal["job"]["computer"] = "LANTERN-TWO".into();
            });
            refused(&lab, &image, &resume, "job\n", "its computer name is ");
            let as_copy = [&resume[..], &["--copy-of", "LANTERN-TWO"]].concat();
            refused(&lab, &image, &as_copy, "", NOT_PROVEN);
            copy(&whole, &job);
            reopen(&job);
        }
        let run = lab.run_with(&resume, if is_asked { "job\n" } else { "" });
        assert_eq!(
            (run.code, hash(&image)),
            (0, finished),
            "{stages:?}: {}",
            run.stderr
        );
        assert_eq!(run.json()["folder_is_proven"], !is_asked);
    }
}

#[test]
fn a_folder_that_is_vouched_for_still_writes_only_where_its_job_can() {
    // A data disk with a second partition that no job has to do with, and a gap.
    let lab = Lab::new();
    let (first, second) = (2048, 300_000);
    let image = lab.image("data.img", 512, 400, |disk| {
        for at in [first, second] {
            let place = Extent::new(lba(at.into()), 150_000).unwrap();
            disk.volume(schwelle_demo::Asset::Boot, place).unwrap();
        }
        let entry = |first| schwelle_demo::MbrEntry {
            active: false,
            kind: 7,
            first,
            sectors: 150_000,
        };
        disk.boot_record(lba(0), 0x1234_5678, &[entry(first), entry(second)])
            .unwrap();
    });
    let before = hash(&image);
    let run = lab.convert(&image, lab.path("whole"), &["--quiet", "--data-disk"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let (whole, job) = (lab.path("whole"), lab.path("job"));
    // An extent more, before the last stage: what is to come back to it, and what the job says that it wrote.
    let forged = |at: u64, written: &[u8]| {
        copy(&whole, &job);
        let entry = json!({
            "stage": "prepare",
            "what": { "kind": "backup-table" },
            "first_lba": at,
            "sectors": 1,
            "old": stored(&job, "saved.bin", &[0xEE; 512]),
            "new": stored(&job, "new.bin", written),
        });
        edit(&job, |journal| {
            journal["extents"].as_array_mut().unwrap().insert(0, entry);
        });
    };
    let undo = job_args("undo", &job, &["--yes"]);
    forged(
        u64::from(second) + 7,
        &peek(&image, (u64::from(second) + 7) * 512, 512),
    );
    refused(
        &lab,
        &image,
        &undo,
        "",
        "which is in partition 2 of this disk and no part of the job",
    );
    // In the gap, what is there is not what the job wrote.
    forged(200_000, &[0xDD; 512]);
    refused(
        &lab,
        &image,
        &undo,
        "",
        "LBA 200000 (backup table) is neither",
    );
    copy(&whole, &job);
    let run = lab.run(&undo);
    assert_eq!((run.code, hash(&image)), (0, before), "{}", run.stderr);
}

#[test]
fn a_job_that_names_a_pipe_as_its_disk_is_not_waited_for() {
    let (lab, image, job) = bench();
    let pipe = lab.path("pipe");
    tool("mkfifo", &[pipe.to_str().unwrap()]);
    edit(&job, |journal| {
        journal["job"]["disk"] = pipe.to_str().unwrap().into();
    });
    refused(
        &lab,
        &image,
        &job_args("undo", &job, &["--yes"]),
        "",
        "the job's disk was not found",
    );
}

#[test]
fn a_report_waits_for_no_pipe_and_reads_no_more_than_the_job_made() {
    let (lab, _, job) = bench();
    let pipe = job.join("firmware-screen.png");
    tool("mkfifo", &[pipe.to_str().unwrap()]);
    let report = job_args("report", &job, &[]);
    let run = lab.run(&report);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let saved = fs::OpenOptions::new()
        .write(true)
        .open(job.join("saved.bin"));
    saved.unwrap().set_len(16 << 30).unwrap();
    let run = lab.run(&report);
    assert!(
        run.code != 0 && run.stderr.contains("longer than the job made it"),
        "{}",
        run.stderr
    );
}

#[test]
#[ignore = "needs outside programs"]
fn the_hash_is_found_where_someone_has_put_the_marker_elsewhere() {
    let (lab, image, job) = bench();
    let record: Value = serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
    let (at, _) = place(&record, "EFI system");
    let esp = format!("{}@@{at}", image.display());
    let (marker, kept) = ("::/EFI/Schwelle/identities.json", lab.path("kept"));
    let kept = kept.to_str().unwrap();
    tool("mcopy", &["-i", &esp, marker, kept]);
    tool("mdel", &["-i", &esp, marker]);
    let bound_at = journal(&job)["bound_at"].as_u64().unwrap();
    poke(&image, bound_at, &[0; 64]);
    let undo = ["undo", "--job", "job", "--yes", "--json"];
    refused(&lab, &image, &undo, "", NOT_PROVEN);
    // Another file gets its old place.
    let filler = lab.path("filler");
    fs::write(&filler, [0x2E; 5000]).unwrap();
    tool(
        "mcopy",
        &["-i", &esp, filler.to_str().unwrap(), "::/filler"],
    );
    tool("mcopy", &["-i", &esp, kept, marker]);
    assert_ne!(
        peek(&image, bound_at, 64),
        newest_state(&job)["journal"].as_str().unwrap().as_bytes()
    );
    let run = lab.run(&undo);
    assert_eq!(run.code, 0, "{}", run.stderr);
    assert_eq!(run.json()["folder_is_proven"], true);
}
