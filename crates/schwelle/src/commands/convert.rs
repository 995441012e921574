//! `schwelle convert`

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::draft::Plan;
use schwelle_core::job::JobKind;

use crate::disk::{Disk, Inputs};
use crate::emulate::{EmulateOptions, Emulated, KEPT};
use crate::error::{CliError, Kind};
use crate::machine::MachineOptions;
use crate::options::{Accepted, DiskOptions, ToOptions};
use crate::policy::Policy;
use crate::screen::Screen;
use crate::text::typed;
use crate::views::{self, emulate::EmulatedDoc};
use crate::words::here::here;
use schwelle_core::pipeline::Judged;

use super::carry_out::{Job, Written, last_words};
use super::plan;

/// Convert a disk: check, draft, rehearse, ask, save, write, read back, rehearse again
///
/// Asks for the disk name, which is read from the disk itself, and whether there is a
/// backup; --yes answers both, and the job folder records it. A draft that fails its
/// rehearsal is never written.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle convert {disk} --job {stick}/job-0815\n  schwelle \
        convert image.img --job job --yes\n  schwelle convert {disk} --to mbr --job {stick}/back-0815", disk = here().disk, stick = here().stick)
)]
pub(crate) struct ConvertArgs {
    /// Image file or block device
    disk: PathBuf,
    /// New job folder: the plan, what is overwritten, the log. Not on the disk
    /// itself [default: a new one in the policy's job_root]
    #[arg(long, value_name = "DIR")]
    job: Option<PathBuf>,
    /// Answer the questions with yes, for scripts
    #[arg(long)]
    yes: bool,
    #[command(flatten)]
    accepted: Accepted,
    #[command(flatten)]
    given: DiskOptions,
    #[command(flatten)]
    to: ToOptions,
    #[command(flatten)]
    emulate: EmulateOptions,
}

impl ConvertArgs {
    /// The conversion of a disk without questions.
    pub(crate) fn of(disk: PathBuf, job: PathBuf) -> Self {
        Self {
            disk,
            job: Some(job),
            yes: true,
            accepted: Accepted::for_demo(),
            given: DiskOptions::default(),
            to: ToOptions::default(),
            emulate: EmulateOptions::default(),
        }
    }

    /// The same for a disk in the PC in this file.
    pub(crate) fn in_pc(mut self, machine: PathBuf) -> Self {
        self.given.machine = MachineOptions::of(machine);
        self
    }

    /// The same on the way back to MBR.
    pub(crate) fn back(self) -> Self {
        Self {
            to: ToOptions::back(),
            ..self
        }
    }

    /// The job's folder: the one named, or a new one where the policy has them made.
    fn folder(&self, disk: &Disk, policy: &Policy) -> Result<PathBuf, CliError> {
        if let Some(folder) = &self.job {
            return Ok(folder.clone());
        }
        let root = policy.job_root.as_ref().ok_or_else(|| {
            CliError::new(
                Kind::Usage,
                "no job folder is named, by --job or by a policy",
                "Nothing is written without a record of what is overwritten.",
                format!("schwelle convert {} --job DIR", typed(&self.disk)),
            )
        })?;
        let name = disk.profile.disk_name().unwrap_or_default();
        let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
        let name: String = name.chars().map(plain).collect();
        let now = jiff::Timestamp::now().strftime("%Y%m%d-%H%M%S");
        Ok(root.join(format!("{name}-{now}")))
    }
}

