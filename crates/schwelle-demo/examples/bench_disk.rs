//! Makes a sparse system disk of a given size for the benchmark: `bench_disk PATH GIGABYTES`.

use std::fs::File;
use std::path::Path;

use anyhow::{Context, Result};
use schwelle_core::device::{BlockDevice, DiskFile};
use schwelle_demo::DiskBuilder;

fn main() -> Result<()> {
    let mut args = std::env::args().skip(1);
    let path = args.next().context("usage: bench_disk PATH GIGABYTES")?;
    let gigabytes: u64 = args
        .next()
        .context("usage: bench_disk PATH GIGABYTES")?
        .parse()?;
    File::create_new(&path)?.set_len(gigabytes * 1_000_000_000 / 4096 * 4096)?;
    let device = DiskFile::open_write(Path::new(&path), Some(512))?;
    DiskBuilder::new(&device).standard(0xBE0C_4000, "LANTERN-ONE")?;
    Ok(device.flush()?)
}
