//! `schwelle firmware`

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use schwelle_core::device::DiskFile;
use schwelle_core::firmware::{
    AttachedDisk, EntryError, EntryPlan, Machine, Variables, ask_for_setup,
};
use schwelle_core::host::this_pc;
use schwelle_core::profile::{BOOTMGFW, open_image_or_disk};
use schwelle_core::rehearse::{self, LinuxOnEsp};
use schwelle_core::switch::{self, Outcome, SimulatedPc};

use super::report::write_new;
use crate::disk::Disk;
use crate::error::{CliError, Kind};
use crate::machine;
use crate::options::{DiskOptions, ImageOptions};
use crate::policy::PolicyOptions;
use crate::screen::Screen;
use crate::text::{safe, typed};
use crate::views;
use crate::views::sheet::Sheet;
use crate::which;
use crate::words;
use crate::words::here::here;

/// Show what a PC's firmware can do, is set to and will start; make the switch sheet
///
/// Without --machine: this PC, with its own disks. With it: the PC in the file, which may be a
/// simulated one that can be set and started. Nothing is written unless `set`, `entry` or `setup`
/// asks for it.
#[derive(Debug, Args)]
#[command(
    after_help = format!("Examples:\n  schwelle firmware\n  schwelle firmware sheet {disk} --html \
        sheet.html\n  schwelle firmware entry {disk}\n  schwelle firmware --machine pc.toml set \
        mode=uefi\n  schwelle firmware --machine pc.toml start", disk = here().disk)
)]
pub(crate) struct FirmwareArgs {
    /// A PC in a file, in place of this one
    #[arg(long = "machine", value_name = "FILE", global = true)]
    machine: Option<PathBuf>,
    #[command(subcommand)]
    action: Option<Action>,
}

#[derive(Debug, Subcommand)]
enum Action {
    /// Change settings of a simulated PC, as in its setup
    #[command(
        after_help = "Settings:\n  mode=bios|uefi|both\n  csm=on|off    the module with \
            which UEFI firmware starts MBR disks\n  secure-boot=on|off\n  setup-password=on|off\n  \
            keys=factory            enrol the keys that the manufacturer delivers\n\nExample:\n  schwelle \
            firmware set csm=off secure-boot=on --machine pc.toml"
    )]
    Set {
        /// What to change, in this order; the first that is greyed out ends it
        #[arg(value_name = "SETTING=VALUE", required = true)]
        settings: Vec<String>,
    },
    /// Start a simulated PC and tell what happens
    ///
    /// Exit code 1 when no system starts. Nothing is written, on no disk.
    #[command(after_help = "Example:\n  schwelle firmware start --machine pc.toml")]
    Start,
    /// Make the switch sheet: what to do in the setup of this PC for this disk, in the right order
    ///
    /// Exit code 1 where it does not say GO.
    #[command(
        after_help = format!("Examples:\n  schwelle firmware sheet {disk}\n  schwelle firmware sheet image.img --machine pc.toml \
        --html sheet.html", disk = here().disk)
    )]
    Sheet(SheetArgs),
    /// Write a boot entry for a converted disk into the firmware, and put it first
    ///
    /// Needs a session started in UEFI mode, as root; or --machine with a folder of variables.
    #[command(after_help = format!("Example:\n  schwelle firmware entry {disk}", disk = here().disk))]
    Entry {
        /// Image file or block device
        disk: PathBuf,
        /// The Linux to start, by its folder on the EFI system partition, as debian [default: Windows, where it is on
        /// the disk]
        #[arg(long, value_name = "FOLDER")]
        system: Option<String>,
        /// What the firmware's menu calls it [default: "Windows Boot Manager", or the Linux's folder]
        #[arg(long, value_parser = entry_name)]
        name: Option<String>,
        #[command(flatten)]
        image: ImageOptions,
    },
    /// Ask the firmware to show its setup screen at the next start, where it offers that
    #[command(after_help = "Example:\n  schwelle firmware setup")]
    Setup,
}

#[derive(Debug, Clone, Args)]
struct SheetArgs {
    /// Image file or block device
    disk: PathBuf,
    /// Also write it as Markdown into this new file
    #[arg(long, value_name = "FILE")]
    markdown: Option<PathBuf>,
    /// Also write it as a page to print into this new file (HTML)
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
    #[command(flatten)]
    policy: PolicyOptions,
    #[command(flatten)]
    image: ImageOptions,
}

