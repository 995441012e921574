//! Named damages and odd forms of the EFI system partition's file system.

use std::path::Path;

use schwelle_core::device::{DiskFile, Window};
use schwelle_core::fat::{FatShape, FatVolume};
use schwelle_core::gpt::type_guid;

use super::named::{DEPENDS, FAILS, Named, retable};
use super::{extent, returning_loader};
use crate::support::{lba, peek, poke};
use schwelle_testkit::{extract, tool};

/// Bytes of a sector on these disks.
const SECTOR: u64 = 512;
const ROOT: &str = "";
const EFI: &str = "\\EFI";
const BOOT: &str = "\\EFI\\BOOT";

pub(super) const FILE_SYSTEMS: &[Named] = &[
    (
        "the root folder's clusters loop",
        DEPENDS,
        "esp-file-system",
        "in a circle",
        |image, esp, _| lead(image, esp, ROOT, To::Itself),
    ),
    (
        "the folder EFI's clusters loop",
        DEPENDS,
        "esp-file-system",
        "in a circle",
        |image, esp, _| lead(image, esp, EFI, To::Itself),
    ),
    (
        "the folder BOOT's clusters loop",
        DEPENDS,
        "esp-file-system",
        "in a circle",
        |image, esp, _| lead(image, esp, BOOT, To::Itself),
    ),
    (
        "the root folder leads to a free cluster",
        DEPENDS,
        "esp-file-system",
        "is marked as free",
        |image, esp, _| lead(image, esp, ROOT, To::Entry(0)),
    ),
    (
        "the folder EFI leads to a free cluster",
        DEPENDS,
        "esp-file-system",
        "is marked as free",
        |image, esp, _| lead(image, esp, EFI, To::Entry(0)),
    ),
    (
        "the folder BOOT leads to a free cluster",
        DEPENDS,
        "esp-file-system",
        "is marked as free",
        |image, esp, _| lead(image, esp, BOOT, To::Entry(0)),
    ),
    (
        "the root folder leads to an unused cluster",
        DEPENDS,
        "esp-file-system",
        "cluster 50000 of it is marked as free",
        |image, esp, _| lead(image, esp, ROOT, To::Entry(50_000)),
    ),
    (
        "the folder BOOT leads to an unused cluster",
        DEPENDS,
        "esp-file-system",
        "cluster 50000 of it is marked as free",
        |image, esp, _| lead(image, esp, BOOT, To::Entry(50_000)),
    ),
    (
        "the root folder leads to a bad cluster",
        DEPENDS,
        "esp-file-system",
        "leads to a bad cluster",
        |image, esp, _| lead(image, esp, ROOT, To::Entry(0x0FFF_FFF7)),
    ),
    (
        "the folder EFI leads to a bad cluster",
        DEPENDS,
        "esp-file-system",
        "leads to a bad cluster",
        |image, esp, _| lead(image, esp, EFI, To::Entry(0x0FFF_FFF7)),
    ),
    (
        "the folder BOOT leads to a bad cluster",
        DEPENDS,
        "esp-file-system",
        "leads to a bad cluster",
        |image, esp, _| lead(image, esp, BOOT, To::Entry(0x0FFF_FFF7)),
    ),
    (
        "the root folder leads to another file",
        "starts",
        "",
        "",
        |image, esp, _| lead(image, esp, ROOT, To::TheStore),
    ),
    (
        "the folder EFI leads to another file",
        "starts",
        "",
        "",
        |image, esp, _| lead(image, esp, EFI, To::TheStore),
    ),
    (
        "the folder BOOT leads to another file",
        "starts",
        "",
        "",
        |image, esp, _| lead(image, esp, BOOT, To::TheStore),
    ),
    (
        "the root folder leads out of the volume",
        DEPENDS,
        "esp-file-system",
        "leads out of the volume",
        |image, esp, _| lead(image, esp, ROOT, To::Entry(0x0FFF_FFF0)),
    ),
    (
        "the folder BOOT leads out of the volume",
        DEPENDS,
        "esp-file-system",
        "leads out of the volume",
        |image, esp, _| lead(image, esp, BOOT, To::Entry(0x0FFF_FFF0)),
    ),
    (
        "the folder Microsoft's clusters loop",
        DEPENDS,
        "esp-file-system",
        "in a circle",
        |image, esp, _| lead(image, esp, "\\EFI\\Microsoft", To::Itself),
    ),
    (
        "another version of FAT32",
        FAILS,
        "esp-file-system",
        "version 0.1 of FAT32",
        |image, esp, _| boot_sectors(image, esp, 42, &[1, 0]),
    ),
    (
        "only the first FAT in use",
        DEPENDS,
        "esp-file-system",
        "FAT 1 of 2",
        |image, esp, _| boot_sectors(image, esp, 40, &[0x80]),
    ),
    (
        "only the second FAT in use",
        DEPENDS,
        "esp-file-system",
        "FAT 2 of 2",
        |image, esp, _| boot_sectors(image, esp, 40, &[0x81]),
    ),
    (
        "only a FAT in use that there is not",
        FAILS,
        "esp-file-system",
        "only FAT 16 of 2",
        |image, esp, _| boot_sectors(image, esp, 40, &[0x8F]),
    ),
    ("an ESP with FAT16", "starts", "", "", |image, esp, _| {
        remake(image, esp, &["-F", "16", "-s", "16"]);
    }),
    ("an ESP with FAT12", "starts", "", "", |image, esp, _| {
        remake(image, esp, &["-F", "12", "-s", "128"]);
    }),
    ("an ESP with one FAT", "starts", "", "", |image, esp, _| {
        remake(image, esp, &["-F", "32", "-s", "1", "-f", "1"]);
    }),
    (
        "an ESP with three FATs",
        "starts",
        "",
        "",
        |image, esp, _| remake(image, esp, &["-F", "32", "-s", "1", "-f", "3"]),
    ),
    (
        "an ESP with four FATs",
        "starts",
        "",
        "",
        |image, esp, _| remake(image, esp, &["-F", "32", "-s", "1", "-f", "4"]),
    ),
    (
        "an ESP with sectors of 1024 bytes",
        DEPENDS,
        "esp-file-system",
        "1024 bytes",
        |image, esp, _| remake(image, esp, &["-F", "32", "-s", "1", "-S", "1024"]),
    ),
    (
        "an ESP with sectors of 4096 bytes",
        DEPENDS,
        "esp-file-system",
        "4096 bytes",
        |image, esp, _| remake(image, esp, &["-F", "16", "-s", "2", "-S", "4096"]),
    ),
    (
        "a volume with FAT12 and a loader in front of the ESP",
        DEPENDS,
        "esp",
        "partition 1",
        |image, _, _| {
            retable(image, |entries| {
                let mut other = entries[2].clone();
                other.id = uuid::Uuid::from_u128(6);
                other.kind = type_guid::BASIC_DATA;
                (other.extent.first, other.extent.end) = (lba(40), lba(2048));
                entries.insert(0, other);
            });
            make(
                image,
                (40 * SECTOR, (2048 - 40) * SECTOR),
                &["-F", "12"],
                &|volume| {
                    put(volume, "::EFI/BOOT/BOOTX64.EFI", &returning_loader());
                },
            );
        },
    ),
    (
        "a second ESP in front without a loader",
        DEPENDS,
        "esp",
        "1, has no loader",
        |image, _, _| {
            retable(image, |entries| {
                let mut other = entries[2].clone();
                other.id = uuid::Uuid::from_u128(6);
                (other.extent.first, other.extent.end) = (lba(40), lba(2048));
                entries.insert(0, other);
            });
            make(
                image,
                (40 * SECTOR, (2048 - 40) * SECTOR),
                &["-F", "12"],
                &|volume| {
                    put(volume, "::readme", b"nothing to start");
                },
            );
        },
    ),
];

