//! Lays out a disk: boot records and volumes at their places.

use anyhow::{Context, Result};
use schwelle_core::bytes::utf16_bytes;
use schwelle_core::device::{BlockDevice, Extent, Lba, MIB};
use uuid::Uuid;

use crate::assets::Asset;
use crate::edit::replace_bytes;

/// The signature that the packed BCD store and registry name.
const ASSET_SIGNATURE: u32 = 0x51C3_A7E5;
/// The computer's name in the packed registry.
const ASSET_COMPUTER: &str = "LANTERN-ONE";

/// The key ID of the recovery password of volumes that are made to look encrypted.
const RECOVERY_KEY_ID: Uuid = Uuid::from_u128(0x5E1A_7C3D_90B2_4F68_8D41_2C9E_77A0_36F5);

/// An entry of a boot record.
#[derive(Debug, Clone, Copy)]
pub struct MbrEntry {
    /// Marked active.
    pub active: bool,
    /// Type byte.
    pub kind: u8,
    /// First sector, as the record counts.
    pub first: u32,
    /// Sectors.
    pub sectors: u32,
}

/// Boot code of the demo disks: a jump to itself, and the name by which Windows' own is known.
const BOOT_CODE: &[u8] = b"\xEB\xFETCPA";

const RECOVERY_CONFIG: &str = "\\Windows\\System32\\Recovery\\ReAgent.xml";
const SYSTEM_HIVE: &str = "\\Windows\\System32\\config\\SYSTEM";

/// Where the two volumes of the standard layout lie. The packed BCD store names these places.
#[derive(Debug, Clone, Copy)]
pub struct Standard {
    /// The boot volume, at 1 MiB.
    pub boot: Extent,
    /// The Windows volume, right after it.
    pub windows: Extent,
}

/// Builds on a device.
#[derive(Debug, Clone, Copy)]
pub struct DiskBuilder<'a> {
    device: &'a dyn BlockDevice,
}

impl<'a> DiskBuilder<'a> {
    /// A builder on `device`, which reads as zeros.
    pub fn new(device: &'a dyn BlockDevice) -> Self {
        Self { device }
    }

    /// The places of the standard layout at this device's sector size.
    pub fn standard_places(&self) -> Standard {
        let per_mib = self.device.geometry().sectors_per_mib();
        let extent = |first_mib: u64, asset: Asset| {
            Extent::between(
                Lba(first_mib * per_mib),
                Lba((first_mib + asset.len_bytes() / MIB) * per_mib),
            )
        };
        Standard {
            boot: extent(1, Asset::Boot),
            windows: extent(51, Asset::Windows),
        }
    }

    /// The standard system disk: boot volume (active) and Windows volume, the rest unused; with
    /// this signature and computer's name (eleven letters).
    pub fn standard(&self, signature: u32, computer: &str) -> Result<Standard> {
        let places = self.standard_places();
        self.volume(Asset::Boot, places.boot)?;
        self.volume(Asset::Windows, places.windows)?;
        self.boot_record(
            Lba(0),
            signature,
            &[entry(places.boot, true)?, entry(places.windows, false)?],
        )?;
        let (old, new) = (ASSET_SIGNATURE.to_le_bytes(), signature.to_le_bytes());
        if old != new {
            replace_bytes(self.device, places.boot, "\\Boot\\BCD", &old, &new)?;
            replace_bytes(self.device, places.windows, SYSTEM_HIVE, &old, &new)?;
            // In decimal here; with zeros in front the length is the same.
            let decimal = |signature: u32| format!("{signature:010}").into_bytes();
            let (old, new) = (decimal(ASSET_SIGNATURE), decimal(signature));
            replace_bytes(self.device, places.windows, RECOVERY_CONFIG, &old, &new)?;
        }
        if computer != ASSET_COMPUTER {
            rename_computer(self.device, places.windows, computer)?;
        }
        Ok(places)
    }

    /// The volumes of the standard system disk at other places, without a table: BCD store and registry name these.
    pub fn standard_at(
        &self,
        boot: Extent,
        windows: Extent,
        (signature, computer): (u32, &str),
    ) -> Result<()> {
        self.volume(Asset::Boot, boot)?;
        self.volume(Asset::Windows, windows)?;
        let geometry = self.device.geometry();
        let byte = |extent: Extent| geometry.byte_of(extent.first).context("beyond any disk");
        let places = [byte(boot)?, byte(windows)?];
        let name = |signature: u32, byte: u64| {
            [&signature.to_le_bytes()[..], &byte.to_le_bytes()].concat()
        };
        // By way of places where nothing is, since each may come to lie where the other was.
        let away = [7 << 50, 9 << 50];
        let passes = [
            (ASSET_SIGNATURE, [MIB, 51 * MIB], signature, away),
            (signature, away, signature, places),
        ];
        for (old, from, new, to) in passes {
            for (from, to) in from.into_iter().zip(to) {
                let (here, there) = (from.to_le_bytes(), to.to_le_bytes());
                replace_bytes(self.device, boot, "\\Boot\\BCD", &here, &there)?;
                let (here, there) = (name(old, from), name(new, to));
                replace_bytes(self.device, windows, SYSTEM_HIVE, &here, &there)?;
            }
        }
        let (old, new) = (ASSET_SIGNATURE.to_le_bytes(), signature.to_le_bytes());
        replace_bytes(self.device, boot, "\\Boot\\BCD", &old, &new)?;
        if computer != ASSET_COMPUTER {
            rename_computer(self.device, windows, computer)?;
        }
        Ok(())
    }

