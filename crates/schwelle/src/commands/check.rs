//! `schwelle check`

use std::path::{Path, PathBuf};

use clap::Args;

use crate::disk::{Circumstances, Disk};
use crate::error::CliError;
use crate::many;
use crate::options::{DiskOptions, ImageOptions, ToOptions};
use crate::screen::Screen;
use crate::views::{self, json::Check};

/// Ask all rules whether a disk can be converted, with evidence and way out
///
/// Several disks are looked at at the same time, and get a line each. With --json there is always one document
/// in a line for each disk. Exit code 0 when nothing stands against it, 1 when a rule blocks one, 3 when one could not be
/// read. Nothing is written.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle check /dev/sda\n  schwelle check image.img --json\n  schwelle check /images --json\n  schwelle check /dev/sda --to mbr"
)]
pub(crate) struct CheckArgs {
    /// Image files, block devices, folders with images, or patterns
    #[arg(value_name = "DISK", required = true)]
    disks: Vec<PathBuf>,
    #[command(flatten)]
    given: DiskOptions,
    #[command(flatten)]
    to: ToOptions,
}

impl CheckArgs {
    /// The check of a disk with everything else at its default.
    pub(crate) fn of(disk: PathBuf) -> Self {
        Self {
            disks: vec![disk],
            given: DiskOptions::default(),
            to: ToOptions::default(),
        }
    }
}

pub(crate) fn run(args: &CheckArgs, screen: &Screen) -> Result<u8, CliError> {
    let machine = args.given.machine.read()?;
    let policy = args.given.policy.read()?;
    let circumstances = Circumstances {
        to: args.to.style_with(args.given.place)?,
        wish: args.given.place.wish(&policy)?,
        ..Circumstances::of(machine.as_ref(), &policy)
    };
    match &args.disks[..] {
        [one] if !many::names_many(one) => check_one(one, &args.given, &circumstances, screen),
        several => check_many(
            &many::disks_of(several)?,
            args.given.image,
            &circumstances,
            screen,
        ),
    }
}

fn check_one(
    path: &Path,
    given: &DiskOptions,
    circumstances: &Circumstances<'_>,
    screen: &Screen,
) -> Result<u8, CliError> {
    let busy = screen.busy(format!("Looking at {}", path.display()));
    let opened = Disk::open(path, given.image).inspect_err(|error| {
        let check = Check::unreadable(path, circumstances.to, error);
        screen.document_line(&check);
    });
    let disk = opened?.with(given);
    let judged = disk.judge(circumstances);
    drop(busy);
    screen.show(&views::check::render(&disk, &judged, screen.look()));
    screen.document_line(&Check::of(&disk, &judged));
    Ok(u8::from(judged.is_blocked()))
}

fn check_many(
    disks: &[PathBuf],
    image: ImageOptions,
    circumstances: &Circumstances<'_>,
    screen: &Screen,
) -> Result<u8, CliError> {
    let look = |path: &Path| match Disk::open(path, image) {
        Ok(disk) => Check::of(&disk, &disk.judge(circumstances)),
        Err(error) => Check::unreadable(path, circumstances.to, &error),
    };
    let mut tally = views::check::Tally::default();
    many::in_order(disks, look, |check| {
        screen.show(&views::check::line(&check, screen.columns()));
        screen.document_line(&check);
        tally.count(check.answer);
    });
    screen.show(&tally.render("DISK"));
    Ok(if tally.unreadable > 0 {
        3
    } else {
        u8::from(tally.blocked > 0)
    })
}
