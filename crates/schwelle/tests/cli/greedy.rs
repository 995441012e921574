//! Disks that ask for all the memory and all the time there is: every reading command answers within a bound
//! of both, which the kernel keeps.

use std::fs;
use std::os::unix::process::ExitStatusExt;
use std::path::Path;
use std::process::Command;

use assert_cmd::cargo::cargo_bin;
use schwelle_core::device::{DiskFile, Window};
use schwelle_core::ntfs::NtfsVolume;
use schwelle_demo::{attribute_at, edit_file, edit_record};

use serde_json::Value;

use crate::job_files::{journal, keep_state, newest_state};
use crate::support::{Lab, part, peek, poke};
use schwelle_testkit::hash;

/// Memory that it may write to, in bytes: its threads' stacks, and what a sound disk of any size takes. What the
/// allocator reserves for each thread and does not use is not counted.
const SPACE: u64 = 300 << 20;
/// Seconds of a processor.
const SECONDS: u64 = 20;

/// Runs the program within the bounds; the exit code where it ended by itself.
pub(crate) fn bounded(lab: &Lab, args: &[&str]) -> Result<i32, String> {
    let output = Command::new("/usr/bin/prlimit")
        .args([format!("--data={SPACE}"), format!("--cpu={SECONDS}")])
        .arg(cargo_bin("schwelle"))
        .args(args)
        .env_clear()
        .current_dir(lab.path(""))
        .output()
        .unwrap();
    let shown = String::from_utf8_lossy(&output.stderr).into_owned();
    match output.status.signal() {
        Some(signal) => Err(format!("signal {signal}: {shown}")),
        None => output.status.code().ok_or(shown),
    }
}

/// Gives a job folder another journal, with the hash of it.
fn put_journal(job: &Path, text: &str) {
    fs::write(job.join("journal.json"), text).unwrap();
    let mut state = newest_state(job);
    state["journal"] = blake3::hash(text.as_bytes()).to_hex().as_str().into();
    state["state"] = "writing".into();
    keep_state(job, &state);
}

/// A journal in which one of the lists holds an entry so many times.
fn with_many(job: &Path, list: &str, entry: &str, count: usize) -> String {
    let mut whole = journal(job);
    whole[list] = "ALL".into();
    let all = vec![entry; count].join(",");
    whole.to_string().replace("\"ALL\"", &format!("[{all}]"))
}

