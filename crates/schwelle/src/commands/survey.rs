//! `schwelle survey`

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::device;

use crate::cli::ImageOptions;
use crate::disk::{Circumstances, Disk};
use crate::error::{CliError, Kind};
use crate::machine::MachineOptions;
use crate::screen::Screen;
use crate::views;

/// List disks: table style, size, model, the system on it, and a one-line answer
///
/// Without a DISK, lists the disks of this PC. Nothing is written.
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  schwelle survey\n  schwelle survey /dev/sda image.img")]
pub(crate) struct SurveyArgs {
    /// Image files or block devices
    #[arg(value_name = "DISK")]
    disks: Vec<PathBuf>,
    #[command(flatten)]
    machine: MachineOptions,
    #[command(flatten)]
    image: ImageOptions,
}

impl SurveyArgs {
    /// The survey of these disks with everything else at its default.
    pub(crate) fn of(disks: Vec<PathBuf>) -> Self {
        Self {
            disks,
            machine: MachineOptions::default(),
            image: ImageOptions::default(),
        }
    }
}

pub(crate) fn run(args: &SurveyArgs, screen: &Screen) -> Result<u8, CliError> {
    let disks = if args.disks.is_empty() {
        device::disk_names(Path::new("/"))
    } else {
        args.disks.clone()
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
    let circumstances = Circumstances {
        machine: machine.as_ref(),
        ..Circumstances::default()
    };
    let mut document = views::survey::Survey::default();
    let mut unreadable = None;
    for path in &disks {
        match Disk::open(path, args.image) {
            Ok(disk) => document.disks.push(views::survey::Surveyed::of(
                &disk,
                &disk.judge(&circumstances),
            )),
            Err(error) => {
                document
                    .disks
                    .push(views::survey::Surveyed::unreadable(path, &error));
                unreadable = Some(error.exit_code());
            }
        }
    }
    screen.show(&views::survey::render(&document, screen.columns()));
    screen.document(&document);
    Ok(unreadable.unwrap_or(0))
}
