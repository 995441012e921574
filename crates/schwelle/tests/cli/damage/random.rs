//! Damages at random along the boot path. Each has a number; the same number damages the same bytes.

use std::path::{Path, PathBuf};

use schwelle_core::device::{DiskFile, Window};
use schwelle_core::fat::FatVolume;
use schwelle_testkit::Dice;

use super::{Base, Compared, extent};
use crate::support::{peek, poke};

/// Which bytes are damaged.
#[derive(Debug, Clone, Copy)]
enum Kind {
    /// One place or two, wherever.
    Random,
    /// What is kept twice, in both copies alike and with right checksums: no other copy tells that it is damaged.
    Alike,
}

impl Kind {
    /// How many are tried at each sector size, where no other number is asked for.
    fn usual(self) -> u64 {
        match self {
            Self::Random => 120,
            Self::Alike => 30,
        }
    }
}

/// A stretch of the boot path.
struct Region {
    what: &'static str,
    at: u64,
    len: u64,
    /// Where its copy begins.
    copy: Option<u64>,
}

/// The stretches that firmware goes by.
fn regions(base: &Base) -> Vec<Region> {
    let sector = u64::from(base.sector);
    let len = std::fs::metadata(&base.image).unwrap().len();
    let mut regions = Vec::new();
    let mut add = |what, at, copy, len| {
        regions.push(Region {
            what,
            at,
            len,
            copy,
        });
    };
    add("sector 0", 0, None, 512);
    add("protective entry", 446, None, 66);
    add("primary header", sector, Some(len - sector), 92);
    let backup_entries =
        u64::from_le_bytes(peek(&base.image, len - sector + 72, 8).try_into().unwrap());
    let backup_entries = backup_entries * sector;
    add("primary entries", 2 * sector, Some(backup_entries), 3 * 128);
    add("backup header", len - sector, None, 92);
    add("backup entries", backup_entries, None, 3 * 128);
    let esp = base.esp.0;
    add("boot sector", esp, Some(esp + 6 * sector), 90);
    add(
        "boot sector's end",
        esp + 500,
        Some(esp + 6 * sector + 500),
        12,
    );
    add("information sector", esp + sector, None, 512);
    add("boot sector's copy", esp + 6 * sector, None, 512);

    let device = DiskFile::open_read(&base.image, Some(base.sector)).unwrap();
    let window = Window::new(&device, extent(base.sector, base.esp)).unwrap();
    let fat = FatVolume::open(&window).unwrap();
    let shape = fat.shape();
    let first_fat = esp + u64::from(shape.reserved_sectors) * sector;
    let second_fat = first_fat + u64::from(shape.fat_sectors) * sector;
    for path in [
        "",
        "\\EFI",
        "\\EFI\\BOOT",
        "\\EFI\\BOOT\\BOOTX64.EFI",
        "\\EFI\\Microsoft",
        "\\EFI\\Microsoft\\Boot",
        "\\EFI\\Microsoft\\Boot\\bootmgfw.efi",
        "\\EFI\\Microsoft\\Boot\\BCD",
    ] {
        let entry = fat.find(path).unwrap().unwrap();
        let content = esp + fat.extents_of(&entry).unwrap()[0].first.0 * sector;
        match entry.is_directory {
            true => add("folder", content, None, 256),
            false => add("file", content, None, 1024),
        }
        if path.ends_with(".EFI") || path.ends_with(".efi") {
            add("program header", content, None, 0x170);
        }
        let in_fat = u64::from(entry.cluster) * 4;
        let in_second = second_fat + in_fat;
        add("first FAT", first_fat + in_fat, Some(in_second), 16);
        add("second FAT", in_second, None, 16);
    }
    regions
}

/// Damages a disk; what was done, in words.
fn damage(base: &Base, (kind, regions): (Kind, &[Region]), image: &Path, number: u64) -> String {
    let mut dice = Dice::new(number);
    let mut shown = Vec::new();
    let times = if dice.once_in(4) { 2 } else { 1 };
    let regions: Vec<&Region> = regions
        .iter()
        .filter(|region| matches!(kind, Kind::Random) || region.copy.is_some())
        .collect();
    for _ in 0..times {
        let region = regions[dice.index(regions.len())];
        let at = dice.below(region.len);
        let most = usize::try_from(region.len - at).unwrap();
        let old = peek(image, region.at + at, most.min(16));
        let mut new = old.clone();
        match dice.below(5) {
            0 => new[0] ^= 1 << dice.below(8),
            1 => new[0] = dice.bytes(1)[0],
            2 => {
                let bytes = dice.bytes(4);
                new.iter_mut().zip(bytes).for_each(|(to, from)| *to = from);
            }
            3 => new.fill(0),
            _ => new.fill(0xFF),
        }
        poke(image, region.at + at, &new);
        shown.push(format!("{}+{at}: {old:02x?} -> {new:02x?}", region.what));
        let len = std::fs::metadata(image).unwrap().len();
        let (primary, backup) = (u64::from(base.sector), len - u64::from(base.sector));
        if let (Kind::Alike, Some(copy)) = (kind, region.copy) {
            poke(image, copy + at, &new);
            if region.what.starts_with("primary") {
                seal(image, base.sector, primary);
                seal(image, base.sector, backup);
            }
            continue;
        }
        // Half of what hits a table has right checksums: what the fields say counts then.
        let header = match region.what {
            "primary header" | "primary entries" => Some(primary),
            "backup header" | "backup entries" => Some(backup),
            _ => None,
        };
        if let Some(header) = header.filter(|_| dice.once_in(2)) {
            seal(image, base.sector, header);
            shown.push("with right checksums".to_owned());
        }
    }
    format!("{kind:?} {number}: {}", shown.join(", "))
}

