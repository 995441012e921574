//! `schwelle convert`

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::commit;
use schwelle_core::device::{BlockDevice, DiskFile, Lba, ReadDevice};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::Plan;
use schwelle_core::job::{JobFolder, JobState, unfinished_near};
use schwelle_core::rehearse::{self, Rehearsal};

use crate::cli::{ImageOptions, PlaceOptions};
use crate::disk::{Circumstances, Disk, Judgement};
use crate::emulate::{EmulateOptions, Emulated, KEPT};
use crate::error::{CliError, Kind};
use crate::machine::MachineOptions;
use crate::policy::PolicyOptions;
use crate::progress::Progress;
use crate::screen::Screen;
use crate::text;
use crate::views::{self, emulate::EmulatedDoc};

use super::plan;

/// Convert a disk: check, draft, rehearse, ask, save, write, read back, rehearse again
///
/// Asks for the disk's short name, which is read from the disk itself, and whether there is a
/// backup; --yes answers both, and the job folder records that it did. A draft that fails its
/// rehearsal is never written.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle convert /dev/sda --job /media/stick/job-0815\n  schwelle \
        convert image.img --job job --yes"
)]
pub(crate) struct ConvertArgs {
    /// Image file or block device
    disk: PathBuf,
    /// New folder for the job's record: the plan, what is overwritten, the log. Not on the disk
    /// itself
    #[arg(long, value_name = "DIR")]
    job: PathBuf,
    /// Answer the questions with yes (for scripts)
    #[arg(long)]
    yes: bool,
    #[command(flatten)]
    machine: MachineOptions,
    #[command(flatten)]
    policy: PolicyOptions,
    #[command(flatten)]
    image: ImageOptions,
    #[command(flatten)]
    place: PlaceOptions,
    #[command(flatten)]
    emulate: EmulateOptions,
}

impl ConvertArgs {
    /// The conversion of a disk without questions.
    pub(crate) fn of(disk: PathBuf, job: PathBuf) -> Self {
        Self {
            disk,
            job,
            yes: true,
            machine: MachineOptions::default(),
            policy: PolicyOptions::default(),
            image: ImageOptions::default(),
            place: PlaceOptions::default(),
            emulate: EmulateOptions::default(),
        }
    }
}

pub(crate) fn run(args: &ConvertArgs, screen: &Screen) -> Result<u8, CliError> {
    let machine = args.machine.read()?;
    let policy = args.policy.read()?;
    let circumstances = Circumstances {
        wish: args.place.wish(),
        job: Some(&args.job),
        backup_confirmed: args.yes,
        ..Circumstances::of(machine.as_ref(), &policy)
    };
    // Looked at read-only first: a disk that is blocked is never even opened for writing.
    let disk = Disk::open(&args.disk, args.image)?;
    refuse_unfinished(args, &disk)?;
    if let Some(code) = refuse_blocked(&disk, &disk.judge(&circumstances), screen) {
        return Ok(code);
    }
    drop(disk);
    // From here to the end the disk is locked, and everything is read again under the lock.
    let disk = Disk::open_for_writing(&args.disk, args.image)?;
    let judgement = disk.judge(&circumstances);
    if let Some(code) = refuse_blocked(&disk, &judgement, screen) {
        return Ok(code);
    }
    let plan = disk.draft(&judgement, &policy.types)?;
    let rehearsal = rehearse::walk_to(&plan.draft, plan.placement.disk_use);
    screen.show(&views::plan::render(
        &disk,
        &judgement,
        &plan,
        &rehearsal,
        screen.columns(),
    ));
    let emulated = match rehearsal.passed() {
        true => emulate(args, &disk, &plan, screen)?,
        false => None,
    };
    let is_good = emulated.as_ref().is_none_or(Emulated::is_good);
    if !rehearsal.passed() || !is_good {
        screen.show(&views::plan::verdict(&disk, &rehearsal, is_good));
        let emulated = emulated.map(|emulated| EmulatedDoc::of(&emulated, &[]));
        screen.document(&views::json::Converted::not_started(&rehearsal, emulated));
        return Ok(1);
    }
    confirm(args, &disk, screen)?;
    // The record says what was answered, not that it was still to be asked.
    let judgement = disk.judge(&Circumstances {
        backup_confirmed: true,
        ..circumstances
    });
    let kept: Vec<PathBuf> = KEPT.iter().map(|name| args.job.join(name)).collect();
    let mut document = views::json::Plan::of(&disk, &judgement, &plan, &rehearsal);
    document.emulated = emulated
        .as_ref()
        .map(|emulated| EmulatedDoc::of(emulated, &kept));
    let record = record(args, &disk, document);
    let rehearsal = write(args, &disk, &plan, &record, screen)?;
    // The disk is done; what cannot be kept of the emulator's start does not change that.
    let kept = emulated.as_ref().map(|emulated| emulated.keep(&args.job));
    let kept = kept.and_then(Result::ok).unwrap_or_default();
    screen.show(&views::plan::done(&args.disk, &args.job, &plan, &rehearsal));
    let emulated = emulated.map(|emulated| EmulatedDoc::of(&emulated, &kept));
    screen.document(&views::json::Converted::of(&args.job, &rehearsal, emulated));
    Ok(u8::from(!rehearsal.passed()))
}

