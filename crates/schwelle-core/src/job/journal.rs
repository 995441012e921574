//! The journal: what is written where, with the bytes before and after.

use std::io;

use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::at_most::at_most;
use super::facts::JobFacts;
use super::storage::StoredFile;
use crate::commit::{Purpose, Region, StageKind};
use crate::device::{DeviceError, Extent, Geometry, Lba, Move, ReadDevice};

/// The version described here, and the only one that is read.
pub(super) const FORMAT: u32 = 4;
/// An extent of the journal is at most this long: what is held in memory at a time.
pub(super) const MAX_EXTENT_BYTES: u64 = 1 << 20;
/// Maximum journal size in bytes, for reading and writing.
pub(super) const MAX_JOURNAL_BYTES: u64 = 96 << 20;
/// Entries of a list in a journal, at most; moves, which are smaller. A conversion has some thousands.
const MAX_ENTRIES: usize = 1 << 18;
const MAX_MOVES: usize = 1 << 20;
/// Volumes of a job, and what it watches, at most: no table has as many partitions.
const MAX_VOLUMES: usize = 1 << 10;
/// Maximum number of disk GUIDs: one in each copy of the old GPT, and the new one.
const MAX_DISK_IDS: usize = 3;

/// Everything that a conversion writes, in the order of writing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Journal {
    /// Version of this form: 4.
    pub format: u32,
    /// Where on the disk, in bytes, the hash of this journal comes as text, in a marker on an EFI system partition: it
    /// proves that a folder is the one that the disk was written with. Among the new bytes, which the journal has
    /// the hashes of, zeros are in its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bound_at: Option<u64>,
    /// What the job is.
    pub job: JobFacts,
    /// GUIDs of the disk, before and after, of all copies of its GPT.
    #[serde(deserialize_with = "at_most::<MAX_DISK_IDS, _, _>")]
    pub disk_ids: Vec<Uuid>,
    /// Bytes in a sector of the disk.
    pub sector_bytes: u32,
    /// Sectors of the disk.
    pub sectors: u64,
    /// Sectors that the conversion relies on and does not write.
    #[serde(deserialize_with = "at_most::<MAX_VOLUMES, _, _>")]
    pub watched: Vec<Watched>,
    /// The volumes that are shrunk, or hold files that are edited.
    #[serde(deserialize_with = "at_most::<MAX_VOLUMES, _, _>")]
    pub volumes: Vec<EditedVolume>,
    /// What is copied. These sectors are free before: what they hold is not saved.
    #[serde(deserialize_with = "at_most::<MAX_MOVES, _, _>")]
    pub moves: Vec<MovedExtent>,
    /// What is overwritten.
    #[serde(deserialize_with = "at_most::<MAX_ENTRIES, _, _>")]
    pub extents: Vec<JournalExtent>,
    /// What shares a physical sector with what is written, on a disk where that has several logical ones.
    #[serde(
        default,
        skip_serializing_if = "Vec::is_empty",
        deserialize_with = "at_most::<MAX_ENTRIES, _, _>"
    )]
    pub beside: Vec<Beside>,
}

/// Sectors that the job does not write, and that a power cut may take all the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Beside {
    /// First sector.
    pub first_lba: u64,
    /// Number of sectors.
    pub sectors: u64,
    /// What is there: in `saved.bin`.
    pub old: Stored,
}

impl Beside {
    /// Its sectors.
    pub fn extent(&self) -> Extent {
        Extent::between(
            Lba(self.first_lba),
            Lba(self.first_lba.saturating_add(self.sectors)),
        )
    }
}

/// What a job relies on besides what it writes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ReliedOn {
    /// Sectors that are not written, and must be as they were.
    pub watched: Vec<Watched>,
    /// The volumes that become smaller, or hold files that are edited.
    pub volumes: Vec<EditedVolume>,
    /// Where the disk gets the hash of the journal; see [`Journal::bound_at`].
    pub bound_at: Option<u64>,
    /// GUIDs of the disk; see [`Journal::disk_ids`].
    pub disk_ids: Vec<Uuid>,
    /// The table as it was drafted on, whether it is written or not: for a last look before the first write.
    pub table: Vec<Watched>,
}

/// Sectors that must be as they were.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Watched {
    /// What they are.
    pub what: Purpose,
    /// First sector.
    pub first_lba: u64,
    /// Number of sectors.
    pub sectors: u64,
    /// BLAKE3 hash of their bytes, in hex.
    pub blake3: String,
}

/// A volume that is shrunk, or holds files that are edited.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct EditedVolume {
    /// First sector of its partition.
    pub first_lba: u64,
    /// Sectors of its partition before.
    pub sectors_before: u64,
    /// Sectors of its partition afterwards.
    pub sectors_after: u64,
    /// The boot record whose entry names it.
    pub named_at: u64,
    /// Hash over its metadata before, in hex.
    pub before: String,
    /// Hash over its metadata when it has been shrunk and nothing is edited yet, in hex.
    pub after: String,
    /// Of an encrypted volume, which may be closed when the job is finished or taken back: the sectors that its
    /// metadata lies in. Both hashes are over what these hold.
    #[serde(
        default,
        skip_serializing_if = "Vec::is_empty",
        deserialize_with = "at_most::<MAX_ENTRIES, _, _>"
    )]
    pub sealed: Vec<Extent>,
}

/// An extent that is copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct MovedExtent {
    /// First sector of the source.
    pub from_lba: u64,
    /// First sector of the destination.
    pub to_lba: u64,
    /// Number of sectors.
    pub sectors: u64,
}

impl MovedExtent {
    /// As the device layer has it.
    pub(crate) fn as_move(&self) -> Move {
        Move {
            from: Lba(self.from_lba),
            to: Lba(self.to_lba),
            sectors: self.sectors,
        }
    }
}