    /// Puts a Linux after Windows on a standard disk with this signature, and a stub of GRUB's boot code into sector 0 and
    /// after it; where the Linux lies.
    pub fn with_linux(&self, signature: u32) -> Result<Extent> {
        let places = self.standard_places();
        let linux = Extent::new(places.windows.end, Asset::Linux.len_bytes() / 512);
        let linux = linux.context("no such place")?;
        self.volume(Asset::Linux, linux)?;
        let beside = MbrEntry {
            kind: 0x83,
            ..entry(linux, false)?
        };
        let entries = [
            entry(places.boot, true)?,
            entry(places.windows, false)?,
            beside,
        ];
        self.boot_record(Lba(0), signature, &entries)?;
        self.stub_of_grub()?;
        Ok(linux)
    }

    /// Puts boot code into sector 0, and after it, that is known as GRUB's by its messages and starts nothing.
    fn stub_of_grub(&self) -> Result<()> {
        let mut sector = self.device.read_sector(Lba(0))?;
        let code = sector.get_mut(..440).context("a sector is longer")?;
        code.fill(0);
        for (at, bytes) in [
            (0, &b"\xEB\xFE"[..]),
            // Where it is loaded to, and the sector that it loads next.
            (0x5A, &[0x00, 0x80, 1, 0, 0, 0, 0, 0, 0, 0]),
            (0x180, b"GRUB \0Geom\0Hard Disk\0Read\0 Error\r\n"),
        ] {
            code[at..at + bytes.len()].copy_from_slice(bytes);
        }
        self.bytes(Lba(0), &sector)?;
        // Sectors 2 to 8 follow the first by its numbers.
        let mut core = vec![0x90; 8 * 512];
        core[500..512].copy_from_slice(&[2, 0, 0, 0, 0, 0, 0, 0, 7, 0, 0x20, 0x08]);
        core[464..500].fill(0);
        self.bytes(Lba(1), &core)
    }

    /// Unpacks a volume at `extent`.
    pub fn volume(&self, asset: Asset, extent: Extent) -> Result<()> {
        let offset = self
            .device
            .geometry()
            .byte_of(extent.first)
            .context("beyond any disk")?;
        asset.unpack(self.device, offset)?;
        if asset == Asset::Boot {
            self.mark_boot_record(offset)?;
        }
        Ok(())
    }

    /// Puts the name of the boot manager where Windows' own boot code has it: what is there cannot be started.
    fn mark_boot_record(&self, offset: u64) -> Result<()> {
        // In the second sector: the first has a copy at the volume's end.
        let sector = u64::from(self.device.geometry().logical_sector);
        let at = offset + sector;
        let mut bytes = self.device.read_vec(at, usize::try_from(sector)?)?;
        let mark = utf16_bytes("BOOTMGR");
        bytes[..mark.len()].copy_from_slice(&mark);
        Ok(self.device.write_at(at, &bytes)?)
    }

    /// Writes a boot record with these entries; the boot code is a jump to itself, so that it is
    /// not empty.
    pub fn boot_record(&self, at: Lba, signature: u32, entries: &[MbrEntry]) -> Result<()> {
        let mut sector = vec![0; self.device.geometry().logical_sector as usize];
        if at == Lba(0) {
            sector[..BOOT_CODE.len()].copy_from_slice(BOOT_CODE);
            sector[440..444].copy_from_slice(&signature.to_le_bytes());
        }
        for (entry, at) in entries.iter().zip((446..).step_by(16)) {
            sector[at] = if entry.active { 0x80 } else { 0 };
            sector[at + 1..at + 4].copy_from_slice(&[0xFE, 0xFF, 0xFF]);
            sector[at + 4] = entry.kind;
            sector[at + 5..at + 8].copy_from_slice(&[0xFE, 0xFF, 0xFF]);
            sector[at + 8..at + 12].copy_from_slice(&entry.first.to_le_bytes());
            sector[at + 12..at + 16].copy_from_slice(&entry.sectors.to_le_bytes());
        }
        sector[510..512].copy_from_slice(&[0x55, 0xAA]);
        self.bytes(at, &sector)
    }