impl FirmwareArgs {
    /// Setting the simulated PC in this file.
    pub(crate) fn set(machine: PathBuf, settings: &[&str]) -> Self {
        let settings = settings.iter().map(|&setting| setting.to_owned()).collect();
        Self {
            machine: Some(machine),
            action: Some(Action::Set { settings }),
        }
    }

    /// Starting the simulated PC in this file.
    pub(crate) fn start(machine: PathBuf) -> Self {
        Self {
            machine: Some(machine),
            action: Some(Action::Start),
        }
    }

    /// The switch sheet for a disk in the PC in this file, on the screen and as a page.
    pub(crate) fn sheet(machine: PathBuf, disk: PathBuf, html: PathBuf) -> Self {
        Self {
            machine: Some(machine),
            action: Some(Action::Sheet(SheetArgs {
                disk,
                markdown: None,
                html: Some(html),
                policy: PolicyOptions::default(),
                image: ImageOptions::default(),
            })),
        }
    }
}

pub(crate) fn run(args: &FirmwareArgs, screen: &Screen) -> Result<u8, CliError> {
    let pc = Pc::find(args.machine.as_deref())?;
    match &args.action {
        None => facts(&pc, screen),
        Some(Action::Set { settings }) => set(pc, settings, screen),
        Some(Action::Start) => start(&pc, screen),
        Some(Action::Sheet(sheet)) => make_sheet(&pc, sheet, screen),
        Some(Action::Entry {
            disk,
            system,
            name,
            image,
        }) => entry(
            &pc,
            disk,
            (system.as_deref(), name.as_deref()),
            image,
            screen,
        ),
        Some(Action::Setup) => to_setup(&pc, screen),
    }
}

/// A name that a firmware's menu can show.
fn entry_name(text: &str) -> Result<String, String> {
    let is_plain = !text.trim().is_empty() && !text.chars().any(char::is_control);
    if is_plain && text.chars().count() <= 64 {
        Ok(text.to_owned())
    } else {
        Err("1 to 64 characters, without control characters".to_owned())
    }
}

/// The PC that is asked about.
struct Pc {
    machine: Machine,
    /// The simulated one, where it is one from a file.
    simulated: Option<SimulatedPc>,
    file: Option<PathBuf>,
}

impl Pc {
    fn find(file: Option<&Path>) -> Result<Self, CliError> {
        let Some(path) = file else {
            return Ok(Self {
                machine: Machine::of(this_pc()),
                simulated: None,
                file: None,
            });
        };
        let simulated = SimulatedPc::read(path).map_err(|error| machine::wrong(path, &error))?;
        Ok(Self {
            machine: simulated.file().machine(),
            simulated: Some(simulated),
            file: Some(path.to_owned()),
        })
    }

    fn name(&self) -> String {
        let file = self.file.as_ref();
        file.map_or("This PC".to_owned(), |file| {
            format!("The PC in {}", file.display())
        })
    }

    fn variables(&self) -> Option<Variables> {
        match &self.simulated {
            Some(pc) => pc.file().variables(),
            None => this_pc().variables().map(Variables::new),
        }
    }

    /// The simulated PC, or the error that there is none.
    fn simulated(&self) -> Result<&SimulatedPc, CliError> {
        self.simulated.as_ref().ok_or_else(|| {
            CliError::new(
                Kind::Usage,
                "this needs a simulated PC",
                "The settings of this PC are changed in its setup, and it is started at its switch.",
                "Name a machine file: schwelle firmware --machine FILE start . The demo makes one: \
                 schwelle demo my-demo",
            )
        })
    }

    /// The attached disks; `also` is the first among them.
    fn disks(&self, also: Option<(&Path, &ImageOptions)>) -> Result<Disks, CliError> {
        let mut wanted: Vec<(PathBuf, Option<u32>)> = match &self.simulated {
            Some(pc) => pc.file().disks(),
            None => this_pc()
                .disks()
                .into_iter()
                .map(|disk| (disk, None))
                .collect(),
        };
        let mut disks = Disks::default();
        let named =
            also.map(|(disk, image)| Ok::<_, CliError>((which::resolve(disk)?.path, image)));
        let named = named.transpose()?;
        if let Some((path, image)) = &named {
            wanted.retain(|(disk, _)| !this_pc().is_same_disk(disk, path));
            wanted.insert(0, (path.to_owned(), image.sector_size));
        }
        for (path, sector_size) in wanted {
            match open_image_or_disk(&path, sector_size, false) {
                Ok(disk) => disks.read.push((path.display().to_string(), disk)),
                // Of this PC's own disks, those that cannot be read (no root) are left out; a disk
                // that was named must be there.
                Err(error)
                    if self.simulated.is_some()
                        || named.as_ref().is_some_and(|(named, _)| *named == path) =>
                {
                    return Err(error.into());
                }
                Err(_) => disks.unreadable.push(path.display().to_string()),
            }
        }
        Ok(disks)
    }
}

