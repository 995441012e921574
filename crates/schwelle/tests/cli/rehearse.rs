//! Converted disks, each spoilt in one way: the rehearsal fails at the right step and names a
//! remedy.

use std::io::{Read, Seek, SeekFrom, Write};
use std::path::Path;

use schwelle_core::device::{BlockDevice, DiskFile, Extent};

use crate::support::{Lab, lba, peek, place, poke};
use schwelle_testkit::{copy_image, hash};

/// A stretch of a file as a stream: what the foreign FAT reader works on.
pub(crate) struct Slice {
    file: std::fs::File,
    base: u64,
    len: u64,
    at: u64,
}

impl Slice {
    pub(crate) fn open(path: &Path, (base, len): (u64, u64)) -> Self {
        let file = std::fs::File::options()
            .read(true)
            .write(true)
            .open(path)
            .unwrap();
        Self {
            file,
            base,
            len,
            at: 0,
        }
    }

    fn seek_file(&mut self, wanted: usize) -> usize {
        self.file
            .seek(SeekFrom::Start(self.base + self.at))
            .unwrap();
        wanted.min(usize::try_from(self.len - self.at).unwrap())
    }
}

impl Read for Slice {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let take = self.seek_file(buffer.len());
        let read = self.file.read(&mut buffer[..take])?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Write for Slice {
    fn write(&mut self, buffer: &[u8]) -> std::io::Result<usize> {
        let take = self.seek_file(buffer.len());
        let written = self.file.write(&buffer[..take])?;
        self.at += written as u64;
        Ok(written)
    }
    fn flush(&mut self) -> std::io::Result<()> {
        self.file.flush()
    }
}

impl Seek for Slice {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        self.at = match to {
            SeekFrom::Start(at) => at,
            SeekFrom::End(by) => self.len.checked_add_signed(by).unwrap(),
            SeekFrom::Current(by) => self.at.checked_add_signed(by).unwrap(),
        };
        Ok(self.at)
    }
}

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

