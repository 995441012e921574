//! Disks that ask for all the memory and all the time there is: every reading command answers within a bound
//! of both, which the kernel keeps.

use std::os::unix::process::ExitStatusExt;
use std::path::Path;
use std::process::Command;

use assert_cmd::cargo::cargo_bin;
use schwelle_core::device::{DiskFile, Window};
use schwelle_core::ntfs::NtfsVolume;
use schwelle_demo::{attribute_at, edit_file, edit_record};

use crate::support::{Lab, part, peek, poke};
use schwelle_testkit::hash;

/// Address space, in bytes: the program itself, its threads' stacks, and what a sound disk of any size takes.
const SPACE: u64 = 400 << 20;
/// Seconds of a processor.
const SECONDS: u64 = 20;

/// Runs the program within the bounds; the exit code where it ended by itself.
pub(crate) fn bounded(lab: &Lab, args: &[&str]) -> Result<i32, String> {
    let output = Command::new("/usr/bin/prlimit")
        .args([format!("--as={SPACE}"), format!("--cpu={SECONDS}")])
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
        ] {
            let ended = bounded(&lab, args);
            assert!(
                ended.as_ref().is_ok_and(|code| (0..=3).contains(code)),
                "{name}: {args:?}: {ended:?}"
            );
        }
        assert_eq!(hash(&image), before, "{name}");
    }
    // The bounds are ones: with less than the program needs it does not run.
    let small = Command::new("/usr/bin/prlimit")
        .arg("--as=4000000")
        .arg(cargo_bin("schwelle"))
        .arg("rules")
        .output();
    assert!(!small.unwrap().status.success());
}
