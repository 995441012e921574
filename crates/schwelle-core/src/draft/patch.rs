//! Lays patches of a volume over the draft.

use crate::commit::{Purpose, Region, StageKind};
use crate::device::{BlockDevice, Draft, Extent, Lba, ReadDevice};
use crate::ntfs::Patch;

use super::basis::DraftError;

/// The sectors of `volume` from byte `from` to byte `end` of it.
pub(super) fn sectors(
    sector: u32,
    volume: Extent,
    from: u64,
    end: u64,
) -> Result<Extent, DraftError> {
    let sector = u64::from(sector);
    let first = Lba(volume.first.0.saturating_add(from / sector));
    let end = Lba(volume.first.0.saturating_add(end.div_ceil(sector)));
    let extent = Extent::between(first, end);
    if volume.contains(&extent) {
        Ok(extent)
    } else {
        Err(DraftError::Outside(extent))
    }
}

/// Refuses an extent over which the draft lays something already: what comes on top would hide it.
pub(super) fn untouched(draft: &Draft<'_>, extent: Extent) -> Result<(), DraftError> {
    match draft.first_laid(extent) {
        Some(at) => Err(DraftError::LaidTwice { at }),
        None => Ok(()),
    }
}

/// Lays `patches` over the volume at `volume`; the regions that they write.
pub(super) fn lay(
    draft: &Draft<'_>,
    volume: Extent,
    patches: &[Patch],
    stage: StageKind,
    what: &Purpose,
) -> Result<Vec<Region>, DraftError> {
    let geometry = draft.geometry();
    let sector = u64::from(geometry.logical_sector);
    let mut regions = Vec::new();
    for patch in patches {
        let end = patch.offset.saturating_add(patch.bytes.len() as u64);
        let extent = sectors(geometry.logical_sector, volume, patch.offset, end)?;
        let outside = || DraftError::Outside(extent);
        let at = geometry.byte_of(extent.first).ok_or_else(outside)?;
        let len = usize::try_from(geometry.bytes_in(&extent)).map_err(|_too_large| outside())?;
        let mut bytes = draft.read_vec(at, len)?;
        let within = usize::try_from(patch.offset % sector).map_err(|_too_large| outside())?;
        bytes
            .get_mut(within..within.saturating_add(patch.bytes.len()))
            .ok_or_else(outside)?
            .copy_from_slice(&patch.bytes);
        draft.write_at(at, &bytes)?;
        regions.push(Region::new(stage, what.clone(), extent));
    }
    Ok(regions)
}
