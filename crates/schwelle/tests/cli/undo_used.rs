//! A disk that was used after its conversion is taken back: files on used volumes name the old table's partitions
//! again. Judged by the NTFS driver and a registry library.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use schwelle_core::device::{DiskFile, Extent, MIB};
use schwelle_demo::{edit_file, mark_dirty};
use serde_json::Value;

use crate::job_files::job_args;
use crate::support::{Lab, SIGNATURE, lba, peek};
use crate::volumes::{Mount, edit_volume, is_consistent};
use schwelle_testkit::{dump, extract, hash, hex, merge};

/// Where the standard Windows volume lies, in bytes.
const WINDOWS: (u64, u64) = (51 * MIB, 160 * MIB);
const SYSTEM: &str = "Windows/System32/config/SYSTEM";
const RECOVERY: &str = "Windows/System32/Recovery/ReAgent.xml";

/// What the Windows volume's files say of the disk: drive letters, and the recovery configuration.
fn names(lab: &Lab, image: &Path) -> (BTreeMap<String, String>, String) {
    let volume = lab.path("names.ntfs");
    extract(image, WINDOWS, &volume);
    assert_eq!(is_consistent(&volume), Ok(()));
    let mount = Mount::new(&volume, false);
    let hive = lab.path("names.hive");
    fs::copy(mount.path(SYSTEM), &hive).unwrap();
    let mut letters = dump(&hive, "S");
    letters.retain(|key, _| key.contains("MountedDevices"));
    let recovery = fs::read_to_string(mount.path(RECOVERY)).unwrap();
    (letters, recovery)
}

/// What a first start leaves: a file, and a letter that the boot partition has got, by its name in the GPT.
fn first_start(lab: &Lab, image: &Path) {
    let boot = peek(image, 1024 + 16, 16);
    edit_volume(image, WINDOWS, |mount| {
        fs::write(mount.path("since.txt"), "written in UEFI mode").unwrap();
        let hive = lab.path("used.hive");
        fs::copy(mount.path(SYSTEM), &hive).unwrap();
        let data = hex(&[&b"DMIO:ID:"[..], &boot].concat());
        let text = format!("[S\\MountedDevices]\n\"\\\\DosDevices\\\\R:\"=hex(3):{data}\n");
        merge(&hive, "S", &text);
        fs::copy(&hive, mount.path(SYSTEM)).unwrap();
    });
}

