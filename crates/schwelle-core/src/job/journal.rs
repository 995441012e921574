//! The journal: what is written where, with the bytes before and after.

use std::io;

use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::at_most::at_most;
use super::facts::JobFacts;
use super::storage::StoredFile;
use crate::commit::{ChangeSet, Drafts, Purpose, Region, StageKind};
use crate::device::{DeviceError, Extent, Geometry, IoOp, Lba, Move, ReadDevice};

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
/// `drafts`, to `new`. What is edited has its old bytes from the converted disk. Both files are on the medium when this returns.
pub(super) fn write(
    (saved, new): (&dyn StoredFile, &dyn StoredFile),
    disk: &dyn ReadDevice,
    drafts: Drafts<'_>,
    set: &ChangeSet,
    relied_on: ReliedOn,
    job: JobFacts,
) -> Result<Journal, WriteError> {
    let geometry = set.geometry;
    let (mut saved, mut new) = (Store::new(saved), Store::new(new));
    let mut extents = Vec::new();
    let sectors_at_once = MAX_EXTENT_BYTES / u64::from(geometry.logical_sector);
    for stage in set.stages.iter().filter(|s| s.kind != StageKind::Move) {
        let before = match stage.kind {
            StageKind::Edit => drafts.converted,
            _ => disk,
        };
        let after = drafts.of(stage.kind);
        for part in &stage.parts {
            for extent in &part.extents {
                let mut at = extent.first.0;
                while at < extent.end.0 {
                    let sectors = (extent.end.0 - at).min(sectors_at_once);
                    let end = Lba(at.saturating_add(sectors));
                    let (offset, len) = place(geometry, Extent::between(Lba(at), end))?;
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
    let mut beside = Vec::new();
    for extent in extents_beside(set) {
        let (offset, len) = place(geometry, extent)?;
        beside.push(Beside {
            first_lba: extent.first.0,
            sectors: extent.sectors(),
            // Where clusters are copied, that is what is beside the later stages.
            old: saved.put(&drafts.converted.read_vec(offset, len)?)?,
        });
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
        bound_at: relied_on.bound_at,
        job,
        disk_ids: relied_on.disk_ids,
        sector_bytes: geometry.logical_sector,
        sectors: geometry.sectors,
        watched: relied_on.watched,
        volumes: relied_on.volumes,
        moves: set.moves.iter().map(moved).collect(),
        extents,
        beside,
    })
}

/// The sectors that share a physical sector with what is written, and are not written themselves: each within
/// one physical sector. What the stage `move` writes counts as not written for the later stages: it is on the
/// medium before them, and they may take it with them.
fn extents_beside(set: &ChangeSet) -> Vec<Extent> {
    let geometry = set.geometry;
    let step = u64::from(geometry.physical_sector / geometry.logical_sector).max(1);
    let in_stages = |is_moving: bool| {
        let stages = set.stages.iter();
        let stages = stages.filter(move |stage| (stage.kind == StageKind::Move) == is_moving);
        let mut extents: Vec<Extent> = stages.flat_map(|stage| stage.extents()).collect();
        extents.sort_unstable_by_key(|extent| extent.first);
        extents
    };
    let written = in_stages(false);
    let mut beside: Vec<Extent> = Vec::new();
    let mut add = |first: u64, end: u64| {
        // Cut where physical sectors end.
        let mut at = first;
        while step > 1 && at < end.min(geometry.sectors) {
            let next = end.min((at / step + 1) * step).min(geometry.sectors);
            beside.push(Extent::between(Lba(at), Lba(next)));
            at = next;
        }
    };
    // Up to where all is either written or beside.
    let mut done = 0;
    for extent in &written {
        let first = (extent.first.0 / step * step).max(done);
        // The rest of the physical sector in which the one before ended, too.
        let rest = done.next_multiple_of(step).min(extent.first.0);
        if rest > done {
            add(done, rest);
        }
        add(first.max(rest), extent.first.0);
        done = done.max(extent.end.0);
    }
    add(done, done.next_multiple_of(step));

    let moved = in_stages(true);
    let ends = moved
        .iter()
        .flat_map(|extent| [extent.first.0, extent.end.0.saturating_sub(1)]);
    let mut physical: Vec<u64> = ends.map(|at| at / step * step).collect();
    physical.dedup();
    for first in physical {
        let end = first.saturating_add(step).min(geometry.sectors);
        let whole = Extent::between(Lba(first), Lba(end));
        if is_in(&written, &whole) {
            continue;
        }
        for at in first..end {
            let one = Extent::between(Lba(at), Lba(at.saturating_add(1)));
            if !is_in(&moved, &one) {
                beside.push(one);
            }
        }
    }
    beside
}

/// True when one of the extents, ascending and apart, shares a sector with this one.
fn is_in(extents: &[Extent], wanted: &Extent) -> bool {
    let after = extents.partition_point(|extent| extent.end <= wanted.first);
    extents
        .get(after)
        .is_some_and(|extent| extent.overlaps(wanted))
}

/// Byte offset and length of an extent.
fn place(geometry: Geometry, extent: Extent) -> Result<(u64, usize), DeviceError> {
    let len = usize::try_from(geometry.bytes_in(&extent)).ok();
    let place = geometry.byte_of(extent.first).zip(len);
    place.ok_or_else(|| DeviceError::out_of_bounds(IoOp::Read, u64::MAX, 0))
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::device::{BlockDevice, Draft, Memory};

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn what_is_written_and_what_is_beside_fill_physical_sectors(
            writes in prop::collection::vec((0u64..200, 1usize..12), 1..20),
        ) {
            let disk = Memory::new(512, 203).with_physical(4096);
            let draft = Draft::new(&disk);
            // Clusters of one and a half physical sectors are copied there.
            let copied = crate::device::Move { from: Lba(0), to: Lba(100), sectors: 12 };
            draft.move_sectors(copied);
            for (first, count) in writes {
                let count = count.min(usize::try_from(203 - first).unwrap());
                draft.write_at(first * 512, &vec![1; count * 512]).unwrap();
            }
            let all = Extent::between(Lba(0), Lba(203));
            let region = Region::new(StageKind::Prepare, Purpose::Esp, all);
            let set = ChangeSet::of(&draft, Purpose::MovedClusters, &[region]).unwrap();
            let mut holds = vec![0_u8; 203];
            let later = set.stages.iter().filter(|stage| stage.kind != StageKind::Move);
            let later: Vec<Extent> = later.flat_map(|stage| stage.extents()).collect();
            let mut all = later.clone();
            all.extend(extents_beside(&set));
            // What is copied is there once more, but where a later stage shares its physical sector.
            for moved in set.moves.iter().map(Move::destination) {
                for at in moved.first.0..moved.end.0 {
                    let first = at / 8 * 8;
                    let whole = Extent::between(Lba(first), Lba(first + 8));
                    if !is_in(&later, &whole) {
                        all.push(Extent::between(Lba(at), Lba(at + 1)));
                    }
                }
            }
            for extent in all {
                for at in extent.first.0..extent.end.0 {
                    holds[usize::try_from(at).unwrap()] += 1;
                }
            }
            // Each physical sector is there once as a whole, or not at all.
            for physical in holds.chunks(8) {
                prop_assert!(physical.iter().all(|&count| count == 1) || physical.iter().all(|&count| count == 0));
            }
        }
    }
}
