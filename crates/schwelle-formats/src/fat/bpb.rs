//! The boot sector of a FAT volume with its parameter block (FAT specification 1.03, "Boot Sector
//! and BPB").

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use std::mem::offset_of;

use zerocopy::little_endian::{U16, U32};
use zerocopy::{FromBytes, FromZeros, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::device::{Extent, Geometry};

/// FAT32 starts at this many clusters ("FAT Type Determination"); below it a reader takes the
/// volume for FAT16.
pub(super) const MIN_CLUSTERS: u64 = 65_525;
/// Kept between us and that number, as the specification advises for readers that count wrongly.
const CLUSTER_MARGIN: u64 = 16;
const MAX_CLUSTERS: u64 = 0x0FFF_FFF4;
pub(super) const RESERVED_SECTORS: u16 = 32;
pub(super) const FSINFO_SECTOR: u16 = 1;
pub(super) const BACKUP_SECTOR: u16 = 6;
/// In the flags of a FAT32 volume: only one of the FATs is in use, that with the number in the lower four bits.
pub(super) const NOT_MIRRORED: u16 = 0x80;
const ACTIVE_FAT: u16 = 0x0F;
/// Byte of the serial number in the parameter block of FAT12 and FAT16.
const VOLUME_ID_16_AT: usize = 39;
/// Clusters are as large as this where the volume still has clusters enough.
const WANTED_CLUSTER_BYTES: u32 = 4096;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct RawBpb {
    pub(super) jump: [u8; 3],
    pub(super) manufacturer: [u8; 8],
    pub(super) sector_bytes: U16,
    pub(super) cluster_sectors: u8,
    pub(super) reserved_sectors: U16,
    pub(super) fat_count: u8,
    pub(super) root_entries: U16,
    pub(super) sectors_16: U16,
    pub(super) media: u8,
    pub(super) fat_sectors_16: U16,
    pub(super) track_sectors: U16,
    pub(super) heads: U16,
    pub(super) hidden_sectors: U32,
    pub(super) sectors_32: U32,
    pub(super) fat_sectors_32: U32,
    pub(super) flags: U16,
    pub(super) version: U16,
    pub(super) root_cluster: U32,
    pub(super) fsinfo_sector: U16,
    pub(super) backup_sector: U16,
    pub(super) reserved: [u8; 12],
    pub(super) drive: u8,
    pub(super) reserved_nt: u8,
    pub(super) extended_mark: u8,
    pub(super) volume_id: U32,
    pub(super) label: [u8; 11],
    pub(super) type_text: [u8; 8],
    pub(super) code: [u8; 420],
    pub(super) signature: [u8; 2],
}

const _: () = assert!(size_of::<RawBpb>() == 512);
const _: () =
    assert!(offset_of!(RawBpb, hidden_sectors) == 28 && offset_of!(RawBpb, root_cluster) == 44);
const _: () = assert!(offset_of!(RawBpb, volume_id) == 67);

/// Which FAT a volume is, by its cluster count as the specification demands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FatKind {
    /// Fewer than 4085 clusters.
    Fat12,
    /// Fewer than 65,525 clusters.
    Fat16,
    /// All others.
    Fat32,
}

/// What is wrong with a boot sector without saying anything of where the parts lie. The specification wants each
/// of them right; firmware that only reads the parameter block never looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Oddity {
    /// The signature at the end.
    #[error("the boot sector has no signature 55 AA")]
    Signature,
    /// The jump over the parameter block.
    #[error("the boot sector does not begin with a jump")]
    Jump,
    /// The kind of the medium.
    #[error("the boot sector's media byte is {is:02X}h, expected F8h (or F0h, F9h to FFh)")]
    Media {
        /// What it is.
        is: u8,
    },
    /// Entries of a root directory that a FAT32 volume does not have.
    #[error(
        "the boot sector names {named} entries of a root directory of its own, which FAT32 does not have"
    )]
    RootEntries {
        /// How many.
        named: u16,
    },
    /// Fewer clusters than a FAT32 volume has, so that a reader that counts them takes it for FAT16.
    #[error("the volume has {clusters} clusters, too few for FAT32")]
    TooFewClusters {
        /// How many it has.
        clusters: u64,
    },
    /// Another version of FAT32 than 0.0, the only one there is ("BPB_FSVer").
    #[error("the boot sector names version {major}.{minor} of FAT32, and only 0.0 exists")]
    Version {
        /// Upper byte.
        major: u8,
        /// Lower byte.
        minor: u8,
    },
    /// Only one of the FATs is in use ("BPB_ExtFlags", bit 7).
    #[error("the boot sector's flags say that only FAT {} of {count} is in use", active + 1)]
    NotMirrored {
        /// Number of the FAT in use, from 0.
        active: u16,
        /// How many there are.
        count: u8,
    },
    /// A sector of another length than the disk's.
    #[error("the boot sector names sectors of {named} bytes, and the disk's have {has}")]
    SectorBytes {
        /// Length that the volume goes by.
        named: u32,
        /// Length of the disk's sectors.
        has: u32,
    },
    /// More sectors than there are.
    #[error("the boot sector names {named} sectors, and the partition has {has}")]
    Sectors {
        /// Sectors of the volume, as it says.
        named: u64,
        /// Sectors of its partition.
        has: u64,
    },
}

