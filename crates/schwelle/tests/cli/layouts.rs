//! Crowded and odd layouts: what is converted keeps every partition's place and content, and a
//! partition lister that others wrote reads the table as we say it.

use std::fs;
use std::path::Path;

use schwelle_demo::{DiskBuilder, MbrEntry};
use serde_json::Value;

use crate::support::{COMPUTER, Lab, SIGNATURE, lba, part, peek, poke};
use schwelle_testkit::tool;

const MIB: u32 = 2048;
const DISK_MIB: u64 = 700;

fn entry(kind: u8, first: u32, sectors: u32) -> MbrEntry {
    MbrEntry {
        active: false,
        kind,
        first,
        sectors,
    }
}

fn boot() -> MbrEntry {
    MbrEntry {
        active: true,
        ..entry(0x07, MIB, 50 * MIB)
    }
}

fn windows() -> MbrEntry {
    entry(0x07, 51 * MIB, 160 * MIB)
}

/// Partitions inside an extended partition: where each record lies in it, and what it names after itself.
type Chain<'a> = &'a [(u32, MbrEntry)];

fn records(disk: &DiskBuilder<'_>, extended: u32, chain: Chain<'_>) {
    for (index, (at, logical)) in chain.iter().enumerate() {
        let mut entries = vec![*logical];
        if let Some((next, logical)) = chain.get(index + 1) {
            entries.push(entry(0x05, *next, logical.first + logical.sectors));
        }
        let at = lba(u64::from(extended) + u64::from(*at));
        disk.boot_record(at, 0, &entries).unwrap();
    }
}

/// A partition afterwards: first sector, sectors.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord, Clone)]
pub(crate) struct Found(pub(crate) u64, pub(crate) u64);

/// What a partition lister finds in the converted disk.
fn listed(image: &Path) -> Vec<Found> {
    listed_at(image, 512)
}

/// The same at another sector size.
pub(crate) fn listed_at(image: &Path, sector: u32) -> Vec<Found> {
    let run = tool(
        "mmls",
        &[
            "-t",
            "gpt",
            "-b",
            &sector.to_string(),
            image.to_str().unwrap(),
        ],
    );
    let lines = run
        .stdout
        .lines()
        .map(|line| line.split_whitespace().collect::<Vec<_>>());
    let used = lines.filter(|fields| {
        fields
            .get(1)
            .is_some_and(|slot| slot.len() == 3 && slot.chars().all(|c| c.is_ascii_digit()))
    });
    used.map(|fields| Found(fields[2].parse().unwrap(), fields[4].parse().unwrap()))
        .collect()
}

