//! Where a job may write. Whatever a journal says is taken as hostile: its numbers, by themselves and among each
//! other; and against the disk that is there, since a folder may be another disk's, or edited.

use crate::commit::{self, StageKind};
use crate::device::{DeviceError, Extent, Lba, ReadDevice};
use crate::gpt::{GptPair, type_guid};
use crate::mbr::{BootRecord, MbrTable};

use super::compare::with_table;
use super::journal::{FORMAT, Journal, JournalExtent, MAX_EXTENT_BYTES, Stored};
use super::refusal::RecoverError;
use super::{EditedVolume, JobFolder, MovedExtent, Side};

/// Longer than any path.
const MAX_NAME_BYTES: usize = 64 << 10;

/// What is wrong with a journal read from a file; `None` when it can be worked with. `files` are the lengths of
/// `saved.bin` and `new.bin`.
pub(super) fn fault(journal: &Journal, files: [u64; 2]) -> Option<String> {
    if journal.format != FORMAT {
        let form = journal.format;
        return Some(format!(
            "it has format {form}, and this program reads format {FORMAT}"
        ));
    }
    let facts = &journal.job;
    let serial = facts.serial.as_ref().map_or(0, String::len);
    if facts.disk.as_os_str().len().max(serial) > MAX_NAME_BYTES {
        return Some("the disk's name in it is longer than any".to_owned());
    }
    if !matches!(journal.sector_bytes, 512 | 4096) || journal.sectors == 0 {
        return Some("its sector size or number of sectors is invalid".to_owned());
    }
    if !stays_inside(journal, files) {
        return Some("an entry leaves the disk or its file".to_owned());
    }
    if shares_bytes(journal, files) {
        return Some("entries share their bytes in a file".to_owned());
    }
    let stages = journal.extents.iter();
    let writes: Vec<_> = stages.map(|entry| (entry.stage, entry.extent())).collect();
    if let Err(disorder) = commit::in_order(journal.sectors, &writes) {
        return Some(disorder.to_string());
    }
    misplaced(journal).map(|at| format!("{at} is written, moved or watched where no job does that"))
}

/// True when every entry lies on the disk, and its bytes in their file.
fn stays_inside(journal: &Journal, files: [u64; 2]) -> bool {
    let sector = u64::from(journal.sector_bytes);
    let inside = |first: u64, sectors: u64| {
        sectors > 0
            && first
                .checked_add(sectors)
                .is_some_and(|end| end <= journal.sectors)
    };
    let stored = |stored: &Stored, len: u64, file: u64| match (stored.offset, stored.fill) {
        (Some(at), None) => at.checked_add(len).is_some_and(|end| end <= file),
        (None, Some(_)) => true,
        _ => false,
    };
    let extents = journal.extents.iter().all(|entry| {
        let len = entry.sectors.saturating_mul(sector);
        inside(entry.first_lba, entry.sectors)
            && len <= MAX_EXTENT_BYTES
            && stored(&entry.old, len, files[0])
            && stored(&entry.new, len, files[1])
    });
    let beside = journal.beside.iter().all(|beside| {
        let len = beside.sectors.saturating_mul(sector);
        inside(beside.first_lba, beside.sectors)
            && len <= MAX_EXTENT_BYTES
            && stored(&beside.old, len, files[0])
    });
    let moves = journal
        .moves
        .iter()
        .all(|moved| inside(moved.from_lba, moved.sectors) && inside(moved.to_lba, moved.sectors));
    let watched = journal
        .watched
        .iter()
        .all(|watched| inside(watched.first_lba, watched.sectors));
    let volumes = journal.volumes.iter().all(|volume| {
        inside(volume.first_lba, volume.sectors_before)
            && (1..=volume.sectors_before).contains(&volume.sectors_after)
            && volume.named_at < journal.sectors
            && volume
                .sealed
                .iter()
                .all(|extent| extent.first < extent.end && inside(extent.first.0, extent.sectors()))
    });
    extents && beside && moves && watched && volumes
}

/// True when entries have more bytes together than their file: what is read for all of them would have no bound.
fn shares_bytes(journal: &Journal, [saved, new]: [u64; 2]) -> bool {
    let len = |stored: &Stored, sectors: u64| match stored.offset {
        Some(_) => sectors.saturating_mul(journal.sector_bytes.into()),
        None => 0,
    };
    let extents = || journal.extents.iter();
    let old: u64 = extents().map(|entry| len(&entry.old, entry.sectors)).sum();
    let beside = journal.beside.iter();
    let beside: u64 = beside.map(|beside| len(&beside.old, beside.sectors)).sum();
    let after: u64 = extents().map(|entry| len(&entry.new, entry.sectors)).sum();
    old.saturating_add(beside) > saved || after > new
}

