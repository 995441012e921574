//! What volumes show that real systems have used for years, and what is no reason to refuse a disk.

use std::fs;

use schwelle_core::bytes::ReadBytes;
use schwelle_core::device::{BlockDevice, DiskFile, Extent, MIB, ReadDevice, Window};
use schwelle_core::ntfs::{NtfsVolume, Run};
use schwelle_demo::{Asset, DiskBuilder, edit_file};

use crate::blocked::{Build, entry, standard, with_table};
use crate::menu::{SECOND_AT, two_systems};
use crate::support::{Lab, SIGNATURE, lba};
use crate::volumes::edit_volume;
use schwelle_testkit::{hex, merge};

/// Changes bytes at an offset of a volume.
fn change(disk: &DiskBuilder<'_>, volume: Extent, at: u64, change: impl FnOnce(&mut [u8])) {
    let window = Window::new(disk.device(), volume).unwrap();
    let mut sector = window.read_vec(at / 512 * 512, 512).unwrap();
    change(&mut sector[usize::try_from(at % 512).unwrap()..]);
    disk.bytes(lba(volume.first.0 + at / 512), &sector).unwrap();
}

fn offset_of(run: &Run) -> u64 {
    run.lcn.unwrap().0 * 4096
}

/// Sets the bit of a free record in the bitmap of the MFT. The record is one that was used: sound,
/// but not in use.
fn mark_a_free_record(disk: &DiskBuilder<'_>, volume: Extent) {
    let window = Window::new(disk.device(), volume).unwrap();
    let opened = NtfsVolume::open(&window).unwrap();
    let table = opened.open_file(0).unwrap();
    let is_free = |number: &u64| {
        let mut head = [0; 24];
        table.read_bytes(number * 1024, &mut head).unwrap();
        head.starts_with(b"FILE") && head[22] & 1 == 0
    };
    let free = (24..table.len_bytes() / 1024).find(is_free).unwrap();
    // The attribute $BITMAP of record 0: its header names the run.
    let record = window
        .read_vec(opened.record_offset(0).unwrap(), 1024)
        .unwrap();
    let mut at = usize::from(record[0x14]);
    while record[at] != 0xB0 {
        at += usize::from(record[at + 4]) + (usize::from(record[at + 5]) << 8);
    }
    assert_eq!(record[at + 8], 1, "it lies in clusters");
    let runs = at + usize::from(record[at + 0x20]);
    let (lens, places) = (
        usize::from(record[runs] & 15),
        usize::from(record[runs] >> 4),
    );
    let place = &record[runs + 1 + lens..runs + 1 + lens + places];
    let lcn = place
        .iter()
        .rev()
        .fold(0, |lcn, byte| lcn << 8 | u64::from(*byte));
    change(disk, volume, lcn * 4096 + free / 8, |bytes| {
        bytes[0] |= 1 << (free % 8);
    });
}

