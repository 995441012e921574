//! After the switch: what the disk tells of its start, with made-up traces of one.

use std::fs;
use std::path::Path;

use schwelle_core::device::{DiskFile, Extent};
use schwelle_core::hive::HiveEditor;
use schwelle_demo::windows_was_started;
use serde_json::Value;

use crate::support::{Lab, lba, part, peek, place, poke};
use schwelle_testkit::{extract, hash, tool};

/// A time far after every conversion.
const LATER: u64 = 1 << 58;

fn started(image: &Path, record: &Value, partition: usize, when: u64) {
    let number = |key: &str| part(record, "Windows")[key].as_u64().unwrap();
    let extent = Extent::between(lba(number("first_lba")), lba(number("last_lba") + 1));
    let device = DiskFile::open_write(image, Some(512)).unwrap();
    windows_was_started(&device, extent, partition, when).unwrap();
}

/// Leaves what a first start from the new EFI system partition leaves, on the disk of the job in this folder.
pub(crate) fn start_once(lab: &Lab, image: &Path, job: &str) {
    let text = fs::read(lab.path(job).join("job.json")).unwrap();
    let record: Value = serde_json::from_slice(&text).unwrap();
    started(image, &record, 3, LATER);
}

/// The time that the conversion wrote down.
fn converted_at(lab: &Lab, image: &Path, record: &Value) -> u64 {
    let (esp, marker) = (lab.path("esp.img"), lab.path("marker"));
    extract(image, place(record, "EFI system"), &esp);
    fs::remove_file(&marker).ok();
    let from = [
        "-i",
        esp.to_str().unwrap(),
        "::/EFI/Schwelle/identities.json",
    ];
    tool("mcopy", &[&from[..], &[marker.to_str().unwrap()]].concat());
    let json: Value = serde_json::from_slice(&fs::read(marker).unwrap()).unwrap();
    json["converted"].as_u64().unwrap()
}

/// Changes the EFI system partition with the FAT tools.
fn on_esp(lab: &Lab, image: &Path, record: &Value, tool_name: &str, args: &[&str]) {
    let esp = lab.path("esp.img");
    extract(image, place(record, "EFI system"), &esp);
    tool(tool_name, &[&["-i", esp.to_str().unwrap()], args].concat());
    poke(
        image,
        place(record, "EFI system").0,
        &fs::read(esp).unwrap(),
    );
}

#[test]
#[ignore = "needs outside programs"]
fn the_evidence_is_weighed_and_what_it_does_not_tell_is_unknown() {
    let lab = Lab::new();
    let (image, record) = lab.converted("disk.img", 512);
    let path = image.to_str().unwrap();
    let pristine = fs::read(&image).unwrap();
    let when = converted_at(&lab, &image, &record);
    let machine = |mode: &str| {
        let file = lab.path(&format!("{mode}.toml"));
        fs::write(
            &file,
            format!("[firmware]\nuefi = true\nmode = \"{mode}\"\n"),
        )
        .unwrap();
        file
    };
    let (uefi, bios) = (machine("uefi"), machine("bios"));
    let confirm = |pc: Option<&Path>| {
        let pc: Vec<&str> = pc
            .iter()
            .flat_map(|file| ["--machine", file.to_str().unwrap()])
            .collect();
        let before = hash(&image);
        let run = lab.run(&[&["confirm", path, "--json"][..], &pc].concat());
        assert_eq!(hash(&image), before, "confirm only reads");
        (run.code, run.json())
    };
    let says = |json: &Value, name: &str| {
        let all = json["evidence"].as_array().unwrap();
        all.iter()
            .find(|piece| piece["name"] == name)
            .map(|piece| piece["says"].clone())
    };
    let expect = |pc: Option<&Path>, code: i32, answer: &str, reason: &str| {
        let (got, json) = confirm(pc);
        assert_eq!((got, &json["answer"]), (code, &answer.into()), "{json}");
        assert!(
            json["reason"]["text"].as_str().unwrap().contains(reason),
            "{json}"
        );
        json
    };

    let json = expect(None, 1, "not-confirmed", "no Windows on it has started");
    assert_eq!(says(&json, "registry"), Some("no".into()));
    assert_eq!(says(&json, "boot-device"), Some("no".into()));
    assert_eq!(says(&json, "firmware"), Some("nothing".into()));

    started(&image, &record, 3, LATER);
    for pc in [None, Some(&*uefi)] {
        let json = expect(
            pc,
            0,
            "confirmed",
            "started from the new EFI system partition",
        );
        assert_eq!(says(&json, "registry"), Some("yes".into()));
        assert_eq!(says(&json, "boot-device"), Some("yes".into()));
    }
    // What the PC is set to now counts first.
    expect(Some(&bios), 1, "not-confirmed", "firmware is in BIOS mode");

    // Written since, but from another partition than the new one.
    poke(&image, 0, &pristine);
    started(&image, &record, 2, LATER);
    let json = expect(None, 0, "unknown", "contradicts itself");
    assert_eq!(says(&json, "boot-device"), Some("no".into()));

    // A clock that is wrong: the time says nothing, the boot device does.
    poke(&image, 0, &pristine);
    started(&image, &record, 3, when - 1);
    let json = expect(None, 0, "confirmed", "started");
    assert_eq!(says(&json, "registry"), Some("nothing".into()));

    // Without the marker nothing is known of the time before.
    poke(&image, 0, &pristine);
    on_esp(
        &lab,
        &image,
        &record,
        "mdel",
        &["::/EFI/Schwelle/identities.json"],
    );
    let json = expect(None, 1, "not-confirmed", "no Windows on it has started");
    assert_eq!(says(&json, "registry"), None);
    assert_eq!(says(&json, "boot-device"), Some("no".into()));

    // The boot manager's status file is weak evidence: the answer stays.
    poke(&image, 0, &pristine);
    let status = lab.path("status");
    fs::write(&status, "1").unwrap();
    let to = "::/EFI/Microsoft/Boot/bootstat.dat";
    on_esp(
        &lab,
        &image,
        &record,
        "mcopy",
        &[status.to_str().unwrap(), to],
    );
    let json = expect(None, 1, "not-confirmed", "");
    assert_eq!(says(&json, "boot-status"), Some("yes".into()));

    // A loader that is gone: the disk would not start.
    for path in [
        "::/EFI/BOOT/BOOTX64.EFI",
        "::/EFI/Microsoft/Boot/bootmgfw.efi",
    ] {
        on_esp(&lab, &image, &record, "mdel", &[path]);
    }
    expect(None, 1, "not-confirmed", "its rehearsal fails");
}

