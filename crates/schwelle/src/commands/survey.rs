//! `schwelle survey`

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::host::this_pc;

use crate::disk::{Disk, Inputs};
use crate::error::{CliError, Kind};
use crate::machine::MachineOptions;
use crate::many;
use crate::options::{DiskOptions, ImageOptions};
use crate::policy::PolicyOptions;
use crate::screen::Screen;
use crate::views::{self, survey::Surveyed};
use crate::words::here::here;

/// List disks: table style, size, model, the system on it, and a one-line answer
///
/// Without a DISK, lists the disks of this PC. With --json, one document in a line for each disk. Exit code
/// 1 when a rule blocks one of them, 3 when one could not be read. Nothing is written.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle survey\n  schwelle survey {disk} image.img\n  schwelle survey {folder} {pattern}", pattern = here().pattern, disk = here().disk, folder = here().folder)
)]
pub(crate) struct SurveyArgs {
    /// Image files, block devices, folders of images, or patterns
    #[arg(value_name = "DISK")]
    disks: Vec<PathBuf>,
    #[command(flatten)]
    machine: MachineOptions,
    #[command(flatten)]
    policy: PolicyOptions,
    #[command(flatten)]
    image: ImageOptions,
}

impl SurveyArgs {
    /// The survey of these disks with everything else at its default.
    pub(crate) fn of(disks: Vec<PathBuf>) -> Self {
        Self {
            disks,
            machine: MachineOptions::default(),
            policy: PolicyOptions::default(),
            image: ImageOptions::default(),
        }
    }
}

pub(crate) fn run(args: &SurveyArgs, screen: &Screen) -> Result<u8, CliError> {
    let disks = if args.disks.is_empty() {
        this_pc().disks()
    } else {
        many::disks_of(&args.disks)?
    };
    if disks.is_empty() {
        let what = "this session sees no disk";
        return Err(CliError::new(
            Kind::Unchanged,
            what,
            "There is nothing to list.",
            "Name an image or a block device: schwelle survey DISK",
        ));
    }
    let machine = args.machine.read()?;
    let policy = args.policy.read()?;
    let inputs = Inputs::of(machine.as_ref(), &policy);
    // What came of a disk, and the exit code of one that could not be read.
    let look = |path: &Path| match Disk::open(path, &args.image) {
        Ok(disk) => (Surveyed::of(&disk, &disk.judge(&inputs)), None),
        Err(error) => (Surveyed::unreadable(path, &error), Some(error.exit_code())),
    };
    let given = DiskOptions {
        image: args.image.clone(),
        machine: args.machine.clone(),
        policy: args.policy.clone(),
        ..DiskOptions::default()
    };
    let busy = screen.busy(format!("Looking at {} disks", disks.len()));
    let (mut surveyed, mut unreadable) = (Vec::new(), None);
    many::in_order(&disks, look, |(disk, code)| {
        screen.document_line(&disk);
        surveyed.push(disk);
        unreadable = unreadable.or(code);
    });
    drop(busy);
    screen.show(&views::survey::render(
        &surveyed,
        &given.typed_for("check"),
        screen.columns(),
    ));
    let is_blocked = surveyed.iter().any(|disk| !disk.convertible);
    Ok(unreadable.unwrap_or(u8::from(is_blocked)))
}
