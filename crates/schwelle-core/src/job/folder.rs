//! The folder itself: making it, reading it, and the record of how far the job has come.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::facts::JobFacts;
use super::journal::{self, Beside, Journal, JournalExtent, MAX_JOURNAL_BYTES, ReliedOn, Side};
use super::state::{PersistedState, STATE_FILES, read_up_to};
use super::storage::{Directory, PrefixedStorage, Storage, StoredFile};
use super::writer;
use super::{JobError, JobState, State, bounds};
use crate::commit::{ChangeSet, Drafts, Ledger, StageKind};
use crate::device::ReadDevice;

pub(super) const RECORD: &str = "job.json";
pub(super) const JOURNAL: &str = "journal.json";
pub(super) const SAVED: &str = "saved.bin";
const NEW: &str = "new.bin";
/// Bytes of a file that are hashed at a time.
const HASHED_AT_ONCE: usize = 1 << 20;
const MOVED: &str = "moved.json";
pub(super) const LOG: &str = "log.txt";
const OUTCOME: &str = "outcome.json";
const NO_STATE: &str = "neither state-a.json nor state-b.json holds a whole state: this is no job folder, \
    or both files are damaged";
/// A document for people is read up to this length. The longest ones seen have some hundred KiB. Of a longer log, this much
/// of its end is read.
const MAX_DOCUMENT_BYTES: u64 = 8 << 20;

/// Renamings in a folder, at most: each is one cut of power, with the disk used again after it.
const MAX_RENAMINGS: usize = 200;

/// A job folder.
#[derive(Debug)]
pub struct JobFolder {
    path: PathBuf,
    storage: Arc<dyn Storage>,
    persisted: PersistedState,
    journal: Option<Loaded>,
    /// What the job is; `None` where its folder was opened while it was being saved.
    facts: Option<JobFacts>,
    /// The last renaming that was begun while this job was taken back.
    renaming: Option<Box<JobFolder>>,
}

/// The journal, and the files with its bytes.
#[derive(Debug)]
struct Loaded {
    journal: Journal,
    saved: Box<dyn StoredFile>,
    new: Box<dyn StoredFile>,
}

impl JobFolder {
    /// Begins a job in an empty folder; `path` is what errors call it.
    pub fn create_in(
        storage: Arc<dyn Storage>,
        path: &Path,
        job: JobFacts,
        plan: &str,
    ) -> Result<Self, JobError> {
        let mut folder = Self {
            facts: Some(job),
            path: path.to_owned(),
            storage,
            persisted: PersistedState::nothing(),
            journal: None,
            renaming: None,
        };
        folder.put(LOG, b"")?;
        folder.put(RECORD, plan.as_bytes())?;
        folder.record_state()?;
        Ok(folder)
    }

    /// Opens the folder of a job that was begun. The journal is checked whole; the saved bytes
    /// are checked when they are used.
    pub fn open(path: &Path) -> Result<Self, JobError> {
        let held = Directory::open(path).map_err(|source| JobError::Io {
            path: path.to_owned(),
            source,
        })?;
        Self::open_in(Arc::new(held), path)
    }

    /// The same, wherever its files lie; `path` is what errors call it.
    ///
    /// # Errors
    ///
    /// Those of [`Self::open`].
    pub fn open_in(storage: Arc<dyn Storage>, path: &Path) -> Result<Self, JobError> {
        let persisted = PersistedState::read(&*storage).map_err(|source| JobError::Io {
            path: path.to_owned(),
            source,
        })?;
        let mut folder = Self {
            path: path.to_owned(),
            storage,
            persisted: PersistedState::nothing(),
            journal: None,
            facts: None,
            renaming: None,
        };
        folder.persisted = persisted.ok_or_else(|| folder.damaged("", NO_STATE))?;
        if folder.state().state == JobState::Saving {
            return Ok(folder);
        }
        if let Some(hash) = &folder.persisted.moved {
            let text = folder.read_text(MOVED, MAX_JOURNAL_BYTES)?;
            if blake3::hash(&text).to_hex().as_str() != hash {
                return Err(folder.damaged(MOVED, "its hash is not the one in the job's state"));
            }
            let moved = serde_json::from_slice(&text);
            let moved = moved.map_err(|error| folder.damaged(MOVED, error))?;
            folder.persisted.state.moved = Some(moved);
        }
        let loaded = folder.load()?;
        folder.facts = Some(loaded.journal.job.clone());
        folder.journal = Some(loaded);
        if folder.state().state == JobState::Undoing {
            folder.renaming = folder.last_renaming()?.map(Box::new);
        }
        Ok(folder)
    }

