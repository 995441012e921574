//! Brings a FAT32 volume and its copies to agree again: the boot sector with its copy, one FAT with the other.
//! Which of two is right is recognised by trying: the one with which the volume has the fewest faults.

use zerocopy::FromBytes;
use zerocopy::little_endian::U16;

use super::bpb::{BACKUP_SECTOR, FatKind, FatShape, Oddity, RawBpb};
use super::check::FatFault;
use super::volume::{FatError, FatVolume};
use crate::device::{BlockDevice, DeviceError, Draft, Lba, ReadDevice};

/// FATs longer than this are left alone: no EFI system partition has such.
const MAX_FAT_BYTES: u64 = 64 << 20;
const CHUNK_BYTES: u64 = 1 << 18;

/// What is to be written so that a volume and its copies agree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Repair {
    /// Byte of the volume, and what comes there.
    writes: Vec<(u64, Vec<u8>)>,
}

/// What is wrong with a volume: its faults, then the clusters that are in use by the FAT but belong to no file. The
/// second tells apart boot sectors that lead to different folders, each of them sound.
type Harm = (usize, u64);

/// Which FAT is copied over the other.
#[derive(Debug, Clone, Copy)]
enum FatCopied {
    First,
    Second,
}

impl Repair {
    /// Looks for a way; `None` where the volume needs none, or where none leads to a volume whose copies agree.
    /// Faults of single files stay.
    ///
    /// # Errors
    ///
    /// The device's.
    pub fn find(device: &dyn ReadDevice) -> Result<Option<Self>, DeviceError> {
        let mut best: Option<(Harm, Self)> = None;
        for boot in boot_sectors(device)? {
            for copied in [FatCopied::First, FatCopied::Second] {
                let Some((harm, repair)) = attempt(device, &boot, copied)? else {
                    continue;
                };
                if best.as_ref().is_none_or(|(least, _)| harm < *least) {
                    best = Some((harm, repair));
                }
            }
        }
        let best = best.map(|(_, repair)| repair);
        Ok(best.filter(|repair| !repair.writes.is_empty()))
    }

    /// Writes it.
    ///
    /// # Errors
    ///
    /// The device's.
    pub fn apply(&self, device: &dyn BlockDevice) -> Result<(), DeviceError> {
        let mut writes = self.writes.iter();
        writes.try_for_each(|(at, bytes)| device.write_at(*at, bytes))
    }
}

/// What the boot sector may be: the one in its place, with what is odd about it set right, and its copy.
fn boot_sectors(device: &dyn ReadDevice) -> Result<Vec<Vec<u8>>, DeviceError> {
    let sector_bytes = device.geometry().logical_sector;
    let main = device.read_vec(0, sector_bytes as usize)?;
    let parsed = FatShape::parse_leniently(&main);
    let (mut found, mut copies) = (Vec::new(), vec![BACKUP_SECTOR]);
    if let Ok((shape, oddities)) = parsed {
        // The field that names the copy's place may be what is damaged.
        if ![0, BACKUP_SECTOR].contains(&shape.backup_sector) {
            copies.push(shape.backup_sector);
        }
        found.push(set_right(main, &oddities));
    }
    for copy_at in copies {
        if u64::from(copy_at) < device.geometry().sectors {
            let copy = device.read_sector(Lba(copy_at.into()))?;
            if FatShape::parse(&copy).is_some() {
                found.push(copy);
            }
        }
    }
    Ok(found)
}

fn set_right(mut sector: Vec<u8>, oddities: &[Oddity]) -> Vec<u8> {
    if let Ok((raw, _)) = RawBpb::mut_from_prefix(&mut sector) {
        for oddity in oddities {
            match oddity {
                Oddity::Signature => raw.signature = [0x55, 0xAA],
                // Over the FAT32 parameter block.
                Oddity::Jump => raw.jump = [0xEB, 0x58, 0x90],
                Oddity::Media { .. } => raw.media = 0xF8,
                Oddity::RootEntries { .. } => raw.root_entries = U16::new(0),
                Oddity::Version { .. } => raw.version = U16::new(0),
                Oddity::NotMirrored { .. } => raw.flags = U16::new(0),
                // How long the volume and its sectors are, and how many clusters it has, cannot be made up.
                Oddity::Sectors { .. }
                | Oddity::SectorBytes { .. }
                | Oddity::TooFewClusters { .. } => {}
            }
        }
    }
    sector
}

