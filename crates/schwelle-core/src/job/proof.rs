//! Whether a job folder is the one that its disk was written with.
//!
//! All that a folder says of itself can be written anew by someone who has had it, hashes included. So a disk with an
//! EFI system partition of this program's keeps the hash of the journal, in the marker there: no other journal has it,
//! and through the hashes in the journal no other saved or new bytes either. A job that follows on the same disk claims
//! the marker with its first write ([`StageKind::Claim`]), so the disk proves a folder at every moment of every job.
//! If it proves one, every other is refused, whatever that says of itself. Only where no marker is (before the
//! partition is written, once it has been given back, and on disks that get none) a folder cannot be proven, and a
//! technician must vouch for it by its name.

use crate::commit::StageKind;
use crate::device::{DeviceError, Extent, Lba, ReadDevice, Window};
use crate::fat::{FatError, FatVolume};
use crate::gpt::{GptError, GptPair, type_guid};
use crate::marker::{MARKER, MAX_MARKER_BYTES, Marker};
use crate::mbr::BootRecord;

use super::refusal::RecoverError;
use super::{JobFolder, JobState, Journal, State};

/// Whether the disk proves that a folder is its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FolderProof {
    /// The disk holds the hash of this folder's journal: it is the one that the disk was written with, to the byte.
    Proven,
    /// That cannot be proven.
    Unproven(Unproven),
}

/// Why a folder cannot be proven.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unproven {
    /// The disk does not hold the hash of the folder: not yet, or not any more.
    NotThere,
    /// The job leaves no hash on the disk, and no other one is there.
    LeavesNone,
    /// The disk holds the hash of another job's folder. Nothing of this job may be on it.
    OfAnotherJob,
    /// The folder holds edits of files that were interrupted, and whose record the disk does not know.
    CutEdits,
}

/// Asks the disk about a folder. `torn` are the sectors that a power failure has torn: they may be unreadable.
///
/// # Errors
///
/// [`RecoverError::OtherFolder`] if the folder contradicts what the disk proves; [`RecoverError::Device`] if the disk
/// cannot be read.
pub(super) fn verify_folder(
    job: &JobFolder,
    disk: &dyn ReadDevice,
    torn: &[Extent],
) -> Result<FolderProof, RecoverError> {
    let Some(journal) = job.journal() else {
        return Err(RecoverError::NeverBegan);
    };
    if job.state().state == JobState::Undone {
        return Err(RecoverError::TakenBack);
    }
    let State {
        moved,
        journal: hash,
        ..
    } = job.state();
    let at_its_place = match journal.bound_at {
        Some(at) => none_if_torn(disk.read_vec(at, hash.len()).map(Some), disk, torn)?,
        None => None,
    };
    let at_its_place =
        at_its_place.is_some_and(|found| !hash.is_empty() && found == hash.as_bytes());
    // If the ESP's files were copied, the marker may have moved.
    let in_markers = hashes_on(disk, torn)?;
    if at_its_place || in_markers.contains(hash) {
        let knows_moved = moved.is_some() || journal.moves.is_empty();
        if !knows_moved && !claims(journal) {
            // The hash is written after everything that moves, so by then the folder knows what has moved.
            return Err(RecoverError::OtherFolder);
        }
        let interrupted = job.renaming();
        let is_interrupted =
            interrupted.is_some_and(|renaming| renaming.state().state.is_unfinished());
        return Ok(match (is_interrupted, knows_moved) {
            (true, _) => FolderProof::Unproven(Unproven::CutEdits),
            (false, false) => FolderProof::Unproven(Unproven::NotThere),
            (false, true) => FolderProof::Proven,
        });
    }
    Ok(FolderProof::Unproven(match journal.bound_at {
        _ if !in_markers.is_empty() => Unproven::OfAnotherJob,
        Some(_) => Unproven::NotThere,
        None => Unproven::LeavesNone,
    }))
}

/// True if the hash is the first thing that the job writes.
fn claims(journal: &Journal) -> bool {
    let mut extents = journal.extents.iter();
    extents.any(|entry| entry.stage == StageKind::Claim)
}

/// Takes a sector that a power failure has torn for one that holds no hash.
fn none_if_torn<T>(
    found: Result<Option<T>, DeviceError>,
    disk: &dyn ReadDevice,
    torn: &[Extent],
) -> Result<Option<T>, DeviceError> {
    match found {
        Err(error) if error.is_inside(disk.geometry(), torn) => Ok(None),
        found => found,
    }
}

/// The hashes in the markers on the EFI system partitions of a GPT disk. None if there is no GPT, no such partition, no
/// marker, or one that is damaged, or torn by a power failure.
///
/// # Errors
///
/// Something on the way to a marker could not be read.
fn hashes_on(disk: &dyn ReadDevice, torn: &[Extent]) -> Result<Vec<String>, DeviceError> {
    let sector_0 = none_if_torn(disk.read_sector(Lba(0)).map(Some), disk, torn)?;
    let record = sector_0.and_then(|sector| BootRecord::parse(&sector));
    if !record.is_some_and(|record| record.is_protective()) {
        return Ok(Vec::new());
    }
    let GptPair { primary, backup } = GptPair::read(disk);
    let table = match (primary, backup) {
        (Ok(table), _) | (Err(_), Ok(table)) => table,
        (Err(GptError::Device(error)), _) | (_, Err(GptError::Device(error))) => {
            return none_if_torn(Err(error), disk, torn).map(Option::unwrap_or_default);
        }
        (Err(_), Err(_)) => return Ok(Vec::new()),
    };
    let esps = table.entries.iter().map(|(_, entry)| entry);
    let mut hashes = Vec::new();
    for esp in esps.filter(|entry| entry.kind == type_guid::EFI_SYSTEM) {
        let Some(window) = Window::new(disk, esp.extent) else {
            continue;
        };
        match marker_on(&window) {
            Ok(marker) => hashes.extend(marker.into_iter().flat_map(Marker::hashes)),
            Err(FatError::Device(error)) if !error.is_out_of_bounds() => {
                none_if_torn::<()>(Err(error), disk, torn)?;
            }
            // Damage is an answer: no folder is proven by it.
            Err(_damaged) => {}
        }
    }
    Ok(hashes)
}

fn marker_on(partition: &dyn ReadDevice) -> Result<Option<Marker>, FatError> {
    let volume = FatVolume::open(partition)?;
    let Some(file) = volume.find(MARKER)? else {
        return Ok(None);
    };
    let bytes = volume.read_file(&file, MAX_MARKER_BYTES)?;
    Ok(Marker::parse(&bytes))
}