/// Name, answer, the rule that tells of it and what it says, how the disk is made.
const DISKS: &[(&str, &str, &str, &str, Build)] = &[
    (
        "other boot code in the copy of the boot sector",
        "ready",
        "",
        "",
        |disk| {
            let windows = standard(disk).windows;
            change(
                disk,
                windows,
                (windows.sectors() - 1) * 512 + 0x60,
                |code| code[..16].fill(0x90),
            );
        },
    ),
    (
        "another partition start in the copy of the boot sector",
        "ready",
        "",
        "",
        |disk| {
            let windows = standard(disk).windows;
            change(
                disk,
                windows,
                (windows.sectors() - 1) * 512 + 0x1C,
                |hidden| hidden[0] ^= 0x3F,
            );
        },
    ),
    (
        "old bytes after a record's end in the mirror",
        "ready",
        "",
        "",
        |disk| {
            let windows = standard(disk).windows;
            let window = Window::new(disk.device(), windows).unwrap();
            let opened = NtfsVolume::open(&window).unwrap();
            let mirror = opened.open_file(1).unwrap();
            change(disk, windows, offset_of(&mirror.runs()[0]) + 900, |slack| {
                slack[0] ^= 0xFF;
            });
        },
    ),
    (
        "a free record marked in use",
        "caution",
        "volume.consistent",
        "are free but marked in use",
        |disk| {
            mark_a_free_record(disk, standard(disk).windows);
        },
    ),
    (
        "a session that was being resumed",
        "caution",
        "volume.hibernation",
        "closed cleanly since",
        |disk| {
            let windows = standard(disk).windows;
            edit_file(disk.device(), windows, "\\hiberfil.sys", |file| {
                file[..4].copy_from_slice(b"RSTR");
            })
            .unwrap();
        },
    ),
    (
        "a log that an offline check wrote",
        "ready",
        "",
        "",
        |disk| {
            let windows = standard(disk).windows;
            edit_file(disk.device(), windows, "\\$LogFile", |log| {
                log[..16].copy_from_slice(b"CHKD\x1E\0\x09\0\x77\0\0\0\0\0\0\0");
            })
            .unwrap();
        },
    ),
    (
        "the PC manufacturer's partition",
        "caution",
        "table.types",
        "type 12h, PC manufacturer's service: kept, hidden",
        |disk| {
            with_table(disk, |entries| {
                let extent = Extent::between(lba(600 * 1024), lba(610 * 1024));
                entries.push(entry(false, 0x12, extent));
            });
        },
    ),
];

#[test]
fn what_is_ordinary_on_old_volumes_is_no_reason_to_refuse() {
    for (name, answer, rule, expected, build) in DISKS {
        let lab = Lab::new();
        let image = lab.image("disk.img", 512, 340, build);
        let path = image.to_str().unwrap();
        let check = lab.run(&["check", path, "--json"]);
        let json = check.json();
        assert_eq!(&json["answer"], answer, "{name}: {}", check.stdout);
        let mut findings = json["findings"].as_array().unwrap().iter();
        let is_shown = |finding: &serde_json::Value| {
            finding["rule"] == *rule
                && finding["evidence"]["text"]
                    .as_str()
                    .unwrap()
                    .contains(expected)
        };
        assert!(
            rule.is_empty() || findings.any(is_shown),
            "{name}: {}",
            check.stdout
        );
        let done = lab.convert(&image, "job", &["--quiet"]);
        assert_eq!(done.code, 0, "{name}: {}{}", done.stdout, done.stderr);
        let undone = lab.run(&["undo", "--job", "job", "--yes"]);
        assert_eq!(undone.code, 0, "{name}: {}", undone.stderr);
    }
}

#[test]
fn a_log_of_a_running_system_is_a_reason() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 340, |disk| {
        let windows = standard(disk).windows;
        edit_file(disk.device(), windows, "\\$LogFile", |log| {
            let mut page = vec![0; 4096];
            page[..8].copy_from_slice(b"RSTR\x1E\0\x09\0");
            page[0x10..0x14].copy_from_slice(&4096u32.to_le_bytes());
            page[0x18] = 0x30;
            page[0x1C] = 2;
            page[0x30] = 9;
            page[0x3C..0x3E].fill(0xFF);
            page[0x1E] = 7;
            (1..=8).for_each(|stride| page[stride * 512 - 2] = 7);
            log[..4096].copy_from_slice(&page);
        })
        .unwrap();
    });
    let check = lab.run(&["check", image.to_str().unwrap()]);
    assert_eq!(check.code, 1, "{}", check.stdout);
    assert!(
        check.stdout.contains("log has version 2.0"),
        "{}",
        check.stdout
    );
}

type Spoil = fn(&DiskFile, Extent);

