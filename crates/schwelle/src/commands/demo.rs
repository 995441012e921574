//! `schwelle demo`

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_demo::DemoDisk;

use super::{check, confirm, convert, plan, rehearse, rules, survey};
use crate::error::{CliError, Kind, path_taken};
use crate::screen::{Screen, Tone, toned};
use crate::text::typed;

/// Make the demo disks and run the whole job on them
///
/// Needs neither root nor network nor any other program. The disks stay in DIR, so that every
/// command can be tried by hand.
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  schwelle demo\n  schwelle demo /tmp/lighthouse")]
pub(crate) struct DemoArgs {
    /// New or empty folder for the disks
    #[arg(value_name = "DIR", default_value = "schwelle-demo")]
    dir: PathBuf,
}

pub(crate) fn run(args: &DemoArgs, screen: &Screen) -> Result<u8, CliError> {
    let dir = &args.dir;
    let failed = |error: &dyn std::fmt::Display| {
        let what = format!("{}: {error}", dir.display());
        CliError::new(
            Kind::Unchanged,
            what,
            "The demo disks could not be made.",
            "Name a folder on a disk with 200 MiB free: schwelle demo DIR",
        )
    };
    std::fs::create_dir_all(dir).map_err(|error| failed(&error))?;
    if dir
        .read_dir()
        .map_err(|error| failed(&error))?
        .next()
        .is_some()
    {
        return Err(path_taken(dir.clone()));
    }
    screen.show(&heading("The disks of a lighthouse service"));
    for disk in schwelle_demo::disks() {
        schwelle_demo::make(disk, dir).map_err(|error| failed(&format!("{error:#}")))?;
        screen.show(&format!("  {:<14} {}\n", disk.file, disk.story));
    }
    let images: Vec<PathBuf> = schwelle_demo::disks()
        .iter()
        .map(|disk| dir.join(disk.file))
        .collect();
    let ready = &images[0];
    if screen.is_json() || screen.is_quiet() {
        // For scripts: the conversion alone, as one document.
        return convert::run(
            &convert::ConvertArgs::of(ready.clone(), job_beside(ready)),
            screen,
        );
    }

    tell(
        screen,
        "Which of them could be converted today?",
        &format!("survey {}/*.img", dir.display()),
    );
    survey::run(&survey::SurveyArgs::of(images.clone()), screen)?;
    for disk in schwelle_demo::disks()
        .iter()
        .filter(|disk| disk.blocked_by == Some("volume.hibernation"))
    {
        show_blocked(screen, dir, disk)?;
    }
    tell(
        screen,
        "The lamp room's disk is ready. What would be done?",
        &format!("plan {}", typed(ready)),
    );
    plan::run(&plan::PlanArgs::of(ready.clone()), screen)?;
    let job = job_beside(ready);
    tell(
        screen,
        "Then it is done.",
        &format!("convert {} --job {} --yes", typed(ready), typed(&job)),
    );
    let code = convert::run(&convert::ConvertArgs::of(ready.clone(), job), screen)?;
    tell(
        screen,
        "Would firmware start it?",
        &format!("rehearse {}", typed(ready)),
    );
    let code = code.max(rehearse::run(
        &rehearse::RehearseArgs::of(ready.clone()),
        screen,
    )?);
    tell(
        screen,
        "Nobody has switched the PC's firmware yet, and no Windows runs in a demo. What would tell?",
        &format!("confirm {}", typed(ready)),
    );
    confirm::run(&confirm::ConfirmArgs::of(ready.clone()), screen)?;
    for disk in schwelle_demo::disks().iter().filter(|disk| disk.mib < 250) {
        let path = dir.join(disk.file);
        tell(
            screen,
            "A disk that is full to its last sector: where would the room come from?",
            &format!("plan {}", typed(&path)),
        );
        plan::run(&plan::PlanArgs::of(path), screen)?;
    }
    let by_hand = typed(&images[1]);
    let job = job_beside(&images[1]);
    screen.show(&format!(
        "\n{}The disks are in {}. This one is left to convert by hand:\n  schwelle check \
         {by_hand}\n  schwelle convert {by_hand} --job {}\nAnd this takes the lamp room's disk back:\n  schwelle undo \
         --job {}\n",
        heading("Your turn"),
        dir.display(),
        typed(&job),
        typed(&job_beside(ready))
    ));
    Ok(code)
}

fn show_blocked(screen: &Screen, dir: &Path, disk: &DemoDisk) -> Result<(), CliError> {
    let path = dir.join(disk.file);
    tell(
        screen,
        "One of the blocked ones: why, and what to do?",
        &format!("check {}", typed(&path)),
    );
    check::run(&check::CheckArgs::of(path), screen)?;
    if let Some(rule) = disk.blocked_by {
        tell(
            screen,
            "What is behind that rule?",
            &format!("rules {rule}"),
        );
        rules::run(&rules::RulesArgs::of(rule), screen)?;
    }
    Ok(())
}

fn heading(text: &str) -> String {
    format!("{}\n", toned(Tone::Heading, text))
}

fn tell(screen: &Screen, why: &str, command: &str) {
    screen.show(&format!(
        "\n{}{}\n\n",
        heading(why),
        toned(Tone::Faint, &format!("$ schwelle {command}"))
    ));
}

/// The job folder of an image, beside it.
fn job_beside(image: &Path) -> PathBuf {
    image.with_extension("job")
}
