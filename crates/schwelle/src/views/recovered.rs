//! What `resume` and `undo` answer, as JSON.

use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::draft::RestoredNames;
use schwelle_core::job::{FolderProof, JobEnd};
use schwelle_core::rehearse::Rehearsal;
use serde::Serialize;

use super::json::{EditedFileDoc, NotRestoredNames, Rehearsed};
use super::worded::Worded;
use crate::disk::Disk;
use crate::words;

/// `resume` and `undo`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Recovered {
    /// "converted" or "mended" (`resume`), "undone" (`undo`)
    pub(crate) answer: JobEnd,
    /// The disk that was found
    pub(crate) disk: String,
    pub(crate) job: String,
    /// The disk holds the hash of this job folder. False where the technician vouched for it, or nothing had to
    /// be written
    pub(crate) folder_is_proven: bool,
    /// `undo`: every sector that matters is as it was. False where a volume had been used since and stays
    /// as it is
    pub(crate) exact: Option<bool>,
    /// `undo`: files updated on volumes used since, which name the old table's partitions again
    pub(crate) files_updated: Vec<EditedFileDoc>,
    /// `undo`: systems on such volumes whose files are not updated
    pub(crate) systems_not_updated: Vec<NotRestoredNames>,
    /// `resume`: the rehearsal of the disk
    pub(crate) rehearsal: Option<Rehearsed>,
}

impl Recovered {
    pub(crate) fn resumed(
        disk: &Disk,
        (job, proof): (&Path, FolderProof),
        done: JobEnd,
        rehearsal: &Rehearsal,
    ) -> Self {
        Self {
            answer: done,
            disk: disk.path.display().to_string(),
            job: job.display().to_string(),
            folder_is_proven: proof == FolderProof::Proven,
            exact: None,
            files_updated: Vec::new(),
            systems_not_updated: Vec::new(),
            rehearsal: Some(Rehearsed::of(disk, rehearsal)),
        }
    }

    pub(crate) fn undone(
        disk: &Path,
        (job, proof): (&Path, FolderProof),
        exact: bool,
        named: Option<&RestoredNames>,
    ) -> Self {
        let files = named.map_or(&[][..], |named| &named.files);
        let left = named.map_or(&[][..], |named| &named.left).iter();
        Self {
            answer: JobEnd::Undone,
            disk: disk.display().to_string(),
            job: job.display().to_string(),
            folder_is_proven: proof == FolderProof::Proven,
            exact: Some(exact),
            files_updated: files.iter().map(EditedFileDoc::of).collect(),
            systems_not_updated: left
                .map(|left| NotRestoredNames {
                    partition: left.partition,
                    why: Worded::of(left.why.clone(), words::plan::not_updated),
                })
                .collect(),
            rehearsal: None,
        }
    }
}
