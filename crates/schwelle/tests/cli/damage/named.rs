//! Named damages along the boot path, each in one place.

use std::io::{Read, Write};
use std::path::Path;

use schwelle_core::device::{BlockDevice, DiskFile, Extent};
use schwelle_core::gpt::{GptEntry, GptLayout, GptPair, type_guid};

use crate::rehearse::Slice;
use crate::support::{lba, peek, poke};

/// Changes files on the EFI system partition with another's FAT implementation.
fn on_esp(image: &Path, esp: (u64, u64), change: impl FnOnce(&fatfs::Dir<'_, Slice>)) {
    let volume = fatfs::FileSystem::new(Slice::open(image, esp), fatfs::FsOptions::new()).unwrap();
    change(&volume.root_dir());
    volume.unmount().unwrap();
}

fn write_file(root: &fatfs::Dir<'_, Slice>, path: &str, bytes: &[u8]) {
    let mut file = root.create_file(path).unwrap();
    file.truncate().unwrap();
    file.write_all(bytes).unwrap();
}

fn read_file(root: &fatfs::Dir<'_, Slice>, path: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut file = root.open_file(path).unwrap();
    file.read_to_end(&mut bytes).unwrap();
    bytes
}

fn edit_store(root: &fatfs::Dir<'_, Slice>, old: &[u8], new: &[u8]) {
    let mut bytes = read_file(root, STORE);
    let mut found = 0;
    for at in 0..bytes.len() - old.len() {
        if bytes[at..].starts_with(old) {
            bytes[at..at + new.len()].copy_from_slice(new);
            found += 1;
        }
    }
    assert!(found > 0);
    write_file(root, STORE, &bytes);
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

const LOADER: &str = "EFI/BOOT/BOOTX64.EFI";
const BY_ENTRY: &str = "EFI/Microsoft/Boot/bootmgfw.efi";
const STORE: &str = "EFI/Microsoft/Boot/BCD";

/// How a disk is damaged: the image, the place of the EFI system partition, the place of Windows.
type Damage = fn(&Path, (u64, u64), (u64, u64));

/// Name, the answer, the first step that does not hold, what it says, how the disk is damaged.
pub(super) type Named = (
    &'static str,
    &'static str,
    &'static str,
    &'static str,
    Damage,
);

pub(super) const DEPENDS: &str = "depends";
pub(super) const FAILS: &str = "does-not-start";

pub(super) const NAMED: &[Named] = &[
    (
        "protective entry gone",
        FAILS,
        "protective-mbr",
        "no partition entry",
        |image, _, _| poke(image, 446, &[0; 16]),
    ),
    (
        "primary header CRC wrong",
        DEPENDS,
        "primary-table",
        "LBA 1: the checksum of the GPT header",
        |image, _, _| {
            let sum = peek(image, 512 + 16, 1);
            poke(image, 512 + 16, &[!sum[0]]);
        },
    ),
    (
        "primary entries changed",
        DEPENDS,
        "primary-table",
        "LBA 2: the checksum of the GPT entries",
        |image, _, _| {
            poke(image, 1024 + 56, &[0xAB]);
        },
    ),
    (
        "backup missing",
        DEPENDS,
        "backup-table",
        "no GPT header",
        |image, _, _| {
            let len = std::fs::metadata(image).unwrap().len();
            poke(image, len - 512, &[0; 512]);
        },
    ),
    (
        "ESP type wrong",
        DEPENDS,
        "esp",
        "but partition 3 holds the loader",
        |image, _, _| retype_esp(image),
    ),
    (
        "ESP boot sector gone",
        FAILS,
        "esp-file-system",
        "no FAT volume",
        |image, esp, _| poke(image, esp.0, &[0; 512]),
    ),
    (
        "FATs differ",
        DEPENDS,
        "esp-file-system",
        "the FATs differ",
        |image, esp, _| poke(image, esp.0 + 32 * 512 + 400, &[7]),
    ),
    (
        "loader missing",
        DEPENDS,
        "loader",
        "BOOTX64.EFI is missing",
        |image, esp, _| {
            on_esp(image, esp, |root| root.remove(LOADER).unwrap());
        },
    ),
    (
        "loader for another architecture",
        DEPENDS,
        "loader-image",
        "made for ARM64, not for x64",
        |image, esp, _| {
            on_esp(image, esp, |root| {
                write_file(root, LOADER, schwelle_demo::BOOT_PROGRAM_ARM64);
            });
        },
    ),
    (
        "loader truncated",
        DEPENDS,
        "loader-image",
        "truncated",
        |image, esp, _| {
            on_esp(image, esp, |root| {
                let bytes = read_file(root, LOADER);
                write_file(root, LOADER, &bytes[..900]);
            });
        },
    ),
    (
        "loader is no program",
        DEPENDS,
        "loader-image",
        "not a program image",
        |image, esp, _| {
            on_esp(image, esp, |root| write_file(root, LOADER, b"#!/bin/sh"));
        },
    ),
    (
        "store missing",
        FAILS,
        "bcd-store",
        "BCD is not there",
        |image, esp, _| {
            on_esp(image, esp, |root| root.remove(STORE).unwrap());
        },
    ),
    (
        "store is no hive",
        FAILS,
        "bcd-store",
        "no registry hive",
        |image, esp, _| {
            on_esp(image, esp, |root| write_file(root, STORE, &[0; 8192]));
        },
    ),
    (
        "store names another disk",
        FAILS,
        "boot-manager",
        "names the disk",
        |image, esp, _| {
            let disk_id = peek(image, 512 + 56, 16);
            on_esp(image, esp, |root| edit_store(root, &disk_id, &[0xD1; 16]));
        },
    ),
    (
        "entry names a partition that is not there",
        FAILS,
        "entry-devices",
        "which this disk does not have",
        |image, esp, _| {
            let windows_id = peek(image, 1024 + 128 + 16, 16);
            on_esp(image, esp, |root| {
                edit_store(root, &windows_id, &[0xD1; 16]);
            });
        },
    ),
    (
        "default entry missing",
        FAILS,
        "default-entry",
        "default entry is not in the store",
        |image, esp, _| {
            let (old, new) = (
                "{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7701}",
                "{00000000-61c2-4b7e-9a44-0c5e9b1f7701}",
            );
            on_esp(image, esp, |root| {
                edit_store(root, &utf16(old), &utf16(new));
            });
        },
    ),
    (
        "system loader missing",
        FAILS,
        "system-loader",
        "winloaX.efi is missing",
        |image, esp, _| {
            on_esp(image, esp, |root| {
                edit_store(root, &utf16("winload.efi"), &utf16("winloaX.efi"));
            });
        },
    ),
    (
        "system loader overwritten",
        FAILS,
        "system-loader",
        "not a program image",
        |image, _, windows| {
            put_on_windows(image, windows, "\\Windows\\System32\\winload.efi", &[]);
        },
    ),
    (
        "kernel for another architecture",
        FAILS,
        "kernel",
        "made for 32-bit x86",
        |image, _, windows| {
            put_on_windows(
                image,
                windows,
                "\\Windows\\System32\\ntoskrnl.exe",
                schwelle_demo::KERNEL_32BIT,
            );
        },
    ),
    (
        "both loaders missing",
        FAILS,
        "loader",
        "\\EFI\\BOOT\\BOOTX64.EFI is not there",
        |image, esp, _| {
            on_esp(image, esp, |root| {
                root.remove(LOADER).unwrap();
                root.remove(BY_ENTRY).unwrap();
            });
        },
    ),
    (
        "both loaders cut off",
        FAILS,
        "loader-image",
        "truncated",
        |image, esp, _| {
            on_esp(image, esp, |root| {
                for path in [LOADER, BY_ENTRY] {
                    let bytes = read_file(root, path);
                    write_file(root, path, &bytes[..900]);
                }
            });
        },
    ),
    (
        "all but the headers of both loaders zeros",
        FAILS,
        "loader-image",
        "",
        |image, esp, _| {
            on_esp(image, esp, |root| {
                for path in [LOADER, BY_ENTRY] {
                    let mut bytes = read_file(root, path);
                    bytes[0x400..].fill(0);
                    write_file(root, path, &bytes);
                }
            });
        },
    ),
    (
        "the loader of the boot entry damaged",
        DEPENDS,
        "entry-loader",
        "not the same",
        |image, esp, _| {
            on_esp(image, esp, |root| {
                let mut bytes = read_file(root, BY_ENTRY);
                let last = bytes.len() - 1;
                bytes[last] ^= 1;
                write_file(root, BY_ENTRY, &bytes);
            });
        },
    ),
    (
        "sector 0 without its signature",
        DEPENDS,
        "protective-mbr",
        "the signature 55 AA is missing",
        |image, _, _| poke(image, 510, &[0, 0]),
    ),
    (
        "the protective entry active",
        DEPENDS,
        "protective-mbr",
        "the flag 80h",
        |image, _, _| poke(image, 446, &[0x80]),
    ),
    (
        "the protective entry too short",
        DEPENDS,
        "protective-mbr",
        "covers 7 sectors",
        |image, _, _| poke(image, 446 + 12, &[7, 0, 0, 0]),
    ),
    (
        "the protective entry elsewhere",
        FAILS,
        "protective-mbr",
        "begins at LBA 2",
        |image, _, _| poke(image, 446 + 8, &[2, 0, 0, 0]),
    ),
    (
        "a second entry beside the protective one",
        DEPENDS,
        "protective-mbr",
        "1 more entries",
        |image, _, _| {
            poke(image, 446 + 16 + 4, &[7]);
            poke(image, 446 + 16 + 8, &[0, 8, 0, 0, 0, 8, 0, 0]);
        },
    ),
    (
        "copies of the table that differ",
        DEPENDS,
        "tables-agree",
        "the partition entries differ",
        |image, _, _| {
            let primary = peek(image, 0, 34 * 512);
            retable(image, |entries| entries[0].id = uuid::Uuid::from_u128(5));
            poke(image, 0, &primary);
        },
    ),
    (
        "the ESP hidden from firmware",
        FAILS,
        "esp",
        "does not show it (bit 1)",
        |image, _, _| retable(image, |entries| entries[2].attributes |= 2),
    ),
    (
        "the ESP marked for old BIOS starts",
        "starts",
        "",
        "",
        |image, _, _| retable(image, |entries| entries[2].attributes |= 4),
    ),
    (
        "the ESP overlapping its neighbour",
        FAILS,
        "esp",
        "overlaps partition",
        |image, _, _| {
            retable(image, |entries| {
                let first = entries[2].extent.first.0 - 100;
                entries[2].extent.first = lba(first);
            });
        },
    ),
    (
        "a partition in front with the type of an ESP",
        DEPENDS,
        "esp",
        "the first EFI system partition, 1, has no loader",
        |image, _, _| retable(image, |entries| entries[0].kind = type_guid::EFI_SYSTEM),
    ),
    (
        "an empty partition in front with the type of an ESP",
        DEPENDS,
        "esp",
        "has no loader",
        |image, _, _| {
            retable(image, |entries| {
                let mut empty = entries[2].clone();
                empty.id = uuid::Uuid::from_u128(6);
                (empty.extent.first, empty.extent.end) = (lba(40), lba(2048));
                entries.insert(0, empty);
            });
        },
    ),
    (
        "the ESP without a GUID",
        FAILS,
        "esp",
        "has no GUID of its own",
        |image, _, _| retable(image, |entries| entries[2].id = uuid::Uuid::nil()),
    ),
    (
        "the ESP's boot sector without its jump",
        DEPENDS,
        "esp-file-system",
        "does not begin with a jump",
        |image, esp, _| poke(image, esp.0, &[0]),
    ),
    (
        "the ESP's boot sector without its signature",
        DEPENDS,
        "esp-file-system",
        "no signature 55 AA",
        |image, esp, _| poke(image, esp.0 + 510, &[0]),
    ),
    (
        "another media byte",
        DEPENDS,
        "esp-file-system",
        "media byte is 01h",
        |image, esp, _| poke(image, esp.0 + 21, &[1]),
    ),
    (
        "a longer volume than its partition",
        DEPENDS,
        "esp-file-system",
        "and the partition has",
        |image, esp, _| {
            let sectors = u32::try_from(esp.1 / 512 + 1000).unwrap();
            poke(image, esp.0 + 32, &sectors.to_le_bytes());
        },
    ),
    (
        "the boot sector's copy gone",
        DEPENDS,
        "esp-file-system",
        "the boot sector and its copy differ",
        |image, esp, _| poke(image, esp.0 + 6 * 512, &[0; 512]),
    ),
    (
        "the folder's entry a label",
        FAILS,
        "loader",
        "is not there",
        |image, esp, _| {
            let at = find_on_esp(image, esp, b"EFI        ");
            poke(image, at + 11, &[0x18]);
        },
    ),
    (
        "the loader's entry a folder",
        DEPENDS,
        "loader",
        "BOOTX64.EFI is missing",
        |image, esp, _| {
            let at = find_on_esp(image, esp, b"BOOTX64 EFI");
            poke(image, at + 11, &[0x10]);
        },
    ),
    (
        "a long name with a wrong checksum",
        FAILS,
        "bcd-store",
        "BCD is not there",
        |image, esp, _| {
            let at = find_on_esp(image, esp, b"MICROS~1   ");
            poke(image, at - 32 + 13, &[0xAA]);
        },
    ),
];

/// Puts a program in the place of a file on the Windows volume.
fn put_on_windows(image: &Path, (offset, len): (u64, u64), path: &str, program: &[u8]) {
    let device = DiskFile::open_write(image, Some(512)).unwrap();
    let extent = Extent::between(lba(offset / 512), lba((offset + len) / 512));
    schwelle_demo::put_program(&device, extent, path, program).unwrap();
    device.flush().unwrap();
}

/// Gives the ESP the type "basic data" in both copies.
fn retype_esp(image: &Path) {
    retable(image, |entries| entries[2].kind = type_guid::BASIC_DATA);
}

/// Changes entries in both copies, with right checksums.
pub(super) fn retable(image: &Path, change: impl FnOnce(&mut Vec<GptEntry>)) {
    let device = DiskFile::open_write(image, Some(512)).unwrap();
    let mut layout = GptLayout::of(GptPair::read(&device).best().unwrap()).unwrap();
    change(&mut layout.entries);
    layout.write(&device).unwrap();
    device.flush().unwrap();
}

/// Where these bytes stand on the EFI system partition.
pub(super) fn find_on_esp(image: &Path, (at, len): (u64, u64), bytes: &[u8]) -> u64 {
    let whole = peek(image, at, usize::try_from(len).unwrap());
    let mut windows = whole.windows(bytes.len());
    at + windows.position(|window| window == bytes).unwrap() as u64
}
