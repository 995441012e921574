//! The boot sector of an NTFS volume.

use crate::bytes::u32_at;
use crate::device::{DeviceError, Lba, ReadDevice};
use std::mem::offset_of;

use zerocopy::little_endian::{U16, U64};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

use super::runlist::{Lcn, Vcn};

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawBootSector {
    jump: [u8; 3],
    manufacturer: [u8; 8],
    sector_bytes: U16,
    cluster_sectors: u8,
    unused: [u8; 26],
    total_sectors: U64,
    mft_lcn: U64,
    mirror_lcn: U64,
    record_clusters: i8,
    unused_2: [u8; 3],
    index_clusters: i8,
    unused_3: [u8; 3],
    serial: U64,
    code: [u8; 430],
    signature: [u8; 2],
}

const _: () = assert!(size_of::<RawBootSector>() == 512);
const _: () = assert!(offset_of!(RawBootSector, total_sectors) == 0x28);
const _: () = assert!(offset_of!(RawBootSector, record_clusters) == 0x40);

/// What the boot sector says, checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NtfsShape {
    /// Bytes in a sector.
    pub sector_bytes: u32,
    /// Bytes in a cluster.
    pub cluster_bytes: u32,
    /// Sectors of the volume, without the backup boot sector after it.
    pub total_sectors: u64,
    /// First cluster of the MFT.
    pub mft_lcn: Lcn,
    /// First cluster of the mirror of its first records.
    pub mirror_lcn: Lcn,
    /// Bytes in a file record.
    pub record_bytes: u32,
    /// Serial number.
    pub serial: u64,
}

impl NtfsShape {
    /// Checks a boot sector; the error names the field at fault.
    pub(super) fn parse(sector: &[u8]) -> Result<Self, &'static str> {
        let (raw, _) = RawBootSector::ref_from_prefix(sector).map_err(|_too_short| "length")?;
        let check = |good: bool, field| if good { Ok(()) } else { Err(field) };
        check(&raw.manufacturer == b"NTFS    ", "name \"NTFS\"")?;
        check(raw.signature == [0x55, 0xAA], "signature 55 AA")?;
        let sector_bytes = u32::from(raw.sector_bytes.get());
        check(
            matches!(sector_bytes, 512 | 1024 | 2048 | 4096),
            "bytes per sector",
        )?;
        // F4h..FFh: the field is the negative power of two of the sector count (clusters above 64
        // KiB).
        let cluster_sectors = match raw.cluster_sectors {
            0xF4..=0xFF => 1u32
                .checked_shl(u32::from(raw.cluster_sectors.wrapping_neg()))
                .unwrap_or(0),
            plain => u32::from(plain),
        };
        let cluster_bytes = sector_bytes.checked_mul(cluster_sectors).unwrap_or(0);
        check(
            cluster_bytes.is_power_of_two() && cluster_bytes <= 2 << 20,
            "sectors per cluster",
        )?;
        let record_bytes = match raw.record_clusters {
            exponent @ -16..=-1 => 1u32
                .checked_shl(exponent.unsigned_abs().into())
                .unwrap_or(0),
            clusters => u32::from(clusters.unsigned_abs())
                .checked_mul(cluster_bytes)
                .unwrap_or(0),
        };
        check(
            record_bytes.is_power_of_two() && (512..=65_536).contains(&record_bytes),
            "file record size",
        )?;
        // Of other file systems; drivers refuse an NTFS with it.
        check(u32_at(sector, 0x20) == Some(0), "total sectors of 32 bits")?;
        let total_sectors = raw.total_sectors.get();
        let clusters = total_sectors
            .checked_mul(sector_bytes.into())
            .map(|bytes| bytes / u64::from(cluster_bytes));
        let clusters = clusters.ok_or("total sectors")?;
        check(raw.mft_lcn.get() < clusters, "place of the MFT")?;
        check(raw.mirror_lcn.get() < clusters, "place of the MFT's mirror")?;
        Ok(Self {
            sector_bytes,
            cluster_bytes,
            total_sectors,
            mft_lcn: Lcn(raw.mft_lcn.get()),
            mirror_lcn: Lcn(raw.mirror_lcn.get()),
            record_bytes,
            serial: raw.serial.get(),
        })
    }

    /// The boot sector in a sector of a disk, or a copy of one; `None` where it is none.
    pub fn at(device: &dyn ReadDevice, at: Lba) -> Result<Option<Self>, DeviceError> {
        Ok(Self::parse(&device.read_sector(at)?).ok())
    }

    /// Byte offset of a cluster on the volume; `None` when it is beyond any volume.
    pub fn byte_of(&self, lcn: Lcn) -> Option<u64> {
        lcn.0.checked_mul(self.cluster_bytes.into())
    }

    /// Byte offset of a cluster in its file.
    pub(crate) fn byte_in_file(&self, vcn: Vcn) -> Option<u64> {
        vcn.0.checked_mul(self.cluster_bytes.into())
    }

    /// Clusters of the volume.
    pub fn clusters(&self) -> u64 {
        self.total_sectors.saturating_mul(self.sector_bytes.into()) / u64::from(self.cluster_bytes)
    }
}
