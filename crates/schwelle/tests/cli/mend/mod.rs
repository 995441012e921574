//! Mending GPT disks that do not start: each broken in one way, mended, judged by others' readers, and
//! taken back.

mod kept;
mod refused;

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use schwelle_core::device::{DiskFile, Extent};
use schwelle_core::gpt::{GptEntry, GptLayout, GptPair, type_guid};
use schwelle_core::host::HostFacts;
use schwelle_core::profile::Profile;
use serde_json::Value;

use crate::job_files::{job_args, reopen};
use crate::layouts::listed_at;
use crate::support::{COMPUTER, Lab, SIGNATURE, lba, peek, place, poke};
use schwelle_testkit::{hash, tool};

const MIB: u64 = 1 << 20;

/// A converted disk and what is known of it.
struct Bench {
    lab: Lab,
    image: PathBuf,
    record: Value,
    sector: u32,
}

impl Bench {
    fn new(sector: u32) -> Self {
        let lab = Lab::new();
        let (image, record) = lab.converted("disk.img", sector);
        Self {
            lab,
            image,
            record,
            sector,
        }
    }

    fn device(&self) -> DiskFile {
        DiskFile::open_write(&self.image, Some(self.sector)).unwrap()
    }

    fn last_lba(&self) -> u64 {
        fs::metadata(&self.image).unwrap().len() / u64::from(self.sector) - 1
    }

    fn byte(&self, lba: u64) -> u64 {
        lba * u64::from(self.sector)
    }

    /// Byte and length of the EFI system partition.
    fn esp(&self) -> (u64, u64) {
        place(&self.record, "EFI system")
    }

    /// The same as the FAT tools name it.
    fn esp_image(&self) -> String {
        format!("{}@@{}", self.image.display(), self.esp().0)
    }

    /// Writes the table anew, changed.
    fn retable(&self, change: impl FnOnce(&mut Vec<GptEntry>)) {
        let device = self.device();
        let mut layout = GptLayout::of(GptPair::read(&device).best().unwrap()).unwrap();
        change(&mut layout.entries);
        layout.write(&device).unwrap();
    }

    /// Puts a file on the EFI system partition, or takes one away.
    fn on_esp(&self, command: &str, args: &[&str]) {
        let esp = self.esp_image();
        tool(command, &[&["-i", &esp][..], args].concat());
    }

    /// The sector with these bytes, as it lies on the partition.
    fn find_on_esp(&self, bytes: &[u8]) -> u64 {
        let (at, len) = self.esp();
        let whole = peek(&self.image, at, usize::try_from(len).unwrap());
        let found = whole
            .windows(bytes.len())
            .position(|window| window == bytes);
        at + found.unwrap() as u64
    }
}

fn esp_entry(entries: &mut [GptEntry]) -> &mut GptEntry {
    entries
        .iter_mut()
        .find(|entry| entry.kind == type_guid::EFI_SYSTEM)
        .unwrap()
}

/// The BCD store that the disk had when it was started in BIOS mode, as a file.
fn bios_store(bench: &Bench) -> PathBuf {
    let device = bench.device();
    let profile = Profile::read(&device, HostFacts::default()).unwrap();
    let extent = profile.partitions[0].extent;
    let window = schwelle_core::device::Window::new(&device, extent).unwrap();
    let volume = schwelle_core::ntfs::NtfsVolume::open(&window).unwrap();
    let record = volume.find("\\Boot\\BCD").unwrap().unwrap().record;
    let content = volume.open_file(record).unwrap().read_all(1 << 20).unwrap();
    let path = bench.lab.path("BCD");
    fs::write(&path, content).unwrap();
    path
}