/// Makes the checksums of the header at this byte, and of its entries, right (UEFI 2.10 table 5.5).
pub(super) fn seal(image: &Path, sector: u32, header: u64) {
    let number = |at: u64, len: usize| {
        let mut bytes = [0; 8];
        bytes[..len].copy_from_slice(&peek(image, header + at, len));
        u64::from_le_bytes(bytes)
    };
    let entries = number(80, 4).saturating_mul(number(84, 4));
    let at = number(72, 8).saturating_mul(u64::from(sector));
    let len = std::fs::metadata(image).unwrap().len();
    if entries <= 1 << 20 && at.saturating_add(entries) <= len {
        let entries = peek(image, at, usize::try_from(entries).unwrap());
        poke(image, header + 88, &crc32fast::hash(&entries).to_le_bytes());
    }
    let bytes = number(12, 4);
    if (92..=u64::from(sector)).contains(&bytes) {
        let mut head = peek(image, header, usize::try_from(bytes).unwrap());
        head[16..20].fill(0);
        poke(image, header + 16, &crc32fast::hash(&head).to_le_bytes());
    }
}

/// So many disks on the medium at a time.
const BATCH: u64 = 64;

fn hold_against_firmware(sector: u32) {
    let base = Base::new(sector);
    for kind in [Kind::Random, Kind::Alike] {
        hold_kind_against_firmware(&base, kind);
    }
}

fn hold_kind_against_firmware(base: &Base, kind: Kind) {
    let asked = std::env::var("SCHWELLE_DAMAGES").ok();
    let count = asked.map_or(kind.usual(), |count| count.parse().unwrap());
    let (sector, regions) = (base.sector, regions(base));
    let (mut compared, mut mended_count, mut not_mended) = (Compared::default(), 0, Vec::new());
    let mut not_started = Vec::new();
    for first in (0..count).step_by(usize::try_from(BATCH).unwrap()) {
        let numbers: Vec<u64> = (first..count.min(first + BATCH)).collect();
        let images: Vec<PathBuf> = (0..numbers.len())
            .map(|slot| base.copy(&format!("random-{slot}.img")))
            .collect();
        let names: Vec<String> = numbers
            .iter()
            .zip(&images)
            .map(|(number, image)| damage(base, (kind, &regions), image, *number))
            .collect();
        let rehearsals: Vec<_> = images.iter().map(|image| base.rehearse(image)).collect();
        let started = base.started(&images);
        let mut mended = Vec::new();
        for (((name, image), rehearsal), started) in
            names.iter().zip(&images).zip(&rehearsals).zip(started)
        {
            compared.add(name, rehearsal, started);
            if rehearsal.starts() {
                continue;
            }
            match base.mend(image) {
                Ok(()) => mended.push((name, image.clone())),
                Err(why) => {
                    let why = why.split_whitespace().collect::<Vec<_>>().join(" ");
                    not_mended.push(format!("{:?}: {name}: {why}", rehearsal.answer()));
                }
            }
        }
        let images: Vec<PathBuf> = mended.iter().map(|(_, image)| image.clone()).collect();
        mended_count += images.len();
        for ((name, _), started) in mended.iter().zip(base.started(&images)) {
            if !started {
                not_started.push((*name).clone());
            }
        }
        eprintln!("{kind:?}, {sector}: {first}: {compared}");
    }
    eprintln!(
        "{kind:?}, {sector}: {mended_count} mended, {} not mended:",
        not_mended.len()
    );
    for why in &not_mended {
        eprintln!("  not mended: {why}");
    }
    assert!(compared.false_go.is_empty(), "{compared}");
    assert!(
        not_started.is_empty(),
        "mended, and not started: {not_started:#?}"
    );
    assert!(compared.refused() * 100 <= compared.all, "{compared}");
    // No copy says what an entry was that both tables name alike outside the disk.
    let depending = not_mended.iter().filter(|why| {
        why.starts_with("Depends") && !why.contains("are no sectors for a partition")
    });
    assert_eq!(depending.count(), 0, "{not_mended:#?}");
}

#[test]
#[ignore = "needs outside programs"]
fn random_damages_are_judged_as_real_firmware_judges_them_at_512() {
    hold_against_firmware(512);
}

#[test]
#[ignore = "needs outside programs"]
fn random_damages_are_judged_as_real_firmware_judges_them_at_4096() {
    hold_against_firmware(4096);
}
