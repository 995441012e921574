//! Leaves on a converted image what a first start of its Windows leaves: `first_start IMAGE VOLUME_FIRST_LBA
//! VOLUME_LAST_LBA PARTITION`; PARTITION is the one that the firmware started, counted from 1.

use std::path::Path;

use anyhow::{Context, Result};
use schwelle_core::device::{DiskFile, Extent, Lba};

/// A time far after every conversion.
const LATER: u64 = 1 << 58;

fn main() -> Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [image, first, last, partition] = &arguments[..] else {
        anyhow::bail!("usage: first_start IMAGE VOLUME_FIRST_LBA VOLUME_LAST_LBA PARTITION");
    };
    let last: u64 = last.parse()?;
    let extent = Extent::between(
        Lba(first.parse()?),
        Lba(last.checked_add(1).context("no sector")?),
    );
    let device = DiskFile::open_write(Path::new(image), Some(512))?;
    schwelle_demo::windows_was_started(&device, extent, partition.parse()?, LATER)
}
