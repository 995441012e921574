//! A job's folder before the job begins.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::facts::JobFacts;
use super::storage::Directory;
use super::{JobError, JobFolder};

/// An empty folder that is held for a job, from before the technician is asked until the job begins: what is written
/// then goes to the medium that was there at the questions, or nowhere.
#[derive(Debug)]
pub struct ReservedFolder {
    path: PathBuf,
    storage: Directory,
    /// It was made for this job.
    is_new: bool,
}

impl ReservedFolder {
    /// Makes the folder, or takes an empty one.
    ///
    /// # Errors
    ///
    /// It cannot be made, is a link, or is not empty.
    pub fn new(path: &Path) -> Result<Self, JobError> {
        let is_new = fs::symlink_metadata(path).is_err();
        let made = Directory::make(path).map_err(|source| JobError::Io {
            path: path.to_owned(),
            source,
        })?;
        let storage = made.ok_or_else(|| JobError::NotEmpty {
            path: path.to_owned(),
        })?;
        Ok(Self {
            path: path.to_owned(),
            storage,
            is_new,
        })
    }

    /// Begins a job in it. `plan` is a document for the report.
    ///
    /// # Errors
    ///
    /// The path leads elsewhere now, since the medium was taken away or replaced; or the folder cannot be written.
    pub fn begin(self, job: JobFacts, plan: &str) -> Result<JobFolder, JobError> {
        let failed = |source| JobError::Io {
            path: self.path.clone(),
            source,
        };
        if !self.storage.is_at(&self.path).map_err(failed)? {
            return Err(failed(io::Error::other(
                "another medium is there now than when the questions were asked",
            )));
        }
        JobFolder::create_in(Arc::new(self.storage), &self.path, job, plan)
    }

    /// Gives the folder back: one that was made for this job is removed.
    pub fn give_back(self) {
        let Self {
            path,
            storage,
            is_new,
        } = self;
        // Windows removes no folder that is held.
        drop(storage);
        if is_new {
            // One that is not empty any more stays.
            let _removed = fs::remove_dir(path);
        }
    }
}

impl JobFolder {
    /// Makes the folder, or takes an empty one, and begins this job. `plan` is a document for the report.
    pub fn create(path: &Path, job: JobFacts, plan: &str) -> Result<Self, JobError> {
        ReservedFolder::new(path)?.begin(job, plan)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk_use::DiskUse;
    use crate::identities::Style;
    use crate::job::JobKind;

    #[test]
    fn a_folder_that_is_replaced_while_it_is_reserved_begins_no_job() {
        let facts = || JobFacts {
            kind: JobKind::Convert,
            to: Style::Gpt,
            disk_use: DiskUse::System,
            disk: "disk".into(),
            serial: None,
            computer: None,
        };
        let stick = tempfile::tempdir().unwrap();
        let (path, away) = (stick.path().join("job"), stick.path().join("away"));
        let reserved = ReservedFolder::new(&path).unwrap();
        fs::rename(&path, &away).unwrap();
        // As a mount point is left when a stick is taken out.
        fs::create_dir(&path).unwrap();
        let error = reserved.begin(facts(), "{}").unwrap_err().to_string();
        assert!(error.contains("another medium"), "{error}");
        assert_eq!(fs::read_dir(&path).unwrap().count(), 0);

        let reserved = ReservedFolder::new(&path).unwrap();
        reserved.give_back();
        assert!(path.exists(), "it was there before");
        fs::remove_dir(&path).unwrap();
        ReservedFolder::new(&path).unwrap().give_back();
        assert!(!path.exists(), "it was made for the job");
        ReservedFolder::new(&path)
            .unwrap()
            .begin(facts(), "{}")
            .unwrap();
        assert!(matches!(
            ReservedFolder::new(&path),
            Err(JobError::NotEmpty { .. })
        ));
    }
}
