//! `schwelle undo`

use clap::Args;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::{EditedFile, NotUpdated, RestoredNames};
use schwelle_core::host::HostFacts;
use schwelle_core::identities::Style;
use schwelle_core::job::recover::{self, Undoing};
use schwelle_core::job::{JobEnd, JobState, Renaming, Repaired};
use schwelle_core::profile::{Profile, TableStyle};

use super::carry_out::{Ending, last_words, read_table_again};
use super::recover::{JobOptions, torn};
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
    let mut job = args.job.open()?;
    let (disk, folder) = (job.disk.path.clone(), args.job.job.clone());
    let failed = |error| CliError::recovering(&disk, &folder, error);
    screen.show(&views::common::head(&job.disk));
    let busy = screen.busy("Comparing the disk with the job's record");
    let repaired = Repaired::look(&job.folder, job.disk.device.disk()).map_err(failed)?;
    let plan = recover::plan_undo(&job.folder, &repaired, &job.bond).map_err(failed)?;
    let named = match &plan {
        Some(plan) => RestoredNames::plan(&job.folder, plan, &repaired, stamp_now().windows)
            .map_err(failed)?,
        None => None,
    };
    drop(busy);
    let used = plan.as_ref().map_or(&[][..], |plan| &plan.used);
    let (exact, smaller) = (used.is_empty(), used.iter().any(|(_, smaller)| *smaller));
    let mut warnings = Vec::new();
    screen.show(&torn(&repaired));
    if let Some(plan) = &plan {
        screen.show(&meaning(plan, named.as_ref(), screen.columns()));
        let trust = args.job.trust(&job, screen)?;
        confirm(args, screen)?;
        let mut progress = Progress::new(screen, &disk, &folder);
        progress.catch_stops();
        let written = repaired.write(job.disk.device.disk(), &trust);
        written.map_err(failed)?;
        let renaming = named.as_ref().and_then(|named| named.renaming.as_ref());
        let device = job.disk.device.disk();
        let undone = recover::undo(
            &mut job.folder,
            plan,
            &trust,
            renaming,
            device,
            &mut progress,
        );
        undone.map_err(failed)?;
        drop(progress);
        warnings.extend(read_table_again(job.disk.device.disk()));
    } else {
        if repaired.torn().next().is_some() {
            let trust = args.job.trust(&job, screen)?;
            let written = repaired.write(job.disk.device.disk(), &trust);
            written.map_err(failed)?;
        }
        screen.show("Nothing of the job is on the disk.\n");
        let undone = job.folder.set_state(JobState::Undone);
        undone.map_err(|error| CliError::job_folder(&error))?;
    }
    let line = format!("{} undone", jiff::Timestamp::now());
    job.folder.log(&line).ok();
    let machine = job.disk.machine(None);
    Ending {
        disk: &job.disk,
        machine: &machine,
        policy: &policy,
    }
    .keep(
        &mut job.folder,
        JobEnd::Undone,
        None,
        Some(exact),
        &warnings,
    );
    let table = Profile::read(&job.disk.device, HostFacts::default())
        .map_err(|error| CliError::reading(&disk, error))?
        .table_style();
    let moved = job
        .folder
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
    let (style, disk_use) = (job.facts.to, job.facts.disk_use);
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
                typed(&disk),
                options(style, disk_use)
            ),
        )
    ));
    let named = named.as_ref();
    screen.document(&views::recovered::Recovered::undone(
        &disk,
        (&folder, &job.bond),
        exact,
        named,
    ));
    last_words(&job.folder, &warnings, screen);
    Ok(0)
}

/// What taking it back means for this disk.
fn meaning(plan: &Undoing, named: Option<&RestoredNames<'_>>, columns: usize) -> String {
    let renaming = named.and_then(|named| named.renaming.as_ref());
    let named_bytes = renaming.map_or(0, Renaming::bytes);
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
    if args.yes || screen.ask("Take the conversion back? (yes/no)").as_deref() == Some("yes") {
        return Ok(());
    }
    Err(CliError::new(
        Kind::Usage,
        "it was not confirmed",
        "The disk is unchanged.",
        "Repeat the command; --yes answers for scripts.",
    ))
}
