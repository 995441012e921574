//! The same in BIOS mode: a disk that went back to MBR, whose boot code is ours, damaged and given to a real BIOS.

use std::fs;
use std::path::Path;
use std::sync::Mutex;

use schwelle_core::device::{DiskFile, Window};
use schwelle_core::fat::FatVolume;
use schwelle_testkit::{Dice, copy_image};
use serde_json::Value;

use super::extent;
use crate::back::{Bench, MIB};
use crate::support::{Lab, peek, poke};

/// How many are tried at random, where no other number is asked for.
const USUAL: u64 = 12;
/// Byte of the partition that a BIOS starts.
const ACTIVE: u64 = 211 * MIB;
/// A start that succeeds takes a second or two, and ends by itself.
const LIMIT_SECONDS: &str = "9";
/// For one that should have started and did not: on a busy machine that takes longer.
const PATIENT_SECONDS: &str = "120";

type Damage = fn(&Path);

/// Name, the answer, the first step that does not hold, how the disk is damaged.
const NAMED: &[(&str, &str, &str, Damage)] = &[
    ("nothing", "starts", "", |_| ()),
    (
        "sector 0 without its signature",
        "does-not-start",
        "mbr",
        |image| poke(image, 510, &[0]),
    ),
    ("no boot code", "does-not-start", "boot-code", |image| {
        poke(image, 0, &[0; 440]);
    }),
    ("other boot code", "depends", "boot-code", |image| {
        poke(image, 0, &[0xEB, 0xFE]);
    }),
    (
        "no partition active",
        "does-not-start",
        "active-partition",
        |image| {
            for entry in 0..4 {
                poke(image, 446 + 16 * entry, &[0]);
            }
        },
    ),
    (
        "a boot record without its signature",
        "does-not-start",
        "boot-record",
        |image| {
            poke(image, ACTIVE + 510, &[0]);
        },
    ),
    (
        "a boot record that is damaged",
        "depends",
        "boot-record",
        |image| {
            poke(image, ACTIVE + 0x60, &[0xF4; 8]);
        },
    ),
    ("no file system", "does-not-start", "boot-record", |image| {
        poke(image, ACTIVE, &[0; 512]);
    }),
    (
        "no boot manager",
        "does-not-start",
        "bootmgr-file",
        |image| {
            // In the root folder: the boot record's code names it too.
            let behind_code = ACTIVE + 32 * 512;
            let root = peek(image, behind_code, 4 << 20);
            let at = root
                .windows(11)
                .position(|name| name == b"BOOTMGR    ")
                .unwrap();
            poke(image, behind_code + at as u64, &[0xE5]);
        },
    ),
];

/// Runs the walk and the BIOS on a disk.
fn both(lab: &Lab, name: &str, limit: &str) -> Value {
    let run = lab.emulate(&[
        "rehearse",
        name,
        "--to",
        "mbr",
        "--emulate",
        "--emulate-limit",
        limit,
        "--json",
    ]);
    run.json()
}

/// The boot manager was started, and has read the BCD store.
fn store_was_read(json: &Value) -> bool {
    let mut steps = json["emulated"]["steps"].as_array().unwrap().iter();
    steps.any(|step| step["step"] == "bcd-store" && step["outcome"] == "pass")
}

/// The steps up to the boot manager, which is where the BIOS and our code have done their part.
fn fault_of_bios_part(json: &Value) -> Option<&Value> {
    const AROUND: [&str; 2] = ["old-table", "other-files"];
    let steps = json["steps"].as_array().unwrap();
    let end = steps.iter().position(|step| step["step"] == "bootmgr-file");
    let steps = &steps[..end.map_or(steps.len(), |end| end + 1)];
    let mut faults = steps.iter().filter(|step| step["outcome"] != "pass");
    faults.find(|step| !AROUND.contains(&step["step"].as_str().unwrap()))
}