#[test]
#[ignore = "needs outside programs"]
fn every_partition_keeps_its_place_and_content_however_crowded_the_table_is() {
    let logical = |count: u32, from: u32| -> Vec<(u32, MbrEntry)> {
        (0..count)
            .map(|n| (n * 512, entry(0x83, 63, 400)))
            .map(|(at, e)| (at + from, e))
            .collect()
    };
    let extended = 480 * MIB;
    // Name, the entries in sector 0, the chain in the extended partition, what the check cautions about.
    type Case<'a> = (&'a str, Vec<MbrEntry>, Vec<(u32, MbrEntry)>, &'a [&'a str]);
    let cases: [Case<'_>; 9] = [
        (
            "four primaries",
            vec![
                boot(),
                windows(),
                entry(0x83, 480 * MIB, MIB),
                entry(0x0C, 482 * MIB, MIB),
            ],
            vec![],
            &[],
        ),
        (
            "three primaries and logical ones, each after its record at sector 63",
            vec![
                boot(),
                windows(),
                entry(0x82, 478 * MIB, MIB),
                entry(0x0F, extended, 20 * MIB),
            ],
            logical(5, 0),
            &["table.alignment"; 5],
        ),
        (
            "an extended partition in the middle, a primary after it, listed first",
            vec![
                entry(0x83, 600 * MIB, MIB),
                windows(),
                entry(0x05, extended, 20 * MIB),
                boot(),
            ],
            vec![
                (0, entry(0x8E, 2048, 4096)),
                (10_000, entry(0xFD, 48, 2000)),
            ],
            &[],
        ),
        (
            "by cylinders: a partition at sector 63, one at an odd sector",
            vec![
                entry(0x83, 63, 1900),
                boot(),
                windows(),
                entry(0x06, 480 * MIB + 5, 16_065),
            ],
            vec![],
            &["table.alignment"; 2],
        ),
        (
            "out of order",
            vec![
                entry(0x83, 490 * MIB, MIB),
                windows(),
                boot(),
                entry(0x83, 480 * MIB, MIB),
            ],
            vec![],
            &[],
        ),
        (
            "hidden twins",
            vec![
                boot(),
                windows(),
                entry(0x17, 480 * MIB, MIB),
                entry(0x1C, 482 * MIB, MIB),
            ],
            vec![],
            &[],
        ),
        (
            "side by side, without a sector between",
            vec![
                boot(),
                windows(),
                entry(0x83, 211 * MIB, MIB),
                entry(0x83, 212 * MIB, MIB),
            ],
            vec![],
            &[],
        ),
        (
            "a link that goes back, to a place inside the extended partition",
            vec![boot(), windows(), entry(0x0F, extended, 20 * MIB)],
            vec![(0, entry(0x83, 30_000, 800)), (2000, entry(0x83, 48, 800))],
            &[],
        ),
        (
            "as many as the new table holds",
            vec![boot(), windows(), entry(0x0F, extended, 40 * MIB)],
            logical(125, 0),
            &["table.alignment"; 125],
        ),
    ];
    for (name, entries, chain, cautions) in cases {
        let lab = Lab::new();
        let image = lab.image("disk.img", 512, DISK_MIB, |disk| {
            disk.standard(SIGNATURE, COMPUTER).unwrap();
            disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
            records(disk, extended, &chain);
        });
        // First sector and length of each, and a mark in the first and last sector of those that are
        // not volumes of the system.
        let primaries = entries.iter().filter(|e| !matches!(e.kind, 0x05 | 0x0F));
        let mut expected: Vec<(u64, u64)> = primaries
            .map(|e| (e.first.into(), e.sectors.into()))
            .collect();
        let logical = chain
            .iter()
            .map(|(at, e)| (u64::from(extended + at + e.first), e.sectors.into()));
        expected.extend(logical);
        let others: Vec<(u64, u64)> = expected
            .iter()
            .copied()
            .filter(|(first, _)| ![MIB, 51 * MIB].contains(&u32::try_from(*first).unwrap()))
            .collect();
        let mark = |first: u64, last: bool| format!("{first} {last}");
        for &(first, sectors) in &others {
            poke(&image, first * 512, mark(first, false).as_bytes());
            poke(
                &image,
                (first + sectors - 1) * 512,
                mark(first, true).as_bytes(),
            );
        }
        let check = lab.run(&["check", "disk.img", "--json"]).json();
        let findings = check["findings"].as_array().unwrap().iter();
        let found: Vec<&str> = findings
            .filter(|finding| !["pass", "unknown"].contains(&finding["outcome"].as_str().unwrap()))
            .map(|finding| finding["rule"].as_str().unwrap())
            .collect();
        assert_eq!(found, cautions, "{name}");

        let job = lab.path("job");
        let run = lab.convert(&image, &job, &["--quiet"]);
        assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
        let record: Value =
            serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
        let esp = part(&record, "EFI system");
        let number = |key: &str| esp[key].as_u64().unwrap();
        expected.push((
            number("first_lba"),
            number("last_lba") + 1 - number("first_lba"),
        ));
        expected.sort_unstable();
        let mut found = listed(&image);
        found.sort_by_key(|found| found.0);
        let expected: Vec<Found> = expected
            .into_iter()
            .map(|(first, sectors)| Found(first, sectors))
            .collect();
        assert_eq!(found, expected, "{name}");
        for &(first, sectors) in &others {
            for (at, last) in [(first, false), (first + sectors - 1, true)] {
                let mark = mark(first, last);
                assert_eq!(
                    peek(&image, at * 512, mark.len()),
                    mark.as_bytes(),
                    "{name}"
                );
            }
        }
        assert_eq!(lab.run(&["rehearse", "disk.img"]).code, 0, "{name}");
        let undo = lab.run(&["undo", "--job", "job", "--yes"]);
        assert_eq!(undo.code, 0, "{name}: {}", undo.stderr);
        let again = lab.run(&["check", "disk.img", "--json"]).json();
        assert_eq!(again["answer"], check["answer"], "{name}");
    }
}

#[test]
fn more_partitions_than_the_table_holds_are_a_block() {
    let lab = Lab::new();
    let extended = 480 * MIB;
    let chain: Vec<(u32, MbrEntry)> = (0..126).map(|n| (n * 512, entry(0x83, 64, 400))).collect();
    lab.image("disk.img", 512, DISK_MIB, |disk| {
        disk.standard(SIGNATURE, COMPUTER).unwrap();
        let entries = [boot(), windows(), entry(0x0F, extended, 40 * MIB)];
        disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
        records(disk, extended, &chain);
    });
    let run = lab.run(&["check", "disk.img"]);
    assert_eq!(run.code, 1);
    assert!(
        run.stdout
            .contains("128 partitions, and one for the EFI system"),
        "{}",
        run.stdout
    );
}