/// The first sector that is written, moved or watched where no job does that.
///
/// What is shrunk, filled or edited, and what moves, lies in one of the journal's volumes, and moves to its part that
/// stays; everything else lies outside these parts. Nothing moves to where something else moves to, or is written
/// before it, and what is watched is not written.
fn misplaced(journal: &Journal) -> Option<Lba> {
    let mut volumes: Vec<&EditedVolume> = journal.volumes.iter().collect();
    volumes.sort_unstable_by_key(|volume| volume.first_lba);
    let apart = volumes
        .windows(2)
        .find(|pair| matches!(pair, [one, next] if before(one).overlaps(&before(next))));
    if let Some([_, next]) = apart {
        return Some(Lba(next.first_lba));
    }
    // The volumes are apart, so only the last one that begins before the end can hold something.
    let holder = |extent: &Extent| {
        let after = volumes.partition_point(|volume| volume.first_lba < extent.end.0);
        after.checked_sub(1).and_then(|at| volumes.get(at)).copied()
    };
    for entry in &journal.extents {
        let extent = entry.extent();
        let volume = holder(&extent);
        let is_inside = volume.is_some_and(|volume| before(volume).contains(&extent));
        let is_outside = volume.is_none_or(|volume| !kept(volume).overlaps(&extent));
        let is_right = match entry.stage {
            // The partition of the marker is a volume of the job if files are put into it.
            StageKind::Claim => claims_right(journal, entry) && (is_inside || is_outside),
            stage if is_inside_volumes(stage) => is_inside,
            _ => is_outside,
        };
        if !is_right {
            return Some(extent.first);
        }
    }
    for moved in journal.moves.iter().map(MovedExtent::as_move) {
        let volume = holder(&moved.source());
        let is_right = volume.is_some_and(|volume| {
            before(volume).contains(&moved.source()) && kept(volume).contains(&moved.destination())
        });
        if !is_right {
            return Some(moved.to);
        }
    }
    let moves = journal.moves.iter();
    let destinations = moves.map(|moved| moved.as_move().destination());
    let written = journal.extents.iter();
    let written = written.filter(|entry| entry.stage != StageKind::Edit);
    let written = written.map(|entry| entry.extent());
    first_twice(destinations.chain(written)).or_else(|| {
        let written = journal.extents.iter().map(|entry| entry.extent());
        let mut written: Vec<Extent> = written.collect();
        written.sort_unstable();
        let mut watched = journal.watched.iter().map(|watched| watched.extent());
        watched
            .find(|watched| {
                let after = written.partition_point(|extent| extent.end <= watched.first);
                let next = written.get(after);
                next.is_some_and(|extent| extent.overlaps(watched))
            })
            .map(|extent| extent.first)
    })
}

/// One sector is claimed, the one that gets the hash.
fn claims_right(journal: &Journal, entry: &JournalExtent) -> bool {
    let sector = u64::from(journal.sector_bytes);
    let mut others = journal.extents.iter().filter(|other| *other != entry);
    entry.sectors == 1
        && journal.bound_at.map(|at| at / sector) == Some(entry.first_lba)
        && others.all(|other| other.stage != StageKind::Claim)
}

fn first_twice(extents: impl Iterator<Item = Extent>) -> Option<Lba> {
    let mut all: Vec<Extent> = extents.collect();
    all.sort_unstable();
    all.windows(2).find_map(|pair| match pair {
        [before, next] if next.first < before.end => Some(next.first),
        _ => None,
    })
}

/// A volume's partition as it was.
pub(super) fn before(volume: &EditedVolume) -> Extent {
    Extent::between(
        Lba(volume.first_lba),
        Lba(volume.first_lba.saturating_add(volume.sectors_before)),
    )
}

/// What of it stays.
fn kept(volume: &EditedVolume) -> Extent {
    Extent::between(
        Lba(volume.first_lba),
        Lba(volume.first_lba.saturating_add(volume.sectors_after)),
    )
}

/// Stages that write to volumes which others use.
pub(super) fn is_inside_volumes(stage: StageKind) -> bool {
    matches!(stage, StageKind::Shrink | StageKind::Fill | StageKind::Edit)
}

/// A partition in the table of a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Named {
    pub(super) extent: Extent,
    number: usize,
    /// A PC starts from it, or it is one that holds nothing: a job makes such ones and gives them up.
    is_for_starting: bool,
}

