//! File systems that are recognised by their signature, and not read: it would be lost if the disk were taken as blank.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::device::{DeviceError, ReadDevice};

/// A file system that no conversion looks into.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Foreign {
    /// HFS+ or HFSX.
    HfsPlus,
    /// HFS.
    Hfs,
    /// An APFS container.
    Apfs,
    /// ISO 9660.
    Iso9660,
    /// UDF.
    Udf,
    /// Btrfs.
    Btrfs,
    /// XFS.
    Xfs,
    /// ReFS.
    ReFs,
    /// ZFS, a member of a pool.
    Zfs,
    /// A volume that Linux has encrypted (LUKS).
    Luks,
}

/// Signatures at fixed places: byte offset, bytes. From libblkid's and the file systems' own documents.
const SIGNATURES: &[(u64, &[u8], Foreign)] = &[
    (0, b"XFSB", Foreign::Xfs),
    (0, b"LUKS\xBA\xBE", Foreign::Luks),
    (3, b"ReFS\0\0\0\0", Foreign::ReFs),
    (32, b"NXSB", Foreign::Apfs),
    (1024, b"H+", Foreign::HfsPlus),
    (1024, b"HX", Foreign::HfsPlus),
    (1024, b"BD", Foreign::Hfs),
    (0x8001, b"CD001", Foreign::Iso9660),
    (0x8001, b"BEA01", Foreign::Udf),
    (0x8801, b"BEA01", Foreign::Udf),
    (0x1_0040, b"_BHRfS_M", Foreign::Btrfs),
];
/// ZFS keeps a ring of 128 uberblocks of a KiB or more in the second half of its first label; each begins
/// with this number, in the byte order of the system that wrote it.
const UBERBLOCKS_AT: u64 = 128 << 10;
const UBERBLOCKS_BYTES: usize = 128 << 10;
const UBERBLOCK_STEP: usize = 1024;
const UBERBLOCK: [[u8; 8]; 2] = [
    [0x0C, 0xB1, 0xBA, 0, 0, 0, 0, 0],
    [0, 0, 0, 0, 0, 0xBA, 0xB1, 0x0C],
];

impl Foreign {
    /// What technicians call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::HfsPlus => "HFS+",
            Self::Hfs => "HFS",
            Self::Apfs => "APFS",
            Self::Iso9660 => "ISO 9660",
            Self::Udf => "UDF",
            Self::Btrfs => "Btrfs",
            Self::Xfs => "XFS",
            Self::ReFs => "ReFS",
            Self::Zfs => "ZFS",
            Self::Luks => "LUKS",
        }
    }

    /// Looks for a signature on a volume that nothing else was found on.
    pub(super) fn recognise(window: &dyn ReadDevice) -> Result<Option<Self>, DeviceError> {
        let len = window.geometry().len_bytes();
        for &(at, signature, kind) in SIGNATURES {
            if at + signature.len() as u64 <= len
                && window.read_vec(at, signature.len())? == signature
            {
                return Ok(Some(kind));
            }
        }
        if len < UBERBLOCKS_AT + UBERBLOCKS_BYTES as u64 {
            return Ok(None);
        }
        let ring = window.read_vec(UBERBLOCKS_AT, UBERBLOCKS_BYTES)?;
        let is_uberblock = |block: &[u8]| {
            UBERBLOCK
                .iter()
                .any(|signature| block.starts_with(signature))
        };
        let found = ring.chunks(UBERBLOCK_STEP).any(is_uberblock);
        Ok(found.then_some(Self::Zfs))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{BlockDevice, Memory};

    #[test]
    fn each_mark_is_found_where_it_lies() {
        let ring = (UBERBLOCKS_AT + 77 * 1024, &UBERBLOCK[1][..], Foreign::Zfs);
        for &(at, signature, kind) in SIGNATURES.iter().chain([&ring]) {
            let disk = Memory::new(512, 1024);
            assert_eq!(Foreign::recognise(&disk).unwrap(), None);
            let mut sector = vec![0; 512];
            let within = usize::try_from(at % 512).unwrap();
            sector[within..within + signature.len()].copy_from_slice(signature);
            disk.write_at(at - at % 512, &sector).unwrap();
            assert_eq!(Foreign::recognise(&disk).unwrap(), Some(kind));
        }
        // A volume that ends before a signature could lie.
        assert_eq!(Foreign::recognise(&Memory::new(512, 2)).unwrap(), None);
    }
}