    /// Of the renamings in this folder, the last one whose edits may be on the disk.
    fn last_renaming(&self) -> Result<Option<Self>, JobError> {
        let mut last = None;
        for number in 1..=MAX_RENAMINGS {
            let Some(state) = self.renaming_state(number)? else {
                break;
            };
            if state != JobState::Saving {
                last = Some(number);
            }
        }
        last.map(|number| Self::open_in(Arc::new(self.within(number)), &self.path))
            .transpose()
    }

    /// Where the renaming with this number stands; `None` where there is none.
    fn renaming_state(&self, number: usize) -> Result<Option<JobState>, JobError> {
        let persisted = PersistedState::read(&self.within(number));
        let persisted = persisted.map_err(|source| JobError::Io {
            path: self.path.clone(),
            source,
        })?;
        Ok(persisted.map(|persisted| persisted.state.state))
    }

    fn within(&self, number: usize) -> PrefixedStorage {
        PrefixedStorage {
            folder: self.storage.clone(),
            prefix: format!("names-{number}-"),
        }
    }

    /// Begins a renaming: a job of its own, with a journal of its own, whose files lie in this folder.
    pub(super) fn begin_renaming(&self, record: &str) -> Result<Self, JobError> {
        let facts = self.facts.clone();
        let facts = facts.ok_or_else(|| self.damaged(JOURNAL, "this job was not begun here"))?;
        for number in 1..=MAX_RENAMINGS {
            if self.renaming_state(number)?.is_none() {
                let storage = Arc::new(self.within(number));
                return Self::create_in(storage, &self.path, facts, record);
            }
        }
        Err(self.damaged("", "it holds more renamings than any job makes"))
    }

    /// The last renaming that was begun while this job was taken back.
    pub(super) fn renaming(&self) -> Option<&Self> {
        self.renaming.as_deref()
    }

