//! Shrinks volumes on the draft, and proves the result before anybody relies on it.

use crate::cause::Cause;
use crate::commit::{Purpose, Region, StageKind};
use crate::device::{Draft, Extent, Lba, Move, ReadDevice, Window};
use crate::job::EditedVolume;
use crate::ntfs::NtfsVolume;
use crate::placement::Shrinking;
use crate::profile::{Origin, Partition, VolumeKind};
use crate::swap;

use super::basis::DraftError;
use super::patch;

/// Lays a shrink over the draft. Gives the regions it writes, and what the journal keeps of it.
pub(crate) fn apply(
    draft: &Draft<'_>,
    partition: &Partition,
    shrink: &Shrinking,
) -> Result<(Vec<Region>, EditedVolume), DraftError> {
    let old = partition.extent;
    if partition.volume.kind == VolumeKind::Swap {
        return apply_to_swap(draft, partition, shrink);
    }
    let before = fingerprint(draft.base(), old)?;
    let Some(health) = &partition.volume.ntfs else {
        return Err(DraftError::Missing("NTFS volume to be shrunk"));
    };
    let cluster_sectors = u64::from(health.shape.cluster_bytes / health.shape.sector_bytes);
    let place = |cluster: u64| {
        cluster
            .checked_mul(cluster_sectors)
            .and_then(|sectors| old.first.0.checked_add(sectors))
            .map(Lba)
            .ok_or(DraftError::Outside(old))
    };
    for moved in &shrink.plan.moves {
        let moved = Move {
            from: place(moved.from.0)?,
            to: place(moved.to.0)?,
            sectors: moved.clusters.saturating_mul(cluster_sectors),
        };
        patch::untouched(draft, moved.destination())?;
        draft.move_sectors(moved);
    }
    let what = Purpose::FileSystem {
        partition: partition.number,
    };
    let patches = &shrink.plan.patches;
    let regions = patch::lay(draft, old, patches, StageKind::Shrink, &what)?;
    let after = fingerprint(draft, shrink.after)?;
    prove(draft, partition, shrink)?;
    let volume = edited(partition, shrink.after, (before, after), Vec::new());
    Ok((regions, volume))
}

/// The same of a swap area: its header. That shows whether it has been made anew since; its content does not.
fn apply_to_swap(
    draft: &Draft<'_>,
    partition: &Partition,
    shrink: &Shrinking,
) -> Result<(Vec<Region>, EditedVolume), DraftError> {
    let old = partition.extent;
    let what = Purpose::SwapArea {
        partition: partition.number,
    };
    let sector = draft.geometry().logical_sector;
    let header = patch::sectors(sector, old, 0, swap::HEADER_BYTES)?;
    let print = |disk: &dyn ReadDevice| crate::job::sealed_fingerprint(disk, &[header]);
    let before = print(draft.base())?;
    let patches = &shrink.plan.patches;
    let regions = patch::lay(draft, old, patches, StageKind::Shrink, &what)?;
    let prints = (before, print(draft)?);
    let volume = edited(partition, shrink.after, prints, vec![header]);
    Ok((regions, volume))
}

/// What the journal keeps of a volume that holds edited files and stays as large as it is.
/// Where the conversion changes it, `converted` is what it is then.
pub(crate) fn watch(
    disk: &dyn ReadDevice,
    converted: Option<&dyn ReadDevice>,
    partition: &Partition,
) -> Result<EditedVolume, DraftError> {
    let before = fingerprint(disk, partition.extent)?;
    let after = match converted {
        Some(converted) => fingerprint(converted, partition.extent)?,
        None => before.clone(),
    };
    let prints = (before, after);
    Ok(edited(partition, partition.extent, prints, Vec::new()))
}

/// What the journal keeps of a volume: its sectors and its fingerprint before and after, and the sectors that the
/// fingerprint is of, where it is not of the volume's metadata.
fn edited(
    partition: &Partition,
    shrunk: Extent,
    (before, after): (String, String),
    sealed: Vec<Extent>,
) -> EditedVolume {
    EditedVolume {
        first_lba: partition.extent.first.0,
        sectors_before: partition.extent.sectors(),
        sectors_after: shrunk.sectors(),
        named_at: named_at(partition),
        before,
        after,
        sealed,
    }
}

/// The boot record whose entry names a partition.
fn named_at(partition: &Partition) -> u64 {
    match partition.origin {
        Origin::Mbr { named_at, .. } => named_at.0,
        _ => 0,
    }
}

fn fingerprint(device: &dyn ReadDevice, extent: Extent) -> Result<String, DraftError> {
    let found = crate::job::fingerprint(device, extent)?;
    found.ok_or(DraftError::Missing("consistent volume there"))
}

/// The shrunk volume's books must balance as they did before, and it must hold as many files in
/// as many clusters.
fn prove(draft: &Draft<'_>, partition: &Partition, shrink: &Shrinking) -> Result<(), DraftError> {
    let window = Window::new(draft, shrink.after).ok_or(DraftError::Outside(shrink.after))?;
    let volume = NtfsVolume::open(&window)?;
    let audit = volume.audit()?;
    let files = partition
        .volume
        .ntfs
        .as_ref()
        .map(|health| health.audit.files);
    let fault = audit.faults.iter().find(|fault| !fault.is_harmless());
    let copies = volume.check_copies()?;
    let number = partition.number;
    if let Some(fault) = fault.map(Cause::from).or(copies.first().map(Cause::from)) {
        return Err(DraftError::Shrunk { number, fault });
    }
    match Some(audit.files) == files {
        true => Ok(()),
        false => Err(DraftError::FilesDiffer { number }),
    }
}
