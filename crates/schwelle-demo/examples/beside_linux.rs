//! For the tests in a virtual PC: `beside_linux LINUX.img OUT.img` puts the stand-ins of a Windows beside the Linux of an
//! MBR disk, as its third and fourth partition.

use std::fs::{File, OpenOptions};
use std::io::{Seek, SeekFrom};
use std::path::Path;
use std::process::Command;

use anyhow::{Context, Result, ensure};
use schwelle_core::device::{BlockDevice, DiskFile, Extent, Lba, MIB, ReadDevice};
use schwelle_demo::DiskBuilder;

fn main() -> Result<()> {
    let mut arguments = std::env::args().skip(1);
    let (linux, out) = arguments
        .next()
        .zip(arguments.next())
        .context("usage: beside_linux LINUX.img OUT.img")?;
    let copied = Command::new("cp")
        .args(["--sparse=always", &linux, &out])
        .status()?;
    ensure!(copied.success(), "{linux} cannot be copied");
    let end = File::open(&linux)?.seek(SeekFrom::End(0))? / MIB;
    OpenOptions::new()
        .write(true)
        .open(&out)?
        .set_len((end + 50 + 160 + 300) * MIB)?;
    let disk = DiskFile::open_write(Path::new(&out), Some(512))?;
    let builder = DiskBuilder::new(&disk);
    let at =
        |mib: u64, len: u64| Extent::new(Lba(mib * 2048), len * 2048).context("beyond any disk");
    let (boot, windows) = (at(end, 50)?, at(end + 50, 160)?);
    let mut sector = disk.read_sector(Lba(0))?;
    let signature = sector.get(440..444).context("no sector")?;
    let signature = u32::from_le_bytes(signature.try_into()?);
    builder.standard_at(boot, windows, (signature, "LANTERN-BAY"))?;
    for (slot, extent) in [(2, boot), (3, windows)] {
        let mut entry = vec![0, 0xFE, 0xFF, 0xFF, 0x07, 0xFE, 0xFF, 0xFF];
        entry.extend(u32::try_from(extent.first.0)?.to_le_bytes());
        entry.extend(u32::try_from(extent.sectors())?.to_le_bytes());
        let place = 446 + 16 * slot;
        sector
            .get_mut(place..place + 16)
            .context("no sector")?
            .copy_from_slice(&entry);
    }
    disk.write_at(0, &sector)?;
    disk.flush()?;
    Ok(())
}