/// The disks of a PC.
#[derive(Debug, Default)]
struct Disks {
    /// Those that can be read, with their names.
    read: Vec<(String, DiskFile)>,
    /// Those of this PC that cannot.
    unreadable: Vec<String>,
}

impl Disks {
    fn attached(&self) -> Vec<AttachedDisk<'_>> {
        let disks = self.read.iter();
        disks
            .map(|(name, device)| AttachedDisk { name, device })
            .collect()
    }
}

fn facts(pc: &Pc, screen: &Screen) -> Result<u8, CliError> {
    let disks = pc.disks(None)?;
    let document =
        views::firmware::Firmware::of(&pc.machine, &disks.attached(), disks.unreadable.clone());
    let settings = pc.simulated.as_ref().map(SimulatedPc::settings);
    screen.show(&views::firmware::render(
        &pc.name(),
        &document,
        settings.as_ref(),
        pc.file.as_deref(),
        screen.columns(),
    ));
    screen.document(&document);
    Ok(0)
}

fn set(pc: Pc, settings: &[String], screen: &Screen) -> Result<u8, CliError> {
    pc.simulated()?;
    let (Some(mut simulated), Some(path)) = (pc.simulated, pc.file) else {
        return Ok(0);
    };
    for setting in settings {
        let (key, value) = setting.split_once('=').unwrap_or((setting, ""));
        match simulated.set(key, value) {
            Ok(note) => {
                let note = note.map_or(String::new(), |note| {
                    format!(" ({})", words::simulated::also(note))
                });
                screen.show(&format!("Set: {setting}{note}\n"));
            }
            Err(error) => return Err(CliError::setting(&path, &error)),
        }
    }
    let document = views::firmware::SettingsDoc::of(&simulated.settings());
    screen.show(&format!(
        "\nNext: schwelle firmware --machine {} start\n",
        typed(&path)
    ));
    screen.document(&document);
    Ok(0)
}

fn start(pc: &Pc, screen: &Screen) -> Result<u8, CliError> {
    let settings = pc.simulated()?.settings();
    let disks = pc.disks(None)?;
    let disks = disks.attached();
    let start = switch::start(&settings, &pc.machine, &disks);
    screen.show(&views::firmware::render_start(
        &pc.name(),
        &settings,
        &start,
        &disks,
        screen.columns(),
    ));
    screen.document(&views::firmware::Started::of(&start, &disks));
    Ok(u8::from(start.outcome == Outcome::Nothing))
}

fn make_sheet(pc: &Pc, args: &SheetArgs, screen: &Screen) -> Result<u8, CliError> {
    let policy = args.policy.read()?;
    let disk = Disk::open(&args.disk, &args.image)?;
    let rehearsal = rehearse::walk(&disk.device, None);
    // Without a machine file, of an image's PC nothing is known.
    let machine = disk.machine(pc.simulated.as_ref().map(|_| &pc.machine));
    let sheet = Sheet::of_disk(&disk, &machine, &rehearsal, &policy);
    for (path, text) in [
        (
            &args.markdown,
            views::sheet::markdown as fn(&views::sheet::Sheet) -> String,
        ),
        (&args.html, views::sheet::html),
    ] {
        if let Some(path) = path {
            write_new(path, text(&sheet).as_bytes())?;
        }
    }
    let written = [&args.markdown, &args.html];
    let written: Vec<&Path> = written
        .into_iter()
        .flatten()
        .map(PathBuf::as_path)
        .collect();
    screen.show(&views::sheet::render(&sheet, &written, screen.columns()));
    screen.document(&sheet);
    Ok(u8::from(!sheet.go))
}

