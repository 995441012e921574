//! `schwelle plan`

use std::path::PathBuf;

use clap::Args;
use schwelle_core::rehearse;

use crate::cli::{ImageOptions, PlaceOptions};
use crate::disk::{Circumstances, Disk};
use crate::error::CliError;
use crate::machine::MachineOptions;
use crate::screen::Screen;
use crate::views;

/// Show the disk before and after, what would be written where, and rehearse the result
///
/// Builds the whole result as a draft in memory and walks its boot path. Nothing is written.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle plan /dev/sda\n  schwelle plan image.img --esp-size \
        300M\n  schwelle plan image.img --json"
)]
pub(crate) struct PlanArgs {
    /// Image file or block device
    disk: PathBuf,
    #[command(flatten)]
    machine: MachineOptions,
    #[command(flatten)]
    image: ImageOptions,
    #[command(flatten)]
    place: PlaceOptions,
}

impl PlanArgs {
    /// The plan for a disk with everything else at its default.
    pub(crate) fn of(disk: PathBuf) -> Self {
        Self {
            disk,
            machine: MachineOptions::default(),
            image: ImageOptions::default(),
            place: PlaceOptions::default(),
        }
    }
}

pub(crate) fn run(args: &PlanArgs, screen: &Screen) -> Result<u8, CliError> {
    let disk = Disk::open(&args.disk, args.image)?;
    let machine = args.machine.read()?;
    let judgement = disk.judge(&Circumstances {
        machine: machine.as_ref(),
        wish: args.place.wish(),
        ..Circumstances::default()
    });
    if judgement.is_blocked() {
        screen.show(&views::check::render_blocked(
            &disk,
            &judgement,
            screen.columns(),
        ));
        screen.document(&views::json::Plan::blocked(&disk, &judgement));
        return Ok(1);
    }
    let plan = disk.draft(&judgement)?;
    let rehearsal = rehearse::walk(&plan.draft, None);
    screen.show(&views::plan::render(
        &disk,
        &judgement,
        &plan,
        &rehearsal,
        screen.columns(),
    ));
    screen.show(&views::plan::verdict(&disk, &rehearsal));
    screen.document(&views::json::Plan::of(&disk, &judgement, &plan, &rehearsal));
    Ok(u8::from(!rehearsal.starts()))
}
