//! What `resume` and `undo` have in common: the job folder, and the disk it is about.

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::crossing::Style;
use schwelle_core::device::{self, DiskFile, OpenError};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::job::recover::{self, Standing};
use schwelle_core::job::{JobFolder, JobState, Repaired};

use crate::disk::{Disk, refuse_busy, refuse_users};
use crate::error::{CliError, Kind};
use crate::text::typed;
use crate::which;

/// Which job, and on which disk.
#[derive(Debug, Args)]
pub(crate) struct JobOptions {
    /// The job's folder
    #[arg(long, value_name = "DIR")]
    pub(crate) job: PathBuf,
    /// The disk or image, where it is not to be looked for [default: found by its content, first
    /// at its old name]
    #[arg(long, value_name = "DISK")]
    disk: Option<PathBuf>,
}

/// A job with its disk, opened for writing and locked.
pub(crate) struct Recovery {
    pub(crate) folder: JobFolder,
    pub(crate) disk: Disk,
}

impl Recovery {
    /// What the disk is for, as the job's record says.
    pub(crate) fn disk_use(&self) -> DiskUse {
        let record = self.folder.record().ok();
        let told = record.map(|record| record["plan"]["disk_use"].clone());
        let told = told.and_then(|told| serde_json::from_value(told).ok());
        told.unwrap_or_default()
    }

    /// The table that the job makes, as its record says.
    pub(crate) fn style(&self) -> Style {
        let record = self.folder.record().ok();
        let told = record.map(|record| record["plan"]["to"] == Style::Mbr.name());
        match told {
            Some(true) => Style::Mbr,
            _ => Style::Gpt,
        }
    }

    /// The job mends a disk, and does not convert it.
    pub(crate) fn is_mending(&self) -> bool {
        let record = self.folder.record().ok();
        let mended = record.and_then(|record| Some(record["plan"]["mended"].as_array()?.len()));
        mended.is_some_and(|mended| mended > 0)
    }
}

impl JobOptions {
    /// Opens the folder and finds the disk.
    pub(crate) fn open(&self) -> Result<Recovery, CliError> {
        let folder = JobFolder::open(&self.job).map_err(|error| CliError::job_folder(&error))?;
        if folder.state().state == JobState::Saving {
            return Err(CliError::never_began(&self.job));
        }
        let path = match &self.disk {
            Some(path) => which::resolve(path)?.path,
            None => find(&folder)?,
        };
        let sector = folder.journal().map(|journal| journal.sector_bytes);
        let disk = Disk::look_at(&path, open(&path, sector, true)?)?;
        refuse_users(&path, &disk.profile.host)?;
        refuse_busy(&disk)?;
        Ok(Recovery { folder, disk })
    }
}

/// What is said of physical sectors that the power cut has torn.
pub(super) fn torn(repaired: &Repaired<'_>) -> String {
    let torn: Vec<String> = repaired.torn().map(|lba| lba.to_string()).collect();
    match &torn[..] {
        [] => String::new(),
        _ => format!(
            "Torn by the power cut, and repaired first: the physical sector at {}\n",
            torn.join(", at ")
        ),
    }
}

/// Opens an image with the job's sector size, or a disk with its own.
fn open(path: &Path, sector: Option<u32>, write: bool) -> Result<DiskFile, OpenError> {
    let is_image = std::fs::metadata(path).is_ok_and(|found| found.is_file());
    let sector = sector.filter(|_| is_image);
    if write {
        DiskFile::open_write(path, sector)
    } else {
        DiskFile::open_read(path, sector)
    }
}

/// A disk that may be the job's, and the state that it is in.
fn candidate(folder: &JobFolder, path: &Path) -> String {
    let sector = folder.journal().map(|journal| journal.sector_bytes);
    let is_device = !path.is_file();
    let facts = device::host_facts(Path::new("/"), path, is_device);
    let state = match open(path, sector, false) {
        Ok(device) => match recover::standing(folder, &device) {
            Ok(Standing::Old) => "as before the job",
            Ok(Standing::New) => "as after the job",
            Ok(Standing::Between) => "written in part",
            Ok(Standing::Changed) | Err(_) => "changed since by something else",
        },
        Err(_) => "cannot be read",
    };
    format!("{} ({state})", which::told(path, &facts))
}

/// Finds the job's disk by its content: at its old name, or else among this PC's disks. A name
/// alone is never believed, since names change from start to start.
fn find(folder: &JobFolder) -> Result<PathBuf, CliError> {
    let record = folder
        .record()
        .map_err(|error| CliError::job_folder(&error))?;
    let old_name = record["disk"].as_str().map(PathBuf::from);
    let serial = record["serial"].as_str();
    let root = Path::new("/");
    let mut candidates: Vec<PathBuf> = old_name.iter().cloned().collect();
    candidates.extend(device::disk_names(root));
    candidates.dedup();
    let sector = folder.journal().map(|journal| journal.sector_bytes);
    let mut found: Vec<PathBuf> = Vec::new();
    for path in candidates {
        let device = match open(&path, sector, false) {
            Ok(device) => device,
            // It may be the one: whoever has it must let it go first.
            Err(error @ OpenError::InUse { .. }) if old_name.as_ref() == Some(&path) => {
                return Err(error.into());
            }
            Err(_) => continue,
        };
        if !found.contains(&path) && folder.is_about(&device) {
            found.push(path);
        }
    }
    if found.len() > 1 && serial.is_some() {
        // A clone has the same content, but it is another drive.
        let same =
            |path: &PathBuf| device::host_facts(root, path, true).serial.as_deref() == serial;
        let with_serial: Vec<PathBuf> = found.iter().filter(|path| same(path)).cloned().collect();
        if with_serial.len() == 1 {
            found = with_serial;
        }
    }
    let again = format!("--job {} --disk DISK", typed(folder.path()));
    match &found[..] {
        [only] => Ok(only.clone()),
        [] => {
            let was =
                old_name.map_or_else(String::new, |path| format!(", once {}", path.display()));
            Err(CliError::new(
                Kind::Unchanged,
                format!("no disk here is the one that the job is about{was}"),
                "Nothing was written. The disk is told by its size and its sector 0.",
                format!("Connect it; or name it, with the same command and: {again}"),
            ))
        }
        several => {
            let each: Vec<String> = several.iter().map(|path| candidate(folder, path)).collect();
            Err(CliError::new(
                Kind::Unchanged,
                format!("several disks may be the one: {}", each.join("; ")),
                "One is a copy of the other. Nothing was written.",
                format!(
                    "Name the right one, by its serial number, with the same command and: {again}"
                ),
            ))
        }
    }
}