#[test]
fn job_folders_that_ask_for_everything_are_answered_within_the_same_bounds() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 340, |disk| {
        disk.standard(1, "SIGNAL-MAST").unwrap();
    });
    assert_eq!(lab.convert(&image, "whole", &["--quiet"]).code, 0);
    let (whole, job) = (lab.path("whole"), lab.path("job"));
    let stored = r#"{"offset":0,"blake3":""}"#;
    let extent = |first: u64, sectors: u64, stage: &str| {
        format!(
            r#"{{"stage":"{stage}","what":"","first_lba":{first},"sectors":{sectors},"old":{stored},"new":{stored}}}"#
        )
    };
    let many = |count: u64, step: u64, sectors: u64, stage: &str| {
        let all: Vec<String> = (0..count)
            .map(|n| extent(9000 + n * step, sectors, stage))
            .collect();
        all.join(",")
    };
    let volume = r#"{"first_lba":104448,"sectors_before":327680,"sectors_after":327680,"named_at":0,"before":"","after":""}"#;
    type Change<'a> = Box<dyn Fn(&Path) + 'a>;
    let cases: Vec<(&str, Change<'_>)> = vec![
        (
            "a file of 3 GiB that is all journal",
            Box::new(|job| {
                let file = fs::File::create(job.join("journal.json")).unwrap();
                file.set_len(3 << 30).unwrap();
            }),
        ),
        (
            "so long a list of hashes",
            Box::new(|job| {
                let text = format!(
                    "[{}]",
                    vec![format!("\"{}\"", "0".repeat(64)); 1_400_000].join(",")
                );
                fs::write(job.join("moved.json"), &text).unwrap();
                let mut state = newest_state(job);
                state["moved"] = blake3::hash(text.as_bytes()).to_hex().as_str().into();
                keep_state(job, &state);
            }),
        ),
        (
            "a record of 3 GiB",
            Box::new(|job| {
                for name in ["job.json", "outcome.json", "confirmation.json", "log.txt"] {
                    fs::File::create(job.join(name))
                        .unwrap()
                        .set_len(3 << 30)
                        .unwrap();
                }
            }),
        ),
        (
            "lists within lists",
            Box::new(|job| {
                put_journal(
                    job,
                    &format!("{}{}", "[".repeat(1 << 20), "]".repeat(1 << 20)),
                );
            }),
        ),
        (
            "more extents than are read",
            Box::new(|job| {
                put_journal(
                    job,
                    &with_many(job, "extents", &extent(9000, 1, "prepare"), 500_000),
                );
            }),
        ),
        (
            "as many extents as are read",
            Box::new(|job| {
                put_journal(
                    job,
                    &with_many(job, "extents", &many(200_000, 2, 1, "prepare"), 1),
                );
            }),
        ),
        (
            "edits everywhere, none of them known",
            Box::new(|job| {
                let mut edits = journal(job);
                let text = with_many(job, "extents", &many(100_000, 3, 2, "edit"), 1);
                edits["extents"] = serde_json::from_str::<Value>(&text).unwrap()["extents"].take();
                edits["volumes"] = serde_json::from_str(&format!("[{volume}]")).unwrap();
                put_journal(job, &edits.to_string());
            }),
        ),
        (
            "moves",
            Box::new(|job| {
                let moved = r#"{"from_lba":300000,"to_lba":110000,"sectors":1}"#;
                put_journal(job, &with_many(job, "moves", moved, 1_000_000));
            }),
        ),
        (
            "volumes",
            Box::new(|job| put_journal(job, &with_many(job, "volumes", volume, 300_000))),
        ),
        (
            "one long text",
            Box::new(|job| {
                let mut edited = journal(job);
                edited["job"]["disk"] = "x".repeat(80 << 20).into();
                put_journal(job, &edited.to_string());
            }),
        ),
        (
            "states that are no states",
            Box::new(|job| {
                for name in ["state-a.json", "state-b.json"] {
                    fs::File::create(job.join(name))
                        .unwrap()
                        .set_len(3 << 30)
                        .unwrap();
                }
            }),
        ),
    ];
    let before = hash(&image);
    let converted = lab.path("converted");
    fs::copy(&image, &converted).unwrap();
    for (name, change) in &cases {
        fs::remove_dir_all(&job).ok();
        fs::create_dir(&job).unwrap();
        for file in fs::read_dir(&whole).unwrap() {
            let file = file.unwrap();
            fs::copy(file.path(), job.join(file.file_name())).unwrap();
        }
        change(&job);
        let disk = ["--disk", "disk.img"];
        for args in [
            &["resume", "--job", "job", "--folder-name", "job"][..],
            &["undo", "--job", "job", "--folder-name", "job", "--yes"],
            &["report", "--job", "job"],
            &["report", "--job", "job", "--share", "--json"],
            &["report", "--jobs", "."],
            &["confirm", "--job", "job"],
            &["check", "disk.img"],
        ] {
            let takes_disk = ["resume", "undo"].contains(&args[0]);
            let args = [args, if takes_disk { &disk } else { &[] }].concat();
            let ended = bounded(&lab, &args);
            assert!(
                ended.as_ref().is_ok_and(|code| (0..=3).contains(code)),
                "{name}: {args:?}: {ended:?}"
            );
        }
        // Only the record is not needed to take a job back.
        let is_back = name.starts_with("a record");
        assert_eq!(hash(&image) != before, is_back, "{name}");
        fs::copy(&converted, &image).unwrap();
    }
}

