//! The job folder: the plan, what was overwritten, and a log, on the medium before the disk is
//! touched.
//!
//! | file | what |
//! | --- | --- |
//! | `job.json` | the plan as `plan --json` shows it, with the disk's name and the time |
//! | `saved.json` | the extents saved: first sector, sectors, offset in `saved.bin`, BLAKE3 hash |
//! | `saved.bin` | their bytes, one behind the other |
//! | `state.json` | how far the job has come |
//! | `log.txt` | what happened, a line each |

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::commit::ChangeSet;
use crate::device::{DeviceError, ReadDevice};

const CHUNK_SECTORS: u64 = 2048;

/// Why the job folder could not be used.
#[derive(Debug, thiserror::Error)]
pub enum JobError {
    /// The folder is in use by another job.
    #[error("the job folder {path} is not empty")]
    NotEmpty {
        /// The folder.
        path: PathBuf,
    },
    /// The folder or a file in it could not be written.
    #[error("{path}: {source}")]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// What should be saved could not be read from the disk.
    #[error(transparent)]
    Device(#[from] DeviceError),
}

/// How far a job has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum JobState {
    /// What will be overwritten is being saved; the disk is untouched.
    Saving,
    /// Saved; the disk may be written from now on. Sector 0 says whether it is the old disk or the
    /// new one.
    Writing,
    /// All is written and read back.
    Done,
}

/// One saved extent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SavedExtent {
    /// First sector on the disk.
    pub first_lba: u64,
    /// Number of sectors.
    pub sectors: u64,
    /// Where its bytes begin in `saved.bin`.
    pub offset: u64,
    /// BLAKE3 hash of its bytes, in hex.
    pub blake3: String,
}

/// A job folder being filled.
#[derive(Debug)]
pub struct JobFolder {
    path: PathBuf,
    log: File,
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
        let log_path = path.join("log.txt");
        let log = OpenOptions::new().create(true).append(true).open(&log_path);
        let log = log.map_err(|source| JobError::Io {
            path: log_path,
            source,
        })?;
        let folder = Self {
            path: path.to_owned(),
            log,
        };
        folder.write("job.json", plan.as_bytes())?;
        folder.set_state(JobState::Saving)?;
        Ok(folder)
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Adds a line to the log.
    pub fn log(&mut self, line: &str) -> Result<(), JobError> {
        let source = writeln!(self.log, "{line}").and_then(|()| self.log.sync_data());
        source.map_err(|source| JobError::Io {
            path: self.path.join("log.txt"),
            source,
        })
    }

    /// Saves from `disk` all that `changes` overwrites. When this returns, it is on the medium.
    pub fn save(&self, disk: &dyn ReadDevice, changes: &ChangeSet) -> Result<(), JobError> {
        let path = self.path.join("saved.bin");
        let io_error = |source| JobError::Io {
            path: path.clone(),
            source,
        };
        let mut file = File::create(&path).map_err(io_error)?;
        let mut saved = Vec::new();
        let mut offset = 0;
        let geometry = changes.geometry;
        for extent in changes.extents() {
            let mut hash = blake3::Hasher::new();
            let mut at = extent.first;
            while at < extent.end {
                let sectors = (extent.end.0 - at.0).min(CHUNK_SECTORS);
                let len =
                    usize::try_from(sectors * u64::from(geometry.logical_sector)).unwrap_or(0);
                let bytes = disk.read_vec(geometry.byte_of(at).unwrap_or(u64::MAX), len)?;
                hash.update(&bytes);
                file.write_all(&bytes).map_err(io_error)?;
                at.0 += sectors;
            }
            let (first_lba, sectors) = (extent.first.0, extent.sectors());
            saved.push(SavedExtent {
                first_lba,
                sectors,
                offset,
                blake3: hash.finalize().to_hex().to_string(),
            });
            offset += geometry.bytes_in(&extent);
        }
        file.sync_all().map_err(io_error)?;
        let index = serde_json::to_vec_pretty(&saved).map_err(|error| io_error(error.into()))?;
        self.write("saved.json", &index)
    }

    /// Records how far the job has come.
    pub fn set_state(&self, state: JobState) -> Result<(), JobError> {
        let path = self.path.join("state.json");
        let text = serde_json::to_vec_pretty(&serde_json::json!({ "state": state }));
        self.write(
            "state.json",
            &text.map_err(|error| JobError::Io {
                path,
                source: error.into(),
            })?,
        )
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