/// The partitions that sector 0 leads to: those of the GPT that it protects, or of the MBR.
pub(super) fn named(disk: &dyn ReadDevice) -> Result<Vec<Named>, DeviceError> {
    let record = BootRecord::parse(&disk.read_sector(Lba(0))?);
    if let Some(record) = record.filter(|record| !record.is_protective()) {
        let table = MbrTable::read(disk, record)?;
        let partitions = table.partitions.iter().enumerate();
        return Ok(partitions
            .map(|(index, part)| Named {
                extent: part.extent,
                number: index + 1,
                is_for_starting: part.active,
            })
            .collect());
    }
    let pair = GptPair::read(disk);
    let entries = pair.best().map(|table| table.entries.iter());
    Ok(entries
        .into_iter()
        .flatten()
        .map(|(number, entry)| Named {
            extent: entry.extent,
            number: *number,
            is_for_starting: matches!(entry.kind, type_guid::EFI_SYSTEM | type_guid::RESERVED),
        })
        .collect())
}

/// Refuses when the table on the disk names a partition that was there neither before the conversion nor after it.
pub(super) fn refuse_partitions_since(
    job: &JobFolder,
    disk: &dyn ReadDevice,
) -> Result<(), RecoverError> {
    let mut known = Vec::new();
    for side in [Side::Old, Side::New] {
        let then = named(&with_table(job, disk, side)?)?;
        known.extend(then.into_iter().map(|partition| partition.extent));
    }
    let now = named(disk)?.into_iter().map(|partition| partition.extent);
    match now.into_iter().find(|extent| !known.contains(extent)) {
        Some(extent) => Err(RecoverError::PartitionSince { at: extent.first }),
        None => Ok(()),
    }
}

/// Refuses a journal that would write into a partition of this disk which is neither one of its volumes nor one that
/// a PC starts from.
pub(super) fn refuse_foreign(journal: &Journal, disk: &dyn ReadDevice) -> Result<(), RecoverError> {
    let is_ours = |named: &Named| {
        let mut volumes = journal.volumes.iter();
        volumes.any(|volume| {
            named.extent.first.0 == volume.first_lba && before(volume).contains(&named.extent)
        })
    };
    let mut foreign = named(disk)?;
    foreign.retain(|named| !named.is_for_starting && !is_ours(named));
    let moved = journal.moves.iter().map(MovedExtent::as_move);
    let moved = moved.flat_map(|moved| [moved.source(), moved.destination()]);
    let written = journal.extents.iter().map(|entry| entry.extent());
    for extent in written.chain(moved) {
        if let Some(named) = foreign.iter().find(|named| named.extent.overlaps(&extent)) {
            return Err(RecoverError::Foreign {
                at: extent.first.max(named.extent.first),
                partition: named.number,
            });
        }
    }
    Ok(())
}

/// True where a sector that holds something else than a job knows may be written all the same, for a technician's word
/// alone: in a partition that a PC starts from, which writes to it.
pub(super) fn is_used_by_starting(named: &[Named], at: Lba) -> bool {
    let one = Extent::between(at, Lba(at.0.saturating_add(1)));
    let mut starting = named.iter().filter(|named| named.is_for_starting);
    starting.any(|named| named.extent.contains(&one))
}

#[cfg(test)]
mod tests {
    use super::super::journal::Watched;
    use super::*;
    use crate::commit::Purpose;
    use crate::disk_use::DiskUse;
    use crate::identities::Style;
    use crate::job::{JobFacts, JobKind};

    /// Lengths of the two files.
    const FILES: [u64; 2] = [1 << 20; 2];

    fn stored(offset: u64) -> Stored {
        Stored {
            offset: Some(offset),
            fill: None,
            blake3: String::new(),
        }
    }

    fn extent(stage: StageKind, first_lba: u64) -> JournalExtent {
        JournalExtent {
            stage,
            what: Purpose::Unnamed,
            first_lba,
            sectors: 2,
            old: stored(0),
            new: stored(0),
        }
    }

    fn volume(first_lba: u64) -> EditedVolume {
        EditedVolume {
            first_lba,
            sectors_before: 100,
            sectors_after: 60,
            named_at: 0,
            before: String::new(),
            after: String::new(),
            sealed: Vec::new(),
        }
    }

    fn moved(from_lba: u64, to_lba: u64) -> MovedExtent {
        MovedExtent {
            from_lba,
            to_lba,
            sectors: 4,
        }
    }

