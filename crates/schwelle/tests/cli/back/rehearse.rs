//! The walk of a start in BIOS mode: each fault is met at its own step, on a disk that went back and on one that never
//! left.

use std::fs;

use schwelle_core::bytes::utf16_bytes;

use super::{Bench, MIB};
use crate::support::{Lab, lba, peek, poke};
use schwelle_testkit::{copy_image, tool};

/// Byte of the active partition.
const ACTIVE: u64 = 211 * MIB;

type Case = (&'static str, fn(&Bench), &'static str, &'static str);

fn on_active(bench: &Bench, command: &str, args: &[&str]) {
    tool(command, &[&["-i", &bench.esp()][..], args].concat());
}

/// Replaces bytes in the BCD store, which keeps its length; the checksum of its header is set right.
fn edit_store(bench: &Bench, old: &[u8], new: &[u8]) {
    let copy = bench.lab.path("store");
    let path = copy.to_str().unwrap();
    on_active(bench, "mcopy", &["-n", "-o", "::Boot/BCD", path]);
    let mut bytes = fs::read(&copy).unwrap();
    let found = bytes.windows(old.len()).position(|window| window == old);
    let at = found.expect("the store has these bytes");
    bytes[at..at + new.len()].copy_from_slice(new);
    fs::write(&copy, bytes).unwrap();
    on_active(bench, "mcopy", &["-o", path, "::Boot/BCD"]);
}

const CASES: &[Case] = &[
    (
        "no signature in sector 0",
        |b| poke(&b.image, 510, &[0, 0]),
        "mbr",
        "LBA 0: no boot record",
    ),
    (
        "partitions that overlap",
        |b| poke(&b.image, 446 + 16 + 8, &lba(3000).0.to_le_bytes()[..4]),
        "mbr",
        "overlap",
    ),
    (
        "no boot code",
        |b| poke(&b.image, 0, &[0; 440]),
        "boot-code",
        "LBA 0: no boot code",
    ),
    (
        "the signpost of a GPT disk",
        |b| {
            let lab = Lab::new();
            let (image, _) = lab.converted("disk.img", 512);
            poke(&b.image, 0, &peek(&image, 0, 440));
        },
        "boot-code",
        "starts nothing from here",
    ),
    (
        "none active",
        |b| poke(&b.image, 446 + 32, &[0]),
        "active-partition",
        "no partition is active",
    ),
    (
        "two active",
        |b| poke(&b.image, 446, &[0x80]),
        "active-partition",
        "2 partitions are active",
    ),
    (
        "no signature in the boot record",
        |b| poke(&b.image, ACTIVE + 510, &[0, 0]),
        "boot-record",
        "no signature 55 AA",
    ),
    (
        "no boot manager",
        |b| on_active(b, "mdel", &["::bootmgr"]),
        "bootmgr-file",
        "is not there",
    ),
    (
        "a boot manager under another short name",
        |b| {
            // The long name stays, with its checksum right: only the boot record's code is misled.
            let head = peek(&b.image, ACTIVE, 1 << 20);
            let mut names = head.windows(11);
            let at = names.rposition(|name| name == b"BOOTMGR    ").unwrap();
            let other = b"BOOTMG~1   ";
            let sum = other.iter().fold(0_u8, |sum, letter| {
                sum.rotate_right(1).wrapping_add(*letter)
            });
            poke(&b.image, ACTIVE + at as u64, other);
            poke(&b.image, ACTIVE + at as u64 - 32 + 13, &[sum]);
        },
        "bootmgr-file",
        "its short (8.3) name is not BOOTMGR",
    ),
    (
        "an empty boot manager",
        |b| {
            let empty = b.lab.path("empty");
            fs::write(&empty, "").unwrap();
            on_active(b, "mcopy", &["-o", empty.to_str().unwrap(), "::bootmgr"]);
        },
        "bootmgr-file",
        "is empty",
    ),
    (
        "no BCD store",
        |b| on_active(b, "mdel", &["::Boot/BCD"]),
        "bcd-store",
        "is not on partition 3",
    ),
    (
        "a boot manager's device elsewhere",
        |b| edit_store(b, &ACTIVE.to_le_bytes(), &MIB.to_le_bytes()),
        "boot-manager",
        "another partition (LBA 2048)",
    ),
    (
        "a loader for UEFI",
        |b| edit_store(b, &utf16_bytes("winload.exe"), &utf16_bytes("winload.efi")),
        "system-loader",
        "runs in UEFI mode only",
    ),
    (
        "a system on another disk",
        |b| {
            // Loader and system of the default entry: all names of the disk in the store.
            let signature = peek(&b.image, 440, 4);
            poke(&b.image, 440, &[signature[0] ^ 1]);
        },
        "boot-manager",
        "names the disk with the signature",
    ),
];

#[test]
#[ignore = "needs outside programs"]
fn each_fault_of_a_bios_start_is_met_at_its_own_step() {
    let bench = Bench::new(512);
    let run = bench
        .lab
        .convert(&bench.image, "job", &["--to", "mbr", "--quiet"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let original = bench.lab.path("original.img");
    copy_image(&bench.image, &original);
    let rehearse = || {
        bench
            .lab
            .run(&["rehearse", "disk.img", "--to", "mbr", "--json"])
    };
    for (name, spoil, step, shown) in CASES {
        copy_image(&original, &bench.image);
        spoil(&bench);
        let run = rehearse();
        assert_eq!(run.code, 1, "{name}: {}", run.stdout);
        let rehearsed = run.json();
        let last = rehearsed["steps"]
            .as_array()
            .unwrap()
            .last()
            .unwrap()
            .clone();
        assert_eq!(
            (&last["step"], &last["outcome"]),
            (&(*step).into(), &"fail".into()),
            "{name}: {last}"
        );
        let evidence = last["evidence"]["text"].as_str().unwrap();
        assert!(evidence.contains(shown), "{name}: {evidence}");
    }
    // What is only reported: a GPT header that is left, unknown boot code.
    copy_image(&original, &bench.image);
    poke(&bench.image, 512, b"EFI PART");
    poke(&bench.image, 0, &[0xEB, 0xFE]);
    let run = rehearse();
    let steps = run.json()["steps"].as_array().unwrap().clone();
    let shown: Vec<&str> = steps
        .iter()
        .filter(|step| step["outcome"] == "caution")
        .filter_map(|step| step["step"].as_str())
        .collect();
    assert_eq!(
        (run.code, shown),
        (1, vec!["old-table", "boot-code"]),
        "{steps:?}"
    );
    assert_eq!(run.json()["answer"], "depends");
    // The code reads one FAT, and another's code may read the other.
    copy_image(&original, &bench.image);
    let fat_sectors = u32::from_le_bytes(peek(&bench.image, ACTIVE + 36, 4).try_into().unwrap());
    let second = ACTIVE + (32 + u64::from(fat_sectors)) * 512;
    poke(&bench.image, second + 400, &[7; 8]);
    let run = rehearse();
    assert_eq!(
        (run.code, &run.json()["answer"]),
        (1, &"depends".into()),
        "{}",
        run.stdout
    );
}

#[test]
fn a_disk_that_was_never_converted_is_walked_too() {
    let lab = Lab::new();
    lab.standard("disk.img", 512);
    let rehearsed = lab.run(&["rehearse", "disk.img", "--to", "mbr", "--json"]);
    assert_eq!(rehearsed.code, 0, "{}", rehearsed.stdout);
    let steps = rehearsed.json()["steps"].as_array().unwrap().clone();
    let evidence = |name: &str| {
        let step = steps.iter().find(|step| step["step"] == name).unwrap();
        step["evidence"]["text"].as_str().unwrap().to_owned()
    };
    assert_eq!(evidence("boot-code"), "LBA 0: Windows' own boot code");
    assert_eq!(evidence("boot-file-system"), "NTFS");
    assert_eq!(evidence("bootmgr-file"), "\\bootmgr, 398156 bytes");
    assert!(evidence("boot-record").contains("Windows' own boot code"));
    // And a converted one does not start in BIOS mode.
    let (_, _) = lab.converted("done.img", 512);
    let run = lab.run(&["rehearse", "done.img", "--to", "mbr"]);
    assert_eq!(run.code, 1);
    assert!(
        run.stdout.contains("the protective MBR of a GPT disk"),
        "{}",
        run.stdout
    );
}
