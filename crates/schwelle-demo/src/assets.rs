//! The packed volumes and programs.

use std::io::Read;
use std::sync::OnceLock;

use anyhow::{Context, Result};
use ruzstd::decoding::StreamingDecoder;
use schwelle_core::device::{BlockDevice, MIB};

/// The stand-in boot manager, signed with the demo's keys.
pub const BOOT_MANAGER: &[u8] = include_bytes!("../assets/boot/bootmgfw-signed.efi");
/// A stand-in kernel for a 32-bit system.
pub const KERNEL_32BIT: &[u8] = include_bytes!("../assets/boot/ntoskrnl-32bit.exe");
/// A stand-in loader for another processor.
pub const BOOT_PROGRAM_ARM64: &[u8] = include_bytes!("../assets/boot/loader-arm64.efi");

/// Byte on the volume, and what stands there.
type Piece = (u64, Vec<u8>);
const PIECE_BYTES: usize = 1 << 16;

/// A packed volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asset {
    /// The boot volume of a BIOS start.
    Boot,
    /// The Windows volume.
    Windows,
    /// The ext4 volume of a Linux; on disks with sectors of 512 bytes.
    Linux,
}

impl Asset {
    /// Size of the volume in bytes.
    pub fn len_bytes(self) -> u64 {
        match self {
            Self::Boot => 50 * MIB,
            Self::Windows => 160 * MIB,
            Self::Linux => 24 * MIB,
        }
    }

    fn packed(self, sector: u32) -> &'static [u8] {
        match (self, sector) {
            (Self::Boot, 512) => include_bytes!("../assets/boot.img.zst"),
            (Self::Boot, _) => include_bytes!("../assets/boot-4k.img.zst"),
            (Self::Windows, 512) => include_bytes!("../assets/windows.img.zst"),
            (Self::Windows, _) => include_bytes!("../assets/windows-4k.img.zst"),
            (Self::Linux, _) => include_bytes!("../assets/linux.img.zst"),
        }
    }

    /// Unpacks the volume to byte `offset` of `device`. Stretches of zeros are not written, so that
    /// the disk stays sparse.
    pub(crate) fn unpack(self, device: &dyn BlockDevice, offset: u64) -> Result<()> {
        for (at, bytes) in self.pieces(device.geometry().logical_sector)? {
            device.write_at(offset + at, bytes)?;
        }
        Ok(())
    }

    /// What is not zero in it: unpacked once, since a demo and the tests make many disks of it.
    fn pieces(self, sector: u32) -> Result<&'static [Piece]> {
        static UNPACKED: [[OnceLock<Vec<Piece>>; 2]; 3] =
            [const { [const { OnceLock::new() }; 2] }; 3];
        let index = match self {
            Self::Boot => 0,
            Self::Windows => 1,
            Self::Linux => 2,
        };
        let known = &UNPACKED[index][usize::from(sector == 512)];
        if let Some(pieces) = known.get() {
            return Ok(pieces);
        }
        let mut decoder = StreamingDecoder::new(self.packed(sector))
            .map_err(|error| anyhow::anyhow!("asset {self:?}: {error}"))?;
        let mut pieces = Vec::new();
        let mut chunk = vec![0; PIECE_BYTES];
        for at in (0..self.len_bytes()).step_by(PIECE_BYTES) {
            decoder
                .read_exact(&mut chunk)
                .with_context(|| format!("asset {self:?} at byte {at}"))?;
            if chunk.iter().any(|&byte| byte != 0) {
                pieces.push((at, chunk.clone()));
            }
        }
        Ok(known.get_or_init(|| pieces))
    }
}
