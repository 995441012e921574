//! Programs that others wrote judge the result of a conversion.

use std::collections::BTreeMap;
use std::fs;
use std::io::Read;

use serde_json::Value;

use crate::real_firmware::Firmware;
use crate::support::{Lab, part, place};
use schwelle_testkit::{Mounted, dump, extract, tool};

#[test]
#[ignore = "needs outside programs"]
fn a_forensic_lister_reads_the_layout_we_say() {
    for sector in ["512", "4096"] {
        let lab = Lab::new();
        let (image, record) = lab.converted("disk.img", sector.parse().unwrap());
        let run = tool(
            "mmls",
            &["-t", "gpt", "-b", sector, image.to_str().unwrap()],
        );
        let mut found: Vec<(u64, u64)> = Vec::new();
        for line in run.stdout.lines() {
            let fields: Vec<&str> = line.split_whitespace().collect();
            // Allocated partitions have a three-digit slot.
            if let [_, slot, first, last, ..] = fields[..]
                && slot.len() == 3
                && slot.chars().all(|c| c.is_ascii_digit())
            {
                found.push((first.parse().unwrap(), last.parse().unwrap()));
            }
        }
        let parts = record["plan"]["after"].as_array().unwrap();
        let number = |part: &Value, key: &str| part[key].as_u64().unwrap();
        let said: Vec<_> = parts
            .iter()
            .filter(|part| !part["number"].is_null())
            .map(|part| (number(part, "first_lba"), number(part, "last_lba")))
            .collect();
        assert_eq!(found, said, "{}", run.stdout);
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn the_fat_checker_and_a_second_reader_find_a_sound_partition_with_the_source_files() {
    for sector in [512, 4096] {
        let lab = Lab::new();
        let (image, record) = lab.converted("disk.img", sector);
        let (esp, volume) = (place(&record, "EFI system"), lab.path("esp.img"));
        extract(&image, esp, &volume);
        let run = tool("fsck.vfat", &["-n", "-v", volume.to_str().unwrap()]);
        let complaints = [
            "differ",
            "wrong",
            "Reclaim",
            "orphan",
            "Dirty",
            "not supported",
            "corrupt",
        ];
        assert!(
            !complaints.iter().any(|word| run.stdout.contains(word)),
            "{}",
            run.stdout
        );
        assert!(
            run.stdout.contains("FATs, 32 bit entries"),
            "{}",
            run.stdout
        );

        let windows = lab.path("windows.img");
        extract(&image, place(&record, "Windows"), &windows);
        let mounted = Mounted::new(lab.path("mounted"), &windows);
        let fat = fatfs::FileSystem::new(
            crate::rehearse::Slice::open(&image, esp),
            fatfs::FsOptions::new(),
        )
        .unwrap();
        let mut checked = 0;
        for added in record["plan"]["files_added"].as_array().unwrap() {
            let path = added.as_str().unwrap().replace('\\', "/");
            let mut content = Vec::new();
            fat.root_dir()
                .open_file(path.trim_start_matches('/'))
                .unwrap()
                .read_to_end(&mut content)
                .unwrap();
            let source = match path.strip_prefix("/EFI/Microsoft/Boot/") {
                _ if path.ends_with("/BCD") || path.ends_with("/identities.json") => continue,
                Some(rest) if rest.starts_with("Fonts/") || rest.starts_with("Resources/") => {
                    format!("Windows/Boot/{rest}")
                }
                Some(rest) => format!("Windows/Boot/EFI/{rest}"),
                None => "Windows/Boot/EFI/bootmgfw.efi".to_owned(),
            };
            assert!(
                fs::read(mounted.0.join(&source)).unwrap() == content,
                "{path} is not {source}"
            );
            checked += 1;
        }
        assert_eq!(checked, 13);
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn every_file_on_the_kept_volumes_is_unchanged_and_the_volumes_are_clean() {
    for sector in [512, 4096] {
        let lab = Lab::new();
        let (before, _) = lab.standard("before.img", sector);
        let (after, record) = lab.converted("after.img", sector);
        for role in ["boot", "Windows"] {
            let mut hashes = Vec::new();
            for (image, name) in [(&before, "old.img"), (&after, "new.img")] {
                let volume = lab.path(name);
                extract(image, place(&record, role), &volume);
                let path = volume.to_str().unwrap();
                let run = tool("ntfsfix", &["-n", path]);
                assert!(
                    run.stdout.contains("was processed successfully"),
                    "{}",
                    run.stdout
                );
                let report = tool(
                    "ntfsresize",
                    &["--info", "--force", "--no-progress-bar", path],
                );
                assert!(
                    report.stdout.contains("Collecting resizing constraints"),
                    "the consistency check is passed first: {}",
                    report.stdout
                );
                let mut found = Mounted::new(lab.path("mounted"), &volume).hashes();
                // But for the files that the plan names.
                for file in record["plan"]["files_edited"].as_array().unwrap() {
                    let name = file["path"].as_str().unwrap().replace('\\', "/");
                    let before = found.len();
                    found.retain(|path, _| !path.to_str().unwrap().ends_with(&name));
                    assert_eq!(
                        found.len() + usize::from(role == "Windows"),
                        before,
                        "{name}"
                    );
                }
                hashes.push(found);
            }
            assert!(hashes[0] == hashes[1], "{role}");
            assert!(hashes[0].len() >= 7, "{role}");
        }
    }
}

/// The bytes of an element in a dump.
fn element(dump: &BTreeMap<String, String>, object: &str, element: &str) -> Vec<u8> {
    let text = &dump[&format!("[BCD\\Objects\\{object}\\Elements\\{element}]")];
    let (_, hex) = text.split_once(':').unwrap();
    hex.trim()
        .split(',')
        .map(|byte| u8::from_str_radix(byte, 16).unwrap())
        .collect()
}

const MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
const WINDOWS: &str = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7701}";
const RECOVERY: &str = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7703}";
const MEMTEST: &str = "{b2721d73-1db4-4c62-bf78-c548a880142d}";

#[test]
#[ignore = "needs root and outside programs"]
fn a_hive_library_reads_the_new_store_with_the_new_identities_and_all_else_kept() {
    let lab = Lab::new();
    let (image, record) = lab.converted("disk.img", 512);
    let (boot, esp) = (lab.path("boot.img"), lab.path("esp.img"));
    extract(&image, place(&record, "boot"), &boot);
    extract(&image, place(&record, "EFI system"), &esp);
    let old = lab.path("old-store");
    fs::copy(
        Mounted::new(lab.path("mounted"), &boot).0.join("Boot/BCD"),
        &old,
    )
    .unwrap();
    let new = lab.path("new-store");
    tool(
        "mcopy",
        &[
            "-i",
            esp.to_str().unwrap(),
            "::/EFI/Microsoft/Boot/BCD",
            new.to_str().unwrap(),
        ],
    );

    let disk_id = crate::support::peek(&image, 512 + 56, 16);
    let entry = |role: &str| {
        let number = part(&record, role)["number"].as_u64().unwrap();
        crate::support::peek(&image, 1024 + (number - 1) * 128 + 16, 16)
    };
    let (before, after) = (dump(&old, "BCD"), dump(&new, "BCD"));
    // Object, element, partition, place of the locator in the element.
    for (object, number, role, at) in [
        (MANAGER, "11000001", "EFI system", 16),
        (MEMTEST, "11000001", "EFI system", 16),
        (WINDOWS, "11000001", "Windows", 16),
        (WINDOWS, "21000001", "Windows", 16),
        (RECOVERY, "11000001", "boot", 52),
    ] {
        let (old, new) = (
            element(&before, object, number),
            element(&after, object, number),
        );
        assert_eq!(
            new[at + 16..at + 32],
            entry(role),
            "{object} {number}: partition"
        );
        assert_eq!(new[at + 40..at + 56], disk_id, "{object} {number}: disk");
        assert_eq!(
            new[at + 36..at + 40],
            [0; 4],
            "{object} {number}: scheme GPT"
        );
        assert_eq!(old.len(), new.len());
        assert_eq!(
            old[at + 72..],
            new[at + 72..],
            "what follows the locator stays"
        );
    }
    for (object, expected) in [
        (MANAGER, "\\EFI\\Microsoft\\Boot\\bootmgfw.efi\0"),
        (WINDOWS, "\\Windows\\system32\\winload.efi\0"),
        (MEMTEST, "\\EFI\\Microsoft\\Boot\\memtest.efi\0"),
    ] {
        let utf16: Vec<u8> = expected.encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert_eq!(element(&after, object, "12000002"), utf16);
    }
    // All else is equal: only devices and paths differ, and only the boot manager's path is new.
    let changed: Vec<&String> = before
        .keys()
        .filter(|key| before[*key] != after[*key])
        .collect();
    let may_change = |key: &&&String| {
        let element = key
            .trim_end_matches(']')
            .rsplit('\\')
            .next()
            .unwrap_or_default();
        ["11000001", "21000001", "31000003", "12000002"].contains(&element)
    };
    assert_eq!(changed.iter().find(|key| !may_change(key)), None);
    let added: Vec<&String> = after
        .keys()
        .filter(|key| !before.contains_key(*key))
        .collect();
    assert_eq!(
        added,
        [&format!("[BCD\\Objects\\{MANAGER}\\Elements\\12000002]")]
    );
    assert_eq!(before.len() + 1, after.len());
}

#[test]
#[ignore = "needs outside programs"]
fn real_firmware_starts_the_converted_disk_from_the_removable_media_path() {
    for sector in [512, 4096] {
        let lab = Lab::new();
        let (image, _) = lab.converted("disk.img", sector);
        let before = schwelle_testkit::hash(&image);
        let console = Firmware::plain().start(&lab, &image, sector);
        assert!(
            console.contains("SCHWELLE-DEMO boot manager: started by this firmware"),
            "{sector}: {console}"
        );
        assert!(
            console.contains("SCHWELLE-DEMO boot manager: boot store found"),
            "{sector}: {console}"
        );
        assert_eq!(schwelle_testkit::hash(&image), before);
    }
}