    fn load(&self) -> Result<Loaded, JobError> {
        let text = self.read_text(JOURNAL, MAX_JOURNAL_BYTES)?;
        if blake3::hash(&text).to_hex().as_str() != self.state().journal {
            return Err(self.damaged(JOURNAL, "its hash is not the one in the job's state"));
        }
        let journal: Journal =
            serde_json::from_slice(&text).map_err(|error| self.damaged(JOURNAL, error))?;
        let file = |name: &str| {
            let file = self.storage.open(name, false);
            file.and_then(|file| Ok((file.len_bytes()?, file)))
                .map_err(|source| self.io_error(name, source))
        };
        let ((saved_len, saved), (new_len, new)) = (file(SAVED)?, file(NEW)?);
        if let Some(fault) = bounds::fault(&journal, [saved_len, new_len]) {
            return Err(self.damaged(JOURNAL, fault));
        }
        let moved = self.state().moved.as_ref();
        if moved.is_some_and(|moved| moved.len() != journal.moves.len()) {
            return Err(self.damaged(MOVED, "it names another number of moves than the journal"));
        }
        Ok(Loaded {
            journal,
            saved,
            new,
        })
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Its name: the last part of its path, by which a technician knows it.
    pub fn name(&self) -> String {
        let named = |path: &Path| Some(path.file_name()?.to_string_lossy().into_owned());
        let real = || fs::canonicalize(&self.path).ok();
        named(&self.path)
            .or_else(|| named(&real()?))
            .unwrap_or_else(|| self.path.display().to_string())
    }

    /// How far the job has come.
    pub fn state(&self) -> &State {
        &self.persisted.state
    }

    /// The journal; `None` while saving.
    pub fn journal(&self) -> Option<&Journal> {
        self.journal.as_ref().map(|loaded| &loaded.journal)
    }

    /// What the job is; `None` while it is being saved.
    pub fn facts(&self) -> Option<&JobFacts> {
        self.facts.as_ref()
    }

    /// The plan, as `job.json` has it: for the report.
    pub fn record(&self) -> Result<serde_json::Value, JobError> {
        self.read_json(RECORD)
    }

    /// Keeps how the job ended, in place of what was kept before. Neither `resume` nor `undo` needs it.
    pub fn keep_outcome(&self, outcome: &str) -> Result<(), JobError> {
        self.put(OUTCOME, outcome.as_bytes())
    }

    /// Puts a document for people into the folder, beside the job's own files.
    pub fn keep_document(&self, name: &str, text: &str) -> Result<(), JobError> {
        self.put(name, text.as_bytes())
    }

    /// Reads a document that was put into the folder; `None` if there is none.
    ///
    /// # Errors
    ///
    /// It cannot be read, or is longer than any document is.
    pub fn document(&self, name: &str) -> Result<Option<Vec<u8>>, JobError> {
        document_of(&*self.storage, name).map_err(|source| self.io_error(name, source))
    }

    /// Reads another file of the folder; `None` if there is none.
    ///
    /// # Errors
    ///
    /// It cannot be read, is no regular file, or has more than this many bytes.
    pub fn attachment(&self, name: &str, most_bytes: u64) -> Result<Option<Vec<u8>>, JobError> {
        let read = bounded(&*self.storage, name, most_bytes);
        read.map_err(|source| self.io_error(name, source))
    }

    /// The files that `undo` and `resume` need, each with its length in bytes and the hash of its content; none before
    /// they have been saved.
    ///
    /// # Errors
    ///
    /// A file cannot be read, or is longer than the job made it.
    pub fn checksums(&self) -> Result<Vec<(&'static str, u64, blake3::Hash)>, JobError> {
        let Some(loaded) = &self.journal else {
            return Ok(Vec::new());
        };
        let [saved, new] = loaded.journal.stored_bytes();
        let files = [(JOURNAL, MAX_JOURNAL_BYTES), (SAVED, saved), (NEW, new)];
        let checksum = |(name, most): (&'static str, u64)| {
            let file = self.storage.open(name, false);
            let file = file.map_err(|source| self.io_error(name, source))?;
            let len = file.len_bytes();
            let len = len.map_err(|source| self.io_error(name, source))?;
            if len > most {
                return Err(self.damaged(name, "it is longer than the job made it"));
            }
            let hash = hash_of_file(&*file, len);
            Ok((
                name,
                len,
                hash.map_err(|source| self.io_error(name, source))?,
            ))
        };
        files.into_iter().map(checksum).collect()
    }

    /// How the job ended; `None` where it has not, or where that was cut off while it was kept.
    pub fn outcome(&self) -> Result<Option<serde_json::Value>, JobError> {
        match self.read_json(OUTCOME) {
            Err(JobError::Io { source, .. }) if source.kind() == io::ErrorKind::NotFound => {
                Ok(None)
            }
            Err(JobError::Damaged { .. }) => Ok(None),
            outcome => outcome.map(Some),
        }
    }

    /// The lines of the log; of a long one, its end.
    pub fn log_lines(&self, most: usize) -> Result<Vec<String>, JobError> {
        let read = || -> io::Result<Vec<u8>> {
            let file = self.storage.open(LOG, false)?;
            let first = file.len_bytes()?.saturating_sub(MAX_DOCUMENT_BYTES);
            let mut text =
                vec![0; usize::try_from(file.len_bytes()? - first).map_err(io::Error::other)?];
            file.read_at(first, &mut text)?;
            Ok(text)
        };
        let text = match read() {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Vec::new(),
            text => text.map_err(|source| self.io_error(LOG, source))?,
        };
        let text = String::from_utf8_lossy(&text);
        let lines: Vec<&str> = text.lines().collect();
        let last = lines.len().saturating_sub(most);
        Ok(lines.into_iter().skip(last).map(str::to_owned).collect())
    }

    /// The bytes of one side of an extent of the journal. An error when the file does not hold
    /// what was written.
    pub fn bytes(&self, entry: &JournalExtent, side: Side) -> Result<Vec<u8>, JobError> {
        let name = if side == Side::Old { SAVED } else { NEW };
        let Some(loaded) = &self.journal else {
            return Err(self.io_error(name, io::ErrorKind::NotFound.into()));
        };
        let file = if side == Side::Old {
            &loaded.saved
        } else {
            &loaded.new
        };
        let len = entry
            .sectors
            .saturating_mul(loaded.journal.sector_bytes.into());
        let len = usize::try_from(len)
            .map_err(|_too_large| self.damaged(name, "an extent has no length"))?;
        let bytes = journal::read(&**file, entry.side(side), len);
        let mut bytes = bytes.map_err(|source| self.io_error(name, source))?;
        if side == Side::New {
            loaded
                .journal
                .bind(entry, &mut bytes, &self.state().journal);
        }
        Ok(bytes)
    }

    /// What is beside the sectors written.
    pub(super) fn bytes_beside(&self, beside: &Beside) -> Result<Vec<u8>, JobError> {
        let Some(loaded) = &self.journal else {
            return Err(self.io_error(SAVED, io::ErrorKind::NotFound.into()));
        };
        let len = beside
            .sectors
            .saturating_mul(loaded.journal.sector_bytes.into());
        let len = usize::try_from(len)
            .map_err(|_too_large| self.damaged(SAVED, "an extent has no length"))?;
        let read = journal::read(&*loaded.saved, &beside.old, len);
        read.map_err(|source| self.io_error(SAVED, source))
    }

    /// Adds a line to the log.
    pub fn log(&mut self, line: &str) -> Result<(), JobError> {
        let added = (|| {
            let log = match self.storage.open(LOG, true) {
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    self.storage.create(LOG)?
                }
                log => log?,
            };
            log.write_at(log.len_bytes()?, format!("{line}\n").as_bytes())?;
            log.sync()
        })();
        added.map_err(|source| self.io_error(LOG, source))
    }

