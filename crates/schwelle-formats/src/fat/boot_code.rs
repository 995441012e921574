//! The boot record of a FAT32 volume from which a BIOS starts an installed Windows: a program of our own. Source beside
//! it.

use zerocopy::little_endian::U32;
use zerocopy::{FromBytes, IntoBytes};

use super::bpb::{FatKind, RawBpb};
use super::volume::FatVolume;
use super::writer::FatWriteError;
use crate::device::{BlockDevice, Lba};

/// Finds the file BOOTMGR in the root folder, loads it to 2000h:0 and goes there.
const BOOT_CODE: &[u8] = include_bytes!("boot-code/boot.bin");
/// A jump over the parameter block to the code after it.
const JUMP: [u8; 3] = [0xEB, 0x58, 0x90];
/// A BIOS' number for the first hard disk; the code puts the one it was started from in its place.
const FIRST_DISK: u8 = 0x80;
/// The sectors that the code, and a BIOS, can read.
const SECTOR_BYTES: u32 = 512;

/// The longest file that the code can load: up to where firmware may keep data of its own.
pub const MAX_BOOT_MANAGER_BYTES: u64 = 0x9_8000 - 0x2_0000;

/// Makes the volume on `esp`, which begins at this sector of its disk, one that a BIOS starts from. Both
/// copies of the boot sector are written.
pub fn make_startable(esp: &dyn BlockDevice, first: Lba) -> Result<(), FatWriteError> {
    let unfit = |fault: &'static str| FatWriteError::Unfit { fault };
    let shape = *FatVolume::open(esp)?.shape();
    if shape.kind() != FatKind::Fat32 {
        return Err(unfit("our boot record reads FAT32 only"));
    }
    if shape.sector_bytes != SECTOR_BYTES {
        return Err(unfit("a BIOS starts from sectors of 512 bytes only"));
    }
    let hidden =
        u32::try_from(first.0).map_err(|_too_large| unfit("it lies beyond an MBR's reach"))?;
    let mut sector = esp.read_vec(0, SECTOR_BYTES as usize)?;
    let (raw, _) =
        RawBpb::mut_from_prefix(&mut sector).map_err(|_too_short| unfit("no boot sector"))?;
    raw.jump = JUMP;
    raw.hidden_sectors = U32::new(hidden);
    raw.drive = FIRST_DISK;
    raw.code = code();
    raw.signature = [0x55, 0xAA];
    let bytes = raw.as_bytes().to_vec();
    let backup = u32::from(shape.backup_sector);
    if backup != 0 && backup < shape.reserved_sectors {
        esp.write_at(u64::from(backup) * u64::from(SECTOR_BYTES), &bytes)?;
    }
    Ok(esp.write_at(0, &bytes)?)
}

/// True when the code in this boot sector is ours, and it names this sector of the disk as its own.
pub fn is_startable(sector: &[u8], first: Lba) -> bool {
    RawBpb::ref_from_prefix(sector).is_ok_and(|(raw, _)| {
        raw.code == code() && raw.jump == JUMP && u64::from(raw.hidden_sectors.get()) == first.0
    })
}

fn code() -> [u8; 420] {
    let mut code = [0; 420];
    code.iter_mut()
        .zip(BOOT_CODE)
        .for_each(|(to, from)| *to = *from);
    code
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{Extent, MIB, Memory, ReadDevice};
    use crate::fat::{DosTime, FatWriter};

    #[test]
    fn both_boot_sectors_get_the_code_and_the_volume_stays() {
        let volume = |sector: u32, mib: u64| {
            let disk = Memory::new(sector, mib * MIB / u64::from(sector));
            let extent = Extent::new(Lba(2048), mib * MIB / u64::from(sector)).unwrap();
            let mut writer =
                FatWriter::new(&disk, extent, 1, *b"SYSTEM     ", DosTime::EPOCH).unwrap();
            writer.write_file(&["Boot", "BCD"], b"content").unwrap();
            writer.finish().unwrap();
            disk
        };
        let disk = volume(512, 100);
        make_startable(&disk, Lba(4096)).unwrap();
        assert!(BOOT_CODE.len() <= 420);
        for at in [0, 6] {
            let sector = disk.read_sector(Lba(at)).unwrap();
            assert!(is_startable(&sector, Lba(4096)) && !is_startable(&sector, Lba(2048)));
        }
        let fat = FatVolume::open(&disk).unwrap();
        assert_eq!(fat.check().unwrap(), []);
        let file = fat.find("\\Boot\\BCD").unwrap().unwrap();
        assert_eq!(fat.read_file(&file, 100).unwrap(), b"content");

        assert!(make_startable(&disk, Lba(1 << 32)).is_err());
        assert!(make_startable(&volume(4096, 260), Lba(256)).is_err());
    }
}
