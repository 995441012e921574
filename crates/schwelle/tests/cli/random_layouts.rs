//! Random sound layouts: converting keeps the start, length and content of every partition, a
//! partition lister that others wrote reads the table as we say it, and undo gives the disk back.

use std::path::Path;

use schwelle_demo::MbrEntry;

use crate::layouts::{Found, listed_at};
use crate::support::{COMPUTER, Lab, SIGNATURE, lba, peek, poke};
use schwelle_testkit::{Dice, hash};

const KINDS: [u8; 8] = [0x07, 0x0C, 0x06, 0x82, 0x83, 0x8E, 0xFD, 0x17];

/// A layout: the entries in sector 0, the boot records of the logical ones, and all partitions.
struct Layout {
    primary: Vec<MbrEntry>,
    records: Vec<(u64, Vec<MbrEntry>)>,
    partitions: Vec<(u64, u64)>,
}

fn entry(kind: u8, first: u64, sectors: u64) -> MbrEntry {
    MbrEntry {
        active: false,
        kind,
        first: u32::try_from(first).unwrap(),
        sectors: u32::try_from(sectors).unwrap(),
    }
}

/// Fills the sectors from `from` on with partitions of random kinds, lengths and distances: some
/// primary, then an extended partition of logical ones, each of these at a random distance after its record.
fn random(dice: &mut Dice, sector: u32, from: u64, primaries: usize) -> Layout {
    let per_mib = (1 << 20) / u64::from(sector);
    let mut at = from;
    let mut layout = Layout {
        primary: Vec::new(),
        records: Vec::new(),
        partitions: Vec::new(),
    };
    for _ in 0..dice.below(primaries as u64) {
        at += dice.below(3 * per_mib);
        let sectors = dice.between(1, 9 * per_mib);
        layout.primary.push(entry(dice.pick(&KINDS), at, sectors));
        layout.partitions.push((at, sectors));
        at += sectors;
    }
    let logical = dice.below(9);
    if logical == 0 {
        return layout;
    }
    let extended = at + dice.below(2 * per_mib);
    at = extended;
    let mut links = Vec::new();
    for number in 0..logical {
        // The first record is the extended partition's first sector.
        let record = at + u64::from(number > 0) * dice.below(per_mib);
        let first = record + dice.between(1, per_mib);
        let sectors = dice.between(1, 3 * per_mib);
        links.push((record, entry(dice.pick(&KINDS), first - record, sectors)));
        layout.partitions.push((first, sectors));
        at = first + sectors;
    }
    for (index, (record, own)) in links.iter().enumerate() {
        let mut entries = vec![*own];
        if let Some((next, theirs)) = links.get(index + 1) {
            let sectors = u64::from(theirs.first) + u64::from(theirs.sectors);
            entries.push(entry(0x05, next - extended, sectors));
        }
        layout.records.push((*record, entries));
    }
    let kind = dice.pick(&[0x05, 0x0F]);
    layout.primary.push(entry(kind, extended, at - extended));
    // In any order.
    let count = layout.primary.len();
    for index in 0..count {
        let other = usize::try_from(dice.below(count as u64)).unwrap();
        layout.primary.swap(index, other);
    }
    layout
}

fn mark(image: &Path, sector: u32, partitions: &[(u64, u64)]) {
    for &(first, sectors) in partitions {
        for at in [first, first + sectors - 1] {
            poke(
                image,
                at * u64::from(sector),
                format!("mark {at}").as_bytes(),
            );
        }
    }
}

fn one(lab: &Lab, seed: u64, sector: u32, is_system: bool) {
    let case = format!("seed {seed}, {sector} bytes, system: {is_system}");
    let mut dice = Dice::new(seed);
    let per_mib = (1 << 20) / u64::from(sector);
    let mut layout = match is_system {
        true => random(&mut dice, sector, 211 * per_mib, 2),
        false => random(&mut dice, sector, dice_start(seed, sector), 4),
    };
    // Room for all of it, and before the end for an EFI system partition.
    let mib = match (is_system, sector) {
        (false, _) => 110,
        (true, 512) => 400,
        (true, _) => 560,
    };
    let image = lab.image("disk.img", sector, mib, |disk| {
        let mut entries = std::mem::take(&mut layout.primary);
        if is_system {
            let places = disk.standard(SIGNATURE, COMPUTER).unwrap();
            let volumes = [(places.boot, true), (places.windows, false)];
            for (at, (extent, active)) in volumes.into_iter().enumerate() {
                let mut entry = entry(0x07, extent.first.0, extent.sectors());
                entry.active = active;
                entries.insert(at, entry);
            }
        }
        disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
        for (at, entries) in &layout.records {
            disk.boot_record(lba(*at), 0, entries).unwrap();
        }
    });
    mark(&image, sector, &layout.partitions);
    let whole = hash(&image);
    let size = sector.to_string();
    let use_option: &[&str] = if is_system { &[] } else { &["--data-disk"] };
    let options = [&["--sector-size", &size][..], use_option].concat();
    // The partitions hold marks, which are no volumes.
    let keep = ["--quiet", "--keep-unrecognised"];
    let run = lab.convert(&image, "job", &[&options[..], &keep].concat());
    assert_eq!(run.code, 0, "{case}: {}{}", run.stdout, run.stderr);

    let mut expected = layout.partitions.clone();
    if is_system {
        expected.extend([(per_mib, 50 * per_mib), (51 * per_mib, 160 * per_mib)]);
    }
    let mut found: Vec<(u64, u64)> = listed_at(&image, sector)
        .into_iter()
        .map(|Found(first, sectors)| (first, sectors))
        .collect();
    if is_system {
        // The new partition is the one that lies on none of the old ones.
        let old = |new: &(u64, u64)| expected.contains(new);
        let position = found.iter().position(|new| !old(new)).unwrap();
        let (first, sectors) = found.remove(position);
        let apart = |(at, len): &(u64, u64)| at + len <= first || first + sectors <= *at;
        assert!(expected.iter().all(apart), "{case}");
        assert_eq!(first % per_mib, 0, "{case}");
    }
    found.sort_unstable();
    expected.sort_unstable();
    assert_eq!(found, expected, "{case}");
    for &(first, sectors) in &layout.partitions {
        for at in [first, first + sectors - 1] {
            let mark = format!("mark {at}");
            let there = peek(&image, at * u64::from(sector), mark.len());
            assert_eq!(there, mark.as_bytes(), "{case}");
        }
    }
    let undo = lab.run(&[
        "undo",
        "--job",
        "job",
        "--folder-name",
        "job",
        "--disk",
        "disk.img",
        "--yes",
        "--quiet",
    ]);
    assert_eq!(
        (undo.code, hash(&image)),
        (0, whole),
        "{case}: {}",
        undo.stderr
    );
    std::fs::remove_dir_all(lab.path("job")).unwrap();
}

/// Where the first partition of a data disk may begin at the earliest: after the primary table, by
/// cylinders, or at a whole MiB.
fn dice_start(seed: u64, sector: u32) -> u64 {
    let behind_table = if sector == 512 { 34 } else { 6 };
    [behind_table, 63, (1 << 20) / u64::from(sector)][usize::try_from(seed % 3).unwrap()]
}

#[test]
#[ignore = "needs outside programs"]
fn random_layouts_keep_every_partition_and_come_back() {
    let count = std::env::var("SCHWELLE_LAYOUTS").map_or(4, |text| text.parse().unwrap());
    let lab = Lab::new();
    for seed in 0..count {
        for sector in [512, 4096] {
            one(&lab, 2 * seed, sector, false);
            one(&lab, 2 * seed + 1, sector, true);
        }
    }
}
