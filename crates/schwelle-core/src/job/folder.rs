//! The folder itself: making it, reading it, and the record of how far the job has come.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use super::journal::{self, EditedVolume, Journal, JournalExtent, MAX_ENTRIES, Side, Watched};
use super::{JobError, JobState, State};
use crate::commit::{ChangeSet, Drafts, Ledger, StageKind};
use crate::device::{Geometry, ReadDevice};

const RECORD: &str = "job.json";
const JOURNAL: &str = "journal.json";
const SAVED: &str = "saved.bin";
const NEW: &str = "new.bin";
const STATE: &str = "state.json";
const LOG: &str = "log.txt";
const OUTCOME: &str = "outcome.json";
/// A text file of the folder is read up to this length.
const MAX_TEXT_BYTES: u64 = 1 << 30;
/// Folders looked at beside a job folder, at most.
const MAX_NEIGHBOURS: usize = 1000;

/// A job folder.
#[derive(Debug)]
pub struct JobFolder {
    path: PathBuf,
    state: State,
    journal: Option<Loaded>,
}

/// The journal, and the files with its bytes.
#[derive(Debug)]
struct Loaded {
    journal: Journal,
    saved: File,
    new: File,
}

impl JobFolder {
    /// Makes the folder, or takes an empty one, and begins a job with this plan.
    pub fn create(path: &Path, plan: &str) -> Result<Self, JobError> {
        let io_error = |source| JobError::Io {
            path: path.to_owned(),
            source,
        };
        fs::create_dir_all(path).map_err(io_error)?;
        if fs::read_dir(path).map_err(io_error)?.next().is_some() {
            return Err(JobError::NotEmpty {
                path: path.to_owned(),
            });
        }
        // The folder's own entry must be on the medium too, or a power cut takes all with it.
        let parent = path
            .parent()
            .filter(|parent| !parent.as_os_str().is_empty());
        File::open(parent.unwrap_or(Path::new(".")))
            .and_then(|parent| parent.sync_all())
            .map_err(io_error)?;
        open_log(path)?;
        let folder = Self {
            path: path.to_owned(),
            state: State::saving(),
            journal: None,
        };
        folder.write(RECORD, plan.as_bytes())?;
        folder.keep_state()?;
        Ok(folder)
    }

