//! `schwelle undo`

use clap::Args;
use schwelle_core::device::Tracked;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::{EditedFile, NotUpdated, RestoredNames};
use schwelle_core::identities::Style;
use schwelle_core::job::{Finished, JobEnd, RecoverError, Recovery, Undoing};
use schwelle_core::profile::TableStyle;

use super::carry_out::{Ending, io_warnings, last_words, not_logged, read_table_again, unrecorded};
use super::recover::{JobOptions, OpenedJob, log_failure, torn};
use crate::disk::options;
use crate::disk::stamp_now;
use crate::error::{CliError, Kind};
use crate::policy::PolicyOptions;
use crate::progress::Progress;
use crate::screen::{Screen, Tone, toned};
use crate::text::{bytes, safe, typed};
use crate::views;
use crate::views::common::{answer, paragraph};
use crate::words;

/// Take a job back, finished or not
///
/// Restores the edited files first, then sector 0, so that the old table is in place at once, then everything
/// else that was overwritten. A volume that has been used since the conversion stays as it is,
/// its size included: old content is never put over newer. Of its files only those that name the disk
/// are edited, so that drive letters and recovery environment lead to the old table's partitions
/// again. What that means for this disk is shown before anything is asked. Where the disk does not prove that
/// the folder is its own, the folder's name is asked for; --yes does not answer that.
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  schwelle undo --job /media/stick/job-0815")]
pub(crate) struct UndoArgs {
    #[command(flatten)]
    job: JobOptions,
    /// Answer the question with yes, for scripts
    #[arg(long)]
    yes: bool,
    #[command(flatten)]
    policy: PolicyOptions,
}

pub(crate) fn run(args: &UndoArgs, screen: &Screen) -> Result<u8, CliError> {
    let policy = args.policy.read()?;
    policy.may_answer(args.yes)?;
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
    let mut planned = recovery.plan_undo().map_err(failed)?;
    let named = RestoredNames::plan(&mut planned, stamp_now().windows).map_err(failed)?;
    let table = planned.restored_table().map_err(failed)?;
    drop(busy);
    let used = planned.plan().map_or(&[][..], |plan| &plan.used);
    let (exact, smaller) = (used.is_empty(), used.iter().any(|(_, smaller)| *smaller));
    let mut warnings = Vec::new();
    screen.show(&torn(&torn_sectors));
    match planned.plan() {
        Some(plan) => screen.show(&meaning(plan, named.as_ref(), screen.columns())),
        None => screen.show("Nothing of the job is on the disk.\n"),
    }
    let writes = !planned.writes_nothing();
    let vouched = if writes {
        args.job.vouch(planned.recovery(), &disk, screen)?
    } else {
        None
    };
    if planned.plan().is_some() {
        confirm(args, screen)?;
    }
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
        wrote,
        not_recorded,
    } = finished;
    match not_recorded {
        // Nothing was written, so the state in the folder is all that there was to do.
        Some(error) if !wrote => return Err(CliError::job_folder(&error)),
        error => warnings.extend(error.map(|error| unrecorded("undo", job_path, &error))),
    }
    if writes {
        warnings.extend(read_table_again(disk.device.disk()));
    }
    let line = format!("{} undone", jiff::Timestamp::now());
    warnings.extend(not_logged(folder.log(&line)));
    warnings.extend(io_warnings(&disk, &mut folder));
    let machine = disk.machine(None);
    Ending {
        disk: &disk,
        machine: &machine,
        policy: &policy,
    }
    .keep(&mut folder, JobEnd::Undone, None, Some(exact), &warnings);
    let moved = folder
        .journal()
        .is_some_and(|journal| !journal.moves.is_empty());
    let back = match (exact, moved) {
        (true, false) => "Everything that was overwritten is restored.",
        (true, true) => {
            "Everything that was overwritten is restored; free clusters still hold copies of what had moved."
        }
        (false, _) if smaller => {
            "The table is restored, except that the shrunk volumes keep their new size."
        }
        (false, _) => {
            "The table is restored; volumes that have been used since keep their newer files."
        }
    };
    let (style, disk_use) = (facts.to, facts.disk_use);
    let mode = match (disk_use, style) {
        (DiskUse::System, Style::Gpt) => {
            "  If the PC's firmware was switched to UEFI mode, set it to BIOS mode again.\n"
        }
        (DiskUse::System, Style::Mbr) => {
            "  If the PC's firmware was switched to BIOS mode, set it to UEFI mode again.\n"
        }
        (DiskUse::Data, _) => "",
    };
    let table = match table {
        TableStyle::Blank => "is blank again".to_owned(),
        style => format!("has its {} table again", style.name()),
    };
    screen.show(&format!(
        "\n{}\n  {back}\n{mode}{}",
        toned(Tone::Heading, "Done"),
        answer(
            Tone::Good,
            &format!("Taken back: the disk {table}"),
            &format!(
                "Next: schwelle check {}{}",
                typed(path),
                options(style, disk_use)
            ),
        )
    ));
    let named = named.as_ref();
    screen.document(&views::recovered::Recovered::undone(
        path,
        (job_path, proof),
        exact,
        named,
    ));
    last_words(&folder, &warnings, screen);
    Ok(0)
}

/// What taking it back means for this disk.
fn meaning(plan: &Undoing, named: Option<&RestoredNames>, columns: usize) -> String {
    let named_bytes = named.map_or(0, |named| named.bytes);
    let all = plan.bytes.saturating_add(named_bytes);
    let mut text = format!("Written back: up to {}\n", bytes(all));
    for (at, smaller) in &plan.used {
        let size = if *smaller {
            " It keeps its new size; the space taken from it stays unused."
        } else {
            " What was written since is kept."
        };
        let line = format!("The volume at {at} has been used since the conversion.{size}");
        text += &paragraph("Used since  ", &line, 0, columns);
    }
    for EditedFile {
        partition,
        path,
        changes,
    } in named.map_or(&[][..], |named| &named.files)
    {
        let changes: Vec<String> = changes.iter().map(words::plan::edit).collect();
        let line = format!("partition {partition}, {path}: {}", changes.join("; "));
        text += &paragraph("Updated  ", &safe(&line), 0, columns);
    }
    for NotUpdated { partition, why } in named.map_or(&[][..], |named| &named.left) {
        let line = format!(
            "drive letters and recovery configuration of Windows on partition {partition}: {}",
            words::plan::not_updated(why)
        );
        text += &paragraph("Not updated  ", &safe(&line), 0, columns);
    }
    for (what, at) in &plan.changed_since {
        text += &paragraph(
            "Changed since  ",
            &format!(
                "{} ({at}): what was put there after the conversion is lost",
                safe(&what.to_string())
            ),
            0,
            columns,
        );
    }
    text
}

fn confirm(args: &UndoArgs, screen: &Screen) -> Result<(), CliError> {
    if args.yes || screen.confirms("Take the conversion back?") {
        return Ok(());
    }
    Err(CliError::new(
        Kind::Usage,
        "it was not confirmed",
        "The disk is unchanged.",
        "Repeat the command; --yes answers for scripts.",
    ))
}
