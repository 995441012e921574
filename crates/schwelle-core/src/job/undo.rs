//! Undoes a job, in the reverse order of the commit: the edited files, then sector 0 (from then on it is the old disk),
//! then everything else that was overwritten, and last the file systems that were shrunk. A volume that has been used
//! since keeps its new size and its files; only the files that name the disk are edited back (see [`Renaming`]).

use std::sync::Arc;

use crate::commit::{self, ChangeSet, Drafts, Observer, Purpose, Region, StageKind, hash_of};
use crate::device::{BlockDevice, DeviceError, Draft, Extent, Lba, Move, ReadDevice, Window};
use crate::mbr;
use crate::ntfs::{NtfsError, NtfsVolume};

use super::bounds::{self, before as partition_of, is_inside_volumes, named};
use super::compare::{
    Comparison, compare, fingerprint, is_carried_over, is_of_another, journal, lay,
};
use super::refusal::RecoverError;
use super::{
    EditedVolume, FolderProof, JobFolder, JobState, Journal, JournalExtent, Renaming, Side,
};

/// What taking a job back writes.
#[derive(Debug)]
pub struct Undoing {
    /// Edited volumes that have been used since: they stay as they are. With it, whether that means
    /// smaller.
    pub used: Vec<(Lba, bool)>,
    /// Bytes that will be written, at most.
    pub bytes: u64,
    /// Parts of the disk that have been changed since the conversion and are put back all the same.
    pub changed_since: Vec<(Purpose, Lba)>,
    first: Vec<(Extent, Vec<u8>)>,
    /// Which of the journal's volumes get their old file system back.
    back: Vec<usize>,
    /// Where these begin.
    back_at: Vec<Lba>,
    moves: Vec<Move>,
}

impl Undoing {
    /// The volume that begins here gets its old content back from the job folder.
    pub(crate) fn comes_back(&self, first: Lba) -> bool {
        self.back_at.contains(&first)
    }
}

/// Finds out what taking the job back means; `None` if the disk is the old one already. If the folder is not proven,
/// less may have changed since: only what a PC that starts from the disk changes by itself.
///
/// # Errors
///
/// It cannot be taken back, or disk or folder cannot be read.
pub(super) fn plan_undo(
    job: &JobFolder,
    disk: &dyn ReadDevice,
    proof: FolderProof,
) -> Result<Option<Undoing>, RecoverError> {
    match job.state().state {
        JobState::Saving => return Err(RecoverError::NeverBegan),
        JobState::Undone => return Err(RecoverError::TakenBack),
        JobState::Writing | JobState::Done | JobState::Undoing => {}
    }
    let journal = journal(job)?;
    let (seen, below) = compare(job, Draft::new(disk))?;
    if seen.is_nothing_new() {
        return Ok(None);
    }
    if is_of_another(proof) {
        return Err(RecoverError::OtherFolder);
    }
    let partitions = named(disk)?;
    let is_refused = |(stage, _, at): &&(StageKind, Purpose, Lba)| {
        *stage == StageKind::Commit
            || !is_inside_volumes(*stage)
                && matches!(proof, FolderProof::Unproven(_))
                && !bounds::is_used_by_starting(&partitions, *at)
    };
    if let Some((_, what, at)) = seen.unexpected.iter().find(is_refused) {
        let (what, at) = (what.clone(), *at);
        return Err(RecoverError::Differs { what, at });
    }
    bounds::refuse_partitions_since(job, disk)?;
    bounds::refuse_foreign(journal, disk)?;
    let Volumes { back, used, moves } = volumes(job, &seen, &below)?;
    let shrinks = |volume: &&EditedVolume| volume.sectors_after < volume.sectors_before;
    let mut shrunk = Vec::new();
    for volume in used.iter().copied().filter(shrinks) {
        if is_small(disk, volume)? {
            shrunk.push(volume);
        }
    }
    let first = first_writes(job, &shrunk)?;
    let used = used
        .iter()
        .map(|volume| (Lba(volume.first_lba), shrinks(volume)));
    let moves: Vec<Move> = moves
        .into_iter()
        .filter(|moved| holder(journal, &back, moved.to).is_some())
        .collect();
    let sectors: u64 = journal
        .extents
        .iter()
        .map(|entry| entry.sectors)
        .chain(moves.iter().map(|moved| moved.sectors))
        .sum();
    let elsewhere = |(stage, ..): &(StageKind, Purpose, Lba)| !is_inside_volumes(*stage);
    let unexpected = seen.unexpected.into_iter().filter(elsewhere);
    let changed_since = unexpected.map(|(_, what, at)| (what, at));
    let back_at = back.iter().filter_map(|index| journal.volumes.get(*index));
    Ok(Some(Undoing {
        used: used.collect(),
        bytes: journal.byte_of(sectors),
        changed_since: changed_since.collect(),
        first,
        back_at: back_at.map(|volume| Lba(volume.first_lba)).collect(),
        back,
        moves,
    }))
}

