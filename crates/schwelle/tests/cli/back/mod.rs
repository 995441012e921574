//! The way back from GPT to MBR: the table judged by a partition lister, the volumes by their checkers, the start
//! by a BIOS in the emulator; undone to the byte.

mod boot_code;
mod refused;
mod rehearse;
mod round_trip;

use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::{DiskFile, Extent};
use schwelle_core::gpt::{GptEntry, GptLayout, GptPair, type_guid};
use serde_json::Value;
use uuid::Uuid;

use crate::layouts::Found;
use crate::support::{Lab, lba, peek, place};
use crate::volumes::{is_consistent, snapshot};
use schwelle_testkit::{extract, hash, tool};

pub(crate) const MIB: u64 = 1 << 20;
/// Sectors in a MiB.
const PER_MIB: u64 = 2048;
/// What the standard disk has when it is converted: boot volume, Windows, EFI system partition, in sectors.
const STANDARD: [(u64, u64); 3] = [(2048, 102_400), (104_448, 327_680), (432_128, 204_800)];
/// The first MiB after the partitions of the standard disk, when it is converted.
const FREE: u64 = 311;

/// A converted disk of 340 MiB.
pub(crate) struct Bench {
    pub(crate) lab: Lab,
    pub(crate) image: PathBuf,
    record: Value,
}

impl Bench {
    pub(crate) fn new(sector: u32) -> Self {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", sector);
        let size = if sector == 512 { "100M" } else { "260M" };
        let run = lab.convert(&image, "there", &["--esp-size", size, "--quiet"]);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        let record = fs::read_to_string(lab.path("there/job.json")).unwrap();
        let record = serde_json::from_str(&record).unwrap();
        Self { lab, image, record }
    }

    /// Writes the table anew, changed.
    fn retable(&self, change: impl FnOnce(&mut Vec<GptEntry>)) {
        retable(&self.image, 512, change);
    }

    /// The EFI system partition as the FAT tools name it.
    fn esp(&self) -> String {
        let (at, _) = place(&self.record, "EFI system");
        format!("{}@@{at}", self.image.display())
    }
}

fn retable(image: &Path, sector: u32, change: impl FnOnce(&mut Vec<GptEntry>)) {
    let device = DiskFile::open_write(image, Some(sector)).unwrap();
    let mut layout = GptLayout::of(GptPair::read(&device).best().unwrap()).unwrap();
    change(&mut layout.entries);
    layout.write(&device).unwrap();
}

/// A partition in MiB.
fn entry(kind: Uuid, first_mib: u64, mib: u64) -> GptEntry {
    GptEntry {
        kind,
        id: Uuid::from_u128(u128::from(first_mib)),
        extent: Extent::new(lba(first_mib * PER_MIB), mib * PER_MIB).unwrap(),
        attributes: 0,
        name: String::new(),
    }
}

/// What a partition lister finds in an MBR and its chain: partitions with their type, in disk order.
fn listed(image: &Path, sector: u32) -> Vec<(Found, String)> {
    let size = sector.to_string();
    let args = ["-t", "dos", "-b", &size, image.to_str().unwrap()];
    let run = tool("mmls", &args);
    let lines = run.stdout.lines();
    let lines = lines.map(|line| line.split_whitespace().collect::<Vec<_>>());
    let is_slot = |text: &str| text.len() == 7 && text.as_bytes()[3] == b':';
    let used = lines.filter(|fields| fields.get(1).is_some_and(|slot| is_slot(slot)));
    let mut found: Vec<(Found, String)> = used
        .map(|fields| {
            let number = |at: usize| fields[at].parse().unwrap();
            (Found(number(2), number(4)), fields[5..].join(" "))
        })
        .collect();
    found.sort();
    found
}

/// Adds what a case is about; then the partitions expected, those after the standard ones with the lister's
/// word for their type.
type Case = (
    &'static str,
    fn(&mut Vec<GptEntry>),
    &'static [((u64, u64), &'static str)],
    usize,
);

const DATA: Uuid = type_guid::BASIC_DATA;

