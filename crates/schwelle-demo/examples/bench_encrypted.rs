//! For the benchmark: `bench_encrypted DISK SECRET` opens the disk's encrypted volume by the secret in a file, and
//! reads it from its start to its end, as it is and decrypted in turns, five times each. Prints the seconds of
//! opening, and the rates in MiB a second, slowest, middle and fastest.

use std::path::Path;
use std::time::Instant;

use anyhow::{Context, Result};
use schwelle_core::bitlocker::Secret;
use schwelle_core::device::{DiskFile, ReadDevice};
use schwelle_core::profile::unlock;

const CHUNK: usize = 1 << 20;

fn main() -> Result<()> {
    let mut arguments = std::env::args().skip(1);
    let usage = "usage: bench_encrypted DISK SECRET";
    let (path, secret) = (
        arguments.next().context(usage)?,
        arguments.next().context(usage)?,
    );
    let secret = Secret::in_file(&std::fs::read(secret)?)?;
    let begun = Instant::now();
    let disk = DiskFile::open_read(Path::new(&path), None)?;
    let (open, _) = unlock(disk, &[secret])?;
    println!("opened in {:.2} s", begun.elapsed().as_secs_f64());
    let volume = open.volumes().first().context("nothing was opened")?;
    let geometry = open.geometry();
    let first = geometry
        .byte_of(volume.extent().first)
        .context("beyond any disk")?;
    let chunks = geometry.bytes_in(&volume.extent()) / CHUNK as u64;
    let rate = |device: &dyn ReadDevice| -> Result<u64> {
        let begun = Instant::now();
        for chunk in 0..chunks {
            device.read_vec(first + chunk * CHUNK as u64, CHUNK)?;
        }
        let micros = u64::try_from(begun.elapsed().as_micros())?;
        Ok(chunks * 1_000_000 / micros.max(1))
    };
    let (mut plain, mut decrypted) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        plain.push(rate(open.disk())?);
        decrypted.push(rate(&open)?);
    }
    for (what, mut rates) in [("as it is", plain), ("decrypted", decrypted)] {
        rates.sort_unstable();
        println!("{what}: {} {} {} MiB/s", rates[0], rates[2], rates[4]);
    }
    Ok(())
}
