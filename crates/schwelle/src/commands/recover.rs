//! What `resume` and `undo` have in common: the job folder, and the disk it is about.

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::device::{DiskFile, Geometry, Lba, OpenError, ReadDevice};
use schwelle_core::host::{self, this_pc};
use schwelle_core::job::{
    DiskState, FactKind, FolderProof, JobFacts, JobFolder, OtherFact, RecoverError, Recovery,
    RecoveryFailed, Unproven, disk_state,
};

use crate::disk::{Disk, refuse_busy, refuse_users};
use crate::error::{CliError, Kind};
use crate::options::WritingHere;
use crate::screen::Screen;
use crate::text::{safe, typed};
use crate::unlock::UnlockOptions;
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
    /// The folder's name, for a folder that the disk does not prove to be its own: that it has been
    /// in your hands since the job was begun
    #[arg(long, value_name = "NAME")]
    folder_name: Option<String>,
    /// The serial number, or the computer's name, of the job's disk, if this disk is a copy of it, or has got another
    /// name since, and does not prove the folder to be its own
    #[arg(long, value_name = "SERIAL")]
    copy_of: Option<String>,
    #[command(flatten)]
    unlock: UnlockOptions,
    #[command(flatten)]
    here: WritingHere,
}

/// A job with its disk, opened for writing and locked.
pub(crate) struct OpenedJob {
    pub(crate) folder: JobFolder,
    pub(crate) disk: Disk,
    /// What the job is.
    pub(crate) facts: JobFacts,
}

impl JobOptions {
    /// Opens the folder and finds the disk.
    pub(crate) fn open(&self) -> Result<OpenedJob, CliError> {
        let folder = JobFolder::open(&self.job).map_err(|error| CliError::job_folder(&error))?;
        let Some(facts) = folder.facts().cloned() else {
            return Err(CliError::never_began(&self.job));
        };
        let path = match &self.disk {
            Some(path) => which::resolve(path)?.path,
            None => find(&folder, &facts)?,
        };
        self.here.refuse(&path, is_real(&path))?;
        let sector = folder.journal().map(|journal| journal.sector_bytes);
        let disk = Disk::look_at(&path, open(&path, sector, true)?, &self.unlock)?;
        refuse_users(&path, &disk.profile.host)?;
        refuse_busy(&disk)?;
        Ok(OpenedJob {
            folder,
            disk,
            facts,
        })
    }

    /// The folder's name as the technician vouches for it by; `None` if the disk proves the folder.
    ///
    /// # Errors
    ///
    /// The disk does not prove the folder, and its name was not given.
    pub(crate) fn vouch(
        &self,
        job: &Recovery<'_>,
        disk: &Disk,
        screen: &Screen,
    ) -> Result<Option<String>, CliError> {
        let name = job.job().name();
        let refused = |what: String, next: String| {
            let why = "Nothing was written.";
            Err(CliError::new(Kind::Usage, what, why, next))
        };
        // As it is shown, or as a shell completes it, too.
        let is_its = |given: &str| {
            let last = Path::new(given).file_name();
            given == name
                || given == safe(&name)
                || last.is_some_and(|last| last.to_string_lossy() == name)
        };
        let folder = self.job.display();
        if let Some(given) = self.folder_name.as_ref().filter(|given| !is_its(given)) {
            return refused(
                format!("{folder}: this folder is called {name}, and not {given}"),
                "See where each job stands: schwelle report --jobs DIR".to_owned(),
            );
        }
        let why = match job.proof() {
            FolderProof::Proven => return Ok(None),
            FolderProof::Unproven(why) => why,
        };
        self.refuse_other_disk(job.job(), disk)?;
        let typed_name = match &self.folder_name {
            Some(given) => Some(given.clone()),
            None => screen.ask(&format!(
                "{} If it has been in your hands since the job was begun, type its name ({}):",
                unproven(why),
                safe(&name)
            )),
        };
        match typed_name.filter(|typed| is_its(typed)) {
            Some(_) => Ok(Some(name)),
            None => refused(
                format!("{folder}: the disk does not prove that this job folder is its own"),
                format!(
                    "If it has been in your hands since the job was begun, repeat the command with --folder-name {}",
                    typed(Path::new(&name))
                ),
            ),
        }
    }
}

impl JobOptions {
    /// Refuses a disk that differs in its serial number or its computer's name from the job's, if it does not prove the
    /// folder: disks of a series look alike. A copy of the job's disk is named by `--copy-of`.
    fn refuse_other_disk(&self, folder: &JobFolder, disk: &Disk) -> Result<(), CliError> {
        let host = &disk.profile.host;
        let computer = disk.profile.computer_name();
        let facts = folder.facts();
        let other =
            facts.and_then(|facts| facts.other(host.serial.as_deref(), computer.as_deref()));
        let Some(OtherFact {
            kind,
            of_job,
            of_disk,
        }) = other
        else {
            return Ok(());
        };
        if self.copy_of.as_ref() == Some(&of_job) {
            return Ok(());
        }
        let kind = match kind {
            FactKind::Serial => "serial number",
            FactKind::Computer => "computer name",
        };
        let path = disk.path.display();
        Err(CliError::new(
            Kind::Blocked,
            format!(
                "{path}: its {kind} is {}, and that of the job's disk is {}",
                safe(&of_disk),
                safe(&of_job)
            ),
            "The disk does not prove that this job folder is its own, and may be another one of the same kind. Nothing \
             was written.",
            format!(
                "If it is a copy of the job's disk, or the name has changed, repeat the command with --copy-of {}",
                typed(Path::new(&of_job))
            ),
        ))
    }
}