#[test]
#[ignore = "needs root and outside programs"]
fn after_a_first_start_letters_and_recovery_come_back_too() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let (mut letters, recovery) = names(&lab, &image);
    let sector_0 = peek(&image, 0, 512);
    assert_eq!(lab.convert(&image, "job", &["--quiet"]).code, 0);
    first_start(&lab, &image);
    let used = names(&lab, &image);
    assert!(used.0 != letters && used.1 != recovery);

    let run = lab.run_with(&["undo", "--job", "job"], "no\n");
    assert_eq!(run.code, 2, "{}", run.stderr);
    for expected in [
        "Updated",
        "C: R: and 2 volume names now name MBR",
        "names the MBR disk",
    ] {
        let flat = run.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(flat.contains(expected), "{expected}: {flat}");
    }
    assert_eq!(names(&lab, &image), used);
    let run = lab.run(&["undo", "--job", "job", "--yes", "--json"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let json = run.json();
    assert_eq!(json["exact"], false);
    assert_eq!(json["systems_not_updated"], serde_json::json!([]));
    let files = json["files_updated"].as_array().unwrap();
    let paths: Vec<&str> = files
        .iter()
        .map(|file| file["path"].as_str().unwrap())
        .collect();
    assert!(paths[0].ends_with("SYSTEM") && paths[1].ends_with("ReAgent.xml"));

    // As before, and the letter that came since, by the MBR's name.
    let data = [&SIGNATURE.to_le_bytes()[..], &MIB.to_le_bytes()].concat();
    let (now, now_recovery) = names(&lab, &image);
    let all = letters.values_mut().next().unwrap();
    *all += &format!(
        "\"\\\\DosDevices\\\\R:\"=hex(3):{}\n",
        hex(&data).replace(' ', "")
    );
    let lines = |letters: &BTreeMap<String, String>| -> Vec<String> {
        let mut lines: Vec<String> = letters
            .values()
            .flat_map(|text| text.lines().map(str::to_owned))
            .collect();
        lines.sort();
        lines
    };
    assert_eq!(lines(&now), lines(&letters));
    assert_eq!(
        now_recovery.split_whitespace().collect::<Vec<_>>(),
        recovery.split_whitespace().collect::<Vec<_>>()
    );
    assert_eq!(peek(&image, 0, 512), sector_0);
    let volume = lab.path("after.ntfs");
    extract(&image, WINDOWS, &volume);
    let mount = Mount::new(&volume, false);
    assert_eq!(
        fs::read_to_string(mount.path("since.txt")).unwrap(),
        "written in UEFI mode"
    );
    drop(mount);
    // And the disk can be converted as any other.
    let check = lab.run(&["check", "disk.img", "--json"]).json();
    assert_eq!(check["answer"], "ready", "{}", check["findings"]);
    assert_eq!(lab.convert(&image, "again", &["--quiet"]).code, 0);
}

#[test]
#[ignore = "needs root and outside programs"]
fn what_a_session_may_still_write_is_left_alone_and_told() {
    type Spoil = fn(&DiskFile, Extent);
    let cases: [(&str, &str, Spoil); 2] = [
        ("hibernated", "powercfg /h off", |disk, windows| {
            edit_file(disk, windows, "\\hiberfil.sys", |file| {
                file[..4].copy_from_slice(b"hibr");
            })
            .unwrap();
        }),
        ("not-closed", "was not closed", |disk, windows| {
            mark_dirty(disk, windows).unwrap();
        }),
    ];
    for (kind, expected, spoil) in cases {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", 512);
        assert_eq!(lab.convert(&image, "job", &["--quiet"]).code, 0);
        first_start(&lab, &image);
        {
            let disk = DiskFile::open_write(&image, Some(512)).unwrap();
            let first = WINDOWS.0 / 512;
            let windows = Extent::between(lba(first), lba(first + WINDOWS.1 / 512));
            spoil(&disk, windows);
        }
        let volume = lab.path("left.ntfs");
        extract(&image, WINDOWS, &volume);
        let before = hash(&volume);
        let run = lab.run_with(&["undo", "--job", "job"], "no\n");
        let flat = run.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(
            flat.contains(expected) && flat.contains("Better answer no"),
            "{flat}"
        );
        let run = lab.run(&["undo", "--job", "job", "--yes", "--json"]);
        assert_eq!(run.code, 0, "{}", run.stderr);
        let json = run.json();
        assert_eq!(json["files_updated"], Value::Array(Vec::new()), "{kind}");
        assert_eq!(json["systems_not_updated"][0]["partition"], 2, "{kind}");
        assert_eq!(
            json["systems_not_updated"][0]["why"]["kind"], kind,
            "{kind}"
        );
        extract(&image, WINDOWS, &volume);
        assert_eq!(hash(&volume), before, "{kind}");
    }
}

#[test]
fn a_partition_made_after_the_conversion_is_not_lost_by_undo() {
    use schwelle_core::gpt::{GptEntry, GptLayout, GptPair};
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let job = lab.path("job");
    assert_eq!(lab.convert(&image, &job, &["--esp-size", "100M"]).code, 0);
    let device = DiskFile::open_write(&image, Some(512)).unwrap();
    let table = GptPair::read(&device).primary.unwrap();
    let mut entries: Vec<GptEntry> = table.entries.into_iter().map(|(_, entry)| entry).collect();
    let since = entries.last().unwrap().extent.end;
    entries.push(GptEntry {
        id: uuid::Uuid::from_u128(9),
        extent: Extent::new(since, 2048).unwrap(),
        ..entries[0].clone()
    });
    let disk_id = table.header.disk_id;
    GptLayout { disk_id, entries }.write(&device).unwrap();
    drop(device);
    let before = hash(&image);
    let run = lab.run(&job_args("undo", &job, &["--yes"]));
    assert_eq!(run.code, 1, "{}", run.stderr);
    let shown = format!("a partition at {since} that was made after the conversion");
    assert!(run.stderr.contains(&shown), "{}", run.stderr);
    assert_eq!(hash(&image), before);
}
