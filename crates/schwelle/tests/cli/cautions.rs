//! Disks that can be converted, but of which the technician must know something: the caution is
//! reported, and the conversion goes through.

use schwelle_core::device::{BlockDevice, Extent, MIB};
use schwelle_demo::{Asset, edit_file};

use crate::blocked::{Build, entry, standard, with_table, write_gpt};
use crate::support::{Lab, SIGNATURE, explains, lba};

/// Changes the last place in the BCD store where this disk's signature stands.
fn foreign_last_entry(store: &mut [u8]) {
    let old = SIGNATURE.to_le_bytes();
    let at = store.windows(4).rposition(|window| window == old).unwrap();
    store[at..at + 4].copy_from_slice(&0x0BAD_CAFEu32.to_le_bytes());
}

/// Name, rule, evidence, how the disk is made.
const DISKS: &[(&str, &str, &str, Build)] = &[
    ("old GPT", "table.mbr", "remains of an older GPT", |disk| {
        write_gpt(disk);
        standard(disk);
    }),
    (
        "a conversion that stopped, after other boot code",
        "room.primary-table",
        "content before the first partition",
        |disk| {
            write_gpt(disk);
            standard(disk);
            let mut sector = disk.device().read_vec(0, 512).unwrap();
            sector[2..6].copy_from_slice(b"XXXX");
            disk.device().write_at(0, &sector).unwrap();
        },
    ),
    (
        "type of another file system",
        "volume.matches-type",
        "type 0Ch (FAT32), but it holds NTFS",
        |disk| {
            with_table(disk, |entries| entries[0].kind = 0x0C);
        },
    ),
    (
        "no BCD store",
        "boot.store",
        "no volume that could hold it has \\Boot\\BCD",
        |disk| {
            with_table(disk, |entries| {
                entries[0].active = false;
                entries[1].active = true;
            });
        },
    ),
    (
        "BCD store damaged",
        "boot.store",
        "checksum is wrong",
        |disk| {
            let boot = standard(disk).boot;
            edit_file(disk.device(), boot, "\\Boot\\BCD", |file| file[5] ^= 1).unwrap();
        },
    ),
    (
        "entry for another disk",
        "boot.entries",
        "names another disk or partition: MBR disk 0BADCAFE",
        |disk| {
            let boot = standard(disk).boot;
            edit_file(disk.device(), boot, "\\Boot\\BCD", foreign_last_entry).unwrap();
        },
    ),
    (
        "two systems",
        "system.several",
        "2 systems: Windows 10 Pro 22H2 (build 19045) on partition 2",
        |disk| {
            let second = Extent::between(lba(211 * MIB / 512), lba(371 * MIB / 512));
            with_table(disk, |entries| entries.push(entry(false, 7, second)));
            disk.volume(Asset::Windows, second).unwrap();
        },
    ),
    (
        "no recovery environment",
        "boot.recovery",
        "Winre.wim is not on partition 1; there is no image of one on the disk",
        |disk| {
            let places = standard(disk);
            let mut name = Vec::new();
            "Winre.wim"
                .encode_utf16()
                .for_each(|unit| name.extend(unit.to_le_bytes()));
            spoil_name(disk.device(), places.boot, &name);
        },
    ),
];

/// Spoils a name wherever it stands on a volume, so that the file is not found any more.
fn spoil_name(device: &dyn BlockDevice, volume: Extent, name: &[u8]) {
    let sector = u64::from(device.geometry().logical_sector);
    let mut found = 0;
    for at in (volume.first.0..volume.end.0).map(|lba| lba * sector) {
        let mut bytes = device.read_vec(at, 512).unwrap();
        if let Some(place) = bytes.windows(name.len()).position(|window| window == name) {
            bytes[place] = b'X';
            device.write_at(at, &bytes).unwrap();
            found += 1;
        }
    }
    assert!(found > 0);
}

#[test]
fn cautions_are_told_and_the_disk_still_crosses() {
    for (name, rule, evidence, build) in DISKS {
        let lab = Lab::new();
        let image = lab.image("disk.img", 512, 520, build);
        let path = image.to_str().unwrap();
        let json = lab.run(&["check", path, "--json"]).json();
        assert_eq!(json["answer"], "caution", "{name}: {json}");
        let findings = json["findings"].as_array().unwrap();
        let cautions: Vec<_> = findings
            .iter()
            .filter(|finding| finding["outcome"] == "caution")
            .collect();
        let finding = cautions.iter().find(|finding| finding["rule"] == *rule);
        let finding = finding.unwrap_or_else(|| panic!("{name}: {cautions:?}"));
        explains(finding, evidence, name);
        let plan = lab.run(&["plan", path]);
        assert!(
            plan.stdout.contains(rule),
            "{name}: the plan tells it again"
        );
        let run = lab.convert(&image, "job", &["--json"]);
        assert_eq!(
            (run.code, &run.json()["rehearsal"]["starts"]),
            (0, &true.into()),
            "{name}: {}",
            run.stderr
        );
    }
}
