//! `schwelle confirm`

use std::path::PathBuf;

use clap::Args;
use schwelle_core::confirm::{self, Answer};
use schwelle_core::job::{JobFolder, JobState};

use super::recover;
use crate::disk::Disk;
use crate::document;
use crate::error::{CliError, Kind};
use crate::machine::MachineOptions;
use crate::options::ImageOptions;
use crate::screen::Screen;
use crate::text::typed;
use crate::views;
use crate::views::confirm::Confirmed;
use crate::views::job::{CONFIRMATION, KeptConfirmation};
use crate::which;
use crate::words::here::here;

/// After the switch: find out whether Windows really started in UEFI mode
///
/// Weighs what a start leaves on the disk, shows what each piece of evidence is worth, and
/// looks whether drive letters, recovery and the EFI system partition are as they should be. Run it in Windows itself
/// once it has started, as administrator, without DISK; or from the rescue stick, after Windows has been started once
/// and shut down. Exit code 1 when the evidence says no; 0 when it says yes or proves nothing. Nothing is
/// written, but with --job the answer to the job folder.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle confirm\n  schwelle confirm {disk}\n  schwelle confirm --job \
        /media/stick/job-0815\n  schwelle confirm image.img --machine \
        pc.toml", disk = here().disk)
)]
pub(crate) struct ConfirmArgs {
    /// Image file or block device [default: the disk with the running Windows on it, or the job's]
    disk: Option<PathBuf>,
    /// The folder of the disk's job, which keeps the answer, for its record and the overview of jobs
    #[arg(long, value_name = "DIR")]
    job: Option<PathBuf>,
    #[command(flatten)]
    machine: MachineOptions,
    #[command(flatten)]
    image: ImageOptions,
}

impl ConfirmArgs {
    /// The confirmation of a disk in the PC in this file.
    pub(crate) fn of(disk: PathBuf, machine: PathBuf) -> Self {
        Self {
            disk: Some(disk),
            job: None,
            machine: MachineOptions::of(machine),
            image: ImageOptions::default(),
        }
    }
}

pub(crate) fn run(args: &ConfirmArgs, screen: &Screen) -> Result<u8, CliError> {
    let running = || {
        which::running().ok_or_else(|| {
            CliError::new(
                Kind::Usage,
                "no disk is named, and no Windows runs here from a disk of this PC",
                "A confirmation is about one disk.",
                "See which disks there are: schwelle survey",
            )
        })
    };
    let folder = args.job.as_deref().map(JobFolder::open).transpose();
    let folder = folder.map_err(|error| CliError::job_folder(&error))?;
    let path = match (&args.disk, &folder) {
        (Some(path), _) => path.clone(),
        (None, Some(folder)) => match folder.facts() {
            Some(facts) => recover::find(folder, facts)?,
            None => return Err(CliError::never_began(folder.path())),
        },
        (None, None) => running()?,
    };
    let disk = Disk::open(&path, &args.image)?;
    if let Some(folder) = &folder {
        refuse_other(folder, &disk)?;
    }
    let partitions = disk.profile.partitions.iter();
    let has_closed = partitions.filter(|part| part.is_closed()).count() > 0;
    if disk.profile.systems.is_empty() && !disk.profile.linux.is_empty() && !has_closed {
        return Err(CliError::new(
            Kind::Usage,
            format!("{}: there is no Windows on this disk", path.display()),
            "A confirmation weighs what a start of Windows leaves on the disk. A Linux leaves nothing of the kind.",
            "Look in that Linux, once it has started: in UEFI mode the folder /sys/firmware/efi is there",
        ));
    }
    let machine = disk.machine(args.machine.read()?.as_ref());
    let confirmation = confirm::confirm(&disk.device, &disk.profile, &machine);
    screen.show(&views::confirm::render(
        &disk,
        &confirmation,
        screen.columns(),
    ));
    let document = Confirmed::of(&disk, &confirmation);
    screen.document(&document);
    if let Some(folder) = &folder {
        keep(folder, document, screen);
    }
    Ok(u8::from(confirmation.answer == Answer::NotConfirmed))
}

/// Refuses a folder of another disk's job, and one whose job is not done: its answer would be about something else.
fn refuse_other(folder: &JobFolder, disk: &Disk) -> Result<(), CliError> {
    let (job, path) = (typed(folder.path()), disk.path.display());
    if folder.state().state != JobState::Done {
        return Err(CliError::new(
            Kind::Usage,
            format!("{}: this job is not done", folder.path().display()),
            "A confirmation is about a finished job. Nothing was written.",
            format!("See where it stands: schwelle report --jobs {job}"),
        ));
    }
    let is_about = folder.is_about(&disk.device);
    if is_about.map_err(|error| CliError::recovering(&disk.path, folder.path(), &error.into()))? {
        return Ok(());
    }
    Err(CliError::new(
        Kind::Usage,
        format!(
            "{path}: the job in {} is about another disk",
            folder.path().display()
        ),
        "Its folder keeps the answer about its own disk only. Nothing was written.",
        format!("Let the disk be found by its content: schwelle confirm --job {job}"),
    ))
}

/// Keeps the answer in the job folder. It has been given, so what goes wrong here is reported and stops nothing.
fn keep(folder: &JobFolder, confirmed: Confirmed, screen: &Screen) {
    let kept = KeptConfirmation {
        made: jiff::Timestamp::now().to_string(),
        confirmed,
    };
    let kept = folder.keep_document(CONFIRMATION, &document::pretty(&kept));
    match kept.and_then(|()| folder.sync()) {
        Ok(()) => screen.show("The answer is kept in the job folder.\n"),
        Err(error) => screen.warn(&format!("The answer is not in the job folder: {error}")),
    }
}
