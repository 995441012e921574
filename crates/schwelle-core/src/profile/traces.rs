//! Content without a partition: what a disk that has lost its table still shows.

use crate::device::{DeviceError, Extent, Lba, MIB, ReadDevice};
use crate::gpt;

use super::partition::{Partition, Table};
use super::volume::VolumeKind;
use super::volume::read_volume;

/// Content on a disk whose table names no partition, or that has no table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Trace {
    /// The sector.
    pub at: Lba,
    /// Why this place was looked at, and what begins there.
    pub place: TraceAt,
}

/// Where a trace lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TraceAt {
    /// Where first partitions usually begin.
    Volume(VolumeKind),
    /// Where a GPT lies, on a disk whose sector 0 is empty.
    Table,
}

/// Sectors at which first partitions begin: after a table of cylinders, after the GPT.
const USUAL_SECTORS: [u64; 4] = [63, 64, 34, 40];

/// Looks where first partitions usually begin, on a disk with none, and where a GPT lies, on one that
/// seems blank. A volume counts more than content of another kind.
pub(super) fn find(
    device: &dyn ReadDevice,
    table: &Table,
    partitions: &[Partition],
) -> Result<Option<Trace>, DeviceError> {
    let geometry = device.geometry();
    let first_usable = gpt::first_usable(geometry.logical_sector);
    if !partitions.is_empty() || geometry.sectors <= first_usable {
        return Ok(None);
    }
    // The whole MiB is at the bound to which partitions have been aligned for years.
    let bounds = [1, 2, 128].map(|mib| mib * MIB / u64::from(geometry.logical_sector));
    let places = bounds
        .into_iter()
        .chain(USUAL_SECTORS)
        .chain([first_usable]);
    let mut found: Option<Trace> = None;
    for at in places.filter(|&at| at < geometry.sectors) {
        let rest = Extent::between(Lba(at), Lba(geometry.sectors));
        let kind = read_volume(device, rest)?.kind;
        let trace = Trace {
            at: Lba(at),
            place: TraceAt::Volume(kind),
        };
        match kind {
            VolumeKind::Blank => {}
            VolumeKind::Unknown => found = found.or(Some(trace)),
            _ => return Ok(Some(trace)),
        }
    }
    if !matches!(table, Table::Blank) {
        return Ok(found);
    }
    // The backup copy takes as many sectors as the primary one with sector 0.
    let backup = geometry.sectors.saturating_sub(first_usable - 1);
    for lba in (1..first_usable).chain(backup.max(first_usable)..geometry.sectors) {
        if device.read_sector(Lba(lba))?.iter().any(|&byte| byte != 0) {
            return Ok(Some(Trace {
                at: Lba(lba),
                place: TraceAt::Table,
            }));
        }
    }
    Ok(found)
}