/// What is wrong with the second system, which no menu names; the rule that tells of it.
const LEFT_OVER: &[(&str, &str, Spoil)] = &[
    ("a 32-bit one", "system.64bit", |disk, volume| {
        edit_file(
            disk,
            volume,
            "\\Windows\\System32\\ntoskrnl.exe",
            |kernel| {
                let at = usize::from(kernel[0x3C]) + 4;
                kernel[at..at + 2].copy_from_slice(&[0x4C, 0x01]);
            },
        )
        .unwrap();
    }),
    (
        "one without a boot manager",
        "system.boot-files",
        |disk, volume| {
            edit_file(disk, volume, "\\Windows\\Boot\\EFI\\bootmgfw.efi", |file| {
                file.fill(0);
            })
            .unwrap();
        },
    ),
    (
        "one whose registry is damaged",
        "system.letters",
        |disk, volume| {
            edit_file(
                disk,
                volume,
                "\\Windows\\System32\\config\\SYSTEM",
                |hive| hive[40] ^= 1,
            )
            .unwrap();
        },
    ),
    (
        "an encrypted volume",
        "volume.encryption",
        |disk, volume| {
            DiskBuilder::new(disk).encrypt(volume).unwrap();
        },
    ),
];

#[test]
fn what_nothing_starts_is_told_and_stands_against_nothing() {
    for (name, rule, spoil) in LEFT_OVER {
        let lab = Lab::new();
        let image = two_systems(&lab);
        let volume = Extent::between(lba(SECOND_AT / 512), lba((SECOND_AT + 160 * MIB) / 512));
        let disk = DiskFile::open_write(&image, Some(512)).unwrap();
        spoil(&disk, volume);
        disk.flush().unwrap();
        drop(disk);
        let json = lab
            .run(&["check", image.to_str().unwrap(), "--json"])
            .json();
        let mut findings = json["findings"].as_array().unwrap().iter();
        let found = findings.find(|finding| {
            finding["rule"] == *rule
                && finding["subject"]["text"]
                    .as_str()
                    .unwrap()
                    .starts_with("partition 3")
        });
        assert_eq!(found.unwrap()["outcome"], "caution", "{name}: {found:?}");
        let done = lab.convert(&image, "job", &["--quiet"]);
        assert_eq!(done.code, 0, "{name}: {}{}", done.stdout, done.stderr);
        let undone = lab.run(&["undo", "--job", "job", "--yes"]);
        assert_eq!(undone.code, 0, "{name}: {}", undone.stderr);
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn windows_7_needs_the_csm() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 340, |disk| {
        standard(disk);
    });
    edit_volume(&image, (51 * MIB, 160 * MIB), |mount| {
        let hive = lab.path("software");
        let place = mount.path("Windows/System32/config/SOFTWARE");
        fs::copy(&place, &hive).unwrap();
        let text = "[SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion]\n\"ProductName\"=str(1):\"Windows 7 Professional\"\n\
            \"CurrentBuild\"=str(1):\"7601\"\n\"CSDVersion\"=str(1):\"Service Pack 1\"\n\"DisplayVersion\"=-\n";
        merge(&hive, "SOFTWARE", text);
        fs::copy(&hive, &place).unwrap();
    });
    let check = lab.run(&["check", "disk.img"]);
    let flat = check
        .stdout
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ");
    for expected in [
        "Windows 7 Professional Service Pack 1 (build 7601)",
        "needs the CSM's video, and does not support Secure Boot",
    ] {
        assert!(flat.contains(expected), "{expected}: {}", check.stdout);
    }
    assert_eq!(check.code, 0, "{}", check.stdout);
    let machine = lab.path("pc.toml");
    fs::write(&machine, "[firmware]\nuefi = true\ncsm = false\n").unwrap();
    let check = lab.run(&["check", "disk.img", "--machine", machine.to_str().unwrap()]);
    assert_eq!(check.code, 1, "{}", check.stdout);
    assert!(check.stdout.contains("firmware.csm"), "{}", check.stdout);
    assert_eq!(lab.convert(&image, "job", &["--quiet"]).code, 0);
    let sheet = lab.run(&["firmware", "sheet", "disk.img"]).stdout;
    let flat = sheet.split_whitespace().collect::<Vec<_>>().join(" ");
    for expected in [
        "Leave the CSM on",
        "this Windows does not support Secure Boot",
    ] {
        assert!(flat.contains(expected), "{expected}: {sheet}");
    }
    assert!(!flat.contains("switch the CSM off"), "{sheet}");
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_windows_of_unknown_version_keeps_the_csm() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 340, |disk| {
        standard(disk);
    });
    let hive = "Windows/System32/config/SOFTWARE";
    edit_volume(&image, (51 * MIB, 160 * MIB), |mount| {
        fs::write(mount.path(hive), [0; 4096]).unwrap();
    });
    let check = lab.run(&["check", "disk.img", "--json"]);
    let findings = check.json()["findings"].as_array().unwrap().clone();
    let mut findings = findings.iter();
    let csm = findings.find(|finding| finding["rule"] == "firmware.csm");
    let csm = csm.unwrap();
    // Neither the stand-ins' kernel nor their loader has a version resource.
    assert_eq!(csm["evidence"]["kind"], "version-unknown", "{csm}");
    assert_eq!(csm["outcome"], "unknown", "{csm}");
    assert_eq!(lab.convert(&image, "job", &["--quiet"]).code, 0);
    let sheet = lab.run(&["firmware", "sheet", "disk.img"]).stdout;
    let flat = sheet.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(flat.contains("Leave the CSM on"), "{sheet}");
    assert!(!flat.contains("switch the CSM off"), "{sheet}");
}