    /// Opens the folder of a job that was begun. The journal is checked whole; the saved bytes
    /// are checked when they are used.
    pub fn open(path: &Path) -> Result<Self, JobError> {
        let state: State = read_json(path, STATE)?;
        let mut folder = Self {
            path: path.to_owned(),
            state,
            journal: None,
        };
        if folder.state.state == JobState::Saving {
            return Ok(folder);
        }
        let damaged = |fault: String| JobError::Damaged {
            path: path.join(JOURNAL),
            fault,
        };
        let text = read_text(path, JOURNAL)?;
        if blake3::hash(&text).to_hex().as_str() != folder.state.journal {
            return Err(damaged("its hash is not the one in state.json".to_owned()));
        }
        let journal: Journal =
            serde_json::from_slice(&text).map_err(|error| damaged(error.to_string()))?;
        if journal.extents.len().max(journal.moves.len()) > MAX_ENTRIES {
            return Err(damaged("it has more entries than any job".to_owned()));
        }
        let file = |name: &str| {
            let file = File::open(path.join(name));
            file.and_then(|file| Ok((file.metadata()?.len(), file)))
                .map_err(|source| JobError::Io {
                    path: path.join(name),
                    source,
                })
        };
        let ((saved_len, saved), (new_len, new)) = (file(SAVED)?, file(NEW)?);
        if let Some(fault) = journal.fault([saved_len, new_len]) {
            return Err(damaged(fault));
        }
        if let Some(moved) = &folder.state.moved
            && moved.len() != journal.moves.len()
        {
            return Err(damaged(
                "state.json names another number of moves".to_owned(),
            ));
        }
        folder.journal = Some(Loaded {
            journal,
            saved,
            new,
        });
        Ok(folder)
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// How far the job has come.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// The journal; `None` while saving.
    pub fn journal(&self) -> Option<&Journal> {
        self.journal.as_ref().map(|loaded| &loaded.journal)
    }

    /// The plan, as `job.json` has it.
    pub fn record(&self) -> Result<serde_json::Value, JobError> {
        read_json(&self.path, RECORD)
    }

    /// Keeps how the job ended, in place of what was kept before.
    pub fn keep_outcome(&self, outcome: &str) -> Result<(), JobError> {
        self.write(OUTCOME, outcome.as_bytes())
    }

    /// How the job ended; `None` where it has not.
    pub fn outcome(&self) -> Result<Option<serde_json::Value>, JobError> {
        match read_json(&self.path, OUTCOME) {
            Err(JobError::Io { source, .. }) if source.kind() == io::ErrorKind::NotFound => {
                Ok(None)
            }
            outcome => outcome.map(Some),
        }
    }

    /// The lines of the log; of a long one, its end.
    pub fn log_lines(&self, most: usize) -> Result<Vec<String>, JobError> {
        let text = match read_text(&self.path, LOG) {
            Err(JobError::Io { source, .. }) if source.kind() == io::ErrorKind::NotFound => {
                Vec::new()
            }
            text => text?,
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
        let io_error = |source| JobError::Io {
            path: self.path.join(name),
            source,
        };
        let Some(loaded) = &self.journal else {
            return Err(io_error(io::ErrorKind::NotFound.into()));
        };
        let file = if side == Side::Old {
            &loaded.saved
        } else {
            &loaded.new
        };
        let len = entry
            .sectors
            .saturating_mul(loaded.journal.sector_bytes.into());
        let len = usize::try_from(len).unwrap_or(0);
        journal::read(file, entry.side(side), len).map_err(io_error)
    }

    /// Adds a line to the log.
    pub fn log(&mut self, line: &str) -> Result<(), JobError> {
        let mut log = open_log(&self.path)?;
        let source = writeln!(log, "{line}").and_then(|()| log.sync_data());
        source.map_err(|source| JobError::Io {
            path: self.path.join(LOG),
            source,
        })
    }

    /// Saves from `disk` all that `changes` overwrites, and from `drafts` what comes there. When
    /// this returns, all of it is on the medium, and the disk may be written.
    pub fn save(
        &mut self,
        disk: &dyn ReadDevice,
        drafts: Drafts<'_>,
        changes: &ChangeSet,
        relied_on: (Vec<Watched>, Vec<EditedVolume>),
    ) -> Result<(), JobError> {
        let create = |name: &str| {
            let path = self.path.join(name);
            let file = OpenOptions::new()
                .read(true)
                .write(true)
                .create_new(true)
                .open(&path);
            file.map_err(|source| JobError::Io { path, source })
        };
        let (saved, new) = (create(SAVED)?, create(NEW)?);
        let copies = saved.try_clone().and_then(|a| Ok((a, new.try_clone()?)));
        let io_error = |source| JobError::Io {
            path: self.path.clone(),
            source,
        };
        let journal = journal::write(copies.map_err(io_error)?, disk, drafts, changes, relied_on)
            .map_err(|error| match error {
            journal::WriteError::Io(source) => io_error(source),
            journal::WriteError::Device(error) => JobError::Device(error),
        })?;
        let text = serde_json::to_vec(&journal).map_err(|error| io_error(error.into()))?;
        self.write(JOURNAL, &text)?;
        self.journal = Some(Loaded {
            journal,
            saved,
            new,
        });
        self.state.journal = blake3::hash(&text).to_hex().to_string();
        self.set_state(JobState::Writing)
    }

    /// Records where the job stands.
    pub fn set_state(&mut self, state: JobState) -> Result<(), JobError> {
        self.state.state = state;
        self.keep_state()
    }

    fn keep_state(&self) -> Result<(), JobError> {
        let text = serde_json::to_vec_pretty(&self.state);
        let text = text.map_err(|error| JobError::Io {
            path: self.path.join(STATE),
            source: error.into(),
        })?;
        self.write(STATE, &text)
    }

    /// Writes a file whole or not at all: beside it, flushed, renamed, the folder flushed.
    fn write(&self, name: &str, content: &[u8]) -> Result<(), JobError> {
        let path = self.path.join(name);
        let new = self.path.join(format!("{name}.new"));
        let written = (|| {
            let mut file = File::create(&new)?;
            file.write_all(content)?;
            file.sync_all()?;
            fs::rename(&new, &path)?;
            File::open(&self.path)?.sync_all()
        })();
        written.map_err(|source| JobError::Io { path, source })
    }
}

impl Ledger for JobFolder {
    fn stage_done(&mut self, stage: StageKind, moved: &[blake3::Hash]) -> io::Result<()> {
        self.state.stage = Some(stage);
        if stage == StageKind::Move && self.state.state == JobState::Writing {
            let hashes = moved.iter().map(|hash| hash.to_hex().to_string());
            self.state.moved = Some(hashes.collect());
        }
        self.keep_state().map_err(|error| match error {
            JobError::Io { source, .. } => source,
            other => io::Error::other(other.to_string()),
        })
    }
}

fn open_log(path: &Path) -> Result<File, JobError> {
    let path = path.join(LOG);
    let log = OpenOptions::new().create(true).append(true).open(&path);
    log.map_err(|source| JobError::Io { path, source })
}

fn read_text(folder: &Path, name: &str) -> Result<Vec<u8>, JobError> {
    let path = folder.join(name);
    let mut text = Vec::new();
    let read = File::open(&path).and_then(|file| file.take(MAX_TEXT_BYTES).read_to_end(&mut text));
    match read {
        Ok(_) => Ok(text),
        Err(source) => Err(JobError::Io { path, source }),
    }
}

fn read_json<T: serde::de::DeserializeOwned>(folder: &Path, name: &str) -> Result<T, JobError> {
    serde_json::from_slice(&read_text(folder, name)?).map_err(|error| JobError::Damaged {
        path: folder.join(name),
        fault: error.to_string(),
    })
}

/// An unfinished job for the disk with this geometry and this sector 0: in `job` itself, or in a
/// folder beside it.
pub fn unfinished_near(job: &Path, geometry: Geometry, sector_0: &[u8]) -> Option<PathBuf> {
    let parent = job.parent().filter(|path| !path.as_os_str().is_empty());
    let beside = fs::read_dir(parent.unwrap_or(Path::new(".")));
    let beside = beside
        .into_iter()
        .flatten()
        .filter_map(|entry| Some(entry.ok()?.path()))
        .take(MAX_NEIGHBOURS);
    std::iter::once(job.to_owned()).chain(beside).find(|path| {
        let Ok(folder) = JobFolder::open_unlogged(path) else {
            return false;
        };
        folder.state.state.is_unfinished() && folder.is_about(geometry, sector_0)
    })
}

impl JobFolder {
    /// Opens a folder only if it is one, so that looking around leaves no files behind.
    fn open_unlogged(path: &Path) -> Result<Self, JobError> {
        read_json::<State>(path, STATE)?;
        Self::open(path)
    }

    /// True when the job is about a disk of this geometry with this sector 0, before or after.
    pub fn is_about(&self, geometry: Geometry, sector_0: &[u8]) -> bool {
        let Some(journal) = self.journal() else {
            return false;
        };
        let same =
            journal.sector_bytes == geometry.logical_sector && journal.sectors == geometry.sectors;
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
        same && (is_written || is_watched)
    }
}