impl Oddity {
    /// Firmware does not read such a volume, though it could: it checks the field and refuses, or looks for what the
    /// volume does not have.
    pub(super) fn is_refused(self) -> bool {
        match self {
            Self::TooFewClusters { .. } | Self::Version { .. } => true,
            Self::NotMirrored { active, count } => active >= u16::from(count),
            Self::Signature
            | Self::Jump
            | Self::Media { .. }
            | Self::RootEntries { .. }
            | Self::SectorBytes { .. }
            | Self::Sectors { .. } => false,
        }
    }
}

/// Where the parts of a FAT volume lie, in sectors and clusters; all sums checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FatShape {
    /// Bytes in a sector.
    pub sector_bytes: u32,
    /// Sectors in a cluster.
    pub cluster_sectors: u32,
    /// Sectors before the first FAT.
    pub reserved_sectors: u32,
    /// Sectors of one FAT.
    pub fat_sectors: u32,
    /// Number of FATs.
    pub fat_count: u32,
    /// First sector of cluster 2.
    pub data_sector: u64,
    /// Number of data clusters.
    pub clusters: u64,
    /// Sectors of the whole volume.
    pub sectors: u64,
    /// Sectors before the volume on its disk, as the volume says.
    pub hidden_sectors: u32,
    /// First cluster of the root directory on FAT32; 0 on FAT12 and FAT16.
    pub root_cluster: u32,
    /// Sectors of the root directory on FAT12 and FAT16, right before `data_sector`; 0 on FAT32.
    pub root_sectors: u32,
    /// Number of the FAT in use, from 0; another one than the first only where they are not kept alike.
    pub active_fat: u32,
    /// Sector of the boot sector's copy on FAT32, 0 if it has none; 0 on FAT12 and FAT16.
    pub backup_sector: u16,
    /// Serial number.
    pub volume_id: u32,
}

impl FatShape {
    /// Bytes in a cluster.
    pub fn cluster_bytes(&self) -> u32 {
        self.sector_bytes.saturating_mul(self.cluster_sectors)
    }

    /// FAT32 if the root directory is a chain of clusters, else FAT12 or FAT16 by the number of clusters ("FAT Type
    /// Determination").
    pub fn kind(&self) -> FatKind {
        match self.clusters {
            _ if self.root_sectors == 0 => FatKind::Fat32,
            0..4085 => FatKind::Fat12,
            _ => FatKind::Fat16,
        }
    }

    /// Byte at which the FAT in use begins.
    pub(super) fn fat_at(&self) -> u64 {
        let before = u64::from(self.active_fat).saturating_mul(self.fat_sectors.into());
        before
            .saturating_add(self.reserved_sectors.into())
            .saturating_mul(self.sector_bytes.into())
    }

    /// Bits of an entry of the FAT.
    pub(super) fn entry_bits(&self) -> u64 {
        match self.kind() {
            FatKind::Fat12 => 12,
            FatKind::Fat16 => 16,
            FatKind::Fat32 => 32,
        }
    }

