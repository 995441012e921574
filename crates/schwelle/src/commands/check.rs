//! `schwelle check`

use std::path::{Path, PathBuf};

use clap::Args;

use crate::disk::{Disk, Inputs};
use crate::error::CliError;
use crate::many;
use crate::options::{DiskOptions, ImageOptions, ToOptions};
use crate::screen::{Look, Screen};
use crate::views::{self, json::Check};
use crate::words::here::here;

/// Check whether a disk can be converted: what is found, and what to do about it
///
/// Several disks are checked at the same time and get one line each. With --json, one document per line for
/// each disk. Exit code 0 if no rule blocks, 1 if one does, 3 if a disk could not be read. Nothing is
/// written.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle check {disk}\n  schwelle check image.img --json\n  schwelle check {folder} --json\n  schwelle check {disk} --to mbr", disk = here().disk, folder = here().folder)
)]
pub(crate) struct CheckArgs {
    /// Image files, block devices, folders of images, or patterns
    #[arg(value_name = "DISK", required = true)]
    disks: Vec<PathBuf>,
    #[command(flatten)]
    given: DiskOptions,
    #[command(flatten)]
    to: ToOptions,
    /// Show everything in full, also what passed and how to find out what is not known
    #[arg(long)]
    all: bool,
}

impl CheckArgs {
    /// The check of a disk with everything else at its default.
    pub(crate) fn of(disk: PathBuf) -> Self {
        Self {
            disks: vec![disk],
            given: DiskOptions::default(),
            to: ToOptions::default(),
            all: false,
        }
    }
}

pub(crate) fn run(args: &CheckArgs, screen: &Screen) -> Result<u8, CliError> {
    let machine = args.given.machine.read()?;
    let policy = args.given.policy.read()?;
    let inputs = Inputs {
        to: args.to.style_with(args.given.place)?,
        request: args.given.place.request(&policy)?,
        ..Inputs::of(machine.as_ref(), &policy)
    };
    match &args.disks[..] {
        [one] if !many::names_many(one) => check_one(one, args, &inputs, screen),
        several => check_many(
            &many::disks_of(several)?,
            &args.given.image,
            &inputs,
            screen,
        ),
    }
}

fn check_one(
    path: &Path,
    args: &CheckArgs,
    inputs: &Inputs<'_>,
    screen: &Screen,
) -> Result<u8, CliError> {
    let given = &args.given;
    let busy = screen.busy(format!("Looking at {}", path.display()));
    let opened = Disk::open(path, &given.image).inspect_err(|error| {
        let check = Check::unreadable(path, inputs.to, error);
        screen.document_line(&check);
    });
    let disk = opened?.with(given)?;
    let judged = disk.judge(inputs);
    drop(busy);
    let look = Look {
        all: args.all,
        ..screen.look()
    };
    screen.show(&views::check::render(&disk, &judged, look));
    screen.document_line(&Check::of(&disk, &judged));
    Ok(u8::from(judged.is_blocked()))
}

fn check_many(
    disks: &[PathBuf],
    image: &ImageOptions,
    inputs: &Inputs<'_>,
    screen: &Screen,
) -> Result<u8, CliError> {
    let look = |path: &Path| match Disk::open(path, image) {
        Ok(disk) => Check::of(&disk, &disk.judge(inputs)),
        Err(error) => Check::unreadable(path, inputs.to, &error),
    };
    let mut tally = views::check::Tally::default();
    let (mut is_blocked, mut is_unreadable) = (false, false);
    many::in_order(disks, look, |check| {
        screen.show(&views::check::line(&check, screen.columns()));
        screen.document_line(&check);
        tally.count(check.answer);
        is_unreadable |= check.unreadable.is_some();
        is_blocked |= !check.convertible;
    });
    screen.show(&tally.render("DISK"));
    Ok(if is_unreadable {
        3
    } else {
        u8::from(is_blocked)
    })
}
