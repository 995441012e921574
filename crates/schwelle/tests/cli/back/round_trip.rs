//! There and back again, twice: files stay, entries of the store stay, and what names the disk follows it.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::{BlockDevice, DiskFile, Extent, Lba, ReadDevice, Window};
use schwelle_core::ntfs::NtfsVolume;
use schwelle_demo::{DiskBuilder, MbrEntry, windows_was_started};

use super::{Bench, MIB};
use crate::support::{Lab, lba, peek};
use crate::volumes::{Seen, is_consistent, snapshot};
use schwelle_testkit::{dump, extract, hash, hex, tool};

const BOOT: (u64, u64) = (MIB, 50 * MIB);
const WINDOWS: (u64, u64) = (51 * MIB, 160 * MIB);
const ESP: u64 = 211 * MIB;
const SYSTEM: &str = "Windows/System32/config/SYSTEM";
const RECOVERY: &str = "Windows/System32/Recovery/ReAgent.xml";

/// What a disk holds that must stay, and what names the disk, with its own names put in words.
#[derive(Debug, PartialEq)]
struct Content {
    files: Vec<BTreeMap<PathBuf, Seen>>,
    store: BTreeMap<String, String>,
    letters: BTreeMap<String, String>,
    recovery: String,
}

/// The names of a disk as hives have them (hex, with commas) and as text, each with a word for it.
fn words(image: &Path) -> Vec<(String, &'static str)> {
    let is_gpt = peek(image, 512, 8) == b"EFI PART";
    let mut words = Vec::new();
    if is_gpt {
        let guid = |at: u64| {
            let bytes: [u8; 16] = peek(image, at, 16).try_into().unwrap();
            uuid::Uuid::from_bytes_le(bytes)
        };
        let disk = guid(512 + 56);
        words.push((hex(&disk.to_bytes_le()), "DISK"));
        words.push((format!("{{{disk}}}"), "{DISK}"));
        for (entry, word) in [(0, "BOOT"), (1, "WINDOWS"), (2, "START")] {
            words.push((hex(&guid(1024 + entry * 128 + 16).to_bytes_le()), word));
        }
    } else {
        let signature = peek(image, 440, 4);
        let number = u32::from_le_bytes(signature.clone().try_into().unwrap());
        words.push((hex(&signature), "DISK"));
        words.push((format!("id=\"{number}\""), "id=\"DISK\""));
    }
    words
}

fn in_words(text: &str, words: &[(String, &str)]) -> String {
    let all = words.iter();
    all.fold(text.to_owned(), |text, (name, word)| {
        text.replace(name, word)
    })
}

/// A file of the FAT32 partition.
fn from_fat(lab: &Lab, image: &Path, path: &str) -> PathBuf {
    let (volume, copy) = (format!("{}@@{ESP}", image.display()), lab.path("taken"));
    tool(
        "mcopy",
        &[
            "-n",
            "-o",
            "-i",
            &volume,
            &format!("::{path}"),
            copy.to_str().unwrap(),
        ],
    );
    copy
}

/// A file of the Windows volume.
fn from_windows(lab: &Lab, image: &Path, path: &str) -> PathBuf {
    let device = DiskFile::open_read(image, Some(512)).unwrap();
    let extent = Extent::new(Lba(WINDOWS.0 / 512), WINDOWS.1 / 512).unwrap();
    let window = Window::new(&device, extent).unwrap();
    let volume = NtfsVolume::open(&window).unwrap();
    let record = volume
        .find(&format!("\\{}", path.replace('/', "\\")))
        .unwrap()
        .unwrap()
        .record;
    let copy = lab.path("taken");
    fs::write(
        &copy,
        volume.open_file(record).unwrap().read_all(1 << 24).unwrap(),
    )
    .unwrap();
    copy
}

