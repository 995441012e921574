//! Volumes without a partition: what a disk that has lost its table still shows.

use crate::device::{DeviceError, Extent, Lba, MIB, ReadDevice};
use crate::gpt;

use super::layout::{Partition, read_volume};
use super::volume::VolumeKind;

/// Content where partitions usually begin, on a disk whose table names none.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Trace {
    /// The sector.
    pub at: Lba,
    /// What begins there.
    pub kind: VolumeKind,
}

/// Sectors at which first partitions begin: behind a table of cylinders, behind the GPT.
const USUAL_SECTORS: [u64; 4] = [63, 64, 34, 40];

/// Looks where first partitions usually begin, on a disk with none; a volume counts more than
/// content of another kind.
pub(super) fn find(
    device: &dyn ReadDevice,
    partitions: &[Partition],
) -> Result<Option<Trace>, DeviceError> {
    let geometry = device.geometry();
    let first_usable = gpt::first_usable(geometry.logical_sector);
    if !partitions.is_empty() || geometry.sectors <= first_usable {
        return Ok(None);
    }
    // The whole MiB is at the bound to which partitions have been aligned for years.
    let bounds = [1, 2, 128].map(|mib| mib * MIB / u64::from(geometry.logical_sector));
    let mut found: Option<Trace> = None;
    for at in bounds
        .into_iter()
        .chain(USUAL_SECTORS)
        .chain([first_usable])
    {
        if at >= geometry.sectors {
            continue;
        }
        let rest = Extent {
            first: Lba(at),
            end: Lba(geometry.sectors),
        };
        let kind = read_volume(device, rest)?.kind;
        let is_volume = !matches!(kind, VolumeKind::Blank | VolumeKind::Unknown);
        if is_volume || (found.is_none() && kind == VolumeKind::Unknown) {
            found = Some(Trace { at: Lba(at), kind });
        }
        if is_volume {
            break;
        }
    }
    Ok(found)
}