/// The journal's volumes, by whether they have been used since.
struct Volumes<'a> {
    /// Which of them are unused since, and get their old file system back.
    back: Vec<usize>,
    /// Those that have been used.
    used: Vec<&'a EditedVolume>,
    /// What moves back.
    moves: Vec<Move>,
}

/// Separates the volumes that have been used since from the others, by the old disk as it would be.
///
/// # Errors
///
/// The disk or the folder cannot be read: whether a volume has been used is unknown.
fn volumes<'a>(
    job: &'a JobFolder,
    seen: &Comparison,
    below: &Arc<Draft<'_>>,
) -> Result<Volumes<'a>, RecoverError> {
    let draft = Draft::over(below.clone());
    lay(job, &draft, Side::Old, is_carried_over)?;
    let MovesBack { moves, lost } = moves_back(job, &**below, &draft)?;
    for moved in &moves {
        draft.move_sectors(*moved);
    }
    let (mut back, mut used) = (Vec::new(), Vec::new());
    for (index, volume) in journal(job)?.volumes.iter().enumerate() {
        let inside = |at: Lba| partition_of(volume).contains(&one(at));
        let mut unexpected = seen.unexpected.iter();
        let unexpected = unexpected.any(|(stage, _, at)| is_inside_volumes(*stage) && inside(*at));
        // Its old file system would name content that is no more.
        let lost = lost.iter().any(|at| inside(*at));
        let before = fingerprint(&draft, volume, volume.sectors_before)?;
        if !unexpected && !lost && before.as_deref() == Some(&volume.before) {
            back.push(index);
        } else {
            used.push(volume);
        }
    }
    Ok(Volumes { back, used, moves })
}

/// The partitions of the job's volumes that have been used since, as `disk` shows them.
pub(super) fn used_since(
    job: &JobFolder,
    disk: &dyn ReadDevice,
) -> Result<Vec<Extent>, RecoverError> {
    let (seen, below) = compare(job, Draft::new(disk))?;
    let used = volumes(job, &seen, &below)?.used;
    Ok(used.into_iter().map(partition_of).collect())
}

/// Takes the job back, and with it renames what names the disk on volumes that have been used since. What remains is
/// to record that.
pub(super) fn undo(
    job: &mut JobFolder,
    plan: &Undoing,
    renaming: Option<&Renaming<'_>>,
    disk: &dyn BlockDevice,
    observer: &mut dyn Observer,
) -> Result<(), RecoverError> {
    let journal = journal(job)?.clone();
    job.set_state(JobState::Undoing)?;
    if let Some(renaming) = renaming {
        renaming.write(job, disk, observer)?;
    }
    // The files get their old names back while the disk still is the new one, which starts with
    // them all the same.
    let in_unused = |entry: &JournalExtent, stage: StageKind| {
        let at = Lba(entry.first_lba);
        entry.stage == stage && holder(&journal, &plan.back, at).is_some()
    };
    let draft = Draft::new(disk);
    lay(job, &draft, Side::Old, |entry| {
        in_unused(entry, StageKind::Edit)
    })?;
    let regions = journal.regions(|stage| stage == StageKind::Edit);
    run(job, &draft, &regions, disk, observer)?;

    // The boot partition, boot code, or the old table, comes back before the sector that starts from it.
    let behind = |stage| {
        use StageKind::{Clear, Table, Takeover};
        matches!(stage, Takeover | Clear | Table)
    };
    let draft = Draft::new(disk);
    lay(job, &draft, Side::Old, |entry| behind(entry.stage))?;
    run(job, &draft, &journal.regions(behind), disk, observer)?;

    // Then sector 0 and the boot records: from here on it is the old disk. Then what lay where
    // the new parts are.
    let draft = Draft::new(disk);
    let mut regions = Vec::new();
    for (extent, bytes) in &plan.first {
        draft.write_at(journal.byte_of(extent.first.0), bytes)?;
        regions.push(Region::new(
            StageKind::Commit,
            Purpose::OldBootRecords,
            *extent,
        ));
    }
    lay(job, &draft, Side::Old, |entry| {
        entry.stage == StageKind::Prepare
    })?;
    regions.extend(journal.regions(|stage| stage == StageKind::Prepare));
    run(job, &draft, &regions, disk, observer)?;

    // Now the old volumes, whose tails are free again.
    let draft = Draft::new(disk);
    for moved in &plan.moves {
        draft.move_sectors(*moved);
    }
    let of_volumes = |stage| matches!(stage, StageKind::Shrink | StageKind::Fill);
    lay(job, &draft, Side::Old, |entry| {
        of_volumes(entry.stage) && in_unused(entry, entry.stage)
    })?;
    let regions = journal.regions(of_volumes);
    run(job, &draft, &regions, disk, observer)?;

    // Last the marker: up to here the disk proves this folder.
    let is_claim = |stage| stage == StageKind::Claim;
    let draft = Draft::new(disk);
    lay(job, &draft, Side::Old, |entry| is_claim(entry.stage))?;
    run(job, &draft, &journal.regions(is_claim), disk, observer)
}

