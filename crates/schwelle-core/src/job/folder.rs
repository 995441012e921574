//! The folder itself: making it, reading it, and the record of how far the job has come.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::facts::JobFacts;
use super::journal::{
    self, Beside, FIRST_FORMAT, Journal, JournalExtent, MAX_JOURNAL_BYTES, ReliedOn, Side,
};
use super::state::{FIRST_VERSION, Kept, read_up_to};
use super::storage::{Directory, Storage, StoredFile, Within};
use super::{JobError, JobState, Repaired, State, bounds, recover};
use crate::commit::{ChangeSet, Drafts, Ledger, StageKind};
use crate::device::{Lba, ReadDevice};
use crate::mbr::BootRecord;

pub(super) const RECORD: &str = "job.json";
pub(super) const JOURNAL: &str = "journal.json";
pub(super) const SAVED: &str = "saved.bin";
const NEW: &str = "new.bin";
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
    kept: Kept,
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
    /// Makes the folder, or takes an empty one, and begins this job. `plan` is a document for the report.
    pub fn create(path: &Path, job: JobFacts, plan: &str) -> Result<Self, JobError> {
        let made = Directory::make(path).map_err(|source| JobError::Io {
            path: path.to_owned(),
            source,
        })?;
        let storage = made.ok_or_else(|| JobError::NotEmpty {
            path: path.to_owned(),
        })?;
        Self::create_in(Arc::new(storage), path, job, plan)
    }

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
            kept: Kept::nothing(),
            journal: None,
            renaming: None,
        };
        folder.put(LOG, b"")?;
        folder.put(RECORD, plan.as_bytes())?;
        folder.keep_state()?;
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
        let kept = Kept::read(&*storage).map_err(|source| JobError::Io {
            path: path.to_owned(),
            source,
        })?;
        let mut folder = Self {
            path: path.to_owned(),
            storage,
            kept: Kept::nothing(),
            journal: None,
            facts: None,
            renaming: None,
        };
        folder.kept = match kept {
            Some(kept) => kept,
            None => match folder.read_json(FIRST_VERSION) {
                Ok(state) => Kept {
                    state,
                    ..Kept::nothing()
                },
                Err(JobError::Io { source, .. }) if source.kind() == io::ErrorKind::NotFound => {
                    return Err(folder.damaged("", NO_STATE));
                }
                Err(error) => return Err(error),
            },
        };
        if folder.state().state == JobState::Saving {
            return Ok(folder);
        }
        if let Some(hash) = &folder.kept.moved {
            let text = folder.read_text(MOVED, MAX_JOURNAL_BYTES)?;
            if blake3::hash(&text).to_hex().as_str() != hash {
                return Err(folder.damaged(MOVED, "its hash is not the one in the job's state"));
            }
            let moved = serde_json::from_slice(&text);
            let moved = moved.map_err(|error| folder.damaged(MOVED, error))?;
            folder.kept.state.moved = Some(moved);
        }
        let loaded = folder.load()?;
        folder.facts = loaded.journal.job.clone();
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
        let kept = Kept::read(&self.within(number)).map_err(|source| JobError::Io {
            path: self.path.clone(),
            source,
        })?;
        Ok(kept.map(|kept| kept.state.state))
    }

    fn within(&self, number: usize) -> Within {
        Within {
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
        let mut journal: Journal =
            serde_json::from_slice(&text).map_err(|error| self.damaged(JOURNAL, error))?;
        if journal.format == FIRST_FORMAT {
            let facts = JobFacts::of_first_version(&self.record()?);
            journal.job = Some(facts.map_err(|fault| self.damaged(RECORD, fault))?);
        }
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
        &self.kept.state
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

    /// A document that was put into the folder; `None` where it cannot be read, or is longer than any is.
    pub fn document(&self, name: &str) -> Option<Vec<u8>> {
        document_of(&*self.storage, name)
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
            let mut text = vec![0; usize::try_from(file.len_bytes()? - first).unwrap_or(0)];
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
        let len =
            usize::try_from(len).map_err(|_| self.damaged(name, "an extent has no length"))?;
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
        let len =
            usize::try_from(len).map_err(|_| self.damaged(SAVED, "an extent has no length"))?;
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
        let journal = journal::write((&*saved, &*new), disk, drafts, changes, relied_on, facts);
        let journal = journal.map_err(|error| match error {
            journal::WriteError::Io(source) => JobError::Io {
                path: self.path.clone(),
                source,
            },
            journal::WriteError::Device(error) => JobError::Device(error),
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
        self.kept.state.journal = blake3::hash(&text).to_hex().to_string();
        self.set_state(JobState::Writing)
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
        let before = std::mem::replace(&mut self.kept.state.state, state);
        let kept = self.keep_state();
        if kept.is_err() {
            self.kept.state.state = before;
        }
        kept
    }

    fn keep_state(&mut self) -> Result<(), JobError> {
        if let (Some(hashes), None) = (&self.kept.state.moved, &self.kept.moved) {
            let text = serde_json::to_vec(hashes);
            let text = text.map_err(|error| self.io_error(MOVED, error.into()))?;
            self.put(MOVED, &text)?;
            self.kept.moved = Some(blake3::hash(&text).to_hex().to_string());
        }
        let kept = self.kept.keep(&*self.storage);
        kept.map_err(|source| self.io_error("the job's state", source))
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

/// A document for people, if it can be read and is no longer than any is.
pub(super) fn document_of(storage: &dyn Storage, name: &str) -> Option<Vec<u8>> {
    let text = read_up_to(storage, name, MAX_DOCUMENT_BYTES + 1).ok()?;
    (text.len() as u64 <= MAX_DOCUMENT_BYTES).then_some(text)
}

impl Ledger for JobFolder {
    fn stage_done(&mut self, stage: StageKind, moved: &[blake3::Hash]) -> io::Result<()> {
        let plain = |error| match error {
            JobError::Io { source, .. } => source,
            other => io::Error::other(other.to_string()),
        };
        self.kept.state.stage = Some(stage);
        if stage == StageKind::Move && self.state().state == JobState::Writing {
            let hashes = moved.iter().map(|hash| hash.to_hex().to_string());
            self.kept.state.moved = Some(hashes.collect());
        }
        self.keep_state().map_err(plain)
    }
}

impl JobFolder {
    /// True when the job is about this disk, as it was before or as it is after: its size, and its sector 0.
    /// A sector 0 that a power cut has torn is known by all else that the job knows of the disk.
    pub fn is_about(&self, disk: &dyn ReadDevice) -> bool {
        let geometry = disk.geometry();
        let Some(journal) = self.journal() else {
            return false;
        };
        if (journal.sector_bytes, journal.sectors) != (geometry.logical_sector, geometry.sectors) {
            return false;
        }
        let sector_0 = disk.read_sector(Lba(0));
        let is_known = sector_0.is_ok_and(|sector_0| {
            self.knows_sector_0(journal, &sector_0) && self.knows_disk_id(journal, disk, &sector_0)
        });
        if is_known {
            return true;
        }
        let repaired = Repaired::look(self, disk);
        repaired.is_ok_and(|repaired| {
            repaired.torn().any(|first| first == Lba(0)) && recover::fits(self, &repaired)
        })
    }

    /// All GPT disks of a size have the same sector 0. What distinguishes them is the disk's GUID, in the header at
    /// LBA 1 and in its copy on the last sector (UEFI 2.10 §5.3.2, at byte 56).
    fn knows_disk_id(&self, journal: &Journal, disk: &dyn ReadDevice, sector_0: &[u8]) -> bool {
        let record = BootRecord::parse(sector_0);
        if !record.is_some_and(|record| record.is_protective()) {
            return true;
        }
        let holds = |entry: &&JournalExtent| {
            (entry.first_lba..entry.first_lba.saturating_add(entry.sectors)).contains(&1)
        };
        let Some(entry) = journal.extents.iter().find(holds) else {
            return true;
        };
        let sector = journal.sector_bytes as usize;
        // LBA 1 is in it, so it begins there or one before.
        let header_at = if entry.first_lba == 0 { sector } else { 0 };
        let id = |header: &[u8]| header.get(56..72).map(<[u8]>::to_vec);
        let known: Vec<Vec<u8>> = [Side::Old, Side::New]
            .into_iter()
            .filter_map(|side| id(self.bytes(entry, side).ok()?.get(header_at..)?))
            .filter(|id| id.iter().any(|&byte| byte != 0))
            .collect();
        let mut headers = [Lba(1), Lba(journal.sectors.saturating_sub(1))].into_iter();
        headers.any(|at| {
            let found = disk.read_sector(at).ok().and_then(|header| id(&header));
            found.is_some_and(|found| known.contains(&found))
        })
    }

    fn knows_sector_0(&self, journal: &Journal, sector_0: &[u8]) -> bool {
        let entry = journal.extents.iter().find(|entry| entry.first_lba == 0);
        let is_written = entry.is_some_and(|entry| {
            [Side::Old, Side::New].into_iter().any(|side| {
                self.bytes(entry, side)
                    .is_ok_and(|bytes| bytes.starts_with(sector_0))
            })
        });
        // A job that does not write it watches it.
        let mut watched = journal.watched.iter();
        let is_watched = watched.any(|watched| {
            watched.first_lba == 0 && watched.blake3 == blake3::hash(sector_0).to_hex().as_str()
        });
        is_written || is_watched
    }
}
