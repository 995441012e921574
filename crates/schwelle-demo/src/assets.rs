//! The packed volumes and programs.

use std::io::Read;

use anyhow::{Context, Result};
use ruzstd::decoding::StreamingDecoder;
use schwelle_core::device::{BlockDevice, MIB};

/// The stand-in boot manager, signed with the demo's keys.
pub const BOOT_MANAGER: &[u8] = include_bytes!("../assets/boot/bootmgfw-signed.efi");
/// A stand-in kernel for a 32-bit system.
pub const KERNEL_32BIT: &[u8] = include_bytes!("../assets/boot/ntoskrnl-32bit.exe");
/// A stand-in loader for another processor.
pub const BOOT_PROGRAM_ARM64: &[u8] = include_bytes!("../assets/boot/loader-arm64.efi");

/// A packed NTFS volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asset {
    /// The boot volume of a BIOS start.
    Boot,
    /// The Windows volume.
    Windows,
}

impl Asset {
    /// Size of the volume in bytes.
    pub fn len_bytes(self) -> u64 {
        match self {
            Self::Boot => 50 * MIB,
            Self::Windows => 160 * MIB,
        }
    }

    fn packed(self, sector: u32) -> &'static [u8] {
        match (self, sector) {
            (Self::Boot, 512) => include_bytes!("../assets/boot.img.zst"),
            (Self::Boot, _) => include_bytes!("../assets/boot-4k.img.zst"),
            (Self::Windows, 512) => include_bytes!("../assets/windows.img.zst"),
            (Self::Windows, _) => include_bytes!("../assets/windows-4k.img.zst"),
        }
    }

    /// Unpacks the volume to byte `offset` of `device`. Stretches of zeros are not written, so that
    /// the disk stays sparse.
    pub(crate) fn unpack(self, device: &dyn BlockDevice, offset: u64) -> Result<()> {
        let packed = self.packed(device.geometry().logical_sector);
        let mut decoder = StreamingDecoder::new(packed)
            .map_err(|error| anyhow::anyhow!("asset {self:?}: {error}"))?;
        let mut chunk = vec![0; 1 << 16];
        let mut at = offset;
        let end = offset + self.len_bytes();
        while at < end {
            decoder
                .read_exact(&mut chunk)
                .with_context(|| format!("asset {self:?} at byte {at}"))?;
            if chunk.iter().any(|&byte| byte != 0) {
                device.write_at(at, &chunk)?;
            }
            at += chunk.len() as u64;
        }
        Ok(())
    }
}