    /// A journal as a job writes one: a volume at 100 gives its last 40 sectors away, and its boot sector is edited.
    fn sound() -> Journal {
        use StageKind::{Commit, Edit, Prepare, Shrink};
        let sector_0 = JournalExtent {
            sectors: 1,
            ..extent(Commit, 0)
        };
        let extents = vec![
            extent(Shrink, 100),
            extent(Prepare, 160),
            sector_0,
            extent(Edit, 100),
        ];
        Journal {
            format: FORMAT,
            bound_at: None,
            disk_ids: Vec::new(),
            job: JobFacts {
                kind: JobKind::Convert,
                to: Style::Gpt,
                disk_use: DiskUse::System,
                disk: "disk".into(),
                serial: None,
                computer: None,
            },
            sector_bytes: 512,
            sectors: 1000,
            watched: vec![Watched {
                what: Purpose::ExtendedBootRecord,
                first_lba: 500,
                sectors: 1,
                blake3: String::new(),
            }],
            volumes: vec![volume(100)],
            moves: vec![moved(170, 120), moved(180, 130)],
            extents,
            beside: Vec::new(),
        }
    }

    #[test]
    fn what_no_job_writes_is_a_fault() {
        use StageKind::{Clear, Edit, Fill, Prepare, Shrink, Table, Takeover};
        let inside = "an entry leaves the disk or its file";
        let misplaced = "is written, moved or watched where no job does that";
        assert_eq!(fault(&sound(), FILES), None);
        type Change = fn(&mut Journal);
        let cases: &[(Change, &str)] = &[
            (|j| j.format = 99, "it has format 99"),
            (
                |j| j.job.disk = "x".repeat(70_000).into(),
                "the disk's name",
            ),
            (|j| j.sector_bytes = 513, "its sector size"),
            (|j| j.sectors = 0, "its sector size"),
            (|j| j.extents[0].first_lba = 999, inside),
            (|j| j.extents[0].first_lba = u64::MAX, inside),
            (|j| j.extents[0].sectors = 0, inside),
            (|j| j.extents[0].sectors = u64::MAX, inside),
            (|j| j.extents[0].old.offset = Some(1 << 20), inside),
            (|j| j.extents[0].new.offset = Some(u64::MAX), inside),
            (|j| j.extents[0].new.fill = Some(0), inside),
            (|j| j.extents[0].old.offset = None, inside),
            (|j| j.moves[0].sectors = u64::MAX, inside),
            (|j| j.moves[0].to_lba = 998, inside),
            (|j| j.watched[0].sectors = 501, inside),
            (|j| j.volumes[0].sectors_after = 101, inside),
            (|j| j.volumes[0].sectors_after = 0, inside),
            (|j| j.volumes[0].named_at = 1000, inside),
            (
                |j| {
                    j.volumes[0].sealed = vec![Extent::between(Lba(5), Lba(4))];
                },
                inside,
            ),
            (
                |j| j.extents.swap(0, 1),
                "the stage shrink would be written after",
            ),
            (
                |j| j.extents[1].first_lba = 0,
                "the stage prepare would write sector 0",
            ),
            (
                |j| j.extents.insert(1, extent(Shrink, 101)),
                "LBA 101 would be written twice",
            ),
            (
                |j| j.extents.push(extent(Edit, 101)),
                "LBA 101 would be written twice",
            ),
            // Beside its volume, or over its end.
            (|j| j.extents[0].first_lba = 98, misplaced),
            (|j| j.extents[3].first_lba = 199, misplaced),
            (|j| j.extents.insert(1, extent(Fill, 300)), misplaced),
            // Into what a volume keeps.
            (|j| j.extents[1].first_lba = 159, misplaced),
            (|j| j.extents.insert(3, extent(Table, 110)), misplaced),
            (|j| j.extents.insert(3, extent(Takeover, 110)), misplaced),
            (|j| j.extents.insert(3, extent(Clear, 110)), misplaced),
            (|j| j.extents.insert(1, extent(Prepare, 110)), misplaced),
            // From elsewhere, to the part that is given away, onto another, onto what is shrunk.
            (|j| j.moves[0].from_lba = 300, misplaced),
            (|j| j.moves[0].to_lba = 158, misplaced),
            (|j| j.moves[0].to_lba = 132, misplaced),
            (|j| j.moves[0].to_lba = 99, misplaced),
            (|j| j.moves[0].to_lba = 100, misplaced),
            (|j| j.watched[0].first_lba = 161, misplaced),
            (|j| j.watched[0].first_lba = 101, misplaced),
            (|j| j.volumes.push(volume(150)), misplaced),
            (|j| j.volumes.clear(), misplaced),
        ];
        // All of the file, for each of them.
        let mut journal = sound();
        journal.sectors = 1 << 20;
        for entry in &mut journal.extents {
            entry.sectors = 2048;
        }
        let shared = fault(&journal, FILES);
        assert!(shared.is_some_and(|fault| fault.contains("share their bytes")));
        for (number, (change, expected)) in cases.iter().enumerate() {
            let mut journal = sound();
            change(&mut journal);
            let found = fault(&journal, FILES).unwrap_or_default();
            assert!(found.contains(expected), "{number}: {found}");
        }
    }
}
