//! `schwelle mend`

use std::path::PathBuf;

use clap::Args;
use schwelle_core::job::JobKind;
use schwelle_core::mend::MendError;
use schwelle_core::pipeline::{MendedDraft, Mending};
use schwelle_core::placement::EspRequest;

use crate::disk::{Disk, Inputs};
use crate::error::{CliError, Kind};
use crate::options::{Accepted, DiskOptions};
use crate::screen::{Look, Screen};
use crate::views::{self, mend::Mended};
use crate::words::here::here;

use super::carry_out::{Job, Written, last_words};

/// Fix a GPT disk that does not start
///
/// The rehearsal finds the step at which a start ends. What that step needs is drafted, and the draft is
/// rehearsed: a protective MBR, a damaged copy of the table, a backup table that is not at the end, a
/// missing EFI system partition or one with another type, boot files and a BCD store that are missing or
/// name another disk. Without --job the plan is shown and nothing is written. With --data-disk, only the
/// table is fixed.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle mend {disk}\n  schwelle mend {disk} --job \
        {stick}/job-0815\n  schwelle mend copy.img --data-disk --job job --yes", disk = here().disk, stick = here().stick)
)]
pub(crate) struct MendArgs {
    /// Image file or block device
    disk: PathBuf,
    /// New job folder: the plan, what is overwritten, the log. Not on the disk itself
    #[arg(long, value_name = "DIR")]
    job: Option<PathBuf>,
    /// Answer the questions with yes, for scripts
    #[arg(long, requires = "job")]
    yes: bool,
    #[command(flatten)]
    accepted: Accepted,
    #[command(flatten)]
    given: DiskOptions,
    /// Format an EFI system partition although it holds something that is not recognised: the disk's name, since
    /// that content is lost
    #[arg(long, value_name = "NAME")]
    format_esp: Option<String>,
    /// Show the plan in full: each part of a stage, each edit, each step
    #[arg(long)]
    all: bool,
}

impl MendArgs {
    /// Mending a disk without questions, with everything else at its default.
    pub(crate) fn of(disk: PathBuf, job: PathBuf) -> Self {
        Self {
            disk,
            job: Some(job),
            yes: true,
            accepted: Accepted::for_demo(),
            given: DiskOptions::default(),
            format_esp: None,
            all: false,
        }
    }

    /// True if the named disk's EFI system partition may be formatted whatever it holds.
    ///
    /// # Errors
    ///
    /// Another disk is named.
    fn may_format(&self, disk: &Disk) -> Result<bool, CliError> {
        let Some(given) = &self.format_esp else {
            return Ok(false);
        };
        let name = disk.profile.disk_name().unwrap_or_default();
        if given.eq_ignore_ascii_case(&name) {
            return Ok(true);
        }
        Err(CliError::new(
            Kind::Usage,
            format!(
                "{}: this disk is called {name}, and not {given}",
                disk.path.display()
            ),
            "What an EFI system partition holds is given up by the name of its disk. Nothing was written.",
            "See which disks there are: schwelle survey",
        ))
    }
}

pub(crate) fn run(args: &MendArgs, screen: &Screen) -> Result<u8, CliError> {
    let look = Look {
        all: args.all,
        ..screen.look()
    };
    let machine = args.given.machine.read()?;
    let policy = args.given.policy.read()?;
    policy.may_answer(args.yes)?;
    // As with a conversion: looked at read-only first, and again under the lock.
    let disk = Disk::open(&args.disk, &args.given.image)?.with(&args.given)?;
    let inputs = Inputs {
        request: EspRequest {
            format_unknown: args.may_format(&disk)?,
            ..args.given.place.request(&policy)?
        },
        job: args.job.as_deref(),
        backup_confirmed: args.yes,
        accepted: args.accepted.clone(),
        ..Inputs::of(machine.as_ref(), &policy)
    };
    let Some(folder) = &args.job else {
        return match planned(&disk, &inputs, screen)? {
            Err(code) => Ok(code),
            Ok(mended) => {
                let rehearsal = mended.rehearsed.rehearsal();
                screen.show(&views::mend::render(&disk, &mended, look));
                screen.show(&views::mend::verdict(&disk, rehearsal));
                screen.document(&Mended::planned(document(&disk, &mended)));
                Ok(0)
            }
        };
    };
    Job::new(JobKind::Mend, &disk, folder, args.yes, &inputs).refuse_unfinished()?;
    if let Err(code) = planned(&disk, &inputs, screen)? {
        return Ok(code);
    }
    drop(disk);
    let disk = Disk::open_for_writing(&args.disk, &args.given.image)?.with(&args.given)?;
    let mended = match planned(&disk, &inputs, screen)? {
        Err(code) => return Ok(code),
        Ok(mended) => mended,
    };
    screen.show(&views::mend::render(&disk, &mended, look));
    let plan = mended.rehearsed.plan();
    let job = Job::new(JobKind::Mend, &disk, folder, args.yes, &inputs);
    job.refuse_unready(plan)?;
    let reserved = job.confirm(plan, &[], screen)?;
    let mended = MendedDraft {
        judged: mended.judged.confirmed(),
        ..mended
    };
    let record = job.record(document(&disk, &mended));
    // The planning went on until nothing failed.
    let ready = mended.rehearsed.ready();
    let ready = ready.ok_or_else(|| disk.not_mended(MendError::NotPassed))?;
    let Written {
        rehearsal,
        warnings,
        job,
    } = job.write(ready, (reserved, &record), screen)?;
    let plan = ready.plan();
    screen.show(&views::mend::done(&disk, folder, plan, &rehearsal));
    screen.document(&Mended::done(&disk, &mended.fixes, folder, &rehearsal));
    last_words(&job, &warnings, screen);
    Ok(u8::from(!rehearsal.passed()))
}

/// Plans, judges and rehearses; the exit code where there is nothing to do, or a rule blocks.
fn planned<'a>(
    disk: &'a Disk,
    inputs: &Inputs<'a>,
    screen: &Screen,
) -> Result<Result<MendedDraft<'a, 'a>, u8>, CliError> {
    let busy = screen.busy(format!("Looking at {}, and drafting", disk.path.display()));
    let planned = disk.mend(inputs)?;
    let rehearsed = planned.map(Mending::rehearse);
    drop(busy);
    match rehearsed {
        None => {
            screen.show(&views::mend::nothing(disk, inputs.request.disk_use));
            screen.document(&Mended::nothing());
            Ok(Err(0))
        }
        Some(Err(judged)) => {
            let look = screen.look();
            screen.show(&views::check::render_not_mended(disk, &judged, look));
            screen.document(&Mended::blocked(disk, &judged));
            Ok(Err(1))
        }
        Some(Ok(mended)) => Ok(Ok(mended)),
    }
}

fn document(disk: &Disk, mended: &MendedDraft<'_, '_>) -> views::json::Plan {
    let drafted = &mended.rehearsed;
    views::json::Plan {
        mended: views::mend::fixes(&mended.fixes),
        ..views::json::Plan::of(disk, &mended.judged, drafted.plan(), drafted.rehearsal())
    }
}
