//! Trims volumes on the draft, and proves the result before anybody relies on it.

use crate::commit::{Region, StageKind};
use crate::device::{BlockDevice, Draft, Extent, Lba, Move, ReadDevice, Window};
use crate::job::TrimmedVolume;
use crate::ntfs::NtfsVolume;
use crate::placement::Trimming;
use crate::profile::{Origin, Partition};

use super::build::DraftError;

/// Lays a trim over the draft. Gives the regions it writes, and what the journal keeps of it.
pub(super) fn apply(
    draft: &Draft<'_>,
    partition: &Partition,
    trim: &Trimming,
) -> Result<(Vec<Region>, TrimmedVolume), DraftError> {
    let geometry = draft.geometry();
    let sector = u64::from(geometry.logical_sector);
    let old = partition.extent;
    let before = fingerprint(draft.base(), old)?;
    let Some(health) = &partition.volume.ntfs else {
        return Err(DraftError::Missing("NTFS volume to be trimmed"));
    };
    let cluster_sectors = u64::from(health.shape.cluster_bytes / health.shape.sector_bytes);
    let place = |cluster: u64| {
        cluster
            .checked_mul(cluster_sectors)
            .and_then(|sectors| old.first.0.checked_add(sectors))
            .map(Lba)
            .ok_or(DraftError::Outside(old))
    };
    for moved in &trim.plan.moves {
        draft.move_sectors(Move {
            from: place(moved.from.0)?,
            to: place(moved.to.0)?,
            sectors: moved.clusters.saturating_mul(cluster_sectors),
        });
    }
    let what = format!("file system of partition {}", partition.number);
    let mut regions = Vec::new();
    let mut region = |from: u64, end: u64| {
        let first = Lba(old.first.0.saturating_add(from / sector));
        let end = Lba(old.first.0.saturating_add(end.div_ceil(sector)));
        let extent = Extent { first, end };
        if !old.contains(&extent) {
            return Err(DraftError::Outside(extent));
        }
        regions.push(Region::new(StageKind::Trim, what.clone(), extent));
        Ok(extent)
    };
    for emptied in &trim.plan.emptied {
        draft.fill(region(emptied.start, emptied.end)?, 0xFF)?;
    }
    for patch in &trim.plan.patches {
        let end = patch.offset.saturating_add(patch.bytes.len() as u64);
        let extent = region(patch.offset, end)?;
        let at = geometry.byte_of(extent.first).unwrap_or(u64::MAX);
        let len = usize::try_from(geometry.bytes_in(&extent)).unwrap_or(0);
        let mut bytes = draft.read_vec(at, len)?;
        let within = usize::try_from(patch.offset % sector).unwrap_or(usize::MAX);
        bytes
            .get_mut(within..within.saturating_add(patch.bytes.len()))
            .ok_or(DraftError::Outside(extent))?
            .copy_from_slice(&patch.bytes);
        draft.write_at(at, &bytes)?;
    }
    let after = fingerprint(draft, trim.after)?;
    prove(draft, partition, trim)?;
    let named_at = match partition.origin {
        Origin::Mbr { named_at, .. } => named_at.0,
        _ => 0,
    };
    let volume = TrimmedVolume {
        first_lba: old.first.0,
        sectors_before: old.sectors(),
        sectors_after: trim.after.sectors(),
        named_at,
        before,
        after,
    };
    Ok((regions, volume))
}

fn fingerprint(device: &dyn ReadDevice, extent: Extent) -> Result<String, DraftError> {
    let window = Window::new(device, extent).ok_or(DraftError::Outside(extent))?;
    let hash = NtfsVolume::open(&window)?.fingerprint()?;
    Ok(hash.to_hex().to_string())
}

/// The trimmed volume's books must balance as they did before, and it must hold as many files in
/// as many clusters.
fn prove(draft: &Draft<'_>, partition: &Partition, trim: &Trimming) -> Result<(), DraftError> {
    let window = Window::new(draft, trim.after).ok_or(DraftError::Outside(trim.after))?;
    let volume = NtfsVolume::open(&window)?;
    let audit = volume.audit()?;
    let files = partition
        .volume
        .ntfs
        .as_ref()
        .map(|health| health.audit.files);
    let fault = audit.faults.iter().find(|fault| !fault.is_harmless());
    let copies = volume.check_copies()?;
    let wrong = fault
        .map(ToString::to_string)
        .or_else(|| copies.into_iter().next())
        .or_else(|| (Some(audit.files) != files).then(|| "the number of files differs".to_owned()));
    match wrong {
        Some(fault) => Err(DraftError::Trimmed {
            number: partition.number,
            fault,
        }),
        None => Ok(()),
    }
}
