//! A registry hive as a file on a volume, with the transaction logs beside it.

use crate::bytes::ReadBytes;
use crate::hive::{Hive, HiveError, LogError, MAX_LOG_BYTES, Recovered};
use crate::ntfs::{NtfsError, NtfsFile, NtfsVolume};

/// Endings of a hive's logs: the two of newer systems, then the one of older ones.
pub const HIVE_LOGS: [&str; 3] = [".LOG1", ".LOG2", ".LOG"];

/// Why a hive on a volume cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum HiveFileError {
    /// The volume.
    #[error(transparent)]
    Ntfs(#[from] NtfsError),
    /// The hive or its logs.
    #[error(transparent)]
    Log(#[from] LogError),
    /// What is in the hive.
    #[error(transparent)]
    Hive(#[from] HiveError),
}

/// A hive's file.
#[derive(Debug)]
pub struct HiveFile<'v> {
    /// The hive's own content, without its logs.
    pub file: NtfsFile<'v>,
    logs: Vec<(String, Vec<u8>)>,
}

impl<'v> HiveFile<'v> {
    /// Opens the hive at this path, with its logs where it needs them; `None` when it is not there. A log that cannot be
    /// read counts as one that is not there.
    pub fn find(volume: &'v NtfsVolume<'v>, path: &str) -> Result<Option<Self>, NtfsError> {
        let Some(entry) = volume.find(path)?.filter(|entry| !entry.is_directory) else {
            return Ok(None);
        };
        let file = volume.open_file(entry.record)?;
        let mut logs = Vec::new();
        // Logs may be long, and a hive that was closed needs none.
        let is_closed = Hive::open(&file).is_ok_and(|hive| hive.is_cleanly_closed());
        for ending in HIVE_LOGS.iter().filter(|_| !is_closed) {
            let log = volume.find(&format!("{path}{ending}"));
            let log = log.ok().flatten().filter(|entry| !entry.is_directory);
            let content = log
                .and_then(|entry| volume.open_file(entry.record).ok())
                .and_then(|file| file.read_all(MAX_LOG_BYTES).ok())
                .filter(|content| !content.is_empty());
            logs.extend(content.map(|content| (ending[1..].to_owned(), content)));
        }
        Ok(Some(Self { file, logs }))
    }

    /// The hive with its logs applied, if it needs them.
    pub fn recovered(&self) -> Result<Recovered<'_, NtfsFile<'v>>, LogError> {
        Recovered::open(&self.file, &self.logs)
    }

    /// Length of the file, which stays.
    pub fn len_bytes(&self) -> u64 {
        self.file.len_bytes()
    }
}