    /// The shape of a new FAT32 volume on `extent` of a disk; `None` when it would have too few
    /// clusters or too many.
    ///
    /// FAT size: with C = (sectors - reserved) / cluster size, no volume of these sectors has more
    /// than C clusters, so a FAT of ceil((C + 2) * 4 / sector size) sectors is always enough; the
    /// few entries too many are harmless.
    pub(super) fn plan(geometry: Geometry, extent: Extent, volume_id: u32) -> Option<Self> {
        let sector_bytes = geometry.logical_sector;
        let sectors = u64::from(u32::try_from(extent.sectors()).ok()?);
        let mut cluster_sectors = (WANTED_CLUSTER_BYTES / sector_bytes).max(1);
        loop {
            let most = sectors.checked_sub(RESERVED_SECTORS.into())? / u64::from(cluster_sectors);
            let fat_sectors = (most.checked_add(2)?.checked_mul(4)?).div_ceil(sector_bytes.into());
            let data_sector =
                u64::from(RESERVED_SECTORS).checked_add(fat_sectors.checked_mul(2)?)?;
            let clusters = sectors.checked_sub(data_sector)? / u64::from(cluster_sectors);
            if clusters >= MIN_CLUSTERS.checked_add(CLUSTER_MARGIN)? && clusters <= MAX_CLUSTERS {
                return Some(Self {
                    sector_bytes,
                    cluster_sectors,
                    reserved_sectors: RESERVED_SECTORS.into(),
                    fat_sectors: u32::try_from(fat_sectors).ok()?,
                    fat_count: 2,
                    data_sector,
                    clusters,
                    sectors,
                    // A partition beyond 2 TiB at 512 bytes cannot say where it begins; firmware
                    // goes by the table.
                    hidden_sectors: u32::try_from(extent.first.0).unwrap_or(0),
                    root_cluster: 2,
                    root_sectors: 0,
                    active_fat: 0,
                    backup_sector: BACKUP_SECTOR,
                    volume_id,
                });
            }
            if cluster_sectors == 1 {
                return None;
            }
            cluster_sectors /= 2;
        }
    }

    /// The shape in the parameter block in the first 512 bytes of `sector`; `None` if anything is odd about it.
    pub(super) fn parse(sector: &[u8]) -> Option<Self> {
        let (shape, oddities) = Self::parse_leniently(sector).ok()?;
        oddities.is_empty().then_some(shape)
    }