/// The CRC of GPT headers (IEEE 802.3, as UEFI 2.10 §4.2 has it).
fn crc32(bytes: &[u8]) -> u32 {
    let step = |crc: u32, _| (crc >> 1) ^ (0xEDB8_8320 * (crc & 1));
    !bytes
        .iter()
        .fold(!0, |crc, &byte| (0..8).fold(crc ^ u32::from(byte), step))
}

/// Changes both headers of a GPT, with sums that hold.
fn edit_headers(image: &Path, edit: impl Fn(&mut [u8])) {
    let backup = u64::from_le_bytes(peek(image, 512 + 32, 8).try_into().unwrap());
    for lba in [1, backup] {
        let mut header = peek(image, lba * 512, 92);
        edit(&mut header);
        header[16..20].fill(0);
        let sum = crc32(&header).to_le_bytes();
        header[16..20].copy_from_slice(&sum);
        poke(image, lba * 512, &header);
    }
}

/// A boot record with a logical partition of a sector after it, and the next record.
fn link(next: u32) -> Vec<u8> {
    let entry = |kind: u8, first: u32| {
        let mut entry = [0; 16];
        entry[4] = kind;
        entry[8..12].copy_from_slice(&first.to_le_bytes());
        entry[12] = 1;
        entry
    };
    let mut record = vec![0; 446];
    record.extend(entry(7, 1));
    record.extend(entry(5, next));
    record.resize(510, 0);
    [record, vec![0x55, 0xAA]].concat()
}

/// A standard disk whose second half is an extended partition, with a chain of so many links in it; the last one leads to `last`.
fn chain(lab: &Lab, links: u32, last: u32) {
    let (image, _) = lab.standard("disk.img", 512);
    let mut entry = vec![0, 0, 0, 0, 5, 0, 0, 0];
    entry.extend(450_000_u32.to_le_bytes());
    entry.extend(200_000_u32.to_le_bytes());
    poke(&image, 446 + 32, &entry);
    for at in 0..links {
        let next = if at + 1 == links { last } else { (at + 1) * 2 };
        poke(&image, (450_000 + u64::from(at) * 2) * 512, &link(next));
    }
}

/// A standard disk with a file record of its Windows volume changed.
fn record(lab: &Lab, path: &str, edit: impl FnOnce(&mut [u8])) {
    let (image, places) = lab.standard("disk.img", 512);
    let device = DiskFile::open_write(&image, Some(512)).unwrap();
    let window = Window::new(&device, places.windows).unwrap();
    let number = match path {
        "" => 0,
        path => {
            NtfsVolume::open(&window)
                .unwrap()
                .find(path)
                .unwrap()
                .unwrap()
                .record
        }
    };
    edit_record(&window, number, edit).unwrap();
}

/// Makes the content of a file as long as a disk could not be, in its record.
fn endless(record: &mut [u8]) {
    const DATA: u32 = 0x80;
    let at = attribute_at(record, DATA).unwrap();
    for field in [0x28, 0x30, 0x38] {
        record[at + field..at + field + 8].copy_from_slice(&(1_u64 << 50).to_le_bytes());
    }
}

/// A standard disk whose registry hive has its own root among the root's keys, wherever it lists one.
fn circle(lab: &Lab, path: &str) {
    let (image, places) = lab.standard("disk.img", 512);
    let device = DiskFile::open_write(&image, Some(512)).unwrap();
    edit_file(&device, places.windows, path, |hive| {
        let root: [u8; 4] = hive[0x24..0x28].try_into().unwrap();
        let mut changed = 0;
        for at in (4096..hive.len() - 8).step_by(8) {
            if matches!(&hive[at + 4..at + 6], b"lf" | b"lh") {
                let count =
                    usize::from(u16::from_le_bytes(hive[at + 6..at + 8].try_into().unwrap()));
                for entry in 0..count.min(64) {
                    hive[at + 8 + entry * 8..at + 12 + entry * 8].copy_from_slice(&root);
                    changed += 1;
                }
            }
        }
        assert!(changed > 1);
    })
    .unwrap();
}