const CASES: &[Case] = &[
    ("as it was converted", |_| (), &[], 0),
    (
        "a reserved partition that is empty is left out",
        |all| all.push(entry(type_guid::RESERVED, FREE, 16)),
        &[],
        0,
    ),
    (
        "a fourth one",
        |all| all.push(entry(type_guid::LINUX, FREE, 4)),
        &[((311, 4), "Linux (0x83)")],
        0,
    ),
    (
        "two that become logical, with space in front",
        |all| all.extend([entry(DATA, 312, 4), entry(type_guid::LINUX_SWAP, 317, 4)]),
        &[
            ((312, 4), "NTFS / exFAT (0x07)"),
            ((317, 4), "Linux Swap / Solaris x86 (0x82)"),
        ],
        2,
    ),
    (
        "a hidden one and a recovery environment's, three logical",
        |all| {
            let hidden = GptEntry {
                attributes: 0x4000_0000_0000_0000,
                ..entry(DATA, 312, 4)
            };
            let more = [(type_guid::RECOVERY, 317), (type_guid::LINUX_LVM, 322)];
            all.push(hidden);
            all.extend(more.map(|(kind, first)| entry(kind, first, 4)));
        },
        &[
            ((312, 4), "Hidden IFS/HPFS (0x17)"),
            ((317, 4), "Unknown Type (0x27)"),
            ((322, 4), "Linux Logical Volume Manager (0x8e)"),
        ],
        3,
    ),
];

#[test]
#[ignore = "needs root and outside programs"]
fn what_fits_goes_back_starts_in_bios_mode_and_is_undone() {
    for (name, change, more, logical) in CASES {
        let bench = Bench::new(512);
        bench.retable(change);
        let (lab, image, whole) = (&bench.lab, &bench.image, hash(&bench.image));
        let volumes =
            [STANDARD[0], STANDARD[1]].map(|(first, sectors)| (first * 512, sectors * 512));
        let copy = lab.path("volume");
        let look = |volume| {
            extract(image, volume, &copy);
            assert_eq!(is_consistent(&copy), Ok(()), "{name}");
            snapshot(&copy)
        };
        let before = volumes.map(look);
        let plan = lab
            .run(&["plan", "disk.img", "--to", "mbr", "--json"])
            .json();
        assert_eq!(
            (&plan["to"], hash(image)),
            (&Value::from("mbr"), whole),
            "{name}"
        );

        let run = lab.convert(image, "job", &["--to", "mbr", "--quiet"]);
        assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
        let mut expected: Vec<(Found, &str)> = STANDARD
            .iter()
            .zip([
                "NTFS / exFAT (0x07)",
                "NTFS / exFAT (0x07)",
                "Win95 FAT32 (0x0c)",
            ])
            .map(|(&(first, sectors), kind)| (Found(first, sectors), kind))
            .collect();
        expected.extend(
            more.iter()
                .map(|&((first, mib), kind)| (Found(first * PER_MIB, mib * PER_MIB), kind)),
        );
        let found = listed(image, 512);
        let found: Vec<(Found, &str)> = found
            .iter()
            .map(|(at, kind)| (at.clone(), &kind[..]))
            .collect();
        assert_eq!(found, expected, "{name}");
        let after = plan["after"].as_array().unwrap().iter();
        let numbers = after.filter_map(|part| part["number"].as_u64());
        assert_eq!(
            numbers.filter(|number| *number > 4).count(),
            *logical,
            "{name}"
        );

        // Files are what they were, but for the two that the plan names.
        for (before, after) in before.into_iter().zip(volumes.map(look)) {
            assert_eq!(before.len(), after.len(), "{name}");
            for (path, seen) in before {
                let is_edited = path.ends_with("config/SYSTEM") || path.ends_with("ReAgent.xml");
                assert!(
                    is_edited || after.get(&path) == Some(&seen),
                    "{name}: {}",
                    path.display()
                );
            }
        }
        extract(image, (STANDARD[2].0 * 512, STANDARD[2].1 * 512), &copy);
        tool("fsck.vfat", &["-n", copy.to_str().unwrap()]);
        let rehearsed = lab.started(&["disk.img", "--to", "mbr"]);
        assert_eq!(rehearsed["starts"], true, "{name}");
        let steps = rehearsed["emulated"]["steps"].as_array().unwrap();
        let passed = |step: &Value| step["outcome"] == "pass";
        assert!(
            steps.len() == 4 && steps.iter().all(passed),
            "{name}: {steps:?}"
        );
        let walk = rehearsed["steps"].as_array().unwrap();
        assert!(walk.iter().all(passed), "{name}: {walk:?}");
        no_gpt_is_left(image, 512);

        let undo = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
        assert_eq!(
            (undo.code, hash(image)),
            (0, whole),
            "{name}: {}",
            undo.stderr
        );
    }
}

