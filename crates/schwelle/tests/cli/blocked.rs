//! Disks that are refused: with the rule's id, evidence and a remedy, exit code 1, and not a byte
//! changed.

use schwelle_core::device::{BlockDevice, Extent, ReadDevice};
use schwelle_core::gpt::{GptEntry, GptLayout, type_guid};
use schwelle_core::mbr::{BiosStart, protective_sector};
use schwelle_demo::{Asset, DiskBuilder, MbrEntry, Standard, edit_file, mark_dirty, put_program};
use uuid::Uuid;

use crate::support::{COMPUTER, Lab, SIGNATURE, explains, lba};
use schwelle_testkit::{WriteWatch, hash};

pub(crate) fn entry(active: bool, kind: u8, extent: Extent) -> MbrEntry {
    let number = |value: u64| u32::try_from(value).unwrap();
    MbrEntry {
        active,
        kind,
        first: number(extent.first.0),
        sectors: number(extent.sectors()),
    }
}

/// An entry that is not active, in a record's own numbers.
fn raw(kind: u8, first: u32, sectors: u32) -> MbrEntry {
    MbrEntry {
        active: false,
        kind,
        first,
        sectors,
    }
}

/// A standard disk with an extended partition at LBA 500000, whose first record names a logical
/// partition and `next`.
fn with_extended(disk: &DiskBuilder<'_>, next: MbrEntry) {
    with_table(disk, |entries| entries.push(raw(5, 500_000, 90_000)));
    disk.boot_record(lba(500_000), 0, &[raw(7, 2048, 4096), next])
        .unwrap();
}

pub(crate) fn standard(disk: &DiskBuilder<'_>) -> Standard {
    disk.standard(SIGNATURE, COMPUTER).unwrap()
}

/// A standard disk whose table has been changed by `change`.
pub(crate) fn with_table(disk: &DiskBuilder<'_>, change: impl FnOnce(&mut Vec<MbrEntry>)) {
    let places = standard(disk);
    let mut entries = vec![entry(true, 7, places.boot), entry(false, 7, places.windows)];
    change(&mut entries);
    disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
}

pub(crate) fn write_gpt(disk: &DiskBuilder<'_>) {
    let extent = disk.standard_places().windows;
    let (kind, id) = (type_guid::BASIC_DATA, Uuid::from_u128(2));
    let data = GptEntry {
        kind,
        id,
        extent,
        attributes: 0,
        name: String::new(),
    };
    let layout = GptLayout {
        disk_id: Uuid::from_u128(1),
        entries: vec![data],
    };
    layout.write(disk.device()).unwrap();
    disk.device()
        .write_at(
            0,
            &protective_sector(disk.device().geometry(), BiosStart::PassOn),
        )
        .unwrap();
}

/// Writes `bytes` so many bytes before the disk's end.
fn at_tail(disk: &DiskBuilder<'_>, before_end: u64, bytes: &[u8]) {
    let sectors = disk.device().geometry().sectors;
    disk.bytes(lba(sectors - before_end / 512), bytes).unwrap();
}

/// The hive with the drive letters.
pub(crate) const SYSTEM: &str = "\\Windows\\System32\\config\\SYSTEM";

/// Raises the first sequence number of a hive, as a writer does that has not finished, and mends
/// the checksum.
pub(crate) fn leave_open(hive: &mut [u8]) {
    for at in [4, 0x1FC] {
        hive[at] ^= 2;
    }
}