    /// Saves from `disk` all that `changes` overwrites, and from `drafts` what comes there. When
    /// this returns, all of it is on the medium, and the disk may be written.
    pub fn save(
        &mut self,
        disk: &dyn ReadDevice,
        drafts: Drafts<'_>,
        changes: &ChangeSet,
        relied_on: ReliedOn,
    ) -> Result<(), JobError> {
        let create = |name: &str| {
            let file = self.storage.create(name);
            file.map_err(|source| self.io_error(name, source))
        };
        let facts = self.facts.clone();
        let facts = facts.ok_or_else(|| self.damaged(JOURNAL, "this job was not begun here"))?;
        let (saved, new) = (create(SAVED)?, create(NEW)?);
        let journal = writer::write((&*saved, &*new), disk, drafts, changes, relied_on, facts);
        let journal = journal.map_err(|error| match error {
            writer::WriteError::Io(source) => JobError::Io {
                path: self.path.clone(),
                source,
            },
            writer::WriteError::Device(error) => JobError::Device(error),
        })?;
        let text =
            serde_json::to_vec(&journal).map_err(|error| self.io_error(JOURNAL, error.into()))?;
        if text.len() as u64 > MAX_JOURNAL_BYTES || !journal.is_readable() {
            let source = io::Error::other("the journal is longer than any that is read");
            return Err(self.io_error(JOURNAL, source));
        }
        self.put(JOURNAL, &text)?;
        // Each file is synced by itself; this covers what a file system keeps elsewhere.
        self.sync()?;
        self.journal = Some(Loaded {
            journal,
            saved,
            new,
        });
        self.persisted.state.journal = blake3::hash(&text).to_hex().to_string();
        self.set_state(JobState::Writing)?;
        match self.persisted.lost.take() {
            // Nothing has been written to the disk yet: no job begins on a medium that fails already.
            Some((name, source)) => {
                self.give_up();
                Err(self.io_error(name, source))
            }
            None => Ok(()),
        }
    }

    /// Records that there is nothing to finish and nothing to take back, so that the job is no obstacle to the next
    /// one. If that fails, `resume` and `undo` find out from the disk.
    pub(crate) fn give_up(&mut self) {
        let _recorded = self.set_state(JobState::Undone);
    }

    /// Returns when the folder and everything else on its file system is on the medium.
    pub fn sync(&self) -> Result<(), JobError> {
        let synced = self.storage.sync_all();
        synced.map_err(|source| JobError::Io {
            path: self.path.clone(),
            source,
        })
    }