fn content(lab: &Lab, image: &Path, store: &str) -> Content {
    let words = words(image);
    let in_words = |text: &str| in_words(text, &words);
    let copy = lab.path("volume");
    let files = [BOOT, WINDOWS].map(|place| {
        extract(image, place, &copy);
        assert_eq!(is_consistent(&copy), Ok(()));
        let mut files = snapshot(&copy);
        files.retain(|path, _| !path.ends_with(SYSTEM) && !path.ends_with(RECOVERY));
        assert!(files.len() > 5);
        files
    });
    let dumped = |hive: &Path, prefix: &str| -> BTreeMap<String, String> {
        let sections = dump(hive, prefix).into_iter();
        sections.map(|(key, text)| (key, in_words(&text))).collect()
    };
    let store = dumped(&from_fat(lab, image, store), "BCD");
    let mut letters = dumped(&from_windows(lab, image, SYSTEM), "SYSTEM");
    letters.retain(|key, _| key.contains("MountedDevices"));
    let recovery = fs::read_to_string(from_windows(lab, image, RECOVERY)).unwrap();
    // Blanks fill up what a shorter signature leaves over.
    let recovery = in_words(&recovery)
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ")
        .replace(" />", "/>");
    Content {
        files: files.into(),
        store,
        letters,
        recovery,
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn there_and_back_again_leaves_files_identical_and_entries_equivalent() {
    const UEFI: &str = "EFI/Microsoft/Boot/BCD";
    const BIOS: &str = "Boot/BCD";
    let bench = Bench::new(512);
    let (lab, image) = (&bench.lab, &bench.image);
    let gpt = content(lab, image, UEFI);
    let esp_files = || {
        let list = tool("mdir", &["-/", "-b", "-i", &bench.esp(), "::"]).stdout;
        list.lines().map(str::to_owned).collect::<Vec<_>>()
    };
    let on_esp = esp_files();
    let mut identities = 0;
    let mut cross = |to: &str| {
        identities += 1;
        let job = format!("job-{identities}");
        let run = lab.convert(image, &job, &["--to", to, "--quiet"]);
        assert_eq!(run.code, 0, "{job}: {}{}", run.stdout, run.stderr);
        let rehearsed = lab.started(&["disk.img", "--to", to]);
        assert_eq!(rehearsed["starts"], true, "{job}");
    };
    cross("mbr");
    let mbr = content(lab, image, BIOS);
    cross("gpt");
    let gpt_again = content(lab, image, UEFI);
    cross("mbr");
    let mbr_again = content(lab, image, BIOS);
    assert_eq!(gpt, gpt_again);
    assert_eq!(mbr, mbr_again);
    assert_eq!(gpt.files, mbr.files);
    // Nothing was taken off the EFI system partition.
    let after = esp_files();
    assert!(on_esp.iter().all(|path| after.contains(path)), "{after:?}");

    // Against the store from which the disk started before any of this: the boot manager and the memory tester
    // lie on another partition, and their paths are shown.
    let boot = lab.path("volume");
    extract(image, BOOT, &boot);
    let mounted = schwelle_testkit::Mounted::new(lab.path("mounted"), &boot);
    let first = lab.path("first");
    fs::copy(mounted.0.join("Boot/BCD"), &first).unwrap();
    drop(mounted);
    let signature = hex(&crate::support::SIGNATURE.to_le_bytes());
    let mut first: BTreeMap<String, String> = dump(&first, "BCD")
        .into_iter()
        .map(|(key, text)| (key, text.replace(&signature, "DISK")))
        .collect();
    let mut now = mbr.store;
    let moved = |key: &String| {
        let of_both = ["9dea862c", "b2721d73"].iter().any(|id| key.contains(id));
        of_both && (key.contains("11000001") || key.contains("12000002"))
    };
    for store in [&mut first, &mut now] {
        let before = store.len();
        store.retain(|key, _| !moved(key));
        assert!(store.len() < before && store.len() > 30);
    }
    assert_eq!(first, now);
}

#[test]
#[ignore = "needs outside programs"]
fn undo_of_a_disk_that_was_used_in_bios_mode_updates_its_names() {
    let bench = Bench::new(512);
    let (lab, image) = (&bench.lab, &bench.image);
    let head = peek(image, 0, 34 * 512);
    assert_eq!(
        lab.convert(image, "job", &["--to", "mbr", "--quiet"]).code,
        0
    );
    {
        let device = DiskFile::open_write(image, Some(512)).unwrap();
        let windows = Extent::new(Lba(WINDOWS.0 / 512), WINDOWS.1 / 512).unwrap();
        windows_was_started(&device, windows, 3, 1 << 58).unwrap();
    }
    let note = lab.path("note");
    fs::write(&note, "written since").unwrap();
    tool(
        "mcopy",
        &["-i", &bench.esp(), note.to_str().unwrap(), "::note.txt"],
    );
    let run = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let flat = run.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
    for expected in [
        "C: and 2 volume names now name GPT partitions",
        "place now names the GPT disk",
        "set it to UEFI mode again",
        "has its GPT table again. Next: schwelle check",
    ] {
        assert!(flat.contains(expected), "{expected}: {flat}");
    }
    assert_eq!(peek(image, 0, 34 * 512), head);
    assert_eq!(
        fs::read(from_fat(lab, image, "note.txt")).unwrap(),
        b"written since"
    );
    lab.started(&["disk.img"]);
}

#[test]
fn a_logical_partition_made_since_is_not_undone() {
    let bench = Bench::new(512);
    let (lab, image) = (&bench.lab, &bench.image);
    bench.retable(|all| {
        all.extend([
            super::entry(super::DATA, 312, 4),
            super::entry(super::DATA, 317, 4),
        ]);
    });
    assert_eq!(
        lab.convert(image, "job", &["--to", "mbr", "--quiet"]).code,
        0
    );
    {
        // The extended partition reaches further, and the chain has one more.
        let device = DiskFile::open_write(image, Some(512)).unwrap();
        let mut sector_0 = device.read_sector(lba(0)).unwrap();
        let extended = (446..510)
            .step_by(16)
            .find(|&at| sector_0[at + 4] == 0x0F)
            .unwrap();
        let first = u32::from_le_bytes(sector_0[extended + 8..extended + 12].try_into().unwrap());
        let builder = DiskBuilder::new(&device);
        let entry = |kind, first, sectors| MbrEntry {
            active: false,
            kind,
            first,
            sectors,
        };
        let second = lba(317 * 2048 - 1);
        let relative = |at: u32| at - first;
        let third = 322 * 2048;
        builder
            .boot_record(
                second,
                0,
                &[entry(7, 1, 4 * 2048), entry(5, relative(third), 4096)],
            )
            .unwrap();
        builder
            .boot_record(lba(third.into()), 0, &[entry(7, 1, 2048)])
            .unwrap();
        let sectors = third + 4096 - first;
        sector_0[extended + 12..extended + 16].copy_from_slice(&sectors.to_le_bytes());
        device.write_at(0, &sector_0).unwrap();
    }
    let whole = hash(image);
    let run = lab.run(&[
        "undo",
        "--job",
        "job",
        "--folder-name",
        "job",
        "--yes",
        "--disk",
        "disk.img",
    ]);
    assert_ne!(run.code, 0, "{}", run.stdout);
    assert_eq!(hash(image), whole, "{}", run.stderr);
}
