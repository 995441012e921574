//! `schwelle plan`

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::draft::Plan;
use schwelle_core::firmware::BootMode;
use schwelle_core::identities::Style;

use crate::disk::{Disk, Inputs, options};
use crate::emulate::{EmulateOptions, Emulated};
use crate::error::CliError;
use crate::options::{DiskOptions, ToOptions};
use crate::screen::{Look, Screen};
use crate::views::{self, emulate::EmulatedDoc};
use crate::words::here::here;

/// Show the disk before and after, what would be written where, and rehearse the result
///
/// Builds the whole result as a draft in memory and walks its boot path. Nothing is written.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle plan {disk}\n  schwelle plan image.img --esp-size \
        300M\n  schwelle plan image.img --json\n  schwelle plan image.img --emulate\n  schwelle plan image.img --to mbr", disk = here().disk)
)]
pub(crate) struct PlanArgs {
    /// Image file or block device
    disk: PathBuf,
    #[command(flatten)]
    given: DiskOptions,
    #[command(flatten)]
    to: ToOptions,
    #[command(flatten)]
    emulate: EmulateOptions,
    /// Folder for the firmware's console log and screen
    #[arg(long, value_name = "DIR", requires = "emulate")]
    keep: Option<PathBuf>,
    /// Show everything in full: each place considered, each part of a stage, each edit, each step
    #[arg(long)]
    all: bool,
}

impl PlanArgs {
    /// The plan for a disk with everything else at its default.
    pub(crate) fn of(disk: PathBuf) -> Self {
        Self {
            disk,
            given: DiskOptions::default(),
            to: ToOptions::default(),
            emulate: EmulateOptions::default(),
            keep: None,
            all: false,
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

pub(crate) fn run(args: &PlanArgs, screen: &Screen) -> Result<u8, CliError> {
    let machine = args.given.machine.read()?;
    let policy = args.given.policy.read()?;
    let busy = screen.busy(format!("Looking at {}, and drafting", args.disk.display()));
    let disk = Disk::open(&args.disk, &args.given.image)?.with(&args.given)?;
    let judged = disk.judge(&Inputs {
        to: args.to.style_with(args.given.place)?,
        request: args.given.place.request(&policy)?,
        ..Inputs::of(machine.as_ref(), &policy)
    });
    if judged.is_blocked() {
        drop(busy);
        screen.show(&views::check::render_blocked(&disk, &judged, screen.look()));
        screen.document(&views::json::Plan::blocked(&disk, &judged));
        return Ok(1);
    }
    let drafted = disk.draft(&judged)?;
    let (plan, rehearsal) = (drafted.plan(), drafted.rehearsal());
    drop(busy);
    let look = Look {
        all: args.all,
        ..screen.look()
    };
    screen.show(&views::plan::render(&disk, &judged, plan, rehearsal, look));
    if !args.all {
        let option = options(rehearsal.style, rehearsal.disk_use);
        let more = format!("All in full: {}{option} --all\n", disk.next("plan"));
        screen.show(&more);
    }
    let emulated = emulate(&args.emulate, &disk, plan, None, screen)?;
    let kept = match (&emulated, &args.keep) {
        (Some(emulated), Some(folder)) => emulated.keep(folder)?,
        _ => Vec::new(),
    };
    if let Some(emulated) = &emulated {
        screen.show(&views::emulate::render(emulated, &kept, screen.columns()));
    }
    let is_good = emulated.as_ref().is_none_or(Emulated::is_good);
    screen.show(&views::plan::verdict(&disk, rehearsal, is_good));
    screen.document(&views::json::Plan {
        emulated: emulated.map(|emulated| EmulatedDoc::of(&emulated, &kept)),
        ..views::json::Plan::of(&disk, &judged, plan, rehearsal)
    });
    Ok(u8::from(!rehearsal.passed() || !is_good))
}

/// The mode in which a PC starts from a disk with this table.
pub(super) fn mode_of(style: Style) -> BootMode {
    match style {
        Style::Gpt => BootMode::Uefi,
        Style::Mbr => BootMode::Bios,
    }
}

/// Starts the draft in the emulator, where that was asked for.
pub(super) fn emulate(
    options: &EmulateOptions,
    disk: &Disk,
    plan: &Plan<'_>,
    beside: Option<&Path>,
    screen: &Screen,
) -> Result<Option<Emulated>, CliError> {
    let changed = plan.changes.extents().collect();
    options.run(
        &disk.path,
        &plan.draft,
        changed,
        mode_of(plan.table.style()),
        beside,
        screen,
    )
}