/// Starts the draft on real firmware, where that was asked for, before a byte is written. Whoever asked
/// for it wants it as a condition: without an emulator the conversion does not go on.
fn emulate(
    args: &ConvertArgs,
    disk: &Disk,
    plan: &Plan<'_>,
    screen: &Screen,
) -> Result<Option<Emulated>, CliError> {
    // A name alone lies in the folder that we are in.
    let beside = args
        .job
        .parent()
        .map(|folder| match folder.as_os_str().is_empty() {
            true => Path::new("."),
            false => folder,
        });
    let beside = beside.filter(|folder| folder.is_dir());
    let emulated = plan::emulate(&args.emulate, disk, plan, beside, screen)?;
    match &emulated {
        Some(Emulated::Missing { what, install }) => Err(CliError::new(
            Kind::Unchanged,
            what,
            "The draft was to be started on real firmware before it is written. Nothing was written.",
            format!("{install} Or leave --emulate out: the walk stands by itself."),
        )),
        Some(ran) => {
            screen.show(&views::emulate::render(ran, &[], screen.columns()));
            Ok(emulated)
        }
        None => Ok(None),
    }
}

/// A disk with an unfinished job needs that job and no other; and a folder with a job in it takes
/// no second one.
fn refuse_unfinished(args: &ConvertArgs, disk: &Disk) -> Result<(), CliError> {
    let sector_0 = disk
        .device
        .read_sector(Lba(0))
        .map_err(|error| CliError::reading(&args.disk, error))?;
    if let Some(job) = unfinished_near(&args.job, disk.profile.geometry, &sector_0) {
        return Err(CliError::unfinished(&args.disk, &job));
    }
    let entries = args.job.read_dir();
    if entries.is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(crate::error::path_taken(args.job.clone()));
    }
    Ok(())
}

fn refuse_blocked(disk: &Disk, judgement: &Judgement, screen: &Screen) -> Option<u8> {
    if !judgement.is_blocked() {
        return None;
    }
    screen.show(&views::check::render_blocked(
        disk,
        judgement,
        screen.columns(),
    ));
    screen.document(&views::json::Converted::blocked(judgement));
    Some(1)
}

/// The two questions that only the technician can answer.
fn confirm(args: &ConvertArgs, disk: &Disk, screen: &Screen) -> Result<(), CliError> {
    if args.yes {
        return Ok(());
    }
    screen.show("\n");
    let not_confirmed = |what: &str| {
        CliError::new(
            Kind::Usage,
            what,
            "The disk is unchanged.",
            "When all is ready, the same command again; --yes answers for scripts.",
        )
    };
    let backup =
        screen.ask("Is there a backup of the customer's data that can be restored? (yes/no)");
    if backup.as_deref() != Some("yes") {
        return Err(not_confirmed("no backup was confirmed"));
    }
    let name = disk.profile.short_name().unwrap_or_default();
    let question = format!(
        "To convert this disk, type its short name ({}):",
        text::safe(&name)
    );
    match screen.ask(&question) {
        Some(typed) if typed.eq_ignore_ascii_case(&name) => Ok(()),
        _ => Err(not_confirmed(
            "the name typed is not this disk's short name",
        )),
    }
}