    /// Records where the job stands.
    pub fn set_state(&mut self, state: JobState) -> Result<(), JobError> {
        let before = std::mem::replace(&mut self.persisted.state.state, state);
        let recorded = self.record_state();
        if recorded.is_err() {
            self.persisted.state.state = before;
        }
        recorded
    }

    fn record_state(&mut self) -> Result<(), JobError> {
        if let (Some(hashes), None) = (&self.persisted.state.moved, &self.persisted.moved) {
            let text = serde_json::to_vec(hashes);
            let text = text.map_err(|error| self.io_error(MOVED, error.into()))?;
            self.put(MOVED, &text)?;
            self.persisted.moved = Some(blake3::hash(&text).to_hex().to_string());
        }
        let written = self.persisted.write(&*self.storage);
        written.map_err(|source| self.io_error(STATE_FILES[0], source))
    }

    /// The state file that could not be read or written last, and why. The job goes on with the other one.
    pub fn lost_state_file(&self) -> Option<(&'static str, &io::Error)> {
        let lost = self.persisted.lost.as_ref();
        lost.map(|(name, error)| (*name, error))
    }

    /// Writes a file that no state names yet, or that nothing but the report needs. When this returns,
    /// it is on the medium.
    fn put(&self, name: &str, content: &[u8]) -> Result<(), JobError> {
        let written = (|| {
            let file = self.storage.create(name)?;
            file.write_at(0, content)?;
            file.sync()?;
            self.storage.sync_names()
        })();
        written.map_err(|source| self.io_error(name, source))
    }

    fn read_text(&self, name: &str, most: u64) -> Result<Vec<u8>, JobError> {
        let text = read_up_to(&*self.storage, name, most);
        text.map_err(|source| self.io_error(name, source))
    }

    fn read_json<T: serde::de::DeserializeOwned>(&self, name: &str) -> Result<T, JobError> {
        let text = self.read_text(name, MAX_DOCUMENT_BYTES)?;
        serde_json::from_slice(&text).map_err(|error| self.damaged(name, error))
    }

    fn io_error(&self, name: &str, source: io::Error) -> JobError {
        let path = self.path.join(name);
        JobError::Io { path, source }
    }

    /// A file of the folder is not what the job wrote; without a name, the folder itself.
    fn damaged(&self, name: &str, fault: impl ToString) -> JobError {
        let path = match name {
            "" => self.path.clone(),
            name => self.path.join(name),
        };
        JobError::Damaged {
            path,
            fault: fault.to_string(),
        }
    }
}

fn hash_of_file(file: &dyn StoredFile, len_bytes: u64) -> io::Result<blake3::Hash> {
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0; HASHED_AT_ONCE];
    let mut at = 0;
    while at < len_bytes {
        let left = usize::try_from(len_bytes - at).unwrap_or(usize::MAX);
        let piece = &mut buffer[..left.min(HASHED_AT_ONCE)];
        file.read_at(at, piece)?;
        hasher.update(piece);
        at += piece.len() as u64;
    }
    Ok(hasher.finalize())
}

/// Reads a document for people; `None` if there is none, an error if it is longer than any document is.
pub(super) fn document_of(storage: &dyn Storage, name: &str) -> io::Result<Option<Vec<u8>>> {
    bounded(storage, name, MAX_DOCUMENT_BYTES)
}

/// Reads a file; `None` if there is none, an error if it has more than this many bytes.
fn bounded(storage: &dyn Storage, name: &str, most_bytes: u64) -> io::Result<Option<Vec<u8>>> {
    let bytes = match read_up_to(storage, name, most_bytes.saturating_add(1)) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        bytes => bytes?,
    };
    if bytes.len() as u64 > most_bytes {
        return Err(io::Error::other("it is longer than any such document"));
    }
    Ok(Some(bytes))
}

impl Ledger for JobFolder {
    fn stage_done(&mut self, stage: StageKind, moved: &[blake3::Hash]) -> io::Result<()> {
        let plain = |error| match error {
            JobError::Io { source, .. } => source,
            other => io::Error::other(other.to_string()),
        };
        self.persisted.state.stage = Some(stage);
        if stage == StageKind::Move && self.state().state == JobState::Writing {
            let hashes = moved.iter().map(|hash| hash.to_hex().to_string());
            self.persisted.state.moved = Some(hashes.collect());
        }
        self.record_state().map_err(plain)
    }
}
