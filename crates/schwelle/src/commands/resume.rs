//! `schwelle resume`

use clap::Args;
use schwelle_core::job::{JobKind, Repaired, recover};
use schwelle_core::rehearse;

use super::carry_out::{Ending, last_words, read_table_again, say_outcome};
use super::recover::{JobOptions, torn};
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
    let mut job = args.job.open()?;
    let (disk, folder) = (job.disk.path.clone(), args.job.job.clone());
    let facts = job.facts.clone();
    let failed = |error| CliError::recovering(&disk, &folder, error);
    screen.show(&views::common::head(&job.disk));
    let busy = screen.busy("Comparing the disk with the job's record");
    let repaired = Repaired::look(&job.folder, job.disk.device.disk()).map_err(failed)?;
    let plan = recover::plan_resume(&job.folder, &repaired).map_err(failed)?;
    drop(busy);
    let mut warnings = Vec::new();
    screen.show(&torn(&repaired));
    if let Some(plan) = plan {
        let (size, writes) = (plan.changes.bytes(), plan.changes.stages.iter());
        let stages: Vec<&str> = writes
            .filter(|stage| stage.extents().next().is_some())
            .map(|stage| stage.kind.name())
            .collect();
        screen.show(&match &stages[..] {
            [] => "Every sector is written already.\n".to_owned(),
            _ => format!(
                "Still to be written: {} in {}\n",
                bytes(size),
                stages.join(", ")
            ),
        });
        let trust = args.job.trust(&job, screen)?;
        let mut progress = Progress::new(screen, &disk, &folder);
        progress.catch_stops();
        let written = repaired.write(job.disk.device.disk(), &trust);
        written.map_err(failed)?;
        recover::resume(
            &mut job.folder,
            &plan,
            &trust,
            job.disk.device.disk(),
            &mut progress,
        )
        .map_err(failed)?;
        drop(progress);
        warnings.extend(read_table_again(job.disk.device.disk()));
    } else {
        screen.show("The job is finished already; nothing was written.\n");
    }
    let rehearsal = rehearse::walk_to(&job.disk.device, facts.to, facts.disk_use);
    say_outcome(&mut job.folder, &rehearsal);
    // A policy that cannot be read is no reason to leave a disk half-way.
    let policy = PolicyOptions::default().read().unwrap_or_default();
    let machine = job.disk.machine(None);
    Ending {
        disk: &job.disk,
        machine: &machine,
        policy: &policy,
    }
    .keep(
        &mut job.folder,
        facts.kind.done(),
        Some(&rehearsal),
        None,
        &warnings,
    );
    let word = match facts.kind {
        JobKind::Convert => "Converted",
        JobKind::Mend => "Mended",
    };
    screen.show(&views::plan::finished(word, &job.disk, &folder, &rehearsal));
    screen.document(&views::recovered::Recovered::resumed(
        &job.disk,
        (&folder, &job.bond),
        facts.kind.done(),
        &rehearsal,
    ));
    last_words(&job.folder, &warnings, screen);
    Ok(u8::from(!rehearsal.passed()))
}
