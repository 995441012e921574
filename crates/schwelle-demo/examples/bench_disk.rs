//! Makes a sparse system disk of a given size for the benchmark, with as many partitions as wanted:
//! `bench_disk PATH GIGABYTES [PARTITIONS]`.

use std::fs::File;
use std::path::Path;

use anyhow::{Context, Result};
use schwelle_core::device::{BlockDevice, DiskFile, Lba};
use schwelle_demo::{DiskBuilder, MbrEntry};

const USAGE: &str = "usage: bench_disk PATH GIGABYTES [PARTITIONS]";
/// Where the logical partitions begin, after room for the EFI system partition; a MiB each.
const EXTENDED: u32 = 1000 * MIB;
const MIB: u32 = 2048;

fn main() -> Result<()> {
    let mut args = std::env::args().skip(1);
    let path = args.next().context(USAGE)?;
    let gigabytes: u64 = args.next().context(USAGE)?.parse()?;
    let partitions: u32 = args.next().map_or(Ok(2), |text| text.parse())?;
    File::create_new(&path)?.set_len(gigabytes * 1_000_000_000 / 4096 * 4096)?;
    let device = DiskFile::open_write(Path::new(&path), Some(512))?;
    let disk = DiskBuilder::new(&device);
    let places = disk.standard(0xBE0C_4000, "LANTERN-ONE")?;
    let entry = |kind, first, sectors| MbrEntry {
        active: false,
        kind,
        first,
        sectors,
    };
    let logical = partitions.saturating_sub(2);
    if logical > 0 {
        let boot = MbrEntry {
            active: true,
            ..entry(0x07, MIB, u32::try_from(places.boot.sectors())?)
        };
        let windows = u32::try_from(places.windows.first.0)?;
        let windows = entry(0x07, windows, u32::try_from(places.windows.sectors())?);
        let extended = entry(0x0F, EXTENDED, logical * 2 * MIB);
        disk.boot_record(Lba(0), 0xBE0C_4000, &[boot, windows, extended])?;
    }
    for number in 0..logical {
        let mut entries = vec![entry(0x83, MIB, MIB)];
        if number + 1 < logical {
            entries.push(entry(0x05, (number + 1) * 2 * MIB, 2 * MIB));
        }
        let record = EXTENDED + number * 2 * MIB;
        disk.boot_record(Lba(record.into()), 0, &entries)?;
    }
    Ok(device.flush()?)
}
