//! `schwelle rehearse`

use std::path::PathBuf;

use clap::Args;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::firmware::BootMode;
use schwelle_core::identities::Style;
use schwelle_core::profile::{Profile, Table};
use schwelle_core::rehearse;
use schwelle_core::switch::ByBootOrder;

use crate::disk::Disk;
use crate::emulate::{EmulateOptions, Emulated};
use crate::error::CliError;
use crate::machine::MachineOptions;
use crate::options::{ImageOptions, ToOptions, UseOptions};
use crate::screen::Screen;
use crate::views::{self, emulate::EmulatedDoc};
use crate::words::here::here;

/// Walk a disk's boot path, from sector 0 to the kernel
///
/// Goes the way that UEFI firmware goes, or with --to mbr a BIOS: by the removable-media path, and first of all by the
/// PC's boot order, where that is known and leads to this disk. The answer is one of three: starts; depends, where
/// some firmware starts the disk and some does not, or a backup copy serves; does not start. Says at which step, and
/// what to do; with --data-disk, whether both copies of the table agree and every partition holds a sound volume. Then looks at the rest of the menu, the
/// drive letters and the recovery environment, which give cautions. Nothing is written to the disk.
/// With --emulate, real firmware starts it as well: UEFI firmware a GPT disk, a BIOS an MBR disk.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle rehearse {disk}\n  schwelle rehearse image.img \
        --loader '\\EFI\\Microsoft\\Boot\\bootmgfw.efi'\n  schwelle rehearse image.img --to mbr\n  schwelle rehearse {disk} --emulate --keep \
        {stick}/job-0815", disk = here().disk, stick = here().stick)
)]
pub(crate) struct RehearseArgs {
    /// Image file or block device
    disk: PathBuf,
    #[command(flatten)]
    image: ImageOptions,
    #[command(flatten)]
    to: ToOptions,
    #[command(flatten)]
    disk_use: UseOptions,
    #[command(flatten)]
    machine: MachineOptions,
    /// Path on the EFI system partition that the firmware's boot entry names [default: the
    /// removable-media path]
    #[arg(long, value_name = "PATH", conflicts_with = "data_disk")]
    loader: Option<String>,
    #[command(flatten)]
    emulate: EmulateOptions,
    /// Folder for the firmware's console log and screen: the disk's job folder, or another
    #[arg(long, value_name = "DIR", requires = "emulate")]
    keep: Option<PathBuf>,
}

impl RehearseArgs {
    /// The rehearsal of a disk with everything else at its default.
    pub(crate) fn of(disk: PathBuf) -> Self {
        Self {
            disk,
            image: ImageOptions::default(),
            to: ToOptions::default(),
            disk_use: UseOptions::default(),
            machine: MachineOptions::default(),
            loader: None,
            emulate: EmulateOptions::default(),
            keep: None,
        }
    }

    /// The same on the way back to MBR.
    pub(crate) fn back(self) -> Self {
        Self {
            to: ToOptions::back(),
            ..self
        }
    }
}

pub(crate) fn run(args: &RehearseArgs, screen: &Screen) -> Result<u8, CliError> {
    let busy = screen.busy(format!("Walking {}", args.disk.display()));
    let disk = Disk::open(&args.disk, &args.image)?;
    let (style, disk_use) = (args.to.style(), args.disk_use.disk_use());
    let rehearsal = match (style, disk_use) {
        (Style::Gpt, DiskUse::System) => rehearse::walk(&disk.device, args.loader.as_deref()),
        _ => rehearse::walk_to(&disk.device, style, disk_use),
    };
    let machine = disk.machine(args.machine.read()?.as_ref());
    let is_walked_by_order =
        (style, disk_use) == (Style::Gpt, DiskUse::System) && args.loader.is_none();
    let by_order = is_walked_by_order
        .then(|| ByBootOrder::of(&machine, &disk.device))
        .flatten();
    drop(busy);
    let columns = screen.columns();
    let emulated = args.emulate.run(
        &disk.path,
        &disk.device,
        Vec::new(),
        match style {
            Style::Gpt => mode_of(&disk.profile),
            Style::Mbr => BootMode::Bios,
        },
        None,
        screen,
    )?;
    let kept = match (&emulated, &args.keep) {
        (Some(emulated), Some(folder)) => emulated.keep(folder)?,
        _ => Vec::new(),
    };
    let shown = emulated.as_ref();
    let shown = shown.map_or(String::new(), |emulated| {
        views::emulate::render(emulated, &kept, columns)
    });
    let is_good = emulated.as_ref().is_none_or(Emulated::is_good);
    // A BIOS has started an MBR disk: the walk of a start in UEFI mode has nothing to say.
    let in_bios_mode = emulated
        .as_ref()
        .filter(|_| style == Style::Gpt)
        .and_then(Emulated::in_bios_mode);
    screen.show(&match in_bios_mode {
        Some(starts) => views::rehearse::render_bios(&disk, &shown, starts),
        None if rehearsal.disk_use == DiskUse::Data => {
            views::rehearse::render_data(&disk, &rehearsal, columns)
        }
        None => {
            let by_order = by_order.as_ref();
            views::rehearse::render(&disk, &rehearsal, by_order, (&shown, is_good), columns)
        }
    });
    screen.document(&views::json::Rehearsed {
        by_boot_order: by_order
            .as_ref()
            .map(|by_order| views::json::ByBootOrderDoc::of(&disk, by_order)),
        emulated: emulated.map(|emulated| EmulatedDoc::of(&emulated, &kept)),
        ..views::json::Rehearsed::of(&disk, &rehearsal)
    });
    let starts = in_bios_mode.unwrap_or(rehearsal.passed() && is_good);
    Ok(u8::from(!starts))
}

/// What the emulator starts this disk in: its BIOS where there is an MBR.
fn mode_of(profile: &Profile) -> BootMode {
    match profile.table {
        Table::Mbr { .. } => BootMode::Bios,
        _ => BootMode::Uefi,
    }
}