#[test]
#[ignore = "needs root and outside programs"]
fn an_old_boot_partition_keeps_the_letter_that_it_has() {
    for has_letter in [false, true] {
        let lab = Lab::new();
        let image = lab.image("disk.img", 512, 340, |disk| {
            standard(disk);
        });
        if has_letter {
            edit_volume(&image, (51 * MIB, 160 * MIB), |mount| {
                let hive = lab.path("system");
                let place = mount.path("Windows/System32/config/SYSTEM");
                fs::copy(&place, &hive).unwrap();
                let data = [&SIGNATURE.to_le_bytes()[..], &MIB.to_le_bytes()].concat();
                let text = format!(
                    "[SYSTEM\\MountedDevices]\n\"\\\\DosDevices\\\\E:\"=hex(3):{}\n",
                    hex(&data)
                );
                merge(&hive, "SYSTEM", &text);
                fs::copy(&hive, &place).unwrap();
            });
        }
        let plan = lab.run(&["plan", "disk.img", "--json"]).json();
        let boot = &plan["after"].as_array().unwrap()[1];
        assert_eq!(boot["first_lba"], 2048, "{boot}");
        let no_letter = if has_letter {
            "0000000000000000"
        } else {
            "8000000000000000"
        };
        assert_eq!(boot["attributes"], no_letter, "{has_letter}: {boot}");
    }
}

#[test]
fn a_place_in_front_of_the_recovery_partition_is_told() {
    let lab = Lab::new();
    let recovery = Extent::between(lba(SECOND_AT / 512), lba((SECOND_AT + 50 * MIB) / 512));
    lab.image("disk.img", 512, 420, |disk| {
        with_table(disk, |entries| entries.push(entry(false, 0x27, recovery)));
        disk.volume(Asset::Boot, recovery).unwrap();
    });
    for (request, is_shown) in [(&["--place", "shrink"][..], true), (&[], false)] {
        let plan = lab.run(&[&["plan", "disk.img"][..], request].concat());
        assert_eq!(plan.code, 0, "{}", plan.stdout);
        let flat = plan.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        let shown = flat.contains(
            "between Windows and its recovery partition, which Windows then cannot extend",
        );
        assert_eq!(shown, is_shown, "{}", plan.stdout);
    }
}
