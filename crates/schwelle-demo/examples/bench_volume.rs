//! For the benchmark: `audit`, `moves` and `move` on the NTFS volume in a file.
//!
//! `audit FILE` proves the volume, and prints the number of its files. `moves FILE SECTORS` prints what a shrink to so
//! many sectors moves: source, destination and length of each extent, in bytes. `move FILE SECTORS` moves that as the
//! commit does, hashed, flushed and read back, and prints the seconds that this alone took.

use std::time::Instant;

use anyhow::{Result, bail};
use schwelle_core::device::{BlockDevice, DiskFile, Draft, Lba, Move};
use schwelle_core::ntfs::NtfsVolume;
use schwelle_disk::commit::{self, ChangeSet};

fn main() -> Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    match arguments[..] {
        ["audit", path] => {
            let device = DiskFile::open_read(path.as_ref(), None)?;
            let audit = NtfsVolume::open(&device)?.audit()?;
            println!("{}", audit.files);
        }
        ["moves", path, sectors] => {
            let device = DiskFile::open_read(path.as_ref(), None)?;
            for moved in moves(&device, sectors.parse()?)? {
                let places = [moved.from.0, moved.to.0, moved.sectors].map(|sectors| sectors * 512);
                println!("{} {} {}", places[0], places[1], places[2]);
            }
        }
        ["move", path, sectors] => {
            let device = DiskFile::open_write(path.as_ref(), None)?;
            let moves = moves(&device, sectors.parse()?)?;
            // What the plan has read should not be in the cache.
            device.flush()?;
            let begun = Instant::now();
            move_as_the_commit(&device, &moves)?;
            println!("{:.3}", begun.elapsed().as_secs_f64());
        }
        _ => bail!("bench_volume audit FILE | moves FILE SECTORS | move FILE SECTORS"),
    }
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

fn move_as_the_commit(device: &DiskFile, moves: &[Move]) -> Result<()> {
    let draft = Draft::new(device);
    moves.iter().for_each(|moved| draft.move_sectors(*moved));
    let set = ChangeSet::of(&draft, commit::Purpose::MovedClusters, &[])?;
    let drafts = commit::Drafts::one(&draft);
    commit::apply(drafts, &set, device, &mut (), &mut ())?;
    Ok(())
}