fn entry(
    pc: &Pc,
    disk: &Path,
    (system, name): (Option<&str>, Option<&str>),
    image: &ImageOptions,
    screen: &Screen,
) -> Result<u8, CliError> {
    let disks = pc.disks(Some((disk, image)))?;
    let is_image = disks
        .read
        .first()
        .is_some_and(|(_, disk)| !disk.is_block_device());
    if is_image && pc.simulated.is_none() {
        return Err(CliError::new(
            Kind::Usage,
            format!("{} is an image, and no disk of this PC", disk.display()),
            "An entry for it would lead this PC's firmware nowhere. Nothing is changed.",
            "Name the disk itself, or the PC: schwelle firmware --machine FILE entry DISK",
        ));
    }
    let variables = pc.variables().ok_or_else(|| no_variables(pc))?;
    let failed = |error: EntryError| CliError::boot_entry(disk, &error);
    let attached = disks.attached();
    let linux = attached
        .first()
        .and_then(|disk| LinuxOnEsp::find(disk.device));
    let loader = loader_of(disk, linux.as_ref(), system)?;
    let own = match loader == BOOTMGFW {
        true => "Windows Boot Manager",
        false => LinuxOnEsp::name_of(&loader),
    };
    let wanted = (name.unwrap_or(own), loader.as_str());
    let plan = EntryPlan::new(&pc.machine, &variables, (&attached, 0), wanted).map_err(failed)?;
    plan.apply(&variables).map_err(failed)?;
    let given = DiskOptions {
        image: image.clone(),
        machine: pc
            .file
            .clone()
            .map(machine::MachineOptions::of)
            .unwrap_or_default(),
        ..DiskOptions::default()
    };
    let sheet = "firmware sheet";
    screen.show(&views::firmware::render_entry(
        &plan,
        &format!("schwelle {sheet} {}{}", typed(disk), given.typed_for(sheet)),
        &disks.unreadable,
        screen.columns(),
    ));
    screen.document(&views::firmware::EntryWritten::of(&plan));
    Ok(0)
}

/// The loader that an entry is for: that of the Linux which is named, else Windows' boot manager, else that of the only
/// Linux.
fn loader_of(
    disk: &Path,
    linux: Option<&LinuxOnEsp>,
    system: Option<&str>,
) -> Result<String, CliError> {
    let only = |linux: &LinuxOnEsp| match &linux.loaders[..] {
        [only] if !linux.has_windows => Some(only.clone()),
        _ => None,
    };
    let Some(name) = system else {
        let only = linux.and_then(only);
        return Ok(only.unwrap_or_else(|| BOOTMGFW.to_owned()));
    };
    let found = linux.and_then(|linux| linux.loader(name));
    found.map(str::to_owned).ok_or_else(|| {
        let folders = linux.map_or(&[][..], |linux| &linux.loaders[..]).iter();
        let folders: Vec<String> = folders
            .map(|loader| safe(LinuxOnEsp::name_of(loader)))
            .collect();
        CliError::new(
            Kind::Usage,
            format!("{}: no Linux starts from a folder {}", disk.display(), safe(name)),
            "A boot entry leads to a loader that is on the EFI system partition. Nothing is changed.",
            match folders.is_empty() {
                true => "Leave --system out: there is no Linux on this EFI system partition".to_owned(),
                false => format!("These folders have one: {}", folders.join(", ")),
            },
        )
    })
}

fn to_setup(pc: &Pc, screen: &Screen) -> Result<u8, CliError> {
    let variables = pc.variables().ok_or_else(|| no_variables(pc))?;
    ask_for_setup(&pc.machine, &variables).map_err(|error| {
        CliError::new(
            Kind::Unchanged,
            error,
            "Nothing is changed; the setup is reached by its key.",
            "See which key and what to do there: schwelle firmware sheet DISK",
        )
    })?;
    screen.show("At its next start the PC shows its setup screen.\n");
    screen.document(&views::firmware::SetupAsked {
        setup_at_next_start: true,
    });
    Ok(0)
}

fn no_variables(pc: &Pc) -> CliError {
    let (what, next) = if pc.simulated.is_some() {
        (
            "the machine file names no folder with the firmware's variables",
            "Add it: [firmware] variables = \"FOLDER\" (docs/machine.md)".to_owned(),
        )
    } else {
        (
            "this session does not see the firmware's variables",
            format!(
                "Start the rescue stick in UEFI mode, and repeat the command {}.",
                here().with_rights
            ),
        )
    };
    CliError::new(
        Kind::Unchanged,
        what,
        "Boot entries and requests to the firmware are kept in them. Nothing is changed.",
        next,
    )
}
