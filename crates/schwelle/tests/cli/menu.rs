//! BCD stores with more in them than one Windows installation: several systems, entries that only a BIOS starts, a
//! lost default, hundreds of entries, and no usable store at all.

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::bcd::{DeviceElement, Locator};
use schwelle_core::device::{DiskFile, Extent, MIB};
use schwelle_core::gpt::GptPair;
use schwelle_core::hive::HiveEditor;
use schwelle_demo::{Asset, LogFormat, MbrEntry, interrupted, replace_bytes};
use serde_json::Value;

use crate::blocked::{entry, with_table};
use crate::support::{Lab, SIGNATURE, lba, place};
use crate::volumes::edit_volume;
use schwelle_testkit::{dump, extract, hash, hex, merge, tool};

pub(crate) const BOOT: (u64, u64) = (MIB, 50 * MIB);
const MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
pub(crate) const WINDOWS: &str = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7701}";
pub(crate) const SECOND: &str = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7711}";
const OLD: &str = "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7712}";
pub(crate) const SECOND_AT: u64 = 211 * MIB;

pub(crate) fn texts(list: &[&str]) -> String {
    let text: String = list.iter().map(|text| format!("{text}\0")).collect();
    wide(7, &text)
}

pub(crate) fn wide(kind: u32, text: &str) -> String {
    let bytes: Vec<u8> = format!("{text}\0")
        .encode_utf16()
        .flat_map(u16::to_le_bytes)
        .collect();
    format!("hex({kind}):{}", hex(&bytes))
}

fn partition(signature: u32, offset: u64) -> String {
    let DeviceElement(bytes) = DeviceElement::partition(Locator::Mbr { signature, offset });
    format!("hex(3):{}", hex(&bytes))
}

/// An object as a text for the hive library.
pub(crate) fn object(id: &str, kind: u32, elements: &[(u32, String)]) -> String {
    let mut text = format!(
        "[BCD\\Objects\\{id}]\n\n[BCD\\Objects\\{id}\\Description]\n\"Type\"=dword:{kind:08x}\n\n\
         [BCD\\Objects\\{id}\\Elements]\n\n"
    );
    for (number, value) in elements {
        let key = format!("[BCD\\Objects\\{id}\\Elements\\{number:08x}]");
        writeln!(text, "{key}\n\"Element\"={value}\n").unwrap();
    }
    text
}

pub(crate) fn of_manager(elements: &[(u32, String)]) -> String {
    let mut text = String::new();
    for (number, value) in elements {
        let key = format!("[BCD\\Objects\\{MANAGER}\\Elements\\{number:08x}]");
        writeln!(text, "{key}\n\"Element\"={value}\n").unwrap();
    }
    text
}

pub(crate) fn loader(title: &str, signature: u32, offset: u64) -> Vec<(u32, String)> {
    vec![
        (0x1100_0001, partition(signature, offset)),
        (0x1200_0002, wide(1, "\\Windows\\system32\\winload.exe")),
        (0x1200_0004, wide(1, title)),
        (0x2100_0001, partition(signature, offset)),
        (0x2200_0002, wide(1, "\\Windows")),
    ]
}

/// A disk with two systems; the second one's drive C: is its own volume.
pub(crate) fn two_systems(lab: &Lab) -> PathBuf {
    lab.image("disk.img", 512, 520, |disk| {
        let second = Extent::between(lba(SECOND_AT / 512), lba((SECOND_AT + 160 * MIB) / 512));
        with_table(disk, |entries| entries.push(entry(false, 7, second)));
        disk.volume(Asset::Windows, second).unwrap();
        let hive = "\\Windows\\System32\\config\\SYSTEM";
        let place = |signature: u32, offset: u64| {
            [&signature.to_le_bytes()[..], &offset.to_le_bytes()].concat()
        };
        let (old, new) = (place(0x51C3_A7E5, 51 * MIB), place(SIGNATURE, SECOND_AT));
        replace_bytes(disk.device(), second, hive, &old, &new).unwrap();
    })
}

fn store_of(lab: &Lab, image: &Path, record: &Value) -> PathBuf {
    let (esp, store) = (lab.path("esp.img"), lab.path("store"));
    extract(image, place(record, "EFI system"), &esp);
    fs::remove_file(&store).ok();
    let from = ["-i", esp.to_str().unwrap(), "::/EFI/Microsoft/Boot/BCD"];
    tool("mcopy", &[&from[..], &[store.to_str().unwrap()]].concat());
    store
}

