//! Media that have no room, and one that needs a repair: the disk's own, and the job folder's.

use std::fs;
use std::path::{Path, PathBuf};

use crate::devices::FileSystem;
use crate::job_files::job_args;
use crate::recover::{full_disk, same_but_for_moves};
use crate::support::{Lab, peek, poke};
use crate::volumes::Mount;
use schwelle_testkit::{hash, tool, tool_any};

/// Converts a copy of `pristine` on a file system without room for the copy's holes: what the disk has not written
/// before, it cannot write, so the job stops in the stage that moves. With room again, the image.
fn stopped_by_a_write_error(lab: &Lab, small: &FileSystem, pristine: &Path, job: &Path) -> PathBuf {
    let image = small.0.join("disk.img");
    let [from, to] = [pristine, &image].map(|path| path.to_str().unwrap());
    tool("cp", &["--sparse=always", from, to]);
    let filler = small.fill_up(100);
    let run = lab.convert(&image, job, &[]);
    assert_eq!(run.code, 4, "{}", run.stderr);
    for expected in [
        "STOPPED",
        "stage move",
        "No space left",
        "resume --job",
        "undo --job",
    ] {
        assert!(run.stderr.contains(expected), "{expected}: {}", run.stderr);
    }
    fs::remove_file(&filler).unwrap();
    image
}

/// Ends a stopped job in one of the two ways, and looks at the disk.
fn ends(lab: &Lab, command: &str, image: &Path, pristine: &Path, job: &Path) {
    // Only what takes a job back asks.
    let yes: &[&str] = if command == "undo" { &["--yes"] } else { &[] };
    let run = lab.run(&job_args(command, job, yes));
    assert_eq!(run.code, 0, "{}", run.stderr);
    match command {
        "undo" => assert!(same_but_for_moves(image, pristine, job)),
        _ => {
            let starts = lab.run(&["rehearse", image.to_str().unwrap(), "--quiet"]);
            assert_eq!(starts.code, 0);
        }
    }
}

#[test]
#[ignore = "needs root"]
fn a_write_error_names_the_ways_out_and_both_work() {
    let lab = Lab::new();
    let pristine = full_disk(&lab, "old.img");
    let small = FileSystem::in_memory(lab.path("small"), 32 << 10);
    for command in ["resume", "undo"] {
        let job = lab.path(&format!("job-{command}"));
        let image = stopped_by_a_write_error(&lab, &small, &pristine, &job);
        ends(&lab, command, &image, &pristine, &job);
    }
}

#[test]
#[ignore = "needs root"]
fn in_a_job_folder_without_room_resume_says_what_to_do_and_undo_works_at_once() {
    let lab = Lab::new();
    let pristine = full_disk(&lab, "old.img");
    let small = FileSystem::in_memory(lab.path("small"), 32 << 10);
    let stick = FileSystem::in_memory(lab.path("stick"), 64 << 10);
    for command in ["resume", "undo"] {
        let saved = lab.path(&format!("job-{command}"));
        let image = stopped_by_a_write_error(&lab, &small, &pristine, &saved);
        tool("mv", &[saved.to_str().unwrap(), stick.0.to_str().unwrap()]);
        let job = stick.0.join(format!("job-{command}"));
        let filler = stick.fill_up(0);
        if command == "resume" {
            // The list of what has moved is a new file; the states are written over older ones.
            let run = lab.run(&job_args(command, &job, &[]));
            run.refuses(4, "No space left");
            run.refuses(4, "and that its file system has some space");
            fs::remove_file(&filler).unwrap();
        }
        ends(&lab, command, &image, &pristine, &job);
        fs::remove_file(&filler).ok();
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_job_folder_is_whole_after_the_repair_of_its_ntfs() {
    let lab = Lab::new();
    let pristine = full_disk(&lab, "old.img");
    let small = FileSystem::in_memory(lab.path("small"), 32 << 10);
    let stick = lab.path("stick.img");
    let path = stick.to_str().unwrap();
    tool("truncate", &["-s", "64M", path]);
    tool("mkntfs", &["-F", "-Q", "-q", path]);
    let boot = peek(&stick, 0, 512);
    let copy = u64::from_le_bytes(boot[56..64].try_into().unwrap()) * u64::from(boot[13]) * 512;
    for command in ["resume", "undo"] {
        let mounted = Mount::new(&stick, true);
        let job = mounted.path(command);
        let image = stopped_by_a_write_error(&lab, &small, &pristine, &job);
        drop(mounted);
        let before = hash(&image);
        // As power cuts leave it now and then: the MFT's first record and its copy are whole and differ, here in
        // the sequence number of the log's last entry about it.
        poke(&stick, copy + 8, &[7]);
        let refused = lab.path("refused");
        fs::create_dir_all(&refused).unwrap();
        let args = ["-o", "ro", path, refused.to_str().unwrap()];
        assert_ne!(tool_any("ntfs-3g", &args).code, 0);
        tool("ntfsfix", &[path]);
        let mounted = Mount::new(&stick, true);
        assert_eq!(hash(&image), before, "{command}");
        ends(&lab, command, &image, &pristine, &mounted.path(command));
    }
}