/// Two pairs could be the logical ones; the installed Windows is in one of them, and not in the other.
#[test]
fn a_windows_stays_a_primary_partition_where_it_can() {
    let bench = Bench::new(512);
    bench.retable(|all| {
        all[0] = entry(type_guid::LINUX, 20, 4);
        all.extend([entry(DATA, FREE + 1, 4), entry(DATA, FREE + 6, 4)]);
    });
    let run = bench
        .lab
        .run(&["plan", "disk.img", "--to", "mbr", "--json"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let plan = run.json();
    let after = plan["after"].as_array().unwrap().iter();
    let shares: Vec<(&str, bool)> = after
        .filter_map(|part| Some((part["role"].as_str()?, part["number"].as_u64()? > 4)))
        .collect();
    assert_eq!(
        shares.iter().filter(|(_, is_logical)| *is_logical).count(),
        2
    );
    assert!(shares.contains(&("Windows", false)), "{shares:?}");
}

/// Neither header, which other systems would find.
fn no_gpt_is_left(image: &Path, sector: u64) {
    let len = fs::metadata(image).unwrap().len();
    for at in [sector, len - sector] {
        assert_eq!(peek(image, at, 8), [0; 8], "{at}");
    }
}

#[test]
#[ignore = "needs outside programs"]
fn a_data_disk_goes_back_at_both_sector_sizes() {
    for sector in [512, 4096] {
        let lab = Lab::new();
        let image = lab.image("disk.img", sector, 300, |_| ());
        let args = [
            "convert",
            "disk.img",
            "--data-disk",
            "--job",
            "blank",
            "--yes",
            "--sector-size",
            &sector.to_string(),
        ];
        assert_eq!(lab.run(&args).code, 0);
        let scale = |mib: u64| mib * MIB / u64::from(sector);
        let places = [(1, 60), (61, 60), (122, 60), (183, 60), (244, 40)];
        retable(&image, sector, |entries| {
            let kinds = [DATA, type_guid::LINUX, DATA, DATA, type_guid::LINUX_RAID];
            entries.extend(
                kinds
                    .into_iter()
                    .zip(places)
                    .map(|(kind, (first, mib))| GptEntry {
                        extent: Extent::new(lba(scale(first)), scale(mib)).unwrap(),
                        ..entry(kind, first, mib)
                    }),
            );
        });
        let whole = hash(&image);
        let args = ["--to", "mbr", "--data-disk", "--quiet"];
        let run = lab.convert(&image, "job", &args);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        let found: Vec<Found> = listed(&image, sector)
            .into_iter()
            .map(|(at, _)| at)
            .collect();
        let expected = places.map(|(first, mib)| Found(scale(first), scale(mib)));
        assert_eq!(found, expected);
        // Nothing on it tells the size of its sectors now.
        let size = ["--sector-size", &sector.to_string()];
        let args = ["rehearse", "disk.img", "--to", "mbr", "--data-disk"];
        let run = lab.run(&[&args[..], &size].concat());
        assert_eq!(run.code, 0, "{}", run.stdout);
        no_gpt_is_left(&image, u64::from(sector));
        // And there again: the disk is one that can be converted.
        let args = ["check", "disk.img", "--data-disk", "--json"];
        let run = lab.run(&[&args[..], &size].concat()).json();
        assert_ne!(run["answer"], "blocked", "{run}");
        let undo = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
        assert_eq!((undo.code, hash(&image)), (0, whole), "{}", undo.stderr);
    }
}

#[test]
#[ignore = "needs outside programs"]
fn a_manufacturers_type_goes_back_by_the_policys_table() {
    let bench = Bench::new(512);
    let manufacturer = uuid::uuid!("bfbfafe7-a34f-448a-9a5b-6213eb736c22");
    bench.retable(|all| all.push(entry(manufacturer, FREE, 4)));
    let policy = bench.lab.path("shop.toml");
    fs::write(
        &policy,
        format!("[[type]]\nbyte = \"A0\"\nguid = \"{manufacturer}\"\n"),
    )
    .unwrap();
    let args = ["check", "disk.img", "--to", "mbr", "--json"];
    assert_eq!(bench.lab.run(&args).json()["answer"], "blocked");
    let args = ["--to", "mbr", "--policy", "shop.toml", "--quiet"];
    let run = bench.lab.convert(&bench.image, "job", &args);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let kinds: Vec<String> = listed(&bench.image, 512)
        .into_iter()
        .map(|(_, kind)| kind)
        .collect();
    assert!(
        kinds.iter().any(|kind| kind.contains("(0xa0)")),
        "{kinds:?}"
    );
}
