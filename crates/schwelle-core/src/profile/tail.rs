//! Signatures that others left at the end of a disk, where the backup table is going to lie.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::device::{DeviceError, Lba, MIB, ReadDevice};

/// What was found, and in which sector.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TailSignature {
    /// What it belongs to.
    pub owner: TailOwner,
    /// The sector.
    pub at: Lba,
}

/// What keeps metadata in a disk's last sectors.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TailOwner {
    /// A RAID set of a firmware.
    FirmwareRaid,
    /// A RAID set in the common disk data format.
    CommonRaid,
    /// A software RAID set of Linux.
    LinuxRaid,
    /// A dynamic disk.
    Dynamic,
}

const MD_MAGIC: [u8; 4] = [0xFC, 0x4E, 0x2B, 0xA9];
const DDF_MAGIC: [u8; 4] = [0xDE, 0x11, 0xDE, 0x11];

/// Looks for RAID metadata (places as each format defines them).
pub(super) fn raid_marks(device: &dyn ReadDevice) -> Result<Vec<TailSignature>, DeviceError> {
    let geometry = device.geometry();
    let (size, sector) = (geometry.len_bytes(), u64::from(geometry.logical_sector));
    let places: [(TailOwner, Option<u64>, &[u8]); 4] = [
        (
            TailOwner::FirmwareRaid,
            size.checked_sub(2 * sector),
            b"Intel Raid ISM Cfg Sig.",
        ),
        (TailOwner::CommonRaid, size.checked_sub(sector), &DDF_MAGIC),
        // Version 0.90: at the last 64 KiB bound that leaves 64 KiB after it.
        (
            TailOwner::LinuxRaid,
            (size / 65_536).checked_sub(1).map(|units| units * 65_536),
            &MD_MAGIC,
        ),
        // Version 1.0: 8 KiB before the end, down to a bound of 4 KiB.
        (
            TailOwner::LinuxRaid,
            size.checked_sub(8192).map(|at| at / 4096 * 4096),
            &MD_MAGIC,
        ),
    ];
    let mut signatures = Vec::new();
    for (owner, at, signature) in places {
        let Some(at) = at else { continue };
        if device
            .read_vec(at / sector * sector, geometry.logical_sector as usize)?
            .starts_with(signature)
        {
            signatures.push(TailSignature {
                owner,
                at: Lba(at / sector),
            });
        }
    }
    Ok(signatures)
}

/// Looks for the private header of a dynamic disk: 3 KiB from the start of the disk, and in its
/// last MiB.
pub(super) fn dynamic_mark(device: &dyn ReadDevice) -> Result<Option<TailSignature>, DeviceError> {
    const SIGNATURE: &[u8] = b"PRIVHEAD";
    const NEAR_START: usize = 6 * 512;
    let geometry = device.geometry();
    let sector = u64::from(geometry.logical_sector);
    let size = geometry.len_bytes();
    let head = device.read_vec(0, usize::try_from(size.min(8 << 10)).unwrap_or(0))?;
    let at = if head
        .get(NEAR_START..)
        .is_some_and(|rest| rest.starts_with(SIGNATURE))
    {
        Some(Lba(NEAR_START as u64 / sector))
    } else {
        let from = size.saturating_sub(MIB) / sector;
        let tail = device.read_vec(
            from * sector,
            usize::try_from(size - from * sector).unwrap_or(0),
        )?;
        let mut sectors = tail.chunks_exact(geometry.logical_sector as usize);
        sectors
            .position(|part| part.starts_with(SIGNATURE))
            .map(|index| Lba(from + index as u64))
    };
    Ok(at.map(|at| TailSignature {
        owner: TailOwner::Dynamic,
        at,
    }))
}
