//! `schwelle confirm`

use std::path::PathBuf;

use clap::Args;
use schwelle_core::confirm::{self, Answer};

use crate::disk::Disk;
use crate::error::{CliError, Kind};
use crate::machine::MachineOptions;
use crate::options::ImageOptions;
use crate::screen::Screen;
use crate::views;
use crate::which;
use crate::words::here::here;

/// After the switch: find out whether Windows really started in UEFI mode
///
/// Weighs what a start leaves on the disk, shows what each piece of evidence is worth, and
/// looks whether drive letters, recovery and the EFI system partition are as they should be. Run it in Windows itself
/// once it has started, as administrator, without DISK; or from the rescue stick, after Windows has been started once
/// and shut down. Exit code 1 when the evidence says no; 0 when it says yes or proves nothing. Nothing is written.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle confirm\n  schwelle confirm {disk}\n  schwelle confirm image.img --machine \
        pc.toml", disk = here().disk)
)]
pub(crate) struct ConfirmArgs {
    /// Image file or block device [default: the disk with the running Windows on it]
    disk: Option<PathBuf>,
    #[command(flatten)]
    machine: MachineOptions,
    #[command(flatten)]
    image: ImageOptions,
}

impl ConfirmArgs {
    /// The confirmation of a disk in the PC in this file.
    pub(crate) fn of(disk: PathBuf, machine: PathBuf) -> Self {
        Self {
            disk: Some(disk),
            machine: MachineOptions::of(machine),
            image: ImageOptions::default(),
        }
    }
}

pub(crate) fn run(args: &ConfirmArgs, screen: &Screen) -> Result<u8, CliError> {
    let running = || {
        which::running().ok_or_else(|| {
            CliError::new(
                Kind::Usage,
                "no disk is named, and no Windows runs here from a disk of this PC",
                "A confirmation is about one disk.",
                "See which disks there are: schwelle survey",
            )
        })
    };
    let path = args.disk.clone().map_or_else(running, Ok)?;
    let disk = Disk::open(&path, &args.image)?;
    let partitions = disk.profile.partitions.iter();
    let has_closed = partitions.filter(|part| part.is_closed()).count() > 0;
    if disk.profile.systems.is_empty() && !disk.profile.linux.is_empty() && !has_closed {
        return Err(CliError::new(
            Kind::Usage,
            format!("{}: there is no Windows on this disk", path.display()),
            "A confirmation weighs what a start of Windows leaves on the disk. A Linux leaves nothing of the kind.",
            "Look in that Linux, once it has started: in UEFI mode the folder /sys/firmware/efi is there",
        ));
    }
    let machine = disk.machine(args.machine.read()?.as_ref());
    let confirmation = confirm::confirm(&disk.device, &disk.profile, &machine);
    screen.show(&views::confirm::render(
        &disk,
        &confirmation,
        screen.columns(),
    ));
    screen.document(&views::confirm::Confirmed::of(&disk, &confirmation));
    Ok(u8::from(confirmation.answer == Answer::NotConfirmed))
}