    /// The same, with what says nothing of where the parts lie only reported: some readers ask for it, others do not.
    ///
    /// # Errors
    ///
    /// The field at fault.
    pub(super) fn parse_leniently(sector: &[u8]) -> Result<(Self, Vec<Oddity>), &'static str> {
        let (raw, _) = RawBpb::ref_from_prefix(sector).map_err(|_too_short| "length")?;
        let check = |good: bool, field| if good { Ok(()) } else { Err(field) };
        let is_jump = matches!(raw.jump, [0xEB, _, 0x90] | [0xE9, _, _]);
        let oddities = [
            (raw.signature != [0x55, 0xAA], Oddity::Signature),
            (!is_jump, Oddity::Jump),
            (
                !matches!(raw.media, 0xF0 | 0xF8..),
                Oddity::Media { is: raw.media },
            ),
            (
                raw.fat_sectors_16.get() == 0 && raw.root_entries.get() != 0,
                Oddity::RootEntries {
                    named: raw.root_entries.get(),
                },
            ),
        ];
        let oddities = oddities.into_iter().filter(|(is_so, _)| *is_so);
        let mut oddities: Vec<Oddity> = oddities.map(|(_, oddity)| oddity).collect();
        let sector_bytes = u32::from(raw.sector_bytes.get());
        check(
            matches!(sector_bytes, 512 | 1024 | 2048 | 4096),
            "bytes per sector",
        )?;
        check(raw.cluster_sectors.is_power_of_two(), "sectors per cluster")?;
        check(raw.fat_count > 0, "number of FATs")?;
        let reserved_sectors = u32::from(raw.reserved_sectors.get());
        check(reserved_sectors > 0, "reserved sectors")?;
        let either = |small: u16, large: u32| if small != 0 { u32::from(small) } else { large };
        let sectors = u64::from(either(raw.sectors_16.get(), raw.sectors_32.get()));
        let fat_sectors = either(raw.fat_sectors_16.get(), raw.fat_sectors_32.get());
        check(fat_sectors > 0, "sectors per FAT")?;
        // On FAT32 the root directory is a chain of clusters, and the field for another place of it counts for nothing.
        let is_fat32 = raw.fat_sectors_16.get() == 0;
        let root_entries = if is_fat32 { 0 } else { raw.root_entries.get() };
        let root_sectors = (u32::from(root_entries) * 32).div_ceil(sector_bytes);
        let data_sector = u64::from(reserved_sectors)
            + u64::from(raw.fat_count) * u64::from(fat_sectors)
            + u64::from(root_sectors);
        let data = sectors.checked_sub(data_sector).ok_or("total sectors")?;
        let clusters = data / u64::from(raw.cluster_sectors);
        // Each kind has a parameter block of its own from byte 36 on.
        let on_fat32 = |value: u32| if is_fat32 { value } else { 0 };
        let volume_id = if is_fat32 {
            raw.volume_id.get()
        } else {
            crate::bytes::array_at(sector, VOLUME_ID_16_AT).map_or(0, u32::from_le_bytes)
        };
        let flags = raw.flags.get();
        let is_mirrored = !is_fat32 || flags & NOT_MIRRORED == 0;
        let active = if is_mirrored { 0 } else { flags & ACTIVE_FAT };
        let shape = Self {
            sector_bytes,
            cluster_sectors: raw.cluster_sectors.into(),
            reserved_sectors,
            fat_sectors,
            fat_count: raw.fat_count.into(),
            data_sector,
            clusters,
            sectors,
            hidden_sectors: raw.hidden_sectors.get(),
            root_cluster: on_fat32(raw.root_cluster.get()),
            root_sectors,
            // One that there is not is told below, and the first is read.
            active_fat: u32::from(active.min(u16::from(raw.fat_count) - 1)),
            backup_sector: if is_fat32 { raw.backup_sector.get() } else { 0 },
            volume_id,
        };
        // The FAT must have an entry for every cluster.
        let entries = u64::from(fat_sectors) * u64::from(sector_bytes) * 8 / shape.entry_bits();
        check(entries >= clusters.saturating_add(2), "sectors per FAT")?;
        if is_fat32 {
            let [minor, major] = raw.version.get().to_le_bytes();
            if (major, minor) != (0, 0) {
                oddities.push(Oddity::Version { major, minor });
            }
            if !is_mirrored {
                let count = raw.fat_count;
                oddities.push(Oddity::NotMirrored { active, count });
            }
            if clusters < MIN_CLUSTERS {
                oddities.push(Oddity::TooFewClusters { clusters });
            }
            let root = u64::from(shape.root_cluster);
            check(
                root >= 2 && root < clusters.saturating_add(2),
                "root cluster",
            )?;
        } else {
            check(root_sectors > 0, "root entries")?;
            check(
                clusters < MIN_CLUSTERS,
                "cluster count (too many for FAT16)",
            )?;
        }
        Ok((shape, oddities))
    }

    /// The boot sector of this volume, one sector long.
    pub(super) fn boot_sector(&self, label: &[u8; 11]) -> Vec<u8> {
        let mut raw = RawBpb::new_zeroed();
        raw.jump = [0xEB, 0x58, 0x90];
        raw.manufacturer = *b"SCHWELLE";
        raw.sector_bytes = U16::new(u16::try_from(self.sector_bytes).unwrap_or(512));
        raw.cluster_sectors = u8::try_from(self.cluster_sectors).unwrap_or(1);
        raw.reserved_sectors = U16::new(RESERVED_SECTORS);
        raw.fat_count = 2;
        raw.media = 0xF8;
        raw.track_sectors = U16::new(63);
        raw.heads = U16::new(255);
        raw.hidden_sectors = U32::new(self.hidden_sectors);
        raw.sectors_32 = U32::new(u32::try_from(self.sectors).unwrap_or(0));
        raw.fat_sectors_32 = U32::new(self.fat_sectors);
        raw.root_cluster = U32::new(self.root_cluster);
        raw.fsinfo_sector = U16::new(FSINFO_SECTOR);
        raw.backup_sector = U16::new(BACKUP_SECTOR);
        raw.drive = 0x80;
        raw.extended_mark = 0x29;
        raw.volume_id = U32::new(self.volume_id);
        raw.label = *label;
        raw.type_text = *b"FAT32   ";
        // Started as a BIOS boot sector, it hands back to the firmware: INT 18h, halt.
        raw.code[..5].copy_from_slice(&[0xCD, 0x18, 0xF4, 0xEB, 0xFD]);
        raw.signature = [0x55, 0xAA];
        let mut sector = raw.as_bytes().to_vec();
        sector.resize(self.sector_bytes as usize, 0);
        sector
    }
}