pub(crate) fn run(args: &ConvertArgs, screen: &Screen) -> Result<u8, CliError> {
    let machine = args.given.machine.read()?;
    let policy = args.given.policy.read()?;
    policy.may_answer(args.yes)?;
    let busy = screen.busy(format!("Looking at {}, and drafting", args.disk.display()));
    // Looked at read-only first: a disk that is blocked is never even opened for writing.
    let disk = Disk::open(&args.disk, &args.given.image)?.with(&args.given)?;
    let folder = args.folder(&disk, &policy)?;
    let inputs = Inputs {
        to: args.to.style_with(args.given.place)?,
        request: args.given.place.request(&policy)?,
        job: Some(&folder),
        backup_confirmed: args.yes,
        accepted: args.accepted.clone(),
        ..Inputs::of(machine.as_ref(), &policy)
    };
    Job::new(JobKind::Convert, &disk, &folder, args.yes, &inputs).refuse_unfinished()?;
    let judged = disk.judge(&inputs);
    if judged.is_blocked() {
        drop(busy);
        return Ok(blocked(&disk, &judged, screen));
    }
    drop(disk);
    // From here to the end the disk is locked, and everything is read again under the lock.
    let disk = Disk::open_for_writing(&args.disk, &args.given.image)?.with(&args.given)?;
    let judged = disk.judge(&inputs);
    if judged.is_blocked() {
        drop(busy);
        return Ok(blocked(&disk, &judged, screen));
    }
    let drafted = disk.draft(&judged)?;
    let (plan, rehearsal) = (drafted.plan(), drafted.rehearsal());
    drop(busy);
    screen.show(&views::plan::render(
        &disk,
        &judged,
        plan,
        rehearsal,
        screen.look(),
    ));
    let ready = drafted.ready();
    let emulated = match ready {
        Some(_) => emulate(args, &folder, &disk, plan, screen)?,
        None => None,
    };
    let is_good = emulated.as_ref().is_none_or(Emulated::is_good);
    let Some(ready) = ready.filter(|_| is_good) else {
        screen.show(&views::plan::verdict(&disk, rehearsal, is_good));
        let emulated = emulated.map(|emulated| EmulatedDoc::of(&emulated, &[]));
        screen.document(&views::json::Converted::not_started(
            &disk, rehearsal, emulated,
        ));
        return Ok(1);
    };
    let job = Job::new(JobKind::Convert, &disk, &folder, args.yes, &inputs);
    job.refuse_unready(plan)?;
    let reserved = job.confirm(plan, &judged.starts(), screen)?;
    // The record says what was answered, not that it was still to be asked.
    let judged = judged.confirmed();
    let kept: Vec<PathBuf> = KEPT.iter().map(|name| folder.join(name)).collect();
    let mut document = views::json::Plan::of(&disk, &judged, plan, rehearsal);
    document.emulated = emulated
        .as_ref()
        .map(|emulated| EmulatedDoc::of(emulated, &kept));
    let Written {
        rehearsal,
        warnings,
        job,
    } = job.write(ready, (reserved, &job.record(document)), screen)?;
    // The disk is done; what cannot be kept of the emulator's start does not change that.
    let kept = emulated.as_ref().map(|emulated| emulated.keep(&folder));
    let kept = kept.and_then(Result::ok).unwrap_or_default();
    screen.show(&views::plan::done(
        "Converted",
        &disk,
        &folder,
        plan,
        &rehearsal,
    ));
    let emulated = emulated.map(|emulated| EmulatedDoc::of(&emulated, &kept));
    screen.document(&views::json::Converted::of(
        &disk, &folder, &rehearsal, emulated,
    ));
    last_words(&job, &warnings, screen);
    Ok(u8::from(!rehearsal.passed()))
}

/// Starts the draft on real firmware, where that was asked for, before a byte is written. Who asked
/// for it wants it as a condition: without an emulator there is no conversion.
fn emulate(
    args: &ConvertArgs,
    job: &Path,
    disk: &Disk,
    plan: &Plan<'_>,
    screen: &Screen,
) -> Result<Option<Emulated>, CliError> {
    // A name alone lies in the folder that we are in.
    let beside = job
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

fn blocked(disk: &Disk, judged: &Judged<'_, '_>, screen: &Screen) -> u8 {
    screen.show(&views::check::render_blocked(disk, judged, screen.look()));
    screen.document(&views::json::Converted::blocked(disk, judged));
    1
}