/// What the last cluster of a folder leads to.
enum To {
    Itself,
    /// The cluster at which the BCD store begins.
    TheStore,
    Entry(u32),
}

/// Lets the only cluster of a folder lead on, in both FATs.
fn lead(image: &Path, esp: (u64, u64), folder: &str, to: To) {
    let (shape, cluster, store) = {
        let device = DiskFile::open_read(image, Some(512)).unwrap();
        let window = Window::new(&device, extent(512, esp)).unwrap();
        let fat = FatVolume::open(&window).unwrap();
        let cluster = |path: &str| fat.find(path).unwrap().unwrap().cluster;
        let store = cluster("\\EFI\\Microsoft\\Boot\\BCD");
        (*fat.shape(), cluster(folder), store)
    };
    let entry = match to {
        To::Itself => cluster,
        To::TheStore => store,
        To::Entry(entry) => entry,
    };
    for fat in fats(&shape) {
        let at = esp.0 + fat * SECTOR + u64::from(cluster) * 4;
        assert_eq!(
            peek(image, at, 4),
            [0xFF, 0xFF, 0xFF, 0x0F],
            "its only cluster"
        );
        poke(image, at, &entry.to_le_bytes());
    }
}

/// Sectors of the volume at which its two FATs begin.
fn fats(shape: &FatShape) -> [u64; 2] {
    let first = u64::from(shape.reserved_sectors);
    [first, first + u64::from(shape.fat_sectors)]
}

/// Changes the boot sector and its copy.
fn boot_sectors(image: &Path, esp: (u64, u64), at: u64, bytes: &[u8]) {
    for boot_sector in [0, 6 * SECTOR] {
        poke(image, esp.0 + boot_sector + at, bytes);
    }
}

/// Makes the ESP's file system anew, with the same files.
fn remake(image: &Path, esp: (u64, u64), options: &[&str]) {
    let folder = tempfile::tempdir().unwrap();
    let source = format!("{}@@{}", image.display(), esp.0);
    let place = folder.path().to_str().unwrap();
    tool("mcopy", &["-s", "-n", "-i", &source, "::EFI", place]);
    let files = folder.path().join("EFI");
    make(image, esp, options, &|volume| {
        tool(
            "mcopy",
            &["-s", "-i", volume, files.to_str().unwrap(), "::"],
        );
    });
}

/// Makes a file system on a place of the disk, and fills it.
fn make(image: &Path, place: (u64, u64), options: &[&str], fill: &dyn Fn(&str)) {
    let folder = tempfile::tempdir().unwrap();
    let volume = folder.path().join("volume");
    extract(image, place, &volume);
    let path = volume.to_str().unwrap();
    tool("mkfs.vfat", &[options, &[path]].concat());
    fill(path);
    poke(image, place.0, &std::fs::read(&volume).unwrap());
}

/// Puts a file on a volume, with its folders.
fn put(volume: &str, path: &str, content: &[u8]) {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("file");
    std::fs::write(&file, content).unwrap();
    for (at, _) in path.match_indices('/') {
        tool("mmd", &["-i", volume, &path[..at]]);
    }
    tool("mcopy", &["-i", volume, file.to_str().unwrap(), path]);
}