fn converted(lab: &Lab, image: &Path) -> Value {
    let job = lab.path("job");
    let run = lab.convert(image, &job, &["--quiet"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap()
}

#[test]
#[ignore = "needs root and outside programs"]
fn several_systems_cross_and_what_only_a_bios_starts_leaves_the_menu_by_name() {
    let lab = Lab::new();
    let image = two_systems(&lab);
    edit_volume(&image, BOOT, |mount| {
        let store = lab.path("edited");
        fs::copy(mount.path("Boot/BCD"), &store).unwrap();
        let old = [
            (0x1100_0001, partition(SIGNATURE, MIB)),
            (0x1200_0002, wide(1, "\\oldsys.bin")),
            (0x1200_0004, wide(1, "The old depth sounder")),
        ];
        let elsewhere = loader("On the other disk", 0x0BAD_CAFE, MIB);
        // The default is an object that is gone.
        let manager = [
            (
                0x2300_0003,
                wide(1, "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f77ff}"),
            ),
            (
                0x2400_0001,
                texts(&[
                    OLD,
                    "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7713}",
                    SECOND,
                    WINDOWS,
                ]),
            ),
        ];
        let text = object(
            SECOND,
            0x1020_0003,
            &loader("Engine room", SIGNATURE, SECOND_AT),
        ) + &object(OLD, 0x1040_0008, &old)
            + &object(
                "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7713}",
                0x1020_0003,
                &elsewhere,
            )
            + &of_manager(&manager);
        merge(&store, "BCD", &text);
        fs::copy(&store, mount.path("Boot/BCD")).unwrap();
    });
    let plan = lab.run(&["plan", image.to_str().unwrap()]);
    for expected in [
        "The old depth sounder: runs in BIOS mode only, no longer in the menu",
        "Engine room, since the old default cannot be started",
        "\"On the other disk\": names the disk",
        "2 systems",
    ] {
        let flat = plan.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        let known = flat.contains(expected)
            || expected.starts_with("\"On") && flat.contains("still names an MBR disk");
        assert!(known, "{expected}: {}", plan.stdout);
    }
    let menu = &lab.run(&["plan", image.to_str().unwrap(), "--json"]).json()["menu"];
    assert_eq!(
        menu["taken_out"],
        serde_json::json!(["The old depth sounder"])
    );
    assert_eq!(
        (&menu["default"], &menu["carried_over"]),
        (&"Engine room".into(), &true.into())
    );
    let record = converted(&lab, &image);
    let store = dump(&store_of(&lab, &image, &record), "BCD");
    let element = |id: &str, number: u32| {
        store[&format!("[BCD\\Objects\\{id}\\Elements\\{number:08x}]")].clone()
    };
    let order = texts(&["{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7713}", SECOND, WINDOWS]);
    assert_eq!(
        element(MANAGER, 0x2400_0001).trim(),
        format!("\"Element\"={order}")
    );
    assert_eq!(
        element(MANAGER, 0x2300_0003).trim(),
        format!("\"Element\"={}", wide(1, SECOND))
    );
    // Out of the menu, but still in the store.
    assert!(element(OLD, 0x1200_0004).contains("hex(1)"));
    let rehearsal = lab.run(&["rehearse", image.to_str().unwrap(), "--json"]);
    assert_eq!(rehearsal.code, 0, "{}", rehearsal.stdout);
    let json = rehearsal.json();
    let step = |name: &str| {
        let steps = json["steps"].as_array().unwrap();
        steps
            .iter()
            .find(|step| step["step"] == name)
            .unwrap()
            .clone()
    };
    let default = step("default-entry");
    assert!(
        default["evidence"]["text"]
            .as_str()
            .unwrap()
            .contains("Engine room")
    );
    assert_eq!(step("menu")["outcome"], "caution");
    let letters = step("drive-letters");
    for expected in [
        "partition 2: C: is partition 2",
        "partition 3: C: is partition 3",
    ] {
        assert!(
            letters["evidence"]["text"]
                .as_str()
                .unwrap()
                .contains(expected),
            "{letters}"
        );
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_store_of_two_hundred_entries_is_read_back_by_the_hive_library_as_it_was_but_for_the_devices() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let grown = lab.path("grown");
    edit_volume(&image, BOOT, |mount| {
        fs::copy(mount.path("Boot/BCD"), &grown).unwrap();
        let mut text = String::new();
        let mut order = vec![WINDOWS.to_owned()];
        for number in 0..200 {
            let id = format!("{{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f8{number:03x}}}");
            let mut elements = loader(&format!("Watch {number}"), SIGNATURE, 51 * MIB);
            // Settings of their own, one with a device that is invalid.
            elements.push((0x2500_0020, format!("hex(3):{}", hex(&[7; 3]))));
            elements.push((0x2100_0099, format!("hex(3):{}", hex(&vec![1; number]))));
            text += &object(&id, 0x1020_0003, &elements);
            order.push(id);
        }
        let order: Vec<&str> = order.iter().map(String::as_str).collect();
        text += &of_manager(&[(0x2400_0001, texts(&order))]);
        merge(&grown, "BCD", &text);
        fs::copy(&grown, mount.path("Boot/BCD")).unwrap();
    });
    let record = converted(&lab, &image);
    let (before, after) = (
        dump(&grown, "BCD"),
        dump(&store_of(&lab, &image, &record), "BCD"),
    );
    let keys = |dump: &std::collections::BTreeMap<String, String>| {
        dump.keys().cloned().collect::<Vec<_>>()
    };
    let path_of_manager = format!("[BCD\\Objects\\{MANAGER}\\Elements\\12000002]");
    let after_keys: Vec<String> = keys(&after)
        .into_iter()
        .filter(|key| *key != path_of_manager)
        .collect();
    assert_eq!(keys(&before), after_keys);
    let mut changed = 0;
    for (key, text) in &before {
        let may_change = ["11000001]", "21000001]", "31000003]", "12000002]"];
        if after[key] != *text {
            assert!(may_change.iter().any(|end| key.ends_with(end)), "{key}");
            changed += 1;
        }
    }
    assert!(changed >= 600, "{changed}");
    assert_eq!(
        lab.run(&["rehearse", image.to_str().unwrap(), "--quiet"])
            .code,
        0
    );
}

#[test]
#[ignore = "needs root and outside programs"]
fn where_no_store_can_be_used_a_fresh_one_starts_the_systems_found() {
    let lab = Lab::new();
    let image = two_systems(&lab);
    edit_volume(&image, BOOT, |mount| {
        fs::write(mount.path("Boot/BCD"), [0x42; 9000]).unwrap();
    });
    let check = lab
        .run(&["check", image.to_str().unwrap(), "--json"])
        .json();
    let findings = check["findings"].as_array().unwrap();
    let store = findings.iter().find(|f| f["rule"] == "boot.store").unwrap();
    assert_eq!(store["outcome"], "caution", "{store}");
    assert!(
        store["remedy"]["text"]
            .as_str()
            .unwrap()
            .contains("A new one is made"),
        "{store}"
    );
    let plan = lab.run(&["plan", image.to_str().unwrap()]);
    assert!(plan.stdout.contains("Boot menu, new"), "{}", plan.stdout);
    let record = converted(&lab, &image);
    let new = dump(&store_of(&lab, &image, &record), "BCD");
    let order = &new[&format!("[BCD\\Objects\\{MANAGER}\\Elements\\24000001]")];
    let loaders: Vec<&String> = new
        .iter()
        .filter(|(key, text)| key.ends_with("\\Description]") && text.contains("dword:10200003"))
        .map(|(key, _)| key)
        .collect();
    assert_eq!(loaders.len(), 2, "{loaders:?}");
    for key in loaders {
        let id = key.split('\\').nth(2).unwrap();
        let bytes: Vec<u8> = id.encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert!(order.contains(&hex(&bytes)), "{id}");
    }
    let rehearsal = lab.run(&["rehearse", image.to_str().unwrap(), "--json"]);
    assert_eq!(rehearsal.code, 0, "{}", rehearsal.stdout);
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_store_on_the_windows_volume_and_one_with_a_pending_log_are_taken_over() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let store = lab.path("store");
    edit_volume(&image, BOOT, |mount| {
        fs::copy(mount.path("Boot/BCD"), &store).unwrap();
        fs::remove_file(mount.path("Boot/BCD")).unwrap();
    });
    edit_volume(&image, (51 * MIB, 160 * MIB), |mount| {
        let old = fs::read(&store).unwrap();
        let mut editor = HiveEditor::open(&old[..]).unwrap();
        let key = format!("Objects\\{MANAGER}\\Elements\\25000004");
        editor
            .set_data(&key, "Element", &77u64.to_le_bytes())
            .unwrap();
        let left = interrupted(&old, &editor.finish(9), LogFormat::Old);
        fs::create_dir(mount.path("Boot")).unwrap();
        fs::write(mount.path("Boot/BCD"), &left.hive).unwrap();
        fs::write(mount.path("Boot/BCD.LOG"), &left.logs[0].1).unwrap();
    });
    let plan = lab.run(&["plan", image.to_str().unwrap(), "--all"]);
    assert_eq!(plan.code, 0, "{}", plan.stdout);
    for expected in ["waits 77 seconds", "on partition 2", "its log was applied"] {
        let flat = plan.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(flat.contains(expected), "{expected}: {}", plan.stdout);
    }
    converted(&lab, &image);
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_recovery_partition_gets_its_type_unless_the_customer_keeps_files_on_it() {
    for (file, kind, attributes) in [
        (None, "Windows recovery", 1 | 1 << 63),
        (Some("Ahnentafel.txt"), "basic data", 0u64),
    ] {
        let lab = Lab::new();
        let image = lab.image("disk.img", 512, 420, |disk| {
            let third = Extent::between(lba(SECOND_AT / 512), lba((SECOND_AT + 50 * MIB) / 512));
            with_table(disk, |entries| entries.push(entry(false, 7, third)));
            disk.volume(Asset::Boot, third).unwrap();
        });
        if let Some(file) = file {
            edit_volume(&image, (SECOND_AT, 50 * MIB), |mount| {
                fs::write(mount.path(file), "kept").unwrap();
            });
        }
        let record = converted(&lab, &image);
        let after = record["plan"]["after"].as_array().unwrap();
        let part = after.iter().find(|part| part["number"] == 3).unwrap();
        assert_eq!(part["type"], kind, "{part}");
        let found = crate::support::peek(&image, 1024 + 2 * 128 + 48, 8);
        assert_eq!(u64::from_le_bytes(found.try_into().unwrap()), attributes);
    }
}

/// A device element that names no partition: 5 is the one that the start came from, 8 is searched for by the
/// entry's own path.
fn open_device(kind: u32) -> String {
    let mut bytes = vec![0; 88];
    bytes[16..20].copy_from_slice(&kind.to_le_bytes());
    bytes[24..28].copy_from_slice(&0x48_u32.to_le_bytes());
    if kind == 8 {
        bytes[36..40].copy_from_slice(&0x1200_0002_u32.to_le_bytes());
    }
    format!("hex(3):{}", hex(&bytes))
}

/// An MBR name with flags, and with what other programs leave in the fields' unused ends.
fn with_filler(signature: u32, offset: u64) -> String {
    let DeviceElement(mut bytes) = DeviceElement::partition(Locator::Mbr { signature, offset });
    bytes[20] = 0x11;
    bytes[40..48].fill(0xA5);
    bytes[60..72].fill(0xA5);
    bytes[76..80].fill(0x5A);
    format!("hex(3):{}", hex(&bytes))
}

/// A disk whose store has these devices for the default entry and for a second one; the store lies beside the system
/// where that is what the first partition is for.
fn with_devices(lab: &Lab, device: &str, beside: bool) -> PathBuf {
    let image = lab.image("disk.img", 512, 340, |disk| {
        with_table(disk, |entries| {
            if beside {
                entries[0] = MbrEntry {
                    active: false,
                    ..entries[0]
                };
                entries[1] = MbrEntry {
                    active: true,
                    ..entries[1]
                };
            }
        });
    });
    let store = lab.path("edited");
    edit_volume(&image, BOOT, |mount| {
        fs::copy(mount.path("Boot/BCD"), &store).unwrap();
        let devices = |mut elements: Vec<(u32, String)>| {
            for (number, value) in &mut elements {
                if [0x1100_0001, 0x2100_0001].contains(number) {
                    *value = device.to_owned();
                }
            }
            elements
        };
        let second = devices(loader("Engine room", SIGNATURE, 51 * MIB));
        let mut text = object(SECOND, 0x1020_0003, &second);
        text += &of_manager(&[(0x2400_0001, texts(&[WINDOWS, SECOND]))]);
        for (number, value) in devices(loader("Windows 10", SIGNATURE, 51 * MIB)) {
            let key = format!("[BCD\\Objects\\{WINDOWS}\\Elements\\{number:08x}]");
            writeln!(text, "{key}\n\"Element\"={value}\n").unwrap();
        }
        merge(&store, "BCD", &text);
        fs::copy(&store, mount.path("Boot/BCD")).unwrap();
    });
    if beside {
        edit_volume(&image, (51 * MIB, 160 * MIB), |mount| {
            fs::create_dir_all(mount.path("Boot")).unwrap();
            fs::copy(&store, mount.path("Boot/BCD")).unwrap();
        });
    }
    image
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_device_that_a_store_leaves_open_gets_the_partition_that_is_meant() {
    for (what, device, beside) in [
        ("searched for", open_device(8), false),
        ("where it was started from", open_device(5), true),
        ("with filler", with_filler(SIGNATURE, 51 * MIB), false),
    ] {
        let lab = Lab::new();
        let image = with_devices(&lab, &device, beside);
        let before = hash(&image);
        let record = converted(&lab, &image);
        let store = dump(&store_of(&lab, &image, &record), "BCD");
        let open = DiskFile::open_read(&image, Some(512)).unwrap();
        let pair = GptPair::read(&open);
        let mut entries = pair.best().unwrap().entries.iter();
        let windows = entries.find(|(_, entry)| entry.extent.first.0 == 51 * MIB / 512);
        let id = hex(&windows.unwrap().1.id.to_bytes_le());
        for (object, number) in [
            (WINDOWS, 0x1100_0001),
            (WINDOWS, 0x2100_0001),
            (SECOND, 0x2100_0001),
        ] {
            let key = format!("[BCD\\Objects\\{object}\\Elements\\{number:08x}]");
            let element = store[&key]
                .replace("\\\n", "")
                .replace(char::is_whitespace, "");
            assert!(element.contains(&id), "{what}: {element}");
            if what == "with filler" {
                let kept = hex(&[0x11, 0, 0, 0]);
                assert!(
                    element.contains(&kept) && element.contains("5a,5a,5a,5a"),
                    "{element}"
                );
            }
        }
        lab.started(&[image.to_str().unwrap()]);
        drop(open);
        let undo = lab.run(&["undo", "--job", "job", "--yes", "--quiet"]);
        assert_eq!(
            (undo.code, hash(&image)),
            (0, before),
            "{what}: {}",
            undo.stderr
        );
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_default_in_a_file_gives_way_to_a_system_on_a_partition() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    edit_volume(&image, BOOT, |mount| {
        let store = lab.path("edited");
        fs::copy(mount.path("Boot/BCD"), &store).unwrap();
        // A RAM disk: its image lies on the Windows volume, whose name stands further in.
        let DeviceElement(inner) = DeviceElement::partition(Locator::Mbr {
            signature: SIGNATURE,
            offset: 51 * MIB,
        });
        let mut bytes = vec![0; 16];
        bytes.extend(0_u32.to_le_bytes());
        bytes.extend([0; 4]);
        bytes.extend(0x98_u32.to_le_bytes());
        bytes.extend([0; 4]);
        bytes.extend(3_u32.to_le_bytes());
        bytes.extend(&inner[16..]);
        bytes.extend("\\rescue.wim\0".encode_utf16().flat_map(u16::to_le_bytes));
        let mut elements = loader("Rescue", SIGNATURE, 51 * MIB);
        for (number, value) in &mut elements {
            if [0x1100_0001, 0x2100_0001].contains(number) {
                *value = format!("hex(3):{}", hex(&bytes));
            }
        }
        let manager = [
            (0x2300_0003, wide(1, SECOND)),
            (0x2400_0001, texts(&[SECOND, WINDOWS])),
        ];
        let text = object(SECOND, 0x1020_0003, &elements) + &of_manager(&manager);
        merge(&store, "BCD", &text);
        fs::copy(&store, mount.path("Boot/BCD")).unwrap();
    });
    let check = lab
        .run(&["check", image.to_str().unwrap(), "--json"])
        .json();
    let findings = check["findings"].as_array().unwrap();
    let default = findings
        .iter()
        .find(|finding| finding["rule"] == "boot.default");
    let default = default.unwrap();
    assert_eq!(default["outcome"], "caution", "{default}");
    assert_eq!(default["evidence"]["was"]["kind"], "in-file", "{default}");
    converted(&lab, &image);
    lab.started(&[image.to_str().unwrap()]);
}
