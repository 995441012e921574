//! Builds a disk of the table, with volumes made by the file systems' own utilities.

use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::Extent;
use schwelle_demo::{Asset, DiskBuilder, MbrEntry};

use super::disks::{Case, Inside, Part};
use crate::support::{COMPUTER, Lab, SIGNATURE, lba};
use crate::volumes::{Mount, format};
use schwelle_testkit::tool;

const MIB: u64 = 1 << 20;

/// Makes a volume of this kind in a file, once for each length.
fn volume(lab: &Lab, inside: Inside, sector: u32, len_bytes: u64) -> PathBuf {
    let path = lab.path(&format!("{inside:?}-{sector}-{len_bytes}"));
    if path.exists() {
        return path;
    }
    let (file, size) = (path.to_str().unwrap(), sector.to_string());
    let folder = lab.path("files");
    fs::create_dir_all(folder.join("box")).unwrap();
    fs::write(folder.join("box/log book.txt"), vec![0x4C; 70_000]).unwrap();
    fs::write(folder.join("note.txt"), "the lamp was lit at dusk").unwrap();
    let make = |tool_name: &str, args: &[&str]| {
        fs::File::create(&path).unwrap().set_len(len_bytes).unwrap();
        tool(tool_name, args)
    };
    match inside {
        Inside::Ntfs => {
            format(&path, len_bytes, sector, 4096);
            let mount = Mount::new(&path, true);
            fs::write(mount.path("log book.txt"), vec![0x4C; 70_000]).unwrap();
            fs::write(mount.path("note.txt"), "the lamp was lit at dusk").unwrap();
        }
        Inside::Fat32 => {
            make("mkfs.vfat", &["-F", "32", "-S", &size, "-n", "TONNE", file]);
            let files = folder.join("box");
            let args = ["-s", "-i", file, files.to_str().unwrap(), "::box"];
            tool("mcopy", &args);
        }
        Inside::Ext => {
            let args = ["-q", "-F", "-t", "ext4", "-L", "Boje", "-d"];
            make(
                "mke2fs",
                &[&args[..], &[folder.to_str().unwrap(), file]].concat(),
            );
        }
        Inside::OldEsp => {
            make(
                "mkfs.vfat",
                &["-F", "32", "-S", &size, "-n", "OLDESP", file],
            );
            fill_old_esp(lab, &path);
        }
        Inside::OldEsp16 => make("mkfs.vfat", &["-F", "16", "-S", &size, file])
            .code
            .eq(&0)
            .then_some(())
            .unwrap(),
        Inside::OnlyBoot | Inside::BootAndRecovery | Inside::BootAndLetters => {
            format(&path, len_bytes, sector, 4096);
            let standard = lab.image("standard.img", 512, 60, |disk| {
                let extent = Extent::new(lba(0), 50 * 2048).unwrap();
                disk.volume(Asset::Boot, extent).unwrap();
            });
            let (from, mount) = (Mount::new(&standard, false), Mount::new(&path, true));
            fs::copy(from.path("bootmgr"), mount.path("bootmgr")).unwrap();
            fs::create_dir(mount.path("Boot")).unwrap();
            fs::copy(from.path("Boot/BCD"), mount.path("Boot/BCD")).unwrap();
            if inside == Inside::BootAndRecovery {
                fs::create_dir_all(mount.path("Recovery/WindowsRE")).unwrap();
                fs::write(mount.path("Recovery/WindowsRE/Winre.wim"), vec![7; 3 << 20]).unwrap();
            }
            if inside == Inside::BootAndLetters {
                fs::write(mount.path("letters to mother.odt"), "dear mother").unwrap();
            }
        }
        _ => panic!("{inside:?} is not made by a utility"),
    }
    path
}