/// An extent that is overwritten, at most 1 MiB long.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct JournalExtent {
    /// The stage that writes it.
    pub stage: StageKind,
    /// What for.
    pub what: Purpose,
    /// First sector.
    pub first_lba: u64,
    /// Number of sectors.
    pub sectors: u64,
    /// What was there: in `saved.bin`.
    pub old: Stored,
    /// What comes there: in `new.bin`.
    pub new: Stored,
}

/// Bytes in a file of the job folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stored {
    /// Where they begin in their file; null when all are the byte `fill`.
    pub offset: Option<u64>,
    /// The byte that all of them are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fill: Option<u8>,
    /// BLAKE3 hash of the bytes, in hex.
    pub blake3: String,
}

/// Which of the two images of an extent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// Before the conversion.
    Old,
    /// After it.
    New,
}

impl JournalExtent {
    /// Its sectors.
    pub fn extent(&self) -> Extent {
        Extent::between(
            Lba(self.first_lba),
            Lba(self.first_lba.saturating_add(self.sectors)),
        )
    }

    /// Where the bytes of a side are stored.
    pub fn side(&self, side: Side) -> &Stored {
        match side {
            Side::Old => &self.old,
            Side::New => &self.new,
        }
    }
}

impl Watched {
    /// True if the sectors are as they were.
    ///
    /// # Errors
    ///
    /// They cannot be read.
    pub fn is_so(&self, disk: &dyn ReadDevice) -> Result<bool, DeviceError> {
        let hash = crate::commit::hash_of(disk, self.extent())?;
        Ok(hash.to_hex().as_str() == self.blake3)
    }

    /// Looks at sectors to be watched.
    pub fn on(disk: &dyn ReadDevice, what: Purpose, extent: Extent) -> Result<Self, DeviceError> {
        Ok(Self {
            what,
            first_lba: extent.first.0,
            sectors: extent.sectors(),
            blake3: crate::commit::hash_of(disk, extent)?.to_hex().to_string(),
        })
    }

    /// Their sectors.
    pub fn extent(&self) -> Extent {
        Extent::between(
            Lba(self.first_lba),
            Lba(self.first_lba.saturating_add(self.sectors)),
        )
    }
}

impl Journal {
    /// True when none of its lists is longer than one that is read.
    pub(super) fn is_readable(&self) -> bool {
        let sealed = self.volumes.iter().map(|volume| volume.sealed.len());
        self.extents
            .len()
            .max(self.beside.len())
            .max(sealed.max().unwrap_or(0))
            <= MAX_ENTRIES
            && self.moves.len() <= MAX_MOVES
            && self.volumes.len().max(self.watched.len()) <= MAX_VOLUMES
    }

    /// Lengths of `saved.bin` and `new.bin` in bytes, as far as entries refer to them.
    pub(super) fn stored_bytes(&self) -> [u64; 2] {
        let end = |stored: &Stored, sectors: u64| {
            let first = stored.offset.unwrap_or(0);
            let len = sectors.saturating_mul(self.sector_bytes.into());
            stored.offset.map_or(0, |_| first.saturating_add(len))
        };
        let extents = || self.extents.iter();
        let old = extents().map(|entry| end(&entry.old, entry.sectors));
        let beside = self.beside.iter();
        let beside = beside.map(|beside| end(&beside.old, beside.sectors));
        let new = extents().map(|entry| end(&entry.new, entry.sectors));
        [old.chain(beside).max().unwrap_or(0), new.max().unwrap_or(0)]
    }

    /// Geometry of the disk.
    pub fn geometry(&self) -> Geometry {
        Geometry {
            logical_sector: self.sector_bytes,
            physical_sector: self.sector_bytes,
            sectors: self.sectors,
        }
    }

    /// The regions that the journal's extents of some stages make, in the order of writing.
    pub fn regions(&self, wanted: impl Fn(StageKind) -> bool) -> Vec<Region> {
        let region =
            |entry: &JournalExtent| Region::new(entry.stage, entry.what.clone(), entry.extent());
        let entries = self.extents.iter().filter(|entry| wanted(entry.stage));
        entries.map(region).collect()
    }

    /// Puts the hash of this journal where the disk gets it, into the new bytes of an extent.
    pub(super) fn bind(&self, entry: &JournalExtent, bytes: &mut [u8], hash: &str) {
        let first = self.byte_of(entry.first_lba);
        let place = self.bound_at.and_then(|at| at.checked_sub(first));
        let place = place.and_then(|at| usize::try_from(at).ok());
        let place = place.and_then(|at| bytes.get_mut(at..at.checked_add(hash.len())?));
        if let Some(place) = place {
            place.copy_from_slice(hash.as_bytes());
        }
    }

    /// Byte offset of a sector.
    pub(super) fn byte_of(&self, lba: u64) -> u64 {
        lba.saturating_mul(self.sector_bytes.into())
    }
}

/// Reads one side of an extent from its file; an error when the bytes are not those written.
pub(super) fn read(
    file: &dyn StoredFile,
    stored: &Stored,
    len_bytes: usize,
) -> io::Result<Vec<u8>> {
    let mut bytes = vec![stored.fill.unwrap_or(0); len_bytes];
    let Some(offset) = stored.offset else {
        // No file holds them, so nothing but the journal can have been changed.
        return Ok(bytes);
    };
    file.read_at(offset, &mut bytes)?;
    if blake3::hash(&bytes).to_hex().as_str() != stored.blake3 {
        let fault = "the bytes are not those that were saved: their hash differs";
        return Err(io::Error::new(io::ErrorKind::InvalidData, fault));
    }
    Ok(bytes)
}