#[test]
fn a_manufacturers_type_crosses_by_the_policys_table() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, DISK_MIB, |disk| {
        disk.standard(SIGNATURE, COMPUTER).unwrap();
        let entries = [
            boot(),
            windows(),
            entry(0xA0, 480 * MIB, MIB),
            entry(0x07, 490 * MIB, MIB),
        ];
        disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
    });
    poke(
        &image,
        u64::from(480 * MIB) * 512,
        b"the manufacturer's own",
    );
    let run = lab.run(&["check", "disk.img"]);
    assert_eq!(run.code, 1);
    for expected in [
        "type A0h",
        "[[type]] byte, guid; docs/policy.toml",
        "--policy FILE",
    ] {
        assert!(
            run.stdout.replace("\n    ", " ").contains(expected),
            "{expected}: {}",
            run.stdout
        );
    }
    let policy = |text: &str| fs::write(lab.path("policy.toml"), text).unwrap();
    policy(
        "[[type]]\nbyte = \"A0\"\nguid = \"BFBFAFE7-A34F-448A-9A5B-6213EB736C22\"\nname = \"Manufacturer's tools\"\n\
         attributes = [\"required\", \"read-only\", \"no-drive-letter\"]\n\
         [[type]]\nbyte = \"07\"\nguid = \"ebd0a0a2-b9e5-4433-87c0-68b6b72699c7\"\nattributes = [\"hidden\"]\n",
    );
    let args = [
        "convert",
        "disk.img",
        "--job",
        "job",
        "--yes",
        "--policy",
        "policy.toml",
        "--quiet",
    ];
    let run = lab.run(&args);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    // Type, attributes, name as they stand in the entry.
    let entry = peek(&image, 1024 + 2 * 128, 128);
    assert_eq!(entry[..4], [0xE7, 0xAF, 0xBF, 0xBF]);
    assert_eq!(entry[48..56], (1_u64 | 1 << 60 | 1 << 63).to_le_bytes());
    assert_eq!(entry[56..62], [b'M', 0, b'a', 0, b'n', 0]);
    let entry = peek(&image, 1024 + 128, 128);
    assert_eq!(
        entry[48..56],
        (1_u64 << 62).to_le_bytes(),
        "what is decided counts"
    );
    assert_eq!(
        peek(&image, u64::from(480 * MIB) * 512, 22),
        b"the manufacturer's own"
    );

    for (text, expected) in [
        (
            "[[type]]\nbyte = \"5\"\nguid = \"bfbfafe7-a34f-448a-9a5b-6213eb736c22\"",
            "two hexadecimal digits",
        ),
        (
            "[[type]]\nbyte = \"EE\"\nguid = \"bfbfafe7-a34f-448a-9a5b-6213eb736c22\"",
            "line 1, column 1: type EE cannot",
        ),
        (
            "\n[[type]]\nbyte = \"A0\"\nguid = \"c12a7328-f81f-11d2-ba4b-00a0c93ec93b\"",
            "line 2, column 1: type A0 cannot",
        ),
        ("[[type]]\nbyte = \"A0\"\nguid = \"bfbfafe7\"", "line 3"),
        ("[[type]]\nbyte = \"A0\"\n", "missing field `guid`"),
        (
            "[[type]]\nbyte = \"A0\"\nguid = \"bfbfafe7-a34f-448a-9a5b-6213eb736c22\"\nattributes = [\"shy\"]",
            "line 4",
        ),
    ] {
        policy(text);
        let run = lab.run(&["check", "disk.img", "--policy", "policy.toml"]);
        assert!(
            run.code == 2 && run.stderr.contains(expected),
            "{expected}: {}",
            run.stderr
        );
    }
}

#[test]
#[ignore = "needs outside programs"]
fn a_disk_beyond_the_reach_of_an_mbr_is_used_to_its_end() {
    const GIB: u64 = 1 << 30;
    let lab = Lab::new();
    // 4096-byte sectors reach 16 TiB, and a sparse file no further.
    for (sector, gib, more) in [
        (512, 2048, 0),
        (512, 3000, 952 * GIB - 33 * 512),
        (4096, 3000, 0),
    ] {
        let name = format!("{sector}-{gib}.img");
        let image = lab.image(&name, sector, gib * 1024, |disk| {
            disk.standard(SIGNATURE, COMPUTER).unwrap();
        });
        let run = lab.run(&["plan", &name]);
        assert_eq!(run.code, 0, "{}", run.stdout);
        let shown = run
            .stdout
            .contains("lie where no MBR partition can begin (LBA 4294967296 on)");
        assert_eq!(shown, more > 0, "{}", run.stdout);
        let plan = lab.run(&["plan", &name, "--json"]).json();
        assert_eq!(plan["newly_usable_bytes"].as_u64(), Some(more));
        let job = lab.path(&format!("{name}.job"));
        let run = lab.convert(&image, &job, &["--quiet"]);
        assert_eq!(run.code, 0, "{}", run.stderr);
        let sectors = gib * GIB / u64::from(sector);
        // The protective entry is as long as it can say; the backup header lies on the last sector.
        let protective = u32::try_from(sectors - 1).unwrap_or(u32::MAX);
        assert_eq!(peek(&image, 458, 4), protective.to_le_bytes());
        let last = (sectors - 1) * u64::from(sector);
        assert_eq!(peek(&image, last, 8), b"EFI PART");
        assert_eq!(listed_at(&image, sector).len(), 3);
        assert_eq!(lab.run(&["rehearse", &name]).code, 0);
    }
}