/// Files of another system on an EFI system partition.
fn fill_old_esp(lab: &Lab, volume: &Path) {
    let folder = lab.path("EFI");
    fs::create_dir_all(folder.join("keeper")).unwrap();
    fs::create_dir_all(folder.join("BOOT")).unwrap();
    fs::write(folder.join("keeper/keeperx64.efi"), vec![0x4B; 50_000]).unwrap();
    fs::write(folder.join("BOOT/BOOTX64.EFI"), vec![0x4B; 50_000]).unwrap();
    let args = [
        "-s",
        "-i",
        volume.to_str().unwrap(),
        folder.to_str().unwrap(),
        "::EFI",
    ];
    tool("mcopy", &args);
}

/// Puts the content of a partition in its place.
fn fill(lab: &Lab, disk: &DiskBuilder<'_>, sector: u32, part: &Part) {
    let Part(_, first_mib, mib, inside) = *part;
    let per_mib = MIB / u64::from(sector);
    let extent = Extent::new(lba(first_mib * per_mib), mib * per_mib).unwrap();
    match inside {
        Inside::Boot => disk.volume(Asset::Boot, extent).unwrap(),
        Inside::Windows => disk.volume(Asset::Windows, extent).unwrap(),
        Inside::Encrypted => {
            disk.volume(Asset::Windows, extent).unwrap();
            disk.encrypt(extent).unwrap();
        }
        Inside::Marked => {
            for at in [extent.first.0, extent.last().0] {
                disk.bytes(lba(at), format!("mark {at}").as_bytes())
                    .unwrap();
            }
        }
        made => {
            let content = fs::read(volume(lab, made, sector, mib * MIB)).unwrap();
            disk.bytes(extent.first, &content).unwrap();
            if made.is_boot() {
                let (old, new) = (0x51C3_A7E5_u32.to_le_bytes(), SIGNATURE.to_le_bytes());
                let device = disk.device();
                schwelle_demo::replace_bytes(device, extent, "\\Boot\\BCD", &old, &new).unwrap();
            }
        }
    }
}

/// Builds the disk.
pub(super) fn build(lab: &Lab, case: &Case) -> PathBuf {
    let per_mib = MIB / u64::from(case.sector);
    let number = |mib: u64| u32::try_from(mib * per_mib).unwrap();
    let image = lab.image("disk.img", case.sector, case.mib, |disk| {
        let standard = case.parts.iter().any(|part| part.3 == Inside::Windows);
        if standard {
            // With its own signature and name in BCD store and registry.
            disk.standard(SIGNATURE, COMPUTER).unwrap();
        }
        let in_place = |part: &Part| standard && matches!(part.3, Inside::Boot | Inside::Windows);
        for part in case.parts.iter().chain(case.logical) {
            if !in_place(part) {
                fill(lab, disk, case.sector, part);
            }
        }
        let mut entries: Vec<MbrEntry> = case
            .parts
            .iter()
            .map(|part| MbrEntry {
                active: part.3.is_boot(),
                kind: part.0,
                first: number(part.1),
                sectors: number(part.2),
            })
            .collect();
        // Each logical partition lies one MiB after its record.
        let record = |part: &Part| number(part.1 - 1);
        let extended = case.logical.first().map_or(0, record);
        if let Some(last) = case.logical.last() {
            entries.push(MbrEntry {
                active: false,
                kind: 0x0F,
                first: extended,
                sectors: number(last.1 + last.2) - extended,
            });
        }
        if !case.parts.is_empty() {
            disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
        }
        for (index, part) in case.logical.iter().enumerate() {
            let mut entries = vec![MbrEntry {
                active: false,
                kind: part.0,
                first: number(1),
                sectors: number(part.2),
            }];
            if let Some(next) = case.logical.get(index + 1) {
                entries.push(MbrEntry {
                    active: false,
                    kind: 0x05,
                    first: record(next) - extended,
                    sectors: number(1 + next.2),
                });
            }
            disk.boot_record(lba(record(part).into()), 0, &entries)
                .unwrap();
        }
    });
    (case.tweak)(&image);
    image
}
