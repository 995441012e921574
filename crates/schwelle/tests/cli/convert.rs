//! Conversions that go through, questions that stop them, and what is left.

use std::fs;

use serde_json::Value;

use crate::job_files::{new_bytes, state};
use crate::support::{COMPUTER, Lab, peek, poke};
use schwelle_testkit::hash;

/// Ranges of sectors in which two images differ.
fn difference(before: &[u8], after: &[u8], sector: usize) -> Vec<(u64, u64)> {
    let mut ranges: Vec<(u64, u64)> = Vec::new();
    for (lba, (a, b)) in before.chunks(sector).zip(after.chunks(sector)).enumerate() {
        let lba = lba as u64;
        match ranges.last_mut() {
            _ if a == b => {}
            Some((_, last)) if *last + 1 == lba => *last = lba,
            _ => ranges.push((lba, lba)),
        }
    }
    ranges
}

fn declared(plan: &Value) -> Vec<(u64, u64)> {
    let number = |extent: &Value, key: &str| extent[key].as_u64().unwrap();
    let stages = plan["stages"].as_array().unwrap().iter();
    let parts = stages.flat_map(|stage| stage["parts"].as_array().unwrap());
    let extents = parts.flat_map(|part| part["extents"].as_array().unwrap());
    let mut all: Vec<_> = extents
        .map(|extent| (number(extent, "first_lba"), number(extent, "last_lba")))
        .collect();
    all.sort_unstable();
    // Parts of different purpose may touch.
    all.dedup_by(|next, kept| {
        let touches = kept.1 + 1 == next.0;
        if touches {
            kept.1 = next.1;
        }
        touches
    });
    all
}

#[test]
fn exactly_the_planned_sectors_differ_afterwards_and_the_old_ones_are_saved() {
    for sector in [512usize, 4096] {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", u32::try_from(sector).unwrap());
        let before = fs::read(&image).unwrap();
        let path = image.to_str().unwrap();
        let plan = lab.run(&["plan", path, "--json"]).json();
        assert_eq!(fs::read(&image).unwrap(), before, "plan only reads");
        let job = lab.path("job");
        let run = lab.convert(&image, &job, &["--json"]);
        assert_eq!(run.code, 0, "{}", run.stderr);
        let done = run.json();
        assert_eq!(
            (&done["answer"], &done["rehearsal"]["starts"]),
            (&"converted".into(), &true.into())
        );

        let record: Value =
            serde_json::from_str(&fs::read_to_string(job.join("job.json")).unwrap()).unwrap();
        assert_eq!(record["answered_by"], "--yes");
        let after = fs::read(&image).unwrap();
        let changed = difference(&before, &after, sector);
        assert_eq!(changed, declared(&record["plan"]));
        let bytes: u64 = changed
            .iter()
            .map(|(first, last)| (last + 1 - first) * sector as u64)
            .sum();
        assert_eq!(record["plan"]["bytes_written"], bytes);
        // Identities and times differ from run to run, but not by more than some sectors more or
        // less.
        assert_eq!(
            plan["after"].as_array().unwrap().len(),
            record["plan"]["after"].as_array().unwrap().len()
        );

        // The journal has both sides of every extent, with their hashes.
        let journal: Value =
            serde_json::from_str(&fs::read_to_string(job.join("journal.json")).unwrap()).unwrap();
        for extent in journal["extents"].as_array().unwrap() {
            let number = |key: &str| usize::try_from(extent[key].as_u64().unwrap()).unwrap();
            let (first, len) = (number("first_lba") * sector, number("sectors") * sector);
            let old = &extent["old"];
            let bytes = match old["offset"].as_u64() {
                Some(offset) => peek(&job.join("saved.bin"), offset, len),
                None => vec![u8::try_from(old["fill"].as_u64().unwrap()).unwrap(); len],
            };
            assert!(bytes == before[first..first + len], "old: {extent}");
            assert_eq!(old["blake3"], blake3::hash(&bytes).to_hex().to_string());
            assert!(
                new_bytes(&job, extent) == after[first..first + len],
                "new: {extent}"
            );
        }
        assert_eq!(state(&job), "done");
        assert!(
            fs::read_to_string(job.join("log.txt"))
                .unwrap()
                .contains("rehearsal: starts")
        );
    }
}

#[test]
fn the_technician_is_asked_and_a_wrong_answer_changes_nothing() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = hash(&image);
    let (path, job) = (image.to_str().unwrap(), lab.path("job"));
    let convert = ["convert", path, "--job", job.to_str().unwrap()];
    for (answers, message) in [
        ("", "no backup was confirmed"),
        ("no\n", "no backup was confirmed"),
        ("N\n", "no backup was confirmed"),
        ("perhaps\nja\n1\nyes\n", "no backup was confirmed"),
        ("yes\n", "is not this disk's name"),
        ("Y\n", "is not this disk's name"),
        ("perhaps\nYES\nOTHER-PC\n", "is not this disk's name"),
        ("yes\ndisk.img\n", "is not this disk's name"),
        ("yes\nOTHER-PC\n", "is not this disk's name"),
    ] {
        let run = lab.run_with(&convert, answers);
        assert_eq!(run.code, 2, "{answers:?}: {}", run.stderr);
        assert!(
            run.stderr.contains(message) && run.stderr.contains("unchanged"),
            "{}",
            run.stderr
        );
        assert!(
            run.stdout.contains(&format!("Disk name: {COMPUTER}")),
            "shown before it is asked for"
        );
        assert!(!job.exists());
        assert_eq!(hash(&image), before);
    }
    let run = lab.run_with(&convert, &format!("yes\n{COMPUTER}\n"));
    assert_eq!(run.code, 0, "{}", run.stderr);
    assert!(run.stdout.contains("Converted."));
    let record = fs::read_to_string(job.join("job.json")).unwrap();
    assert!(
        record.contains("there is a backup: it was confirmed"),
        "{record}"
    );
    let record: Value = serde_json::from_str(&record).unwrap();
    assert_eq!(record["answered_by"], "the technician");
}