#[test]
fn an_esp_that_shows_as_a_drive_and_a_disk_never_converted_are_named() {
    let lab = Lab::new();
    let (image, record) = lab.converted("disk.img", 512);
    started(&image, &record, 3, LATER);
    {
        use schwelle_core::device::BlockDevice;
        use schwelle_core::gpt::{GptLayout, GptPair};
        let device = DiskFile::open_write(&image, Some(512)).unwrap();
        let pair = GptPair::read(&device);
        let table = pair.best().unwrap();
        let mut entries: Vec<_> = table
            .entries
            .iter()
            .map(|(_, entry)| entry.clone())
            .collect();
        entries[2].attributes = 0;
        let disk_id = table.header.disk_id;
        GptLayout { disk_id, entries }.write(&device).unwrap();
        device.flush().unwrap();
    }
    let run = lab.run(&["confirm", image.to_str().unwrap()]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    for shown in [
        "would show up as a drive",
        "something is not where it should be",
    ] {
        let flat = run.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(flat.contains(shown), "{}", run.stdout);
    }
    // And with a drive letter of its own in the registry.
    {
        let device = DiskFile::open_write(&image, Some(512)).unwrap();
        let id = peek(&image, 1024 + 2 * 128 + 16, 16);
        let data = [&b"DMIO:ID:"[..], &id].concat();
        let first = lba(part(&record, "Windows")["first_lba"].as_u64().unwrap());
        let end = lba(part(&record, "Windows")["last_lba"].as_u64().unwrap() + 1);
        let path = "\\Windows\\System32\\config\\SYSTEM";
        schwelle_demo::edit_file(&device, Extent::between(first, end), path, |hive| {
            let mut editor = HiveEditor::open(&*hive).unwrap();
            editor
                .set_data("MountedDevices", "\\DosDevices\\E:", &data)
                .unwrap();
            hive.copy_from_slice(&editor.finish(LATER));
        })
        .unwrap();
    }
    let run = lab.run(&["confirm", image.to_str().unwrap()]);
    let shown = "E: shows the EFI system partition as a drive";
    assert!(run.stdout.contains(shown), "{}", run.stdout);
    let (old, _) = lab.standard("old.img", 512);
    let run = lab.run(&["confirm", old.to_str().unwrap()]);
    assert_eq!(run.code, 1);
    assert!(run.stdout.contains("has no GPT"), "{}", run.stdout);
}
