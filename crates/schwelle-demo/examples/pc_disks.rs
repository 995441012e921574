//! For the tests in a virtual PC: `pc_disks DIR` makes `shrink.img`, a system disk without room for an EFI system
//! partition, and `large.img`, one with sectors of 4096 bytes.

use std::fs::File;
use std::path::Path;

use anyhow::{Context, Result};
use schwelle_core::device::{BlockDevice, DiskFile, MIB};
use schwelle_demo::DiskBuilder;

fn main() -> Result<()> {
    let folder = std::env::args().nth(1).context("usage: pc_disks DIR")?;
    for (name, sector, mib) in [("shrink.img", 512, 211), ("large.img", 4096, 480)] {
        let path = Path::new(&folder).join(name);
        File::create(&path)?.set_len(mib * MIB)?;
        let device = DiskFile::open_write(&path, Some(sector))?;
        DiskBuilder::new(&device).standard(0x7E57_0001 + sector, "LANTERN-BAY")?;
        device.flush()?;
    }
    Ok(())
}