#[test]
fn a_second_job_needs_a_folder_of_its_own_and_a_converted_disk_is_refused() {
    let lab = Lab::new();
    let (image, _) = lab.converted("disk.img", 512);
    let (other, _) = lab.standard("other.img", 512);
    let before = hash(&other);
    let used = lab.path("disk.img.job");
    let run = lab.convert(&other, &used, &[]);
    assert_eq!(run.code, 2);
    assert!(
        run.stderr.contains("is there already and not empty"),
        "{}",
        run.stderr
    );
    assert_eq!(hash(&other), before);
    let again = lab.path("again");
    let run = lab.convert(&image, &again, &[]);
    assert_eq!(run.code, 1);
    assert!(run.stdout.contains("has a GPT already"));
}

#[test]
fn a_job_folder_that_cannot_be_made_stops_before_the_disk_is_touched() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = hash(&image);
    let file = lab.path("file");
    fs::write(&file, "in the way").unwrap();
    for job in [file.join("below"), file, "/proc/schwelle".into()] {
        let run = lab.convert(&image, &job, &[]);
        assert_eq!(run.code, 3, "{}: {}", job.display(), run.stderr);
        assert!(
            run.stderr.contains("the disk is unchanged") && run.stderr.contains("--job DIR"),
            "{}",
            run.stderr
        );
        assert_eq!(hash(&image), before);
    }
}

#[test]
fn content_in_front_of_the_first_partition_is_a_caution_and_is_saved() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    poke(&image, 5 * 512, b"code of another boot manager");
    let before = peek(&image, 512, 33 * 512);
    let check = lab.run(&["check", image.to_str().unwrap(), "--json"]);
    assert_eq!(
        (check.code, &check.json()["answer"]),
        (0, &"caution".into())
    );
    assert!(
        check.stdout.contains("LBA 5 to 5: content before"),
        "{}",
        check.stdout
    );
    let job = lab.path("job");
    let run = lab.convert(&image, &job, &["--quiet"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let saved = fs::read(job.join("saved.bin")).unwrap();
    let code = b"code of another boot manager";
    assert!(before.windows(code.len()).any(|part| part == code));
    assert!(
        saved.windows(code.len()).any(|part| part == code),
        "what the table overwrites is saved"
    );
}

#[test]
fn the_size_of_the_new_partition_can_be_named() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let path = image.to_str().unwrap();
    for (size, code, expected) in [
        ("110M", 0, Some(110u64 << 20)),
        ("64M", 1, None),
        ("1G", 1, None),
    ] {
        let run = lab.run(&["plan", path, "--esp-size", size, "--json"]);
        assert_eq!(run.code, code, "{size}");
        assert_eq!(
            run.json()["placement"]["size_bytes"].as_u64(),
            expected,
            "{size}"
        );
    }
}

#[test]
fn a_disk_that_another_program_holds_is_not_opened() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let holder = fs::File::open(&image).unwrap();
    holder.try_lock().unwrap();
    let job = lab.path("job");
    let run = lab.convert(&image, &job, &[]);
    assert_eq!(run.code, 3);
    assert!(
        run.stderr.contains("is in use by cli-")
            && run
                .stderr
                .contains(&format!("(process {})", std::process::id())),
        "{}",
        run.stderr
    );
}

#[test]
fn a_name_given_in_advance_is_this_disks_or_nothing_is_written() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = hash(&image);
    for yes in [&["--yes"][..], &[]] {
        let disk = ["convert", image.to_str().unwrap(), "--job", "job"];
        let args = [&disk[..], &["--disk-name", "OTHER-PC"], yes].concat();
        let run = lab.run_with(&args, "yes\n");
        assert_eq!(run.code, 2, "{}", run.stderr);
        let refused = format!("this disk is called {COMPUTER}, and not OTHER-PC");
        assert!(run.stderr.contains(&refused), "{}", run.stderr);
        assert!(!lab.path("job").exists() && hash(&image) == before);
    }
    // In any case, and with no other question left than the one about the backup.
    let name = COMPUTER.to_lowercase();
    let disk = ["convert", image.to_str().unwrap(), "--job", "job"];
    let run = lab.run_with(&[&disk[..], &["--disk-name", &name]].concat(), "yes\nno\n");
    assert_eq!(run.code, 0, "{}", run.stderr);
    assert!(!run.stderr.contains("type its disk name"), "{}", run.stderr);
}