fn edit_store(root: &fatfs::Dir<'_, Slice>, old: &[u8], new: &[u8]) {
    let mut bytes = Vec::new();
    root.open_file(STORE)
        .unwrap()
        .read_to_end(&mut bytes)
        .unwrap();
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
const STORE: &str = "EFI/Microsoft/Boot/BCD";

type Spoil = fn(&Path, (u64, u64), (u64, u64));

/// Name, failing step, evidence, how the disk is spoilt (image, place of the EFI system partition,
/// place of Windows).
const SPOILT: &[(&str, &str, &str, Spoil)] = &[
    (
        "protective entry gone",
        "protective-mbr",
        "no partition entry",
        |image, _, _| poke(image, 446, &[0; 16]),
    ),
    (
        "primary header CRC wrong",
        "primary-table",
        "LBA 1: the checksum of the GPT header",
        |image, _, _| {
            let sum = peek(image, 512 + 16, 1);
            poke(image, 512 + 16, &[!sum[0]]);
        },
    ),
    (
        "primary entries changed",
        "primary-table",
        "LBA 2: the checksum of the GPT entries",
        |image, _, _| {
            poke(image, 1024 + 56, &[0xAB]);
        },
    ),
    (
        "backup missing",
        "backup-table",
        "no GPT header",
        |image, _, _| {
            let len = std::fs::metadata(image).unwrap().len();
            poke(image, len - 512, &[0; 512]);
        },
    ),
    (
        "ESP type wrong",
        "esp",
        "none of the 3 partitions",
        |image, _, _| retype_esp(image),
    ),
    (
        "ESP boot sector gone",
        "esp-file-system",
        "no FAT32 volume",
        |image, esp, _| poke(image, esp.0, &[0; 512]),
    ),
    (
        "FATs differ",
        "esp-file-system",
        "the two FATs differ",
        |image, esp, _| poke(image, esp.0 + 32 * 512 + 400, &[7]),
    ),
    (
        "loader missing",
        "loader",
        "\\EFI\\BOOT\\BOOTX64.EFI is not there",
        |image, esp, _| {
            on_esp(image, esp, |root| root.remove(LOADER).unwrap());
        },
    ),
    (
        "loader for another architecture",
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
        "loader-image",
        "truncated",
        |image, esp, _| {
            on_esp(image, esp, |root| {
                let mut bytes = Vec::new();
                root.open_file(LOADER)
                    .unwrap()
                    .read_to_end(&mut bytes)
                    .unwrap();
                write_file(root, LOADER, &bytes[..900]);
            });
        },
    ),
    (
        "loader is no program",
        "loader-image",
        "not a program image",
        |image, esp, _| {
            on_esp(image, esp, |root| write_file(root, LOADER, b"#!/bin/sh"));
        },
    ),
    (
        "store missing",
        "boot-store",
        "BCD is not there",
        |image, esp, _| {
            on_esp(image, esp, |root| root.remove(STORE).unwrap());
        },
    ),
    (
        "store is no hive",
        "boot-store",
        "no registry hive",
        |image, esp, _| {
            on_esp(image, esp, |root| write_file(root, STORE, &[0; 8192]));
        },
    ),
    (
        "store names another disk",
        "boot-manager",
        "names the disk",
        |image, esp, _| {
            let disk_id = peek(image, 512 + 56, 16);
            on_esp(image, esp, |root| edit_store(root, &disk_id, &[0xD1; 16]));
        },
    ),
    (
        "entry names a partition that is not there",
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
        "system-loader",
        "not a program image",
        |image, _, windows| {
            put_on_windows(image, windows, "\\Windows\\System32\\winload.efi", &[]);
        },
    ),
    (
        "kernel for another architecture",
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
];

/// Puts a program in the place of a file on the Windows volume.
fn put_on_windows(image: &Path, (offset, len): (u64, u64), path: &str, program: &[u8]) {
    let device = DiskFile::open_write(image, Some(512)).unwrap();
    let extent = Extent {
        first: lba(offset / 512),
        end: lba((offset + len) / 512),
    };
    schwelle_demo::put_program(&device, extent, path, program).unwrap();
    device.flush().unwrap();
}

/// Gives the ESP the type "basic data" in both copies, with right checksums.
fn retype_esp(image: &Path) {
    use schwelle_core::device::HostFacts;
    use schwelle_core::gpt::{GptLayout, type_guid};
    use schwelle_core::profile::{Profile, Table};
    let device = DiskFile::open_write(image, Some(512)).unwrap();
    let Table::Gpt { pair, .. } = Profile::read(&device, HostFacts::default()).unwrap().table
    else {
        panic!()
    };
    let copy = pair.best().unwrap();
    let mut entries: Vec<_> = copy
        .entries
        .iter()
        .map(|(_, entry)| entry.clone())
        .collect();
    entries[2].kind = type_guid::BASIC_DATA;
    GptLayout {
        disk_id: copy.header.disk_id,
        entries,
    }
    .write(&device)
    .unwrap();
}

#[test]
fn each_fault_is_met_at_its_own_step() {
    let lab = Lab::new();
    let (converted, record) = lab.converted("converted.img", 512);
    let (esp, windows) = (place(&record, "EFI system"), place(&record, "Windows"));
    for (name, step, evidence, spoil) in SPOILT {
        let image = lab.path("spoilt.img");
        copy_image(&converted, &image);
        spoil(&image, esp, windows);
        let before = hash(&image);
        let run = lab.run(&["rehearse", image.to_str().unwrap(), "--json"]);
        let json = run.json();
        assert_eq!(
            (run.code, &json["starts"]),
            (1, &false.into()),
            "{name}: {}",
            run.stdout
        );
        let last = json["steps"].as_array().unwrap().last().unwrap();
        assert_eq!(
            (&last["step"], &last["outcome"]),
            (&(*step).into(), &"fail".into()),
            "{name}: {last}"
        );
        assert!(
            last["evidence"]["text"]
                .as_str()
                .unwrap()
                .contains(evidence),
            "{name}: {last}"
        );
        assert!(
            last["remedy"]["text"]
                .as_str()
                .is_some_and(|remedy| remedy.len() > 20),
            "{name}: {last}"
        );
        assert_eq!(hash(&image), before, "{name}: rehearse only reads");
    }
}

#[test]
fn a_boot_entrys_own_loader_is_walked_and_an_mbr_disk_does_not_start() {
    let lab = Lab::new();
    let (image, _) = lab.converted("disk.img", 512);
    let path = image.to_str().unwrap();
    for (loader, code) in [
        ("\\EFI\\Microsoft\\Boot\\bootmgfw.efi", 0),
        ("\\efi\\microsoft\\boot\\BOOTMGFW.EFI", 0),
        ("\\EFI\\none.efi", 1),
    ] {
        assert_eq!(
            lab.run(&["rehearse", path, "--loader", loader, "--quiet"])
                .code,
            code,
            "{loader}"
        );
    }
    let (mbr, _) = lab.standard("mbr.img", 512);
    let run = lab.run(&["rehearse", mbr.to_str().unwrap()]);
    assert_eq!(run.code, 1);
    assert!(
        run.stdout.contains("an MBR with partitions of its own")
            && run.stdout.contains("schwelle check")
    );
}

#[test]
fn what_is_to_be_typed_names_the_disk() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let path = image.to_str().unwrap();
    for args in [&["rehearse", path][..], &["confirm", path]] {
        let run = lab.run(args);
        assert_eq!(run.code, 1, "{}", run.stdout);
        let flat = run.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(!flat.contains(" DISK"), "{flat}");
        assert!(flat.contains(&format!("schwelle check {path}")), "{flat}");
    }
}
