//! Our boot code for BIOS mode, run by a BIOS in the emulator: a boot manager in pieces, and every way in which it
//! cannot go on.

use std::fs::{self, File};

use schwelle_core::device::{BlockDevice, DiskFile, Extent, Window};
use schwelle_core::fat::{FatVolume, make_startable};
use schwelle_core::mbr::{BiosStart, Kind, MbrLayout, NewEntry};

use super::Bench;
use crate::signpost::Pc;
use crate::support::{Lab, lba, peek, poke};
use schwelle_testkit::{extract, tool};

/// Where the partition lies, in sectors.
const FIRST: u64 = 2048;
const SECTORS: u64 = 100 * 2048;

/// The stand-in boot manager, and a BCD store for it to find.
fn files(lab: &Lab) {
    let bench = Bench::new(512);
    let volume = bench.lab.path("boot.img");
    extract(&bench.image, (1 << 20, 50 << 20), &volume);
    let mounted = schwelle_testkit::Mounted::new(bench.lab.path("mounted"), &volume);
    for (from, to) in [("bootmgr", "bootmgr"), ("Boot/BCD", "BCD")] {
        fs::copy(mounted.0.join(from), lab.path(to)).unwrap();
    }
}

/// A disk with an active FAT32 partition of clusters of so many sectors, and our boot code.
fn disk(lab: &Lab, cluster: &str, fill: impl FnOnce(&str)) {
    let (volume, image) = (lab.path("volume.img"), lab.path("disk.img"));
    File::create(&volume)
        .unwrap()
        .set_len(SECTORS * 512)
        .unwrap();
    let volume = volume.to_str().unwrap();
    tool("mkfs.vfat", &["-F", "32", "-s", cluster, volume]);
    fill(volume);
    File::create(&image)
        .unwrap()
        .set_len((FIRST + SECTORS) * 512)
        .unwrap();
    poke(&image, FIRST * 512, &fs::read(volume).unwrap());
    let device = DiskFile::open_write(&image, Some(512)).unwrap();
    let extent = Extent::new(lba(FIRST), SECTORS).unwrap();
    make_startable(&Window::new(&device, extent).unwrap(), extent.first).unwrap();
    let entry = NewEntry {
        kind: Kind(0x0C),
        extent,
        active: true,
    };
    let layout = MbrLayout {
        signature: 1,
        primaries: vec![entry],
        logical: Vec::new(),
    };
    layout.write(&device, BiosStart::ActivePartition).unwrap();
    device.flush().unwrap();
}

fn copy(volume: &str, file: &std::path::Path, to: &str) {
    tool(
        "mcopy",
        &[
            "-o",
            "-i",
            volume,
            file.to_str().unwrap(),
            &format!("::{to}"),
        ],
    );
}

/// What the screen shows when it has this text.
fn shown(lab: &Lab, text: &str) -> String {
    let floppy = lab.path("floppy.img");
    File::create(&floppy).unwrap().set_len(1_474_560).unwrap();
    let mut pc = Pc::start(
        lab.path("disk.img").to_str().unwrap(),
        floppy.to_str().unwrap(),
    );
    pc.wait_for(text)
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_boot_manager_in_pieces_behind_a_long_folder_is_loaded_whole() {
    let lab = Lab::new();
    files(&lab);
    let small = lab.path("small");
    fs::write(&small, vec![1; 1500]).unwrap();
    for cluster in ["1", "2"] {
        disk(&lab, cluster, |volume| {
            // Files of which every other one goes leave holes, before which the folder is several clusters long.
            for number in 0..60 {
                copy(
                    volume,
                    &small,
                    &format!("a rather long name of file {number}"),
                );
            }
            for number in (0..60).step_by(2) {
                tool(
                    "mdel",
                    &[
                        "-i",
                        volume,
                        &format!("::a rather long name of file {number}"),
                    ],
                );
            }
            copy(volume, &lab.path("bootmgr"), "bootmgr");
            tool("mmd", &["-i", volume, "::Boot"]);
            copy(volume, &lab.path("BCD"), "Boot/BCD");
        });
        let device = DiskFile::open_read(&lab.path("disk.img"), Some(512)).unwrap();
        let extent = Extent::new(lba(FIRST), SECTORS).unwrap();
        let window = Window::new(&device, extent).unwrap();
        let fat = FatVolume::open(&window).unwrap();
        let manager = fat.find("\\bootmgr").unwrap().unwrap();
        assert!(fat.extents_of(&manager).unwrap().len() > 5);
        assert!(
            fat.extents_of(&fat.root())
                .unwrap()
                .iter()
                .map(Extent::sectors)
                .sum::<u64>()
                > 2
        );
        drop(device);
        let screen = shown(&lab, "boot store");
        assert!(screen.contains("started, and whole"), "{screen}");
        assert!(screen.contains("boot store found"), "{screen}");
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn each_way_in_which_it_cannot_go_on_is_said() {
    type Case = (&'static str, fn(&Lab));
    let cases: [Case; 6] = [
        ("No partition of this disk is active.", |lab| {
            poke(&lab.path("disk.img"), 446, &[0]);
        }),
        ("The active partition cannot be read.", |lab| {
            poke(&lab.path("disk.img"), 454, &0xFFF0_0000_u32.to_le_bytes());
        }),
        ("The active partition has no boot record.", |lab| {
            poke(&lab.path("disk.img"), FIRST * 512 + 510, &[0, 0]);
        }),
        ("BOOTMGR is missing on this partition.", |lab| {
            let volume = format!("{}@@{}", lab.path("disk.img").display(), FIRST * 512);
            tool("mren", &["-i", &volume, "::bootmgr", "::other"]);
        }),
        ("BOOTMGR cannot be loaded.", |lab| {
            let (long, image) = (lab.path("long"), lab.path("disk.img"));
            fs::write(&long, vec![0xF4; 491_521]).unwrap();
            copy(
                &format!("{}@@{}", image.display(), FIRST * 512),
                &long,
                "bootmgr",
            );
        }),
        // A chain that comes back to its own beginning.
        ("BOOTMGR cannot be loaded.", |lab| {
            let image = lab.path("disk.img");
            let first = {
                let device = DiskFile::open_read(&image, Some(512)).unwrap();
                let extent = Extent::new(lba(FIRST), SECTORS).unwrap();
                let window = Window::new(&device, extent).unwrap();
                let fat = FatVolume::open(&window).unwrap();
                fat.find("\\bootmgr").unwrap().unwrap().cluster
            };
            let reserved = u64::from(u16::from_le_bytes(
                peek(&image, FIRST * 512 + 14, 2).try_into().unwrap(),
            ));
            let at = (FIRST + reserved) * 512 + u64::from(first) * 4;
            poke(&image, at, &first.to_le_bytes());
        }),
    ];
    let lab = Lab::new();
    files(&lab);
    for (expected, spoil) in cases {
        disk(&lab, "1", |volume| {
            copy(volume, &lab.path("bootmgr"), "bootmgr");
        });
        spoil(&lab);
        shown(&lab, expected);
    }
}
