//! Whether a job folder is the one that its disk was written with.
//!
//! All that a folder says of itself can be written anew by someone who has had it, hashes included. So a converted disk
//! keeps the hash of the journal, in the marker on its EFI system partition: no other journal has it, and through the
//! hashes in the journal no other saved or new bytes either. While the disk does not hold it (before that partition
//! is written, once it has been given back, and on disks that get none) a folder cannot be proven, and a technician
//! must vouch for it by its name.

use crate::device::{DeviceError, Extent, Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::{FatError, FatVolume};
use crate::gpt::{GptError, GptPair, type_guid};
use crate::identities::Style;
use crate::marker::{MARKER, MAX_MARKER_BYTES, Marker};
use crate::mbr::BootRecord;

use super::refusal::RecoverError;
use super::{JobFacts, JobFolder, JobKind, JobState, State};

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
    /// The disk holds the hash of another job's folder. This job is of a kind that leaves none.
    OfAnotherJob,
    /// The folder holds edits of files that were interrupted, and whose record the disk does not know.
    CutEdits,
}

/// Asks the disk about a folder. `torn` are the sectors that a power failure has torn: they may be unreadable.
///
/// # Errors
///
/// [`RecoverError::OtherFolder`] if the disk proves another folder, or this one before it was changed, or if the
/// folder contradicts what the disk proves; [`RecoverError::Device`] if the disk cannot be read.
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
    let in_marker = none_if_torn(hash_on(disk), disk, torn)?;
    if at_its_place || in_marker.as_ref() == Some(hash) {
        // The hash is written after everything that moves, so by then the folder knows what has moved.
        if moved.is_none() && !journal.moves.is_empty() {
            return Err(RecoverError::OtherFolder);
        }
        let interrupted = job.renaming();
        let is_interrupted =
            interrupted.is_some_and(|renaming| renaming.state().state.is_unfinished());
        return Ok(if is_interrupted {
            FolderProof::Unproven(Unproven::CutEdits)
        } else {
            FolderProof::Proven
        });
    }
    match in_marker {
        Some(_other) if leaves_none(&journal.job) => {
            Ok(FolderProof::Unproven(Unproven::OfAnotherJob))
        }
        Some(_other) => Err(RecoverError::OtherFolder),
        None if journal.bound_at.is_some() => Ok(FolderProof::Unproven(Unproven::NotThere)),
        None => Ok(FolderProof::Unproven(Unproven::LeavesNone)),
    }
}

/// True for jobs that write no marker.
fn leaves_none(facts: &JobFacts) -> bool {
    (facts.kind, facts.to, facts.disk_use) != (JobKind::Convert, Style::Gpt, DiskUse::System)
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

/// Reads the hash in the marker on the EFI system partition of a GPT disk; `None` if there is none: no GPT, no such
/// partition, no marker, or one that is damaged.
///
/// # Errors
///
/// Something on the way to the marker could not be read.
fn hash_on(disk: &dyn ReadDevice) -> Result<Option<String>, DeviceError> {
    let record = BootRecord::parse(&disk.read_sector(Lba(0))?);
    if !record.is_some_and(|record| record.is_protective()) {
        return Ok(None);
    }
    let GptPair { primary, backup } = GptPair::read(disk);
    let table = match (primary, backup) {
        (Ok(table), _) | (Err(_), Ok(table)) => table,
        (Err(GptError::Device(error)), _) | (_, Err(GptError::Device(error))) => return Err(error),
        (Err(_), Err(_)) => return Ok(None),
    };
    let esps = table.entries.iter().map(|(_, entry)| entry);
    for esp in esps.filter(|entry| entry.kind == type_guid::EFI_SYSTEM) {
        let Some(window) = Window::new(disk, esp.extent) else {
            continue;
        };
        let found = match marker_on(&window) {
            Ok(marker) => marker.and_then(|marker| marker.journal),
            Err(FatError::Device(error)) if !error.is_out_of_bounds() => return Err(error),
            // Damage is an answer: no folder is proven by it.
            Err(_damaged) => None,
        };
        if found.is_some() {
            return Ok(found);
        }
    }
    Ok(None)
}

fn marker_on(partition: &dyn ReadDevice) -> Result<Option<Marker>, FatError> {
    let volume = FatVolume::open(partition)?;
    let Some(file) = volume.find(MARKER)? else {
        return Ok(None);
    };
    let bytes = volume.read_file(&file, MAX_MARKER_BYTES)?;
    Ok(Marker::parse(&bytes))
}
