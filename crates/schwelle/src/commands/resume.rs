//! `schwelle resume`

use clap::Args;
use schwelle_core::device::Tracked;
use schwelle_core::job::{Finished, JobKind, RecoverError, Recovery, Resuming};
use schwelle_core::rehearse;

use super::carry_out::{
    Ending, io_warnings, last_words, read_table_again, say_outcome, unrecorded,
};
use super::recover::{JobOptions, OpenedJob, log_failure, torn};
use crate::error::CliError;
use crate::policy::PolicyOptions;
use crate::progress::Progress;
use crate::screen::Screen;
use crate::text::bytes;
use crate::views;

/// Finish an interrupted job
///
/// Finds the disk by its content, compares it with the job folder, writes what is missing in the same order,
/// and reads it back. On a finished job it changes nothing. Where the disk does not prove that the folder is
/// its own, the folder's name is asked for.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle resume --job /media/stick/job-0815\n  \
    schwelle resume --job /media/stick/job-0815 --folder-name job-0815"
)]
pub(crate) struct ResumeArgs {
    #[command(flatten)]
    job: JobOptions,
}

pub(crate) fn run(args: &ResumeArgs, screen: &Screen) -> Result<u8, CliError> {
    let OpenedJob {
        folder,
        disk,
        facts,
    } = args.job.open()?;
    let (path, job_path) = (&disk.path, &args.job.job);
    let failed = |error: RecoverError| CliError::recovering(path, job_path, &error.into());
    screen.show(&views::common::head(&disk));
    let busy = screen.busy("Comparing the disk with the job's record");
    let tracked = Tracked::new(disk.device.disk());
    let recovery = Recovery::open(folder, &tracked).map_err(failed)?;
    let proof = recovery.proof();
    let torn_sectors = recovery.torn();
    let planned = recovery.plan_resume().map_err(failed)?;
    drop(busy);
    let mut warnings = Vec::new();
    screen.show(&torn(&torn_sectors));
    let vouched = match planned.plan() {
        Some(plan) => {
            screen.show(&still_to_write(plan));
            args.job.vouch(planned.recovery(), &disk, screen)?
        }
        None => {
            screen.show("The job is finished already; nothing was written.\n");
            None
        }
    };
    let writes = planned.plan().is_some();
    let trusted = planned.trusted(vouched.as_deref());
    let trusted = trusted.map_err(|_untrusted| CliError::not_vouched(job_path))?;
    let mut progress = Progress::new(screen, path, job_path);
    if writes {
        progress.catch_stops();
    }
    let finished = trusted.write(&mut progress);
    drop(progress);
    let finished = finished.map_err(|failure| {
        log_failure(job_path, &failure);
        CliError::recovering(path, job_path, &failure)
    })?;
    let Finished {
        job: mut folder,
        not_recorded,
        ..
    } = finished;
    warnings.extend(not_recorded.map(|error| unrecorded("resume", job_path, &error)));
    if writes {
        warnings.extend(read_table_again(disk.device.disk()));
    }
    let rehearsal = rehearse::walk_to(&disk.device, facts.to, facts.disk_use);
    say_outcome(&mut folder, &rehearsal);
    // A policy that cannot be read is no reason to leave a disk half-way.
    let policy = PolicyOptions::default().read().unwrap_or_default();
    let machine = disk.machine(None);
    warnings.extend(io_warnings(&disk, &mut folder));
    Ending {
        disk: &disk,
        machine: &machine,
        policy: &policy,
    }
    .keep(
        &mut folder,
        facts.kind.done(),
        Some(&rehearsal),
        None,
        &warnings,
    );
    let word = match facts.kind {
        JobKind::Convert => "Converted",
        JobKind::Mend => "Mended",
    };
    screen.show(&views::plan::finished(word, &disk, job_path, &rehearsal));
    screen.document(&views::recovered::Recovered::resumed(
        &disk,
        (job_path, proof),
        facts.kind.done(),
        &rehearsal,
    ));
    last_words(&folder, &warnings, screen);
    Ok(u8::from(!rehearsal.passed()))
}

/// What is still to be written to finish the job.
fn still_to_write(plan: &Resuming<'_>) -> String {
    let stages: Vec<&str> = plan
        .changes
        .stages
        .iter()
        .filter(|stage| stage.extents().next().is_some())
        .map(|stage| stage.kind.name())
        .collect();
    match &stages[..] {
        [] => "Every sector is written already.\n".to_owned(),
        _ => format!(
            "Still to be written: {} in {}\n",
            bytes(plan.changes.bytes()),
            stages.join(", ")
        ),
    }
}
