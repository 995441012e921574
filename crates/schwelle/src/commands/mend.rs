//! `schwelle mend`

use std::path::PathBuf;

use clap::Args;
use schwelle_core::draft::Plan;
use schwelle_core::job::JobKind;
use schwelle_core::mend::Fix;
use schwelle_core::rehearse::{self, Rehearsal};

use crate::cli::{Accepted, DiskOptions};
use crate::disk::{Circumstances, Disk, Judgement};
use crate::error::CliError;
use crate::screen::Screen;
use crate::views::{self, mend::Mended};

use super::carry_out::{Job, Written, last_words};

/// Mend a GPT disk that does not start
///
/// The rehearsal says at which step a start ends; exactly what that step needs is drafted, and the draft
/// rehearsed: a protective MBR, a damaged copy of the table, a backup table that is not at the end, a
/// missing EFI system partition or one with another type, boot files and a boot store that are missing or
/// name another disk. Without --job the plan is shown and nothing is written. With --data-disk only the
/// table is mended.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle mend /dev/sda\n  schwelle mend /dev/sda --job \
        /media/stick/job-0815\n  schwelle mend copy.img --data-disk --job job --yes"
)]
pub(crate) struct MendArgs {
    /// Image file or block device
    disk: PathBuf,
    /// New folder for the job's record: the plan, what is overwritten, the log. Not on the disk itself
    #[arg(long, value_name = "DIR")]
    job: Option<PathBuf>,
    /// Answer the questions with yes (for scripts)
    #[arg(long, requires = "job")]
    yes: bool,
    #[command(flatten)]
    accepted: Accepted,
    #[command(flatten)]
    given: DiskOptions,
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
        }
    }
}

pub(crate) fn run(args: &MendArgs, screen: &Screen) -> Result<u8, CliError> {
    let machine = args.given.machine.read()?;
    let policy = args.given.policy.read()?;
    policy.may_answer(args.yes)?;
    let circumstances = Circumstances {
        wish: args.given.place.wish(&policy)?,
        job: args.job.as_deref(),
        backup_confirmed: args.yes,
        accepted: args.accepted,
        ..Circumstances::of(machine.as_ref(), &policy)
    };
    // As with a conversion: looked at read-only first, and again under the lock.
    let disk = Disk::open(&args.disk, args.given.image)?.with(&args.given);
    let Some(folder) = &args.job else {
        return match Planned::of(&disk, &circumstances, screen)? {
            Err(code) => Ok(code),
            Ok(planned) => {
                screen.show(&views::mend::render(&disk, &planned, screen.look()));
                screen.show(&views::mend::verdict(&disk, &planned.rehearsal));
                screen.document(&Mended::planned(planned.document(&disk)));
                Ok(0)
            }
        };
    };
    Job::new(JobKind::Mend, &disk, folder, args.yes, &circumstances).refuse_unfinished()?;
    if let Err(code) = Planned::of(&disk, &circumstances, screen)? {
        return Ok(code);
    }
    drop(disk);
    let disk = Disk::open_for_writing(&args.disk, args.given.image)?.with(&args.given);
    let planned = match Planned::of(&disk, &circumstances, screen)? {
        Err(code) => return Ok(code),
        Ok(planned) => planned,
    };
    screen.show(&views::mend::render(&disk, &planned, screen.look()));
    let job = Job::new(JobKind::Mend, &disk, folder, args.yes, &circumstances);
    job.refuse_unready(&planned.plan)?;
    job.confirm(&planned.plan, screen)?;
    let confirmed = Circumstances {
        backup_confirmed: true,
        ..circumstances
    };
    let planned = Planned {
        judgement: disk.judge_mending(&confirmed, &planned.plan),
        ..planned
    };
    let record = job.record(planned.document(&disk));
    let Written {
        rehearsal,
        warnings,
        job,
    } = job.write(&planned.plan, &record, screen)?;
    screen.show(&views::mend::done(&disk, folder, &planned.plan, &rehearsal));
    screen.document(&Mended::done(&disk, &planned.fixes, folder, &rehearsal));
    last_words(&job, &warnings, screen);
    Ok(u8::from(!rehearsal.passed()))
}

/// What is to be done, and what the rules and the rehearsal say of it.
pub(crate) struct Planned<'a> {
    pub(crate) judgement: Judgement,
    pub(crate) plan: Plan<'a>,
    pub(crate) fixes: Vec<Fix>,
    pub(crate) rehearsal: Rehearsal,
}

impl<'a> Planned<'a> {
    /// Plans and judges; the exit code where there is nothing to do, or a rule blocks.
    fn of(
        disk: &'a Disk,
        circumstances: &Circumstances<'_>,
        screen: &Screen,
    ) -> Result<Result<Self, u8>, CliError> {
        let busy = screen.busy(format!("Looking at {}, and drafting", disk.path.display()));
        let planned = disk.mend(circumstances)?;
        drop(busy);
        let Some((plan, fixes)) = planned else {
            screen.show(&views::mend::nothing(disk, circumstances.wish.disk_use));
            screen.document(&Mended::nothing());
            return Ok(Err(0));
        };
        let judgement = disk.judge_mending(circumstances, &plan);
        if judgement.is_blocked() {
            let look = screen.look();
            screen.show(&views::check::render_blocked(disk, &judgement, look));
            screen.document(&Mended::blocked(disk, &judgement));
            return Ok(Err(1));
        }
        // The planning went on until nothing failed.
        let rehearsal = rehearse::walk_to(&plan.draft, plan.table.style(), plan.placement.disk_use);
        Ok(Ok(Self {
            judgement,
            plan,
            fixes,
            rehearsal,
        }))
    }

    fn document(&self, disk: &Disk) -> views::json::Plan {
        views::json::Plan {
            mended: views::mend::fixes(&self.fixes),
            ..views::json::Plan::of(disk, &self.judgement, &self.plan, &self.rehearsal)
        }
    }
}