/// The volume with this boot sector and this FAT, and what is wrong with it then; `None` where its copies still do
/// not agree, or nothing is on it.
fn attempt(
    device: &dyn ReadDevice,
    boot: &[u8],
    copied: FatCopied,
) -> Result<Option<(Harm, Repair)>, DeviceError> {
    let geometry = device.geometry();
    let shape = FatShape::parse(boot).filter(|shape| {
        // So that nothing below lies outside: the FATs lie before the volume's end.
        shape.kind() == FatKind::Fat32
            && shape.sector_bytes == geometry.logical_sector
            && shape.sectors <= geometry.sectors
            && u32::from(shape.backup_sector) < shape.reserved_sectors
    });
    let Some(shape) = shape else {
        return Ok(None);
    };
    let trial = Draft::new(device);
    let sector = u64::from(shape.sector_bytes);
    trial.write_at(0, boot)?;
    if shape.backup_sector != 0 {
        trial.write_at(u64::from(shape.backup_sector).saturating_mul(sector), boot)?;
    }
    copy_fat(&trial, &shape, copied)?;
    let harm = FatVolume::open(&trial).and_then(|volume| {
        let is_empty = volume.read_dir(&volume.root())?.is_empty();
        let (faults, lost_clusters) = volume.check_with_lost()?;
        let agrees = !is_empty && !faults.iter().any(FatFault::is_of_volume);
        Ok(agrees.then_some((faults.len(), lost_clusters)))
    });
    let harm = match harm {
        Ok(Some(harm)) => harm,
        Err(FatError::Device(error)) => return Err(error),
        Ok(None) | Err(_) => return Ok(None),
    };
    let mut writes = Vec::new();
    for extent in trial.changed() {
        let at = extent.first.0.saturating_mul(sector);
        let len = usize::try_from(extent.sectors().saturating_mul(sector)).unwrap_or(0);
        writes.push((at, trial.read_vec(at, len)?));
    }
    Ok(Some((harm, Repair { writes })))
}

fn copy_fat(trial: &Draft<'_>, shape: &FatShape, copied: FatCopied) -> Result<(), DeviceError> {
    let sector = u64::from(shape.sector_bytes);
    let len = u64::from(shape.fat_sectors).saturating_mul(sector);
    if shape.fat_count != 2 || len > MAX_FAT_BYTES {
        return Ok(());
    }
    let first = u64::from(shape.reserved_sectors).saturating_mul(sector);
    let second = first.saturating_add(len);
    let (from, to) = match copied {
        FatCopied::First => (first, second),
        FatCopied::Second => (second, first),
    };
    let mut done = 0_u64;
    while done < len {
        let take = usize::try_from(CHUNK_BYTES.min(len.saturating_sub(done))).unwrap_or(0);
        let bytes = trial.read_vec(from.saturating_add(done), take)?;
        trial.write_at(to.saturating_add(done), &bytes)?;
        done = done.saturating_add(CHUNK_BYTES);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::{DosTime, FatWriter};
    use super::*;
    use crate::device::{Extent, MIB, Memory};

    const SECTOR: usize = 512;
    /// Bytes of the first FAT, and of the second one, of the volume below.
    const FAT_AT: usize = 32 * SECTOR;

    fn volume() -> Memory {
        let disk = Memory::new(512, 64 * MIB / 512);
        let extent = Extent::new(Lba(0), disk.geometry().sectors).unwrap();
        let time = DosTime::EPOCH;
        let mut writer = FatWriter::new(&disk, extent, 7, *b"SYSTEM     ", time).unwrap();
        let path = ["EFI", "Boot", "bootx64.efi"];
        writer.write_file(&path, &[0x5A; 70_000]).unwrap();
        writer.finish().unwrap();
        disk
    }

    #[test]
    fn one_damage_of_two_copies_is_set_right_to_the_byte() {
        let good = volume();
        let shape = *FatVolume::open(&good).unwrap().shape();
        let second = FAT_AT + shape.fat_sectors as usize * SECTOR;
        let all = good.read_vec(0, second + 4096).unwrap();
        assert_eq!(Repair::find(&good).unwrap(), None);
        for (at, changed, what) in [
            (0, 0x41, "jump"),
            (11, 0x41, "bytes per sector"),
            (13, 0x41, "sectors per cluster"),
            (14, 0x41, "reserved sectors"),
            (16, 0x41, "number of FATs"),
            (17, 0x41, "root entries"),
            (21, 0x41, "media byte"),
            (34, 0x41, "number of sectors"),
            (36, 0x41, "sectors per FAT"),
            (44, 0x41, "root cluster"),
            (50, 0x41, "the copy's place"),
            (510, 0x41, "mark"),
            (6 * SECTOR + 13, 0x41, "the copy's sectors per cluster"),
            (FAT_AT + 8, 0x41, "the root's chain in the first FAT"),
            (FAT_AT + 5 * 4, 0x41, "the file's chain in the first FAT"),
            (second + 5 * 4, 0x41, "the file's chain in the second FAT"),
            (44, 2 ^ 4, "root cluster, of a folder"),
            (
                6 * SECTOR + 44,
                2 ^ 4,
                "the copy's root cluster, of a folder",
            ),
        ] {
            let disk = volume();
            let sector = at / SECTOR * SECTOR;
            let mut bytes = disk.read_vec(sector as u64, SECTOR).unwrap();
            bytes[at - sector] ^= changed;
            disk.write_at(sector as u64, &bytes).unwrap();
            let repair = Repair::find(&disk).unwrap();
            repair
                .unwrap_or_else(|| panic!("{what}"))
                .apply(&disk)
                .unwrap();
            assert!(
                disk.read_vec(0, all.len()).unwrap() == all,
                "{what}: it is as it was"
            );
        }
    }

    #[test]
    fn what_has_no_sound_copy_is_left() {
        let disk = volume();
        for at in [0, 6 * 512] {
            disk.write_at(at, &[0; 512]).unwrap();
        }
        assert_eq!(Repair::find(&disk).unwrap(), None);
        assert_eq!(Repair::find(&Memory::new(512, 4)).unwrap(), None);
    }
}
