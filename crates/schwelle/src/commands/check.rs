//! `schwelle check`

use std::path::PathBuf;

use clap::Args;

use crate::cli::{ImageOptions, PlaceOptions};
use crate::disk::{Circumstances, Disk};
use crate::error::CliError;
use crate::machine::MachineOptions;
use crate::screen::Screen;
use crate::views;

/// Ask all rules whether a disk can be converted, with evidence and way out
///
/// Exit code 0 when nothing stands against it, 1 when a rule blocks. Nothing is written.
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  schwelle check /dev/sda\n  schwelle check image.img --json")]
pub(crate) struct CheckArgs {
    /// Image file or block device
    disk: PathBuf,
    #[command(flatten)]
    machine: MachineOptions,
    #[command(flatten)]
    image: ImageOptions,
    #[command(flatten)]
    place: PlaceOptions,
}

impl CheckArgs {
    /// The check of a disk with everything else at its default.
    pub(crate) fn of(disk: PathBuf) -> Self {
        Self {
            disk,
            machine: MachineOptions::default(),
            image: ImageOptions::default(),
            place: PlaceOptions::default(),
        }
    }
}

pub(crate) fn run(args: &CheckArgs, screen: &Screen) -> Result<u8, CliError> {
    let disk = Disk::open(&args.disk, args.image)?;
    let machine = args.machine.read()?;
    let judgement = disk.judge(&Circumstances {
        machine: machine.as_ref(),
        wish: args.place.wish(),
        ..Circumstances::default()
    });
    screen.show(&views::check::render(&disk, &judgement, screen.columns()));
    screen.document(&views::json::Check::of(&disk, &judgement));
    Ok(u8::from(judgement.is_blocked()))
}