/// What is broken, the steps that are mended, and whether real firmware shall start it as well.
type Case = (&'static str, fn(&Bench), &'static [&'static str], bool);

const CASES: &[Case] = &[
    (
        "sector 0 wiped",
        |bench| poke(&bench.image, 0, &[0; 512]),
        &["protective-mbr"],
        false,
    ),
    (
        "the primary header damaged",
        |bench| poke(&bench.image, bench.byte(1) + 60, &[0xFF; 4]),
        &["primary-table"],
        false,
    ),
    (
        "the primary entries damaged",
        |bench| poke(&bench.image, bench.byte(2) + 130, b"overwritten"),
        &["primary-table"],
        false,
    ),
    (
        "the whole primary table wiped, sector 0 with it",
        |bench| {
            let end = bench.byte(2) + 16_384;
            poke(&bench.image, 0, &vec![0; usize::try_from(end).unwrap()]);
        },
        &["protective-mbr", "primary-table"],
        true,
    ),
    (
        "the backup damaged",
        |bench| poke(&bench.image, bench.byte(bench.last_lba()) + 20, &[7; 9]),
        &["backup-table"],
        false,
    ),
    (
        "copied to a larger disk",
        |bench| {
            let file = File::options().write(true).open(&bench.image).unwrap();
            let len = file.metadata().unwrap().len();
            file.set_len(len + 64 * MIB).unwrap();
        },
        &["protective-mbr", "backup-table"],
        true,
    ),
    (
        "copies of the table that name different partitions",
        |bench| {
            let len = usize::try_from(bench.byte(6)).unwrap();
            let primary = peek(&bench.image, 0, len.max(34 * 512));
            bench.retable(|entries| drop(entries.pop()));
            poke(&bench.image, 0, &primary);
        },
        &["tables-agree"],
        false,
    ),
    (
        "a hybrid table",
        |bench| {
            poke(&bench.image, 446 + 16 + 4, &[7]);
            poke(&bench.image, 446 + 16 + 8, &[0, 8, 0, 0, 0, 8, 0, 0]);
        },
        &["protective-mbr"],
        false,
    ),
    (
        "FATs that differ, and a boot sector without its signature",
        |bench| {
            let sector = u64::from(bench.sector);
            poke(&bench.image, bench.esp().0 + 32 * sector + 12, &[9, 9, 9]);
            poke(&bench.image, bench.esp().0 + 510, &[0, 0]);
        },
        &["esp-file-system"],
        true,
    ),
    (
        "a damaged folder, the same in both FATs",
        |bench| {
            let sector = u64::from(bench.sector);
            let fat_sectors = peek(&bench.image, bench.esp().0 + 36, 4);
            let fat_sectors = u32::from_le_bytes(fat_sectors.try_into().unwrap());
            for fat in [0, u64::from(fat_sectors) * sector] {
                poke(
                    &bench.image,
                    bench.esp().0 + 32 * sector + fat + 12,
                    &[9, 9, 9],
                );
            }
            // The first cluster of the folder that lies in it.
            let at = bench.find_on_esp(b"BOOT       ");
            poke(&bench.image, at + 26, &[0xFF, 0xFF]);
        },
        &["esp-file-system", "loader"],
        true,
    ),
    (
        "another type on the EFI system partition",
        |bench| bench.retable(|entries| esp_entry(entries).kind = type_guid::BASIC_DATA),
        &["esp"],
        false,
    ),
    (
        "no EFI system partition",
        |bench| {
            bench.retable(|entries| *esp_entry(entries) = GptEntry::unused());
            let (at, len) = bench.esp();
            poke(&bench.image, at, &vec![0; usize::try_from(len).unwrap()]);
        },
        &["esp", "loader"],
        true,
    ),
    (
        "an empty EFI system partition",
        |bench| {
            let (at, len) = bench.esp();
            poke(&bench.image, at, &vec![0; usize::try_from(len).unwrap()]);
        },
        &["esp-file-system", "loader"],
        false,
    ),
    (
        "no boot files",
        |bench| bench.on_esp("mdeltree", &["::EFI"]),
        &["loader"],
        true,
    ),
    (
        "no boot manager but on the removable-media path",
        |bench| bench.on_esp("mdel", &["::EFI/Microsoft/Boot/bootmgfw.efi"]),
        &["loader"],
        false,
    ),
    (
        "a damaged loader",
        |bench| {
            let path = bench.lab.path("short.efi");
            fs::write(&path, &schwelle_demo::BOOT_MANAGER[..700]).unwrap();
            bench.on_esp(
                "mcopy",
                &["-o", path.to_str().unwrap(), "::EFI/BOOT/BOOTX64.EFI"],
            );
        },
        &["loader-image"],
        false,
    ),
    (
        "no BCD store",
        |bench| bench.on_esp("mdel", &["::EFI/Microsoft/Boot/BCD"]),
        &["bcd-store"],
        true,
    ),
    (
        "a BCD store that still names the MBR disk",
        |bench| {
            let store = bios_store(bench);
            bench.on_esp(
                "mcopy",
                &["-o", store.to_str().unwrap(), "::EFI/Microsoft/Boot/BCD"],
            );
        },
        &["boot-manager"],
        true,
    ),
    (
        "a BCD store that is none",
        |bench| {
            let at = bench.find_on_esp(b"regf");
            poke(&bench.image, at, &[0x11; 4096]);
        },
        &["bcd-store"],
        false,
    ),
    (
        "other GUIDs than the BCD store names",
        |bench| {
            bench.retable(|entries| {
                for (other, entry) in (1..).zip(entries) {
                    entry.id = uuid::Uuid::from_u128(other);
                }
            });
        },
        &["entry-devices"],
        true,
    ),
];

#[test]
#[ignore = "needs outside programs"]
fn each_disk_is_mended_where_it_is_broken_and_nowhere_else() {
    for sector in [512, 4096] {
        for (name, break_it, steps, starts) in CASES {
            let bench = Bench::new(sector);
            break_it(&bench);
            // What firmware reads differs with the sectors where a file system is made, and not by the table alone.
            let starts = *starts && (sector == 512 || steps.contains(&"esp"));
            mended(&bench, name, steps, starts);
        }
    }
}

fn mended(bench: &Bench, name: &str, steps: &[&str], starts: bool) {
    let (lab, image) = (&bench.lab, &bench.image);
    let whole = hash(image);
    let run = lab.run(&["rehearse", "disk.img"]);
    let only_named = name.contains("but on the removable-media path");
    assert_eq!(run.code, i32::from(!only_named), "{name}");
    let shown = lab.run(&["mend", "disk.img", "--json"]);
    assert_eq!(
        (shown.code, hash(image)),
        (0, whole),
        "{name}: {}",
        shown.stderr
    );
    let plan = shown.json();
    assert_eq!(plan["answer"], "planned");
    let fixes = plan["fixes"].as_array().unwrap();
    let found: Vec<&str> = fixes
        .iter()
        .map(|fix| fix["step"].as_str().unwrap())
        .collect();
    assert_eq!(found, steps, "{name}");

    let run = lab.run(&["mend", "disk.img", "--job", "mend.job", "--yes", "--quiet"]);
    assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
    let run = lab.run(&[
        "rehearse",
        "disk.img",
        "--loader",
        "\\EFI\\Microsoft\\Boot\\bootmgfw.efi",
    ]);
    assert_eq!(run.code, 0, "{name}: {}", run.stdout);
    if starts {
        lab.started(&["disk.img"]);
    }
    // Both copies name the same, and a lister that others wrote reads it; the FAT checker passes the
    // partition.
    let device = DiskFile::open_read(image, Some(bench.sector)).unwrap();
    let pair = GptPair::read(&device);
    assert_eq!(pair.disagreement(), None, "{name}");
    let table = pair.best().unwrap();
    assert_eq!(
        listed_at(image, bench.sector).len(),
        table.entries.len(),
        "{name}"
    );
    let esp = table
        .entries
        .iter()
        .find(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM);
    let Extent { first, end } = esp.unwrap().1.extent;
    let volume = lab.path("esp");
    let place = (bench.byte(first.0), bench.byte(end.0 - first.0));
    schwelle_testkit::extract(image, place, &volume);
    tool("fsck.vfat", &["-n", volume.to_str().unwrap()]);
    assert_eq!(
        lab.run(&["mend", "disk.img", "--json"]).json()["answer"],
        "nothing-to-mend",
        "{name}"
    );
    drop(device);

    let undo = lab.run(&job_args(
        "undo",
        Path::new("mend.job"),
        &["--disk", "disk.img", "--yes"],
    ));
    assert_eq!(undo.code, 0, "{name}: {}{}", undo.stdout, undo.stderr);
    assert_eq!(hash(image), whole, "{name}");
}

#[test]
#[ignore = "needs outside programs"]
fn what_somebody_else_converted_without_an_efi_partition_starts_with_its_old_menu() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 400, |disk| {
        let places = disk.standard(SIGNATURE, COMPUTER).unwrap();
        let device = disk.device();
        let geometry = device.geometry();
        let start = schwelle_core::mbr::BiosStart::PassOn;
        device
            .write_at(0, &schwelle_core::mbr::protective_sector(geometry, start))
            .unwrap();
        let data = |number: u128, extent| GptEntry {
            kind: type_guid::BASIC_DATA,
            id: uuid::Uuid::from_u128(number),
            extent,
            attributes: 0,
            name: String::new(),
        };
        // The second entry stays unused: numbers are kept.
        GptLayout {
            disk_id: uuid::Uuid::from_u128(9),
            entries: vec![
                data(1, places.boot),
                GptEntry::unused(),
                data(3, places.windows),
            ],
        }
        .write(device)
        .unwrap();
    });
    let run = lab.run(&["mend", "disk.img", "--job", "job", "--yes", "--all"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    for expected in [
        "Boot menu, carried over",
        "Windows 10 (night watch, quiet screen)",
        "C: and 2 volume names now name GPT partitions",
        "the recovery environment's place now names",
        "Mended.",
        "schwelle undo --job job",
    ] {
        assert!(run.stdout.contains(expected), "{expected}: {}", run.stdout);
    }
    let document = lab.started(&["disk.img"]);
    let steps = document["steps"].as_array().unwrap();
    assert!(
        steps.iter().all(|step| step["outcome"] == "pass"),
        "{steps:?}"
    );
    let device = DiskFile::open_read(&image, Some(512)).unwrap();
    let numbers: Vec<usize> = GptPair::read(&device)
        .best()
        .unwrap()
        .entries
        .iter()
        .map(|(number, _)| *number)
        .collect();
    assert_eq!(numbers, [1, 2, 3], "the new one takes the unused place");
    drop(device);

    // Taken back, and mended again with the room from the tail of the Windows volume.
    let undo = lab.run(&job_args("undo", Path::new("job"), &["--yes"]));
    assert_eq!(undo.code, 0, "{}", undo.stderr);
    let args = [
        "mend",
        "disk.img",
        "--place",
        "shrink",
        "--job",
        "shrink.job",
        "--yes",
    ];
    let run = lab.run(&args);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    assert_eq!(lab.run(&["rehearse", "disk.img"]).code, 0);
    let device = DiskFile::open_read(&image, Some(512)).unwrap();
    let windows = Profile::read(&device, HostFacts::default())
        .unwrap()
        .partition(3)
        .unwrap()
        .extent;
    assert!(windows.sectors() < 160 * 2048, "it has been shrunk");
    let volume = lab.path("windows");
    let place = (windows.first.0 * 512, windows.sectors() * 512);
    schwelle_testkit::extract(&image, place, &volume);
    assert_eq!(crate::volumes::is_consistent(&volume), Ok(()));
}

#[test]
fn a_data_disks_tables_are_mended_without_a_system() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 64, |_| ());
    let run = lab.run(&[
        "convert",
        "disk.img",
        "--data-disk",
        "--job",
        "job",
        "--yes",
        "--quiet",
    ]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let file = File::options().write(true).open(&image).unwrap();
    file.set_len(80 * MIB).unwrap();
    drop(file);
    assert_eq!(lab.run(&["rehearse", "disk.img", "--data-disk"]).code, 1);
    let run = lab.run(&[
        "mend",
        "disk.img",
        "--data-disk",
        "--job",
        "mend.job",
        "--yes",
    ]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    assert!(run.stdout.contains("backup-table"), "{}", run.stdout);
    assert_eq!(lab.run(&["rehearse", "disk.img", "--data-disk"]).code, 0);
    // The protective entry reaches to the new end.
    assert_eq!(peek(&image, 458, 4), (80 * 2048 - 1_u32).to_le_bytes());
    assert_eq!(lba(80 * 2048 - 1).0 * 512 + 512, 80 * MIB);
}

#[test]
#[ignore = "needs outside programs"]
fn a_killed_mending_is_finished() {
    let bench = Bench::new(512);
    let lab = &bench.lab;
    bench.on_esp("mdeltree", &["::EFI"]);
    let whole = hash(&bench.image);
    let run = lab.run(&["mend", "disk.img", "--job", "mend.job", "--yes", "--quiet"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let mended = hash(&bench.image);
    // As if it had been stopped before its last sector: the state goes back, and a sector with it.
    reopen(&lab.path("mend.job"));
    unwrite(&lab.path("mend.job"), &bench.image);
    assert_ne!(hash(&bench.image), mended);
    let refused = lab.run(&["mend", "disk.img", "--job", "other.job", "--yes"]);
    assert_eq!(refused.code, 1, "{}{}", refused.stdout, refused.stderr);
    let run = lab.run(&job_args("resume", Path::new("mend.job"), &[]));
    assert_eq!(
        (run.code, hash(&bench.image)),
        (0, mended),
        "{}{}",
        run.stdout,
        run.stderr
    );
    assert!(run.stdout.contains("Mended."), "{}", run.stdout);
    let again = lab.run(&job_args("resume", Path::new("mend.job"), &["--json"]));
    assert_eq!(again.json()["answer"], "mended");
    let undo = lab.run(&job_args("undo", Path::new("mend.job"), &["--yes"]));
    assert_eq!(
        (undo.code, hash(&bench.image)),
        (0, whole),
        "{}",
        undo.stderr
    );
}

#[test]
fn an_efi_system_partition_that_is_formatted_is_told_as_that() {
    let bench = Bench::new(512);
    let (at, len) = bench.esp();
    poke(&bench.image, at, &vec![0; usize::try_from(len).unwrap()]);
    let run = bench.lab.run(&["mend", "disk.img", "--json"]);
    let json = &run.json()["plan"];
    assert_eq!(json["placement"]["kind"], "formatted", "{}", run.stdout);
    let mut after = json["after"].as_array().unwrap().iter();
    let changed = after.find(|part| part["change"] == "formatted");
    assert_eq!(changed.unwrap()["first_lba"], at / 512, "{}", run.stdout);
}

/// Puts the last extent of a journal back to what it was.
fn unwrite(job: &Path, image: &Path) {
    let journal: Value =
        serde_json::from_slice(&fs::read(job.join("journal.json")).unwrap()).unwrap();
    let extent = journal["extents"]
        .as_array()
        .unwrap()
        .last()
        .unwrap()
        .clone();
    let (first, sectors) = (
        extent["first_lba"].as_u64().unwrap(),
        extent["sectors"].as_u64().unwrap(),
    );
    let len = usize::try_from(sectors * 512).unwrap();
    let old = match extent["old"]["offset"].as_u64() {
        Some(offset) => peek(&job.join("saved.bin"), offset, len),
        None => vec![u8::try_from(extent["old"]["fill"].as_u64().unwrap()).unwrap(); len],
    };
    poke(image, first * 512, &old);
}

#[test]
#[ignore = "needs outside programs"]
fn another_systems_loader_on_the_removable_media_path_stays() {
    let bench = Bench::new(512);
    let other = fs::read("/usr/lib/shim/shimx64.efi.signed").unwrap();
    let path = bench.lab.path("other.efi");
    fs::write(&path, &other).unwrap();
    let path = path.to_str().unwrap();
    bench.on_esp("mcopy", &["-o", path, "::EFI/BOOT/BOOTX64.EFI"]);
    bench.on_esp("mdel", &["::EFI/Microsoft/Boot/bootmgfw.efi"]);
    let args = ["mend", "disk.img", "--job", "mend.job", "--yes", "--quiet"];
    let run = bench.lab.run(&args);
    assert_eq!(run.code, 0, "{}", run.stderr);
    // What was there already has not been written again.
    let record = fs::read(bench.lab.path("mend.job/job.json")).unwrap();
    let record: Value = serde_json::from_slice(&record).unwrap();
    let written = record["plan"]["bytes_written"].as_u64().unwrap();
    let loader = schwelle_demo::BOOT_MANAGER.len() as u64;
    assert!(written < loader + 16_384, "{written}");
    let back = bench.lab.path("back.efi");
    bench.on_esp("mcopy", &["::EFI/BOOT/BOOTX64.EFI", back.to_str().unwrap()]);
    assert!(fs::read(back).unwrap() == other);
}