/// Fields of a boot sector by the byte at which each begins ("Boot Sector and BPB"; from 36 on those of FAT32).
const FIELDS: [(usize, &str); 27] = [
    (0, "jump"),
    (3, "OEM name"),
    (11, "bytes per sector"),
    (13, "sectors per cluster"),
    (14, "reserved sectors"),
    (16, "number of FATs"),
    (17, "root entries"),
    (19, "sectors (16 bits)"),
    (21, "media"),
    (22, "sectors per FAT (16 bits)"),
    (24, "sectors per track"),
    (26, "heads"),
    (28, "hidden sectors"),
    (32, "sectors"),
    (36, "sectors per FAT"),
    (40, "flags"),
    (42, "version"),
    (44, "root cluster"),
    (48, "FSInfo sector"),
    (50, "backup boot sector"),
    (52, "reserved"),
    (64, "drive number"),
    (67, "volume ID"),
    (71, "label"),
    (82, "type"),
    (90, "boot code"),
    (510, "signature"),
];

/// The fields in which two boot sectors of FAT32 differ.
pub(super) fn different_fields(a: &[u8], b: &[u8]) -> Vec<String> {
    let ends = FIELDS.iter().skip(1).map(|(at, _)| *at).chain([a.len()]);
    let fields = FIELDS.iter().zip(ends);
    let differ = fields.filter(|((at, _), end)| a.get(*at..*end) != b.get(*at..*end));
    differ.map(|((_, name), _)| (*name).to_owned()).collect()
}

/// Recognises a FAT volume by its boot sector: the kind and the label, where it has one.
pub fn recognise(sector: &[u8]) -> Option<(FatKind, String)> {
    let (shape, oddities) = FatShape::parse_leniently(sector).ok()?;
    // Fields that only FAT32 has, and that say nothing against its being one.
    let is_known =
        |oddity: &Oddity| matches!(oddity, Oddity::Version { .. } | Oddity::NotMirrored { .. });
    if !oddities.iter().all(is_known) {
        return None;
    }
    let label_at = if shape.kind() == FatKind::Fat32 {
        71
    } else {
        43
    };
    let label = crate::bytes::array_at::<11>(sector, label_at)?;
    let label = String::from_utf8_lossy(&label).trim_end().to_owned();
    Some((
        shape.kind(),
        if label == "NO NAME" {
            String::new()
        } else {
            label
        },
    ))
}

/// Bytes of the smallest FAT32 volume that [`FatWriter`](super::FatWriter) makes at a sector size.
pub fn smallest_fat32(sector_bytes: u32) -> u64 {
    let sector = u64::from(sector_bytes);
    let clusters = MIN_CLUSTERS + CLUSTER_MARGIN;
    // The plan sizes each FAT by all sectors after the reserved ones, the FATs' own among them: a
    // few rounds decide it.
    let mut fat = 0;
    loop {
        let behind_reserved = clusters + 2 * fat;
        let needed = ((behind_reserved + 2) * 4).div_ceil(sector);
        if needed == fat {
            return (u64::from(RESERVED_SECTORS) + behind_reserved) * sector;
        }
        fat = needed;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{Lba, MIB};

    #[test]
    fn shapes_over_a_sweep_of_sizes_keep_the_specifications_rules() {
        for sector in [512u32, 4096] {
            let geometry = Geometry {
                logical_sector: sector,
                physical_sector: sector,
                sectors: u64::MAX,
            };
            let smallest = smallest_fat32(sector);
            for size in [
                smallest,
                40 * MIB,
                99 * MIB,
                100 * MIB,
                259 * MIB,
                260 * MIB,
                1024 * MIB,
                8192 * MIB,
            ] {
                let extent = Extent::new(Lba(2048), size / u64::from(sector)).unwrap();
                let shape = FatShape::plan(geometry, extent, 7);
                assert_eq!(
                    shape.is_some(),
                    size >= smallest,
                    "{size} bytes at {sector}"
                );
                let Some(shape) = shape else { continue };
                assert_eq!(shape.kind(), FatKind::Fat32);
                assert!(shape.cluster_bytes() <= WANTED_CLUSTER_BYTES.max(sector));
                let end = shape.data_sector + shape.clusters * u64::from(shape.cluster_sectors);
                assert!(end <= extent.sectors());
                assert_eq!(
                    FatShape::parse(&shape.boot_sector(b"LABEL      ")),
                    Some(shape)
                );
            }
        }
    }
}