/// Why the disk does not prove a folder.
fn unproven(why: Unproven) -> &'static str {
    match why {
        Unproven::NotThere => {
            "The disk does not hold this job's hash (not yet, or not any more), so it cannot tell whether the job \
             folder was changed."
        }
        Unproven::LeavesNone => {
            "This job leaves no hash on the disk, so the disk cannot tell whether the job folder was changed."
        }
        Unproven::OfAnotherJob => "The disk holds the hash of another job's folder.",
        Unproven::CutEdits => {
            "The disk proves this job folder, but not the edits of an earlier undo in it, which was stopped."
        }
    }
}

/// The line about physical sectors that the power failure has torn.
pub(super) fn torn(torn: &[Lba]) -> String {
    let torn: Vec<String> = torn.iter().map(Lba::to_string).collect();
    match &torn[..] {
        [] => String::new(),
        _ => format!(
            "Torn by the power failure, and repaired first: the physical sector at {}\n",
            torn.join(", at ")
        ),
    }
}

/// Puts a failure into the job's log, if it can be written: what the screen says matters now.
pub(super) fn log_failure(job: &Path, failure: &RecoveryFailed) {
    let Ok(mut folder) = JobFolder::open(job) else {
        return;
    };
    let now = jiff::Timestamp::now();
    let _written = folder.log(&format!("{now} {failure}"));
}

/// True for a real disk, false for an image.
fn is_real(path: &Path) -> bool {
    this_pc()
        .kind(path)
        .is_ok_and(|kind| kind == host::Kind::Disk)
}

/// Opens an image with the job's sector size, or a disk with its own.
fn open(path: &Path, sector: Option<u32>, write: bool) -> Result<DiskFile, OpenError> {
    let sector = sector.filter(|_| !is_real(path));
    if write {
        DiskFile::open_write(path, sector)
    } else {
        DiskFile::open_read(path, sector)
    }
}

/// A disk that may be the job's, and the state that it is in.
fn candidate(folder: &JobFolder, path: &Path) -> String {
    let sector = folder.journal().map(|journal| journal.sector_bytes);
    let facts = this_pc().facts(path, is_real(path));
    let state = match open(path, sector, false) {
        Ok(device) => match disk_state(folder, &device) {
            Ok(DiskState::Old) => "as before the job".to_owned(),
            Ok(DiskState::New) => "as after the job".to_owned(),
            Ok(DiskState::Between) => "written in part".to_owned(),
            Ok(DiskState::Changed) | Err(RecoverError::Differs { .. }) => {
                "changed since by something else".to_owned()
            }
            Err(error) => format!("cannot be compared with the job: {error}"),
        },
        Err(error) => format!("cannot be opened: {error}"),
    };
    format!("{} ({state})", which::described(path, &facts))
}

/// True if a disk has the size that the job's disk has, so that it may be that one although it cannot be read.
fn has_size_of(folder: &JobFolder, geometry: Geometry) -> bool {
    folder.journal().is_some_and(|journal| {
        (journal.sector_bytes, journal.sectors) == (geometry.logical_sector, geometry.sectors)
    })
}

/// Finds the job's disk by its content: at its old name, or else among this PC's disks. A name
/// alone is never believed, since names change from start to start.
pub(super) fn find(folder: &JobFolder, facts: &JobFacts) -> Result<PathBuf, CliError> {
    let (old_name, serial) = (&facts.disk, facts.serial.as_deref());
    let mut candidates: Vec<PathBuf> = vec![old_name.clone()];
    candidates.extend(this_pc().disks());
    candidates.dedup();
    let sector = folder.journal().map(|journal| journal.sector_bytes);
    let mut found: Vec<PathBuf> = Vec::new();
    let again = format!("--job {} --disk DISK", typed(folder.path()));
    for path in candidates {
        let device = match open(&path, sector, false) {
            Ok(device) => device,
            // It may be the job's disk: what uses it must let it go first.
            Err(error @ OpenError::InUse { .. }) if *old_name == path => {
                return Err(error.into());
            }
            Err(_) => continue,
        };
        if found.contains(&path) {
            continue;
        }
        match folder.is_about(&device) {
            Ok(true) => found.push(path),
            Ok(false) => {}
            Err(RecoverError::Job(error)) => return Err(CliError::job_folder(&error)),
            // A disk of another size is another disk, whatever cannot be read on it.
            Err(_) if !has_size_of(folder, device.geometry()) => {}
            Err(error) => {
                return Err(CliError::new(
                    Kind::Unchanged,
                    format!(
                        "{}: whether this is the job's disk cannot be told: {error}",
                        path.display()
                    ),
                    "It has the size of the job's disk. Nothing was written.",
                    format!(
                        "Repeat the command; try another port or cable. If another disk is meant, name it: {again}"
                    ),
                ));
            }
        }
    }
    if found.len() > 1 && serial.is_some() {
        // A clone has the same content, but it is another drive.
        let same = |path: &PathBuf| this_pc().facts(path, true).serial.as_deref() == serial;
        let with_serial: Vec<PathBuf> = found.iter().filter(|path| same(path)).cloned().collect();
        if with_serial.len() == 1 {
            found = with_serial;
        }
    }
    match &found[..] {
        [only] => Ok(only.clone()),
        [] => {
            let was = old_name.display();
            Err(CliError::new(
                Kind::Unchanged,
                format!("the job's disk was not found; it was {was}"),
                "Nothing was written. The disk is recognised by its size and its sector 0.",
                format!("Connect it; or repeat the command with: {again}"),
            ))
        }
        several => {
            let each: Vec<String> = several.iter().map(|path| candidate(folder, path)).collect();
            Err(CliError::new(
                Kind::Unchanged,
                format!("several disks match: {}", each.join("; ")),
                "One is a copy of the other. Nothing was written.",
                format!(
                    "Name the right one by its serial number, and repeat the command with: {again}"
                ),
            ))
        }
    }
}
