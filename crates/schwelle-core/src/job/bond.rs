//! Whether a job folder is the one that its disk was written with.
//!
//! All that a folder says of itself can be written anew by someone who has had it, hashes included. So a converted disk
//! keeps the hash of the journal, in the marker on its EFI system partition: no other journal has it, and through the
//! hashes in the journal no other saved or new bytes either. While the disk does not hold it (before that partition
//! is written, once it has been given back, and on disks that get none) a folder cannot be proven, and a technician
//! must vouch for it by its name.

use crate::device::{Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::FatVolume;
use crate::gpt::{GptPair, type_guid};
use crate::identities::Style;
use crate::marker::{MARKER, MAX_MARKER_BYTES, Marker};
use crate::mbr::BootRecord;

use super::refusal::RecoverError;
use super::{JobFacts, JobFolder, JobKind, JobState, State};

/// What the disk says of a folder.
#[derive(Debug)]
pub enum Bond {
    /// It is the one that the disk was written with, to the byte.
    Proven(Trust),
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
    /// The disk holds the hash of another job's folder. This one is of a kind that leaves none.
    OfAnotherJob,
    /// The folder holds edits of files that were cut off, and whose record the disk does not know.
    CutEdits,
}

/// One folder may be worked with: it was proven, or vouched for. There is no other way to finish a job or to take it
/// back.
#[derive(Debug, Clone)]
pub struct Trust {
    /// The hash of the folder's journal, in hex.
    journal: String,
}

impl Trust {
    fn in_folder(job: &JobFolder) -> Self {
        let journal = job.state().journal.clone();
        Self { journal }
    }

    /// Refuses what belongs to another journal, by its hash, than was trusted.
    pub(super) fn covers(&self, journal: &str) -> Result<(), RecoverError> {
        let is_it = self.journal == journal;
        is_it.then_some(()).ok_or(RecoverError::OtherFolder)
    }
}

impl Unproven {
    /// The technician vouches for a folder by typing its name. `None` where that is another name.
    pub fn vouched(self, job: &JobFolder, name: &str) -> Option<Trust> {
        (job.name() == name).then(|| Trust::in_folder(job))
    }
}

/// Asks the disk about a folder.
///
/// # Errors
///
/// [`RecoverError::OtherFolder`] where the disk says that another folder, or this one before it was changed, is the
/// one; and where the folder contradicts what the disk proves.
pub fn bond(job: &JobFolder, disk: &dyn ReadDevice) -> Result<Bond, RecoverError> {
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
    let at_its_place = journal
        .bound_at
        .and_then(|at| disk.read_vec(at, hash.len()).ok())
        .is_some_and(|found| !hash.is_empty() && found == hash.as_bytes());
    // Who has copied the partition's files has put the marker elsewhere.
    let in_marker = hash_on(disk);
    if at_its_place || in_marker.as_ref() == Some(hash) {
        // The hash comes to the disk after all that moves, so by then the folder knows what has moved.
        if moved.is_none() && !journal.moves.is_empty() {
            return Err(RecoverError::OtherFolder);
        }
        let cut = job.renaming();
        let is_cut = cut.is_some_and(|cut| cut.state().state.is_unfinished());
        return Ok(match is_cut {
            true => Bond::Unproven(Unproven::CutEdits),
            false => Bond::Proven(Trust::in_folder(job)),
        });
    }
    match (in_marker, job.facts()) {
        (None, _) if journal.bound_at.is_some() => Ok(Bond::Unproven(Unproven::NotThere)),
        (None, _) => Ok(Bond::Unproven(Unproven::LeavesNone)),
        (Some(_), Some(facts)) if leaves_none(facts) => Ok(Bond::Unproven(Unproven::OfAnotherJob)),
        (Some(_), _) => Err(RecoverError::OtherFolder),
    }
}

/// True for jobs that write no marker.
fn leaves_none(facts: &JobFacts) -> bool {
    (facts.kind, facts.to, facts.disk_use) != (JobKind::Convert, Style::Gpt, DiskUse::System)
}

/// The hash in the marker on the EFI system partition of a GPT disk; `None` as well where something on the way to it
/// cannot be read, as after a power cut.
fn hash_on(disk: &dyn ReadDevice) -> Option<String> {
    let record = BootRecord::parse(&disk.read_sector(Lba(0)).ok()?);
    if !record.is_some_and(|record| record.is_protective()) {
        return None;
    }
    let pair = GptPair::read(disk);
    let entries = pair.best().map(|table| table.entries.iter());
    let mut esps = entries
        .into_iter()
        .flatten()
        .filter(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM);
    esps.find_map(|(_, entry)| {
        let window = Window::new(disk, entry.extent)?;
        let volume = FatVolume::open(&window).ok()?;
        let file = volume.find(MARKER).ok()??;
        let bytes = volume.read_file(&file, MAX_MARKER_BYTES).ok()?;
        Marker::parse(&bytes)?.journal
    })
}