/// Makes "disk.img" in a lab.
type Build = fn(&Lab);

/// Disks, by what they do.
const DISKS: &[(&str, Build)] = &[
    ("a chain of 60,000 boot records", |lab| {
        chain(lab, 60_000, 120_000);
    }),
    ("a chain that bites its tail", |lab| chain(lab, 3, 2)),
    ("a table of four thousand million entries", |lab| {
        let (image, _) = lab.converted("disk.img", 512);
        edit_headers(&image, |header| {
            header[80..84].copy_from_slice(&u32::MAX.to_le_bytes());
        });
    }),
    ("entries of two thousand million bytes", |lab| {
        let (image, _) = lab.converted("disk.img", 512);
        edit_headers(&image, |header| {
            header[84..88].copy_from_slice(&(1_u32 << 31).to_le_bytes());
        });
    }),
    ("a FAT chain in a circle", |lab| {
        let (image, record) = lab.converted("disk.img", 512);
        let first = part(&record, "EFI system")["first_lba"].as_u64().unwrap();
        let reserved = u16::from_le_bytes(peek(&image, first * 512 + 14, 2).try_into().unwrap());
        let fats = u32::from_le_bytes(peek(&image, first * 512 + 36, 4).try_into().unwrap());
        for fat in 0..2 {
            let at = first + u64::from(reserved) + u64::from(fats) * fat;
            let circle: Vec<u8> = (2..64_u32)
                .flat_map(|n| (2 + (n - 1) % 62).to_le_bytes())
                .collect();
            poke(&image, at * 512 + 8, &circle);
        }
    }),
    ("a MFT that is larger than any disk", |lab| {
        record(lab, "", endless);
    }),
    ("a boot manager that is larger than any disk", |lab| {
        record(lab, "\\Windows\\Boot\\EFI\\bootmgfw.efi", endless);
    }),
    ("a registry that is larger than any disk", |lab| {
        record(lab, "\\Windows\\System32\\config\\SYSTEM", endless);
    }),
    ("a registry that holds itself", |lab| {
        circle(lab, "\\Windows\\System32\\config\\SYSTEM");
    }),
    ("another registry that holds itself", |lab| {
        circle(lab, "\\Windows\\System32\\config\\SOFTWARE");
    }),
];

#[test]
fn no_disk_takes_all_the_memory_or_all_the_time() {
    for (name, build) in DISKS {
        let lab = Lab::new();
        build(&lab);
        let image = lab.path("disk.img");
        let before = hash(&image);
        for args in [
            &["survey", "disk.img"][..],
            &["check", "disk.img"],
            &["check", "disk.img", "--to", "mbr"],
            &["check", "disk.img", "--data-disk"],
            &["plan", "disk.img"],
            &["plan", "disk.img", "--to", "mbr"],
            &["rehearse", "disk.img"],
            &["rehearse", "disk.img", "--to", "mbr"],
            &["mend", "disk.img"],
            &["confirm", "disk.img"],
            &["firmware", "sheet", "disk.img"],
        ] {
            let ended = bounded(&lab, args);
            assert!(
                ended.as_ref().is_ok_and(|code| (0..=3).contains(code)),
                "{name}: {args:?}: {ended:?}"
            );
        }
        assert_eq!(hash(&image), before, "{name}");
    }
    // Files that options name.
    let lab = Lab::new();
    let big = fs::File::create(lab.path("big.toml")).unwrap();
    big.set_len(3 << 30).unwrap();
    for args in [
        ["rules", "--policy", "big.toml"],
        ["firmware", "--machine", "big.toml"],
    ] {
        assert_eq!(bounded(&lab, &args), Ok(2), "{args:?}");
    }
    // The bounds are ones: with less than the program needs it does not run.
    let small = Command::new("/usr/bin/prlimit")
        .arg("--as=4000000")
        .arg(cargo_bin("schwelle"))
        .arg("rules")
        .output();
    assert!(!small.unwrap().status.success());
}
