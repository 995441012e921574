//! What mending keeps of an EFI system partition: every file that somebody else's FAT reader found there before.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use serde_json::Value;

use super::Bench;
use crate::job_files::job_args;
use crate::support::{peek, poke};
use schwelle_testkit::hash;

/// A damage: its name, how it is done, the step that is mended, and the most bytes that mending may write.
type Case = (&'static str, fn(&Bench), &'static str, u64);

const ALL: u64 = u64::MAX;
const ONE_FILE: u64 = 1 << 20;

const CASES: &[Case] = &[
    (
        "fewer clusters than FAT32 has",
        with_few_clusters,
        "esp-file-system",
        ALL,
    ),
    (
        "the main boot sector's root cluster is that of another folder",
        |bench| {
            let root = bench.esp().0 + 44;
            assert_eq!(peek(&bench.image, root, 1), [2]);
            poke(&bench.image, root, &[9]);
        },
        "esp-file-system",
        ONE_FILE,
    ),
    (
        "the backup boot sector's root cluster is that of another folder",
        |bench| poke(&bench.image, bench.esp().0 + 6 * 512 + 44, &[9]),
        "esp-file-system",
        ONE_FILE,
    ),
    (
        "a loader whose length is 0",
        |bench| {
            for loader in [b"BOOTX64 EFI", b"BOOTMGFWEFI"] {
                let entry = bench.find_on_esp(loader);
                poke(&bench.image, entry + 28, &[0; 4]);
            }
        },
        "loader-image",
        ONE_FILE,
    ),
    (
        "another system's folder that ends in a bad cluster",
        |bench| {
            bench.on_esp(
                "mdel",
                &[
                    "::EFI/BOOT/BOOTX64.EFI",
                    "::EFI/Microsoft/Boot/bootmgfw.efi",
                ],
            );
            let entry = bench.find_on_esp(b"OTHER      ");
            let cluster = peek(&bench.image, entry + 26, 2);
            let at = 4 * u64::from(u16::from_le_bytes([cluster[0], cluster[1]]));
            for fat in fats(bench) {
                poke(&bench.image, fat + at, &0x0FFF_FFF7_u32.to_le_bytes());
            }
        },
        "loader",
        ALL,
    ),
];

/// Bytes of the image at which the FATs begin.
fn fats(bench: &Bench) -> [u64; 2] {
    let (esp, _) = bench.esp();
    let reserved = peek(&bench.image, esp + 14, 2);
    let sectors = peek(&bench.image, esp + 36, 4);
    let reserved = u64::from(u16::from_le_bytes(reserved.try_into().unwrap()));
    let sectors = u64::from(u32::from_le_bytes(sectors.try_into().unwrap()));
    let first = esp + reserved * 512;
    [first, first + sectors * 512]
}

/// Names so few sectors in both boot sectors that fewer clusters are left than FAT32 has; the files lie in front.
fn with_few_clusters(bench: &Bench) {
    let (esp, _) = bench.esp();
    let cluster_sectors = u64::from(peek(&bench.image, esp + 13, 1)[0]);
    let [first, second] = fats(bench);
    let data = (second + (second - first) - esp) / 512;
    let sectors = u32::try_from(data + 60_000 * cluster_sectors).unwrap();
    for boot_sector in [0, 6 * 512] {
        poke(&bench.image, esp + boot_sector + 32, &sectors.to_le_bytes());
    }
}

fn copy_out(bench: &Bench, folder: &Path) {
    fs::create_dir(folder).unwrap();
    bench.on_esp("mcopy", &["-s", "-n", "::*", folder.to_str().unwrap()]);
}

/// All files of the partition with their hashes, read by mtools.
fn files(bench: &Bench, name: &str) -> BTreeMap<String, String> {
    let folder = bench.lab.path(name);
    copy_out(bench, &folder);
    let (mut found, mut folders) = (BTreeMap::new(), vec![folder.clone()]);
    while let Some(inside) = folders.pop() {
        for entry in fs::read_dir(inside).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else {
                let place = path.strip_prefix(&folder).unwrap().to_str().unwrap();
                found.insert(place.to_owned(), hash(&path).to_string());
            }
        }
    }
    found
}

#[test]
#[ignore = "needs outside programs"]
fn every_file_that_could_be_read_before_is_there_afterwards() {
    for (name, damage, step, most) in CASES {
        let bench = Bench::new(512);
        let lab = &bench.lab;
        let other = lab.path("a loader of another system.efi");
        fs::write(&other, vec![0xA7; 300_000]).unwrap();
        bench.on_esp("mmd", &["::EFI/other"]);
        bench.on_esp("mcopy", &[other.to_str().unwrap(), "::EFI/other/"]);
        let before = files(&bench, "before");
        assert!(before.len() > 4, "{name}: {before:?}");
        damage(&bench);
        let whole = hash(&bench.image);
        let planned = lab.run(&["mend", "disk.img", "--json"]);
        assert_eq!(planned.code, 0, "{name}: {}", planned.stderr);
        let plan = planned.json();
        assert_eq!(plan["fixes"][0]["step"], *step, "{name}: {}", plan["fixes"]);
        let written = plan["plan"]["bytes_written"].as_u64().unwrap();
        assert!(written <= *most, "{name}: {written} bytes");

        let run = lab.run(&["mend", "disk.img", "--job", "mend.job", "--yes", "--quiet"]);
        assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
        let after = files(&bench, "after");
        for (path, content) in &before {
            let place = format!("\\{}", path.replace('/', "\\"));
            let found = after.get(path).unwrap_or_else(|| panic!("{name}: {place}"));
            let is_among =
                |list: &Value| list.as_array().unwrap().iter().any(|path| *path == *place);
            // Boot files come with a store, and the tool's own mark names the job that has written last.
            let is_changed = path.starts_with("EFI/Schwelle/") || path.ends_with("/BCD");
            assert!(found == content || is_changed, "{name}: {place}");
            let remade = &plan["fixes"][0]["what"]["files"];
            let is_named =
                remade.is_null() || is_among(remade) || is_among(&plan["plan"]["files_added"]);
            assert!(is_named, "{name}: the plan names {place}");
        }
        let undo = job_args("undo", Path::new("mend.job"), &["--yes"]);
        let undo = lab.run(&undo);
        assert_eq!(undo.code, 0, "{name}: {}", undo.stderr);
        assert_eq!(hash(&bench.image), whole, "{name}");
    }
}