fn went_back(lab: &Lab) -> std::path::PathBuf {
    let bench = Bench::new(512);
    let run = bench
        .lab
        .convert(&bench.image, "job", &["--to", "mbr", "--quiet"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let base = lab.path("base.img");
    copy_image(&bench.image, &base);
    base
}

#[test]
fn named_and_random_damages_are_judged_as_a_real_bios_judges_them() {
    let lab = Lab::new();
    let base = went_back(&lab);
    let asked = std::env::var("SCHWELLE_DAMAGES").ok();
    let count = asked.map_or(USUAL, |count| count.parse::<u64>().unwrap() / 10);
    let regions = regions(&base);
    let jobs: Vec<u64> = (0..NAMED.len() as u64 + count).collect();
    let jobs = Mutex::new(jobs.into_iter());
    let shown = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..super::LANES {
            scope.spawn(|| {
                let lane = Lab::new();
                let image = lane.path("disk.img");
                loop {
                    let Some(job) = jobs.lock().unwrap().next() else {
                        break;
                    };
                    fs::remove_file(&image).ok();
                    copy_image(&base, &image);
                    let named = NAMED.get(usize::try_from(job).unwrap());
                    let what = match named {
                        Some((name, .., damage)) => {
                            damage(&image);
                            (*name).to_owned()
                        }
                        None => damage_at_random(&regions, &image, job - NAMED.len() as u64),
                    };
                    let mut json = both(&lane, "disk.img", LIMIT_SECONDS);
                    if fault_of_bios_part(&json).is_none() && !store_was_read(&json) {
                        json = both(&lane, "disk.img", PATIENT_SECONDS);
                    }
                    let started = store_was_read(&json);
                    let fault = fault_of_bios_part(&json);
                    if let Some((name, answer, step, _)) = named {
                        assert_eq!(json["answer"], *answer, "{name}: {json}");
                        assert_eq!(
                            fault.map_or("", |fault| fault["step"].as_str().unwrap()),
                            *step,
                            "{name}"
                        );
                    }
                    let outcome = fault.map_or("pass", |fault| fault["outcome"].as_str().unwrap());
                    shown
                        .lock()
                        .unwrap()
                        .push((what, outcome.to_owned(), started, fault.cloned()));
                }
            });
        }
    });
    let shown = shown.into_inner().unwrap();
    let of = |outcome: &str, started: bool| {
        let found = shown
            .iter()
            .filter(move |(_, is, did, _)| is == outcome && *did == started);
        found
            .map(|(what, _, _, fault)| format!("{what}: {fault:?}"))
            .collect::<Vec<_>>()
    };
    let (false_go, refused) = (of("pass", false), of("fail", true));
    eprintln!(
        "{} disks in BIOS mode: {} false, {} refused and started: {refused:#?}",
        shown.len(),
        false_go.len(),
        refused.len()
    );
    assert!(false_go.is_empty(), "{false_go:#?}");
    // What a BIOS never looks at: a table that contradicts itself elsewhere, a second active entry.
    let unexplained = refused
        .iter()
        .filter(|why| !why.contains("mbr-damage") && !why.contains("many-active"));
    assert_eq!(unexplained.count(), 0, "{refused:#?}");
}

/// Where a start in BIOS mode reads: byte and length.
fn regions(base: &Path) -> Vec<(&'static str, u64, u64)> {
    let device = DiskFile::open_read(base, Some(512)).unwrap();
    let len = 100 * MIB;
    let window = Window::new(&device, extent(512, (ACTIVE, len))).unwrap();
    let fat = FatVolume::open(&window).unwrap();
    let shape = fat.shape();
    let first_fat = ACTIVE + u64::from(shape.reserved_sectors) * 512;
    let second_fat = first_fat + u64::from(shape.fat_sectors) * 512;
    let mut regions = vec![
        ("sector 0's code", 0, 128),
        ("sector 0's table", 440, 72),
        ("boot record", ACTIVE, 512),
        ("boot record's copy", ACTIVE + 6 * 512, 512),
    ];
    for path in ["", "\\bootmgr", "\\Boot", "\\Boot\\BCD"] {
        let entry = fat.find(path).unwrap().unwrap();
        let content = ACTIVE + fat.extents_of(&entry).unwrap()[0].first.0 * 512;
        if entry.is_directory {
            regions.push(("folder", content, 256));
        }
        let in_fat = u64::from(entry.cluster) * 4;
        regions.push(("first FAT", first_fat + in_fat, 8));
        regions.push(("second FAT", second_fat + in_fat, 8));
    }
    regions
}

fn damage_at_random(regions: &[(&'static str, u64, u64)], image: &Path, number: u64) -> String {
    let mut dice = Dice::new(number + 1_000_000);
    let (what, at, len) = regions[dice.index(regions.len())];
    let at = at + dice.below(len);
    let old = peek(image, at, 4);
    let new = match dice.below(3) {
        0 => vec![old[0] ^ (1 << dice.below(8))],
        1 => dice.bytes(4),
        _ => vec![0; 4],
    };
    poke(image, at, &new);
    format!("{number}: {what} at {at}: {old:02x?} -> {new:02x?}")
}