/// Writes and reads back what a draft changes.
fn run(
    job: &mut JobFolder,
    draft: &Draft<'_>,
    regions: &[Region],
    disk: &dyn BlockDevice,
    observer: &mut dyn Observer,
) -> Result<(), RecoverError> {
    let set = ChangeSet::of(draft, Purpose::ClustersMovedBack, regions)?;
    let drafts = Drafts::one(draft);
    commit::apply(drafts, &set, disk, job, observer)?;
    Ok(commit::verify(drafts, &set, disk, observer)?)
}

fn one(at: Lba) -> Extent {
    Extent::between(at, Lba(at.0.saturating_add(1)))
}

/// Which of the volumes named by `indices` a sector belongs to.
fn holder(journal: &Journal, indices: &[usize], at: Lba) -> Option<usize> {
    let holds = |index: &&usize| {
        let volume = journal.volumes.get(**index);
        volume.is_some_and(|volume| partition_of(volume).contains(&one(at)))
    };
    indices.iter().find(holds).copied()
}

/// True if the boot sector of the volume's NTFS has the new size: the file system has been shrunk.
///
/// # Errors
///
/// The volume cannot be read.
fn is_small(disk: &dyn ReadDevice, volume: &EditedVolume) -> Result<bool, DeviceError> {
    let Some(window) = Window::new(disk, partition_of(volume)) else {
        return Ok(false);
    };
    let opened = match NtfsVolume::open(&window) {
        Ok(opened) => opened,
        Err(NtfsError::Device(error)) if !error.is_out_of_bounds() => return Err(error),
        Err(_not_ntfs) => return Ok(false),
    };
    let shape = opened.shape();
    let bytes = shape
        .total_sectors
        .saturating_mul(shape.sector_bytes.into());
    let sector = disk.geometry().logical_sector;
    Ok(bytes <= volume.sectors_after.saturating_mul(sector.into()))
}

/// How what was moved stands to taking the job back.
#[derive(Default)]
struct MovesBack {
    /// The moves that must be made backwards: what lay there has been overwritten by more than the journal knows,
    /// since the new partition there has been used.
    moves: Vec<Move>,
    /// Where something lay that is in neither of its places any more.
    lost: Vec<Lba>,
}

/// Compares the places of what was moved, on the old disk as it would be and on the one that is there.
fn moves_back(
    job: &JobFolder,
    disk: &dyn ReadDevice,
    old: &Draft<'_>,
) -> Result<MovesBack, RecoverError> {
    let mut back = MovesBack::default();
    let Some(hashes) = &job.state().moved else {
        return Ok(back);
    };
    for (moved, expected) in journal(job)?.moves.iter().zip(hashes) {
        let moved = moved.as_move();
        let is = |hash: blake3::Hash| hash.to_hex().as_str() == expected;
        if is(hash_of(old, moved.source())?) {
            continue;
        }
        match is(hash_of(disk, moved.destination())?) {
            true => back.moves.push(Move {
                from: moved.to,
                to: moved.from,
                sectors: moved.sectors,
            }),
            false => back.lost.push(moved.from),
        }
    }
    Ok(back)
}

/// Sector 0 as it was, and the boot records that must name a volume with its new size.
fn first_writes(
    job: &JobFolder,
    shrunk: &[&EditedVolume],
) -> Result<Vec<(Extent, Vec<u8>)>, RecoverError> {
    let journal = journal(job)?;
    let mut writes: Vec<(Extent, Vec<u8>)> = Vec::new();
    for entry in &journal.extents {
        if entry.stage == StageKind::Commit {
            writes.push((entry.extent(), job.bytes(entry, Side::Old)?));
        }
    }
    for volume in shrunk {
        let record = writes
            .iter_mut()
            .find(|(extent, _)| extent.first.0 == volume.named_at);
        // A logical partition is named by its own extended boot record, which the conversion does
        // not write; its entry may stay larger than the volume in it.
        if let Some((_, bytes)) = record {
            mbr::shrink_entry(bytes, volume.first_lba, volume.sectors_after);
        }
    }
    Ok(writes)
}