pub(crate) type Build = fn(&DiskBuilder<'_>);

/// Name, rule, evidence, how the disk is made.
const DISKS: &[(&str, &str, &str, Build)] = &[
    ("gpt", "table.mbr", "has a GPT already", write_gpt),
    ("hybrid", "table.mbr", "hybrid", |disk| {
        write_gpt(disk);
        let all = raw(0xEE, 1, 2047);
        let windows = entry(true, 7, disk.standard_places().windows);
        disk.boot_record(lba(0), 0, &[all, windows]).unwrap();
    }),
    (
        "no active",
        "system.active",
        "LBA 0: no partition is marked active",
        |disk| {
            with_table(disk, |entries| entries[0].active = false);
        },
    ),
    (
        "two active",
        "system.active",
        "2 partitions are marked active",
        |disk| {
            with_table(disk, |entries| entries[1].active = true);
        },
    ),
    (
        "encrypted",
        "volume.encryption",
        "LBA 104448: encrypted",
        |disk| {
            let places = standard(disk);
            disk.encrypt(places.windows).unwrap();
        },
    ),
    (
        "hibernated",
        "volume.hibernation",
        "\\hiberfil.sys",
        |disk| {
            let windows = standard(disk).windows;
            edit_file(disk.device(), windows, "\\hiberfil.sys", |file| {
                file[..4].copy_from_slice(b"hibr");
            })
            .unwrap();
        },
    ),
    ("dirty", "volume.clean", "marked for a check", |disk| {
        let windows = standard(disk).windows;
        mark_dirty(disk.device(), windows).unwrap();
    }),
    ("mirror differs", "volume.consistent", "differ", |disk| {
        let windows = standard(disk).windows;
        let last = windows.last();
        disk.bytes(last, &[0; 512]).unwrap();
    }),
    (
        "cluster in use but marked free",
        "volume.consistent",
        "are marked free",
        |disk| {
            // A volume's boot sector owns its first cluster; its bit is the first of the bitmap.
            let boot = standard(disk).boot;
            let window = schwelle_core::device::Window::new(disk.device(), boot).unwrap();
            let volume = schwelle_core::ntfs::NtfsVolume::open(&window).unwrap();
            let bitmap = volume.open_file(6).unwrap().runs()[0].lcn.unwrap().0 * 4096;
            let mut bytes = window.read_vec(bitmap, 512).unwrap();
            bytes[0] &= !1;
            window.write_at(bitmap, &bytes).unwrap();
        },
    ),
    (
        "record torn",
        "volume.readable",
        "fix-ups do not match",
        |disk| {
            // The MFT's first record lies at cluster 4 of volumes that the NTFS utilities
            // make.
            let windows = standard(disk).windows;
            let at = (windows.first.0 + 4 * 8) * 512;
            let mut record = disk.device().read_vec(at, 512).unwrap();
            record[510] ^= 0xFF;
            disk.device().write_at(at, &record).unwrap();
        },
    ),
    ("32-bit", "system.64bit", "made for 32-bit x86", |disk| {
        let windows = standard(disk).windows;
        put_program(
            disk.device(),
            windows,
            "\\Windows\\System32\\ntoskrnl.exe",
            schwelle_demo::KERNEL_32BIT,
        )
        .unwrap();
    }),
    (
        "boot manager for ARM",
        "system.boot-files",
        "made for ARM64",
        |disk| {
            let windows = standard(disk).windows;
            put_program(
                disk.device(),
                windows,
                "\\Windows\\Boot\\EFI\\bootmgfw.efi",
                schwelle_demo::BOOT_PROGRAM_ARM64,
            )
            .unwrap();
        },
    ),
    (
        "overlap",
        "table.overlap",
        "partition 1 and partition 2 overlap",
        |disk| {
            with_table(disk, |entries| entries[0].sectors += 4096);
        },
    ),
    ("beyond the end", "table.inside", "ends at LBA", |disk| {
        with_table(disk, |entries| {
            entries.push(raw(7, 600_000, 900_000));
        });
    }),
    (
        "EBR loop",
        "table.chain",
        "loops back to LBA 500000",
        |disk| with_extended(disk, raw(5, 0, 90_000)),
    ),
    (
        "EBR link outside",
        "table.chain",
        "leaves its extended partition",
        |disk| with_extended(disk, raw(5, 100_000, 10)),
    ),
    ("bad flag", "table.flags", "flag byte 17h", |disk| {
        with_table(disk, |_| {});
        let mut sector = disk.device().read_vec(0, 512).unwrap();
        sector[446 + 16] = 0x17;
        disk.device().write_at(0, &sector).unwrap();
    }),
    ("unknown type", "table.types", "type 9Fh", |disk| {
        with_table(disk, |entries| {
            entries.push(raw(0x9F, 600_000, 2048));
        });
    }),
    (
        "EFI partition on MBR",
        "room.esp",
        "it holds blank, and not FAT32",
        |disk| {
            with_table(disk, |entries| {
                entries.push(raw(0xEF, 600_000, 2048));
            });
        },
    ),
    ("dynamic type", "table.dynamic", "type 42h", |disk| {
        with_table(disk, |entries| entries[1].kind = 0x42);
    }),
    (
        "dynamic header",
        "table.dynamic",
        "private header",
        |disk| {
            standard(disk);
            at_tail(disk, 512 * 1024, b"PRIVHEAD");
        },
    ),
    (
        "firmware RAID",
        "medium.raid",
        "firmware RAID set",
        |disk| {
            standard(disk);
            at_tail(disk, 1024, b"Intel Raid ISM Cfg Sig. 1.3.00");
        },
    ),
    (
        "DDF RAID",
        "medium.raid",
        "common disk data format",
        |disk| {
            standard(disk);
            at_tail(disk, 512, &[0xDE, 0x11, 0xDE, 0x11]);
        },
    ),
    (
        "Linux RAID 1.0",
        "medium.raid",
        "Linux software RAID",
        |disk| {
            standard(disk);
            at_tail(disk, 8192, &[0xFC, 0x4E, 0x2B, 0xA9]);
        },
    ),
    (
        "Linux RAID 0.90",
        "medium.raid",
        "Linux software RAID",
        |disk| {
            standard(disk);
            at_tail(disk, 65_536, &[0xFC, 0x4E, 0x2B, 0xA9]);
        },
    ),
    (
        "registry left open, without a log",
        "system.letters",
        "it was not closed cleanly, and there is no log beside it",
        |disk| {
            let windows = standard(disk).windows;
            edit_file(disk.device(), windows, SYSTEM, leave_open).unwrap();
        },
    ),
    (
        "BCD store of another disk",
        "boot.default",
        "MBR disk 5EA51DE5",
        |disk| {
            let places = standard(disk);
            let entries = [entry(true, 7, places.boot), entry(false, 7, places.windows)];
            disk.boot_record(lba(0), 0x0DD0_0DD0, &entries).unwrap();
        },
    ),
    (
        "not a Windows disk",
        "system.windows",
        "no volume has Windows on it",
        |disk| {
            let boot = disk.standard_places().boot;
            disk.volume(Asset::Boot, boot).unwrap();
            disk.boot_record(lba(0), 1, &[entry(true, 7, boot)])
                .unwrap();
        },
    ),
    ("no room", "room.esp", "are free before it", |disk| {
        // A neighbour after Windows, and every cluster of Windows marked in use.
        let first = disk.standard_places().windows.end;
        let end = lba(disk.device().geometry().sectors - 2048);
        with_table(disk, |entries| {
            entries.push(entry(false, 0x83, Extent::between(first, end)));
        });
        let windows = disk.standard_places().windows;
        edit_file(disk.device(), windows, "\\$Bitmap", |bits| bits.fill(0xFF)).unwrap();
    }),
    (
        "partition at the very end",
        "room.backup-table",
        "where the backup table needs",
        |disk| {
            let end = disk.device().geometry().sectors;
            with_table(disk, |entries| {
                let tail = Extent::between(lba(end - 2048), lba(end));
                entries.push(entry(false, 0x83, tail));
            });
        },
    ),
    (
        "partition after sector 0",
        "room.primary-table",
        "where the primary table needs",
        |disk| {
            with_table(disk, |entries| {
                entries.push(raw(0x83, 10, 100));
            });
        },
    ),
    (
        "bare file system",
        "table.mbr",
        "file system on the bare disk",
        |disk| {
            disk.volume(Asset::Boot, Extent::between(lba(0), lba(102_400)))
                .unwrap();
        },
    ),
    (
        "bare ext",
        "table.mbr",
        "file system on the bare disk",
        |disk| {
            let mut superblock = vec![0; 1024];
            superblock[56..58].copy_from_slice(&[0x53, 0xEF]);
            disk.bytes(lba(2), &superblock).unwrap();
        },
    ),
    ("blank", "table.mbr", "no partition table", |_| {}),
    (
        "a loader on a FAT volume in front",
        "boot.other-loader",
        "firmware without a boot entry may start that one",
        |disk| {
            with_table(disk, |entries| {
                entries.push(raw(0x0E, 600_000, 20_000));
            });
            let mut volume = std::io::Cursor::new(vec![0; 20_000 * 512]);
            fatfs::format_volume(&mut volume, fatfs::FormatVolumeOptions::new()).unwrap();
            let opened = fatfs::FileSystem::new(&mut volume, fatfs::FsOptions::new()).unwrap();
            {
                let efi = opened.root_dir().create_dir("EFI").unwrap();
                let boot = efi.create_dir("BOOT").unwrap();
                boot.create_file("BOOTX64.EFI").unwrap();
            }
            opened.unmount().unwrap();
            disk.bytes(lba(600_000), volume.get_ref()).unwrap();
        },
    ),
    ("noise", "table.mbr", "neither a partition table", |disk| {
        disk.bytes(lba(0), &[0x42; 512]).unwrap();
    }),
];

#[test]
fn blocked_disks_name_rule_evidence_and_remedy_and_stay_untouched() {
    for (name, rule, evidence, build) in DISKS {
        let lab = Lab::new();
        let image = lab.image("disk.img", 512, 340, build);
        let path = image.to_str().unwrap();
        let before = hash(&image);
        let check = lab.run(&["check", path, "--json"]);
        let json = check.json();
        assert_eq!(
            (check.code, &json["convertible"]),
            (1, &false.into()),
            "{name}: {}",
            check.stdout
        );
        let findings = json["findings"].as_array().unwrap();
        let of_rule = |finding: &&serde_json::Value| {
            finding["rule"] == *rule && finding["outcome"] == "block"
        };
        let finding = findings
            .iter()
            .find(of_rule)
            .unwrap_or_else(|| panic!("{name}: {}", check.stdout));
        explains(finding, evidence, name);

        let job = lab.path("job");
        let watch = WriteWatch::new(&image);
        let convert = lab.convert(&image, &job, &[]);
        assert_eq!(convert.code, 1, "{name}: {}", convert.stderr);
        assert!(!watch.was_opened(), "{name}: opened for writing");
        assert!(convert.stdout.contains(rule), "{name}: {}", convert.stdout);
        assert_eq!(lab.run(&["plan", path, "--quiet"]).code, 1, "{name}");
        assert!(!job.exists(), "{name}: nothing to save");
        assert_eq!(hash(&image), before, "{name}: changed");
    }
}

#[test]
fn a_disk_that_is_ready_is_opened_for_writing() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let watch = WriteWatch::new(&image);
    assert_eq!(lab.run(&["plan", image.to_str().unwrap()]).code, 0);
    assert!(!watch.was_opened(), "a plan only reads");
    assert_eq!(lab.convert(&image, "job", &["--quiet"]).code, 0);
    assert!(watch.was_opened());
}

#[test]
#[ignore = "needs outside programs"]
fn an_encrypted_header_is_read_the_same_by_a_disk_encryption_tool() {
    let lab = Lab::new();
    let mut windows = None;
    let image = lab.image("disk.img", 512, 340, |disk| {
        let places = standard(disk);
        disk.encrypt(places.windows).unwrap();
        windows = Some(places.windows);
    });
    let windows = windows.unwrap();
    let volume = lab.path("volume.img");
    schwelle_testkit::extract(
        &image,
        (windows.first.0 * 512, windows.sectors() * 512),
        &volume,
    );
    let dump = schwelle_testkit::tool("cryptsetup", &["bitlkDump", volume.to_str().unwrap()]);
    assert!(
        dump.stdout
            .contains("VMK protected with recovery passphrase"),
        "{}{}",
        dump.stdout,
        dump.stderr
    );
}
