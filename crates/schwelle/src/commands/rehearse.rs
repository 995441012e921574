//! `schwelle rehearse`

use std::path::PathBuf;

use clap::Args;
use schwelle_core::rehearse;

use crate::cli::ImageOptions;
use crate::disk::Disk;
use crate::error::CliError;
use crate::screen::Screen;
use crate::views;

/// Walk a disk's UEFI boot path, from sector 0 to the kernel
///
/// Says at which step a start would fail, and what to do; then looks at the rest of the menu, the
/// drive letters and the recovery environment, which give cautions. Nothing is written.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle rehearse /dev/sda\n  schwelle rehearse image.img \
        --loader '\\EFI\\Microsoft\\Boot\\bootmgfw.efi'"
)]
pub(crate) struct RehearseArgs {
    /// Image file or block device
    disk: PathBuf,
    #[command(flatten)]
    image: ImageOptions,
    /// Path on the EFI system partition that the firmware's boot entry names [default: the
    /// removable-media path]
    #[arg(long, value_name = "PATH")]
    loader: Option<String>,
}

impl RehearseArgs {
    /// The rehearsal of a disk with everything else at its default.
    pub(crate) fn of(disk: PathBuf) -> Self {
        Self {
            disk,
            image: ImageOptions::default(),
            loader: None,
        }
    }
}

pub(crate) fn run(args: &RehearseArgs, screen: &Screen) -> Result<u8, CliError> {
    let disk = Disk::open(&args.disk, args.image)?;
    let rehearsal = rehearse::walk(&disk.device, args.loader.as_deref());
    screen.show(&views::rehearse::render(
        &disk,
        &rehearsal,
        screen.columns(),
    ));
    screen.document(&views::json::Rehearsed::of(&rehearsal));
    Ok(u8::from(!rehearsal.starts()))
}
