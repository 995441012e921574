//! The journal: what is written where, with the bytes before and after.

use std::io;

use serde::{Deserialize, Serialize};

use super::storage::StoredFile;
use crate::commit::{ChangeSet, Drafts, Region, StageKind};
use crate::device::{DeviceError, Extent, Geometry, Lba, Move, ReadDevice};

/// The form described here.
const FORMAT: u32 = 1;
/// An extent of the journal is at most this long: what is held in memory at a time.
const MAX_EXTENT_BYTES: u64 = 1 << 20;
/// Entries read from a journal, at most. A conversion has some thousands.
pub(super) const MAX_ENTRIES: usize = 4 << 20;

/// Everything that a conversion writes, in the order of writing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Journal {
    /// Version of this form: 1.
    pub format: u32,
    /// Bytes in a sector of the disk.
    pub sector_bytes: u32,
    /// Sectors of the disk.
    pub sectors: u64,
    /// Sectors that the conversion relies on and does not write.
    pub watched: Vec<Watched>,
    /// The volumes that become smaller, or hold files that are edited.
    pub volumes: Vec<EditedVolume>,
    /// What is copied. These sectors are free before: what they hold is not saved.
    pub moves: Vec<MovedExtent>,
    /// What is overwritten.
    pub extents: Vec<JournalExtent>,
}

/// Sectors that must be as they were.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Watched {
    /// What they are.
    pub what: String,
    /// First sector.
    pub first_lba: u64,
    /// Number of sectors.
    pub sectors: u64,
    /// BLAKE3 hash of their bytes, in hex.
    pub blake3: String,
}

/// A volume that becomes smaller, or holds files that are edited.
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
    /// Hash over its metadata when it has been trimmed and nothing is settled yet, in hex.
    pub after: String,
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
    pub fn as_move(&self) -> Move {
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
    pub what: String,
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
        Extent {
            first: Lba(self.first_lba),
            end: Lba(self.first_lba.saturating_add(self.sectors)),
        }
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
    /// Looks at sectors to be watched.
    pub fn on(
        disk: &dyn ReadDevice,
        what: impl Into<String>,
        extent: Extent,
    ) -> Result<Self, DeviceError> {
        Ok(Self {
            what: what.into(),
            first_lba: extent.first.0,
            sectors: extent.sectors(),
            blake3: crate::commit::hash_of(disk, extent)?.to_hex().to_string(),
        })
    }

    /// Their sectors.
    pub fn extent(&self) -> Extent {
        Extent {
            first: Lba(self.first_lba),
            end: Lba(self.first_lba.saturating_add(self.sectors)),
        }
    }
}

impl Journal {
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
        let region = |entry: &JournalExtent| Region::new(entry.stage, &*entry.what, entry.extent());
        let entries = self.extents.iter().filter(|entry| wanted(entry.stage));
        entries.map(region).collect()
    }

    /// Byte offset of a sector.
    pub(super) fn byte_of(&self, lba: u64) -> u64 {
        lba.saturating_mul(self.sector_bytes.into())
    }

    /// What is wrong with a journal read from a file; `None` when it can be worked with.
    /// `files` are the lengths of `saved.bin` and `new.bin`.
    pub(super) fn fault(&self, files: [u64; 2]) -> Option<String> {
        if self.format != FORMAT {
            return Some(format!(
                "it has the form {}, known is {FORMAT}",
                self.format
            ));
        }
        if !matches!(self.sector_bytes, 512 | 4096) || self.sectors == 0 {
            return Some("its sector size or number of sectors makes no sense".to_owned());
        }
        let sector = u64::from(self.sector_bytes);
        let inside = |first: u64, sectors: u64| {
            sectors > 0
                && first
                    .checked_add(sectors)
                    .is_some_and(|end| end <= self.sectors)
        };
        let stored = |stored: &Stored, len: u64, file: u64| match (stored.offset, stored.fill) {
            (Some(at), None) => at.checked_add(len).is_some_and(|end| end <= file),
            (None, Some(_)) => true,
            _ => false,
        };
        let sound = self.extents.iter().all(|entry| {
            let len = entry.sectors.saturating_mul(sector);
            inside(entry.first_lba, entry.sectors)
                && len <= MAX_EXTENT_BYTES
                && stored(&entry.old, len, files[0])
                && stored(&entry.new, len, files[1])
        });
        let moves = self.moves.iter().all(|moved| {
            inside(moved.from_lba, moved.sectors) && inside(moved.to_lba, moved.sectors)
        });
        let watched = self
            .watched
            .iter()
            .all(|watched| inside(watched.first_lba, watched.sectors));
        let volumes = self.volumes.iter().all(|volume| {
            inside(volume.first_lba, volume.sectors_before)
                && (1..=volume.sectors_before).contains(&volume.sectors_after)
                && volume.named_at < self.sectors
        });
        (!(sound && moves && watched && volumes))
            .then(|| "an entry leaves the disk or its file".to_owned())
    }
}

