//! For the benchmark: `audit`, `move` and `copy` on the NTFS volume in a file.
//!
//! `audit FILE` proves the volume. `move FILE SECTORS` copies what a shrink to so many sectors moves,
//! as the commit does: hashed, flushed, read back. `copy FILE SECTORS` copies the same extents
//! plainly and flushes once. Prints the bytes (or files), the seconds that this alone took, and those
//! of the copying without the reading back.

use std::time::Instant;

use anyhow::{Context, Result, bail};
use schwelle_core::commit::{self, ChangeSet};
use schwelle_core::device::{BlockDevice, DiskFile, Draft, Lba, Move, ReadDevice};
use schwelle_core::ntfs::NtfsVolume;

const CHUNK_BYTES: u64 = 1 << 20;

fn main() -> Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let (bytes, seconds, copied) = match arguments[..] {
        ["audit", path] => {
            let device = DiskFile::open_read(path.as_ref(), None)?;
            let begun = Instant::now();
            let audit = NtfsVolume::open(&device)?.audit()?;
            let seconds = begun.elapsed().as_secs_f64();
            (audit.files, seconds, seconds)
        }
        [what @ ("move" | "copy"), path, sectors] => {
            let device = DiskFile::open_write(path.as_ref(), None)?;
            let moves = moves(&device, sectors.parse()?)?;
            let bytes = moves.iter().map(|moved| moved.sectors * 512).sum();
            // What the plan has read should not be in the cache for either.
            device.flush()?;
            let begun = Instant::now();
            let copied = if what == "move" {
                Some(move_as_the_commit(&device, &moves)?)
            } else {
                copy_plainly(&device, &moves)?;
                None
            };
            let seconds = begun.elapsed().as_secs_f64();
            (bytes, seconds, copied.unwrap_or(seconds))
        }
        _ => bail!("bench_volume audit FILE | move FILE SECTORS | copy FILE SECTORS"),
    };
    println!("{bytes} {seconds:.3} {copied:.3}");
    Ok(())
}

fn moves(device: &DiskFile, sectors: u64) -> Result<Vec<Move>> {
    let volume = NtfsVolume::open(device)?;
    let shape = volume.shape();
    let per_cluster = u64::from(shape.cluster_bytes / shape.sector_bytes);
    let plan = volume.plan_shrink(sectors)?;
    let moves = plan.moves.iter().map(|moved| Move {
        from: Lba(moved.from.0 * per_cluster),
        to: Lba(moved.to.0 * per_cluster),
        sectors: moved.clusters * per_cluster,
    });
    Ok(moves.collect())
}

/// The seconds until all is copied and flushed; reading back comes on top.
fn move_as_the_commit(device: &DiskFile, moves: &[Move]) -> Result<f64> {
    let (begun, copied) = (Instant::now(), 0.0);
    let mut watch = Watch { begun, copied };
    let draft = Draft::new(device);
    moves.iter().for_each(|moved| draft.move_sectors(*moved));
    let set = ChangeSet::of(&draft, commit::Purpose::MovedClusters, &[])?;
    commit::apply(
        commit::Drafts::one(&draft),
        &set,
        device,
        &mut (),
        &mut watch,
    )?;
    Ok(watch.copied)
}

fn copy_plainly(device: &DiskFile, moves: &[Move]) -> Result<()> {
    for moved in moves {
        let mut done = 0;
        while done < moved.sectors * 512 {
            let len = usize::try_from(CHUNK_BYTES.min(moved.sectors * 512 - done))?;
            let bytes = device.read_vec(moved.from.0 * 512 + done, len)?;
            device.write_at(moved.to.0 * 512 + done, &bytes)?;
            done += bytes.len() as u64;
        }
    }
    device.flush().context("flush")
}

/// Notes when the copying ends and the reading back begins.
struct Watch {
    begun: Instant,
    copied: f64,
}

impl commit::Observer for Watch {
    fn event(&mut self, event: commit::Event) {
        if matches!(event, commit::Event::VerifyStarted(_)) {
            self.copied = self.begun.elapsed().as_secs_f64();
        }
    }
}