/// What `job.json` says: the plan, and how the questions were answered.
fn record(args: &ConvertArgs, disk: &Disk, plan: views::json::Plan) -> String {
    let record = views::json::JobRecord {
        made_by: concat!("schwelle ", env!("CARGO_PKG_VERSION")).to_owned(),
        started: jiff::Timestamp::now().to_string(),
        disk: args.disk.display().to_string(),
        serial: disk.profile.host.serial.clone(),
        answered_by: if args.yes { "--yes" } else { "the technician" }.to_owned(),
        plan,
    };
    serde_json::to_string_pretty(&record).expect("documents hold only text, numbers and lists")
}

/// Saves, writes, reads back, rehearses the real disk.
fn write(
    args: &ConvertArgs,
    disk: &Disk,
    plan: &Plan<'_>,
    record: &str,
    screen: &Screen,
) -> Result<Rehearsal, CliError> {
    let untouched = |error| CliError::job(&error);
    let mut job = JobFolder::create(&args.job, record).map_err(untouched)?;
    let (device, drafts): (&dyn BlockDevice, _) = (&disk.device, plan.drafts());
    job.save(&disk.device, drafts, &plan.changes, plan.relied_on.clone())
        .map_err(untouched)?;
    let mut progress = Progress::new(screen, &args.job);
    progress.catch_stops();
    let committed = commit::apply(drafts, &plan.changes, device, &mut job, &mut progress)
        .and_then(|()| commit::verify(drafts, &plan.changes, &disk.device, &mut progress));
    drop(progress);
    if let Err(error) = committed {
        if error.is_untouched() {
            // Nothing to finish and nothing to take back: the job is no obstacle to the next one.
            job.set_state(JobState::Undone).ok();
        }
        // What the screen says matters now; the log is told as well, if it can be.
        job.log(&format!("{} {error}", jiff::Timestamp::now())).ok();
        return Err(CliError::commit(&args.disk, &args.job, &error));
    }
    read_table_again(&disk.device, screen);
    let rehearsal = rehearse::walk_to(&disk.device, plan.placement.disk_use);
    job.set_state(JobState::Done)
        .map_err(|error| CliError::record(&args.job, &error))?;
    say_outcome(&mut job, &rehearsal);
    Ok(rehearsal)
}

/// Tells the log how the finished disk's rehearsal went. The state file counts; a log that cannot
/// be written stops nothing.
pub(crate) fn say_outcome(job: &mut JobFolder, rehearsal: &Rehearsal) {
    let outcome = outcome(rehearsal);
    let now = jiff::Timestamp::now();
    job.log(&format!("{now} done; the disk's rehearsal: {outcome}"))
        .ok();
}

/// Asks the kernel to read the table of a real disk again. An image has nobody to ask.
pub(crate) fn read_table_again(disk: &DiskFile, screen: &Screen) {
    if !disk.is_block_device() {
        return;
    }
    if let Err(error) = schwelle_kernel::read_partitions_again(disk.file())
        // "Invalid": a device on which this kernel shows no partitions, so it has read no old table.
        && error.kind() != std::io::ErrorKind::InvalidInput
    {
        screen.show(&format!(
            "The kernel has not read the new table ({error}): unplug the disk and connect it \
             again, or restart, before its partitions are used here.\n"
        ));
    }
}

fn outcome(rehearsal: &Rehearsal) -> &'static str {
    match (rehearsal.disk_use, rehearsal.passed()) {
        (DiskUse::System, true) => "starts",
        (DiskUse::System, false) => "does not start",
        (DiskUse::Data, true) => "its volumes are sound",
        (DiskUse::Data, false) => "not sound",
    }
}