/// Writes one side of the extents into its file.
struct Store<'a> {
    file: &'a dyn StoredFile,
    /// Bytes in the file.
    written: u64,
    /// What comes after them.
    buffer: Vec<u8>,
}

impl<'a> Store<'a> {
    fn new(file: &'a dyn StoredFile) -> Self {
        Self {
            file,
            written: 0,
            buffer: Vec::new(),
        }
    }

    fn put(&mut self, bytes: &[u8]) -> io::Result<Stored> {
        let blake3 = blake3::hash(bytes).to_hex().to_string();
        if let Some((&fill, rest)) = bytes.split_first()
            && rest.iter().all(|&byte| byte == fill)
        {
            return Ok(Stored {
                offset: None,
                fill: Some(fill),
                blake3,
            });
        }
        let offset = self.written + self.buffer.len() as u64;
        self.buffer.extend_from_slice(bytes);
        if self.buffer.len() as u64 >= MAX_EXTENT_BYTES {
            self.write_out()?;
        }
        Ok(Stored {
            offset: Some(offset),
            fill: None,
            blake3,
        })
    }

    fn write_out(&mut self) -> io::Result<()> {
        self.file.write_at(self.written, &self.buffer)?;
        self.written += self.buffer.len() as u64;
        self.buffer.clear();
        Ok(())
    }

    fn finish(mut self) -> io::Result<()> {
        self.write_out()?;
        self.file.sync()
    }
}

/// What stopped the making of a journal.
pub(super) enum WriteError {
    Io(io::Error),
    Device(DeviceError),
}

impl From<io::Error> for WriteError {
    fn from(error: io::Error) -> Self {
        Self::Io(error)
    }
}

impl From<DeviceError> for WriteError {
    fn from(error: DeviceError) -> Self {
        Self::Device(error)
    }
}

/// Makes the journal of `set`: the old bytes, from `disk`, go to `saved`, the new ones, from
/// `drafts`, to `new`. What is settled has its old bytes from the crossed disk. Both files are on the medium when this returns.
pub(super) fn write(
    (saved, new): (&dyn StoredFile, &dyn StoredFile),
    disk: &dyn ReadDevice,
    drafts: Drafts<'_>,
    set: &ChangeSet,
    (watched, volumes): (Vec<Watched>, Vec<EditedVolume>),
) -> Result<Journal, WriteError> {
    let geometry = set.geometry;
    let (mut saved, mut new) = (Store::new(saved), Store::new(new));
    let mut extents = Vec::new();
    let sectors_at_once = MAX_EXTENT_BYTES / u64::from(geometry.logical_sector);
    for stage in set.stages.iter().filter(|s| s.kind != StageKind::Move) {
        let before = match stage.kind {
            StageKind::Settle => drafts.crossed,
            _ => disk,
        };
        let after = drafts.of(stage.kind);
        for part in &stage.parts {
            for extent in &part.extents {
                let mut at = extent.first.0;
                while at < extent.end.0 {
                    let sectors = (extent.end.0 - at).min(sectors_at_once);
                    let offset = geometry.byte_of(Lba(at)).unwrap_or(u64::MAX);
                    let len =
                        usize::try_from(sectors * u64::from(geometry.logical_sector)).unwrap_or(0);
                    extents.push(JournalExtent {
                        stage: stage.kind,
                        what: part.what.clone(),
                        first_lba: at,
                        sectors,
                        old: saved.put(&before.read_vec(offset, len)?)?,
                        new: new.put(&after.read_vec(offset, len)?)?,
                    });
                    at += sectors;
                }
            }
        }
    }
    saved.finish()?;
    new.finish()?;
    let moved = |moved: &Move| MovedExtent {
        from_lba: moved.from.0,
        to_lba: moved.to.0,
        sectors: moved.sectors,
    };
    Ok(Journal {
        format: FORMAT,
        sector_bytes: geometry.logical_sector,
        sectors: geometry.sectors,
        watched,
        volumes,
        moves: set.moves.iter().map(moved).collect(),
        extents,
    })
}

/// Reads one side of an extent from its file; an error when the bytes are not those written.
pub(super) fn read(
    file: &dyn StoredFile,
    stored: &Stored,
    len_bytes: usize,
) -> io::Result<Vec<u8>> {
    let mut bytes = vec![stored.fill.unwrap_or(0); len_bytes];
    if let Some(offset) = stored.offset {
        file.read_at(offset, &mut bytes)?;
    }
    if blake3::hash(&bytes).to_hex().as_str() != stored.blake3 {
        let fault = "the bytes are not those that were saved: their hash differs";
        return Err(io::Error::new(io::ErrorKind::InvalidData, fault));
    }
    Ok(bytes)
}