    /// Writes bytes from a sector on, the last sector filled with zeros.
    pub fn bytes(&self, at: Lba, bytes: &[u8]) -> Result<()> {
        let geometry = self.device.geometry();
        let mut bytes = bytes.to_vec();
        bytes.resize(
            bytes
                .len()
                .next_multiple_of(geometry.logical_sector as usize),
            0,
        );
        Ok(self
            .device
            .write_at(geometry.byte_of(at).context("beyond any disk")?, &bytes)?)
    }

    /// The device below.
    pub fn device(&self) -> &'a dyn BlockDevice {
        self.device
    }

    /// Makes the volume at `extent` look encrypted: a header with its signature, and metadata that says
    /// so. The volume's first sector is overwritten.
    pub fn encrypt(&self, extent: Extent) -> Result<()> {
        const METADATA_AT: [u64; 3] = [32 * MIB, 64 * MIB, 96 * MIB];
        let sector = self.device.geometry().logical_sector;
        let mut header = vec![0; 512];
        header[..3].copy_from_slice(&[0xEB, 0x58, 0x90]);
        header[3..11].copy_from_slice(b"-FVE-FS-");
        header[11..13].copy_from_slice(&u16::try_from(sector)?.to_le_bytes());
        header[13] = u8::try_from(4096 / sector)?;
        header[160..176].copy_from_slice(&[
            0x3B, 0xD6, 0x67, 0x49, 0x29, 0x2E, 0xD8, 0x4A, 0x83, 0x99, 0xF6, 0xA3, 0x39, 0xE3,
            0xD0, 0x01,
        ]);
        for (offset, at) in METADATA_AT.iter().zip((176..).step_by(8)) {
            header[at..at + 8].copy_from_slice(&offset.to_le_bytes());
        }
        header[510..].copy_from_slice(&[0x55, 0xAA]);
        self.bytes(extent.first, &header)?;

        let size = extent.sectors() * u64::from(sector);
        let mut block = vec![0; 64 + 48];
        block[..8].copy_from_slice(b"-FVE-FS-");
        // Version 2, state "encrypted" now and next, size of the volume, its header's place, the
        // blocks' places.
        for (at, value) in [(10, 2u16), (12, 4), (14, 4)] {
            block[at..at + 2].copy_from_slice(&value.to_le_bytes());
        }
        block[16..24].copy_from_slice(&size.to_le_bytes());
        block[28..32].copy_from_slice(&(8192 / sector).to_le_bytes());
        for (offset, at) in METADATA_AT.iter().zip((32..).step_by(8)) {
            block[at..at + 8].copy_from_slice(&offset.to_le_bytes());
        }
        block[56..64].copy_from_slice(&(128 * MIB).to_le_bytes());
        // The volume's master key, protected by a recovery password, and its data key; each with
        // the encrypted key itself.
        let head =
            |len: u16, kind: u16, value: u16| [len, kind, value, 1].map(u16::to_le_bytes).concat();
        let encrypted_key = |kind| [head(80, kind, 5), vec![0x5A; 72]].concat();
        let mut master = [head(116, 2, 8), vec![0; 28], encrypted_key(0)].concat();
        master[8..24].copy_from_slice(&RECOVERY_KEY_ID.to_bytes_le());
        master[34..36].copy_from_slice(&0x0800u16.to_le_bytes());
        let keys = [master, encrypted_key(3)].concat();
        let len = u32::try_from(48 + keys.len())?;
        block[64..68].copy_from_slice(&len.to_le_bytes());
        block[68..72].copy_from_slice(&1u32.to_le_bytes());
        block[72..76].copy_from_slice(&48u32.to_le_bytes());
        block[76..80].copy_from_slice(&len.to_le_bytes());
        // Cipher: AES-XTS 128.
        block[100..102].copy_from_slice(&0x8004u16.to_le_bytes());
        block.extend(keys);
        // In units of 16 bytes; then the checksum of all that.
        block.resize(block.len().next_multiple_of(16), 0);
        let units = u16::try_from(block.len() / 16)?;
        block[8..10].copy_from_slice(&units.to_le_bytes());
        let checksum = crc32fast::hash(&block);
        block.extend([32, 0, 2, 0].into_iter().chain(checksum.to_le_bytes()));
        for offset in METADATA_AT {
            self.bytes(Lba(extent.first.0 + offset / u64::from(sector)), &block)?;
        }
        Ok(())
    }
}

/// Gives the computer in the registry on the Windows volume at `extent` another name of eleven
/// letters.
fn rename_computer(device: &dyn BlockDevice, extent: Extent, name: &str) -> Result<()> {
    let (old, new) = (utf16_bytes(ASSET_COMPUTER), utf16_bytes(name));
    replace_bytes(device, extent, SYSTEM_HIVE, &old, &new)
}

/// The entry of an NTFS partition.
pub(crate) fn entry(extent: Extent, active: bool) -> Result<MbrEntry> {
    let first = u32::try_from(extent.first.0)?;
    Ok(MbrEntry {
        active,
        kind: 0x07,
        first,
        sectors: u32::try_from(extent.sectors())?,
    })
}
