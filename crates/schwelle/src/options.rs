//! Options that several commands share, and what they mean.

use std::path::Path;

use clap::{Args, ValueEnum};
use schwelle_core::device::MIB;
use schwelle_core::disk_use::DiskUse;
use schwelle_core::identities::Style;
use schwelle_core::placement::{EspRequest, PlaceRequest};

use crate::error::{CliError, Kind};
use crate::linux::SystemOptions;
use crate::machine::MachineOptions;
use crate::policy::{self, Policy, PolicyOptions};
use crate::sizes::size;
use crate::unlock::UnlockOptions;
use crate::words::here::here;

/// Options of every command.
#[derive(Debug, Clone, Args)]
pub(crate) struct Common {
    /// Print one JSON document on stdout in place of text
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Print nothing but errors; the exit code has the answer
    #[arg(long, short, global = true)]
    pub(crate) quiet: bool,
    /// How long work, warnings, errors and questions are shown on stderr: for people, or as events in lines of JSON
    #[arg(long, global = true, value_enum, default_value_t = Shown::Text, value_name = "FORM")]
    pub(crate) progress: Shown,
    /// Show numbers of sectors (LBA) beside sizes
    #[arg(long, global = true)]
    pub(crate) lba: bool,
    /// Colours on stdout; NO_COLOR is respected as well
    #[arg(long, global = true, value_enum, default_value_t = WhenColored::Auto, value_name = "WHEN")]
    pub(crate) color: WhenColored,
}

/// How what happens is shown on stderr.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Shown {
    /// A bar on a terminal, plain lines elsewhere
    Text,
    /// An event in each line, for programs
    Json,
}

/// When to use colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum WhenColored {
    Auto,
    Always,
    Never,
}

/// How to read images, and what is encrypted.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct ImageOptions {
    /// Logical sector size of an image, in bytes [default: detected from its content, else 512]
    #[arg(long, value_name = "N", value_parser = sector_size)]
    pub(crate) sector_size: Option<u32>,
    #[command(flatten)]
    pub(crate) unlock: UnlockOptions,
}

impl ImageOptions {
    /// As they are typed.
    pub(crate) fn typed(&self) -> String {
        let size = self
            .sector_size
            .map(|size| format!(" --sector-size {size}"));
        size.unwrap_or_default() + &self.unlock.typed()
    }
}

/// What the disk is for.
#[derive(Debug, Clone, Copy, Default, Args)]
pub(crate) struct UseOptions {
    /// The disk only holds data, or is blank; no PC starts from it. All volumes are kept, and no EFI system
    /// partition is made unless --esp-size or --place asks for one
    #[arg(long)]
    data_disk: bool,
}

impl UseOptions {
    /// As the core takes it.
    pub(crate) fn disk_use(self) -> DiskUse {
        match self.data_disk {
            true => DiskUse::Data,
            false => DiskUse::System,
        }
    }
}

/// Which table the disk is to get.
#[derive(Debug, Clone, Copy, Default, Args)]
pub(crate) struct ToOptions {
    /// The partition table that the disk gets; mbr converts back
    #[arg(long, value_enum, default_value_t = To::Gpt, value_name = "TABLE")]
    to: To,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
enum To {
    /// GPT, for UEFI mode
    #[default]
    Gpt,
    /// MBR, for BIOS mode
    Mbr,
}

impl ToOptions {
    /// The way back.
    pub(crate) fn back() -> Self {
        Self { to: To::Mbr }
    }

    /// As the core takes it.
    pub(crate) fn style(self) -> Style {
        match self.to {
            To::Gpt => Style::Gpt,
            To::Mbr => Style::Mbr,
        }
    }

    /// The same, where the options about the EFI system partition are allowed, which an MBR disk has none
    /// of.
    pub(crate) fn style_with(self, place: PlaceOptions) -> Result<Style, CliError> {
        let style = self.style();
        if style == Style::Mbr && (place.place != Place::Auto || place.esp_size.is_some()) {
            return Err(CliError::new(
                Kind::Usage,
                "--place and --esp-size are about a new EFI system partition",
                "On the way back to MBR, none is made: the one that is there becomes the active partition.",
                "Leave them out, and repeat the command.",
            ));
        }
        Ok(style)
    }
}

/// What the EFI system partition should be like, if the disk is to have one.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct PlaceOptions {
    #[command(flatten)]
    disk: UseOptions,
    /// Where the space for the EFI system partition comes from
    #[arg(long, value_enum, default_value_t = Place::Auto)]
    place: Place,
    /// Size of the EFI system partition, such as 300M [default: 260M where there is room]
    #[arg(long, value_name = "SIZE", value_parser = size)]
    esp_size: Option<u64>,
}

impl Default for PlaceOptions {
    fn default() -> Self {
        Self {
            disk: UseOptions::default(),
            place: Place::Auto,
            esp_size: None,
        }
    }
}

impl PlaceOptions {
    /// As they are typed, but for what the disk is for.
    pub(crate) fn typed(self) -> String {
        let mut text = String::new();
        if let Some(place) = self
            .place
            .to_possible_value()
            .filter(|_| self.place != Place::Auto)
        {
            text += &format!(" --place {}", place.get_name());
        }
        if let Some(size) = self.esp_size {
            text += &match size % MIB {
                0 => format!(" --esp-size {}M", size / MIB),
                _ => format!(" --esp-size {size}"),
            };
        }
        text
    }

    /// As the core takes it, within what the policy allows.
    pub(crate) fn request(self, policy: &Policy) -> Result<EspRequest, CliError> {
        use policy::Place::{Gap, Shrink, Takeover};
        let disk_use = self.disk.disk_use();
        let (place, needed) = match (self.place, policy.allows(Gap), policy.allows(Shrink)) {
            (Place::Auto, true, true) => (PlaceRequest::Auto, None),
            (Place::Auto, true, false) => (PlaceRequest::Gap, None),
            (Place::Auto, false, true) => (PlaceRequest::Shrink, None),
            (Place::Auto, false, false) => (PlaceRequest::Auto, Some(Gap)),
            (Place::Gap, ..) => (PlaceRequest::Gap, Some(Gap)),
            (Place::Shrink, ..) => (PlaceRequest::Shrink, Some(Shrink)),
            (Place::Takeover, ..) => (PlaceRequest::Takeover, Some(Takeover)),
        };
        let is_for_one = disk_use == DiskUse::System || self.place != Place::Auto;
        if let Some(place) = needed.filter(|&place| !policy.allows(place) && is_for_one) {
            return Err(CliError::new(
                Kind::Usage,
                format!("the policy does not allow the placement {}", place.name()),
                "The policy applies to every job. Nothing was written.",
                "Name a placement that it allows (schwelle rules shows them): --place PLACE",
            ));
        }
        Ok(EspRequest {
            disk_use,
            // Of a data disk, what the policy says must not count as a request for a partition.
            place: if is_for_one {
                place
            } else {
                PlaceRequest::Auto
            },
            size: self.esp_size.or(policy.esp_size.filter(|_| is_for_one)),
            format_unknown: false,
        })
    }
}

/// Options about a disk that all commands about a conversion share. The command that comes next needs them again.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct DiskOptions {
    #[command(flatten)]
    pub(crate) machine: MachineOptions,
    #[command(flatten)]
    pub(crate) policy: PolicyOptions,
    #[command(flatten)]
    pub(crate) image: ImageOptions,
    #[command(flatten)]
    pub(crate) place: PlaceOptions,
    #[command(flatten)]
    pub(crate) systems: SystemOptions,
    /// The folder of a job interrupted on this disk is lost: use the disk as it is now. Not covered by --yes
    #[arg(long)]
    pub(crate) job_lost: bool,
}

impl DiskOptions {
    /// Those that `command` takes, as they are typed after the disk's name.
    pub(crate) fn typed_for(&self, command: &str) -> String {
        let (image, machine) = (self.image.typed(), self.machine.typed());
        match command {
            "check" | "plan" | "convert" | "mend" => {
                let lost = if self.job_lost { " --job-lost" } else { "" };
                let (place, systems) = (self.place.typed(), self.systems.typed());
                place + &systems + &image + &machine + &self.policy.typed() + lost
            }
            "firmware sheet" => image + &machine + &self.policy.typed(),
            "firmware entry" | "confirm" => image + &machine,
            _ => image,
        }
    }
}

/// What a technician can accept, each by its own name. Neither --yes nor a policy covers any of it.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct Accepted {
    /// The disk name, as it is typed when it is asked for; a disk of another name is refused
    #[arg(long, value_name = "NAME")]
    pub(crate) disk_name: Option<String>,
    /// Accept a job folder on a RAM disk: after a power failure there is neither resume nor undo
    #[arg(long)]
    pub(crate) job_in_memory: bool,
    /// Keep partitions of a data disk in which nothing is recognised as they are
    #[arg(long)]
    pub(crate) keep_unrecognised: bool,
    /// Lose the restore points (shadow copies) of a volume that is shrunk
    #[arg(long)]
    pub(crate) lose_restore_points: bool,
    /// The recovery password of an encrypted Windows is at hand: it asks for that at its next start
    #[arg(long)]
    pub(crate) recovery_key_at_hand: bool,
    /// Give up this system: it starts today, and does not once the disk is converted. Can be repeated
    #[arg(long, value_name = "NAME")]
    pub(crate) drop: Vec<String>,
    #[command(flatten)]
    pub(crate) here: WritingHere,
}

/// Whether a real disk may be written from this system, where that has not been seen on real ones.
#[derive(Debug, Clone, Copy, Default, Args)]
pub(crate) struct WritingHere {
    /// Write a real disk from Windows, which was tested with stand-ins only
    #[arg(long, hide = here().before_writing.is_none())]
    from_windows: bool,
}

impl WritingHere {
    /// What is to be known before this disk is written here; `None` where it was accepted, or there is nothing.
    pub(crate) fn caution(self, is_real: bool) -> Option<&'static str> {
        here()
            .before_writing
            .filter(|_| is_real && !self.from_windows)
    }

    /// An error where it was not accepted.
    pub(crate) fn refuse(self, path: &Path, is_real: bool) -> Result<(), CliError> {
        self.caution(is_real).map_or(Ok(()), |caution| {
            Err(CliError::new(
                Kind::Usage,
                format!(
                    "{}: writing real disks from here was not accepted",
                    path.display()
                ),
                caution,
                "If that is right, repeat the command with --from-windows",
            ))
        })
    }
}

impl Accepted {
    /// For made-up disks.
    pub(crate) fn for_demo() -> Self {
        Self {
            job_in_memory: true,
            ..Self::default()
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Place {
    /// Whichever moves least
    Auto,
    /// Unused space
    Gap,
    /// The tail of the System Reserved or a Windows volume
    Shrink,
    /// Instead of the System Reserved partition, whose content is saved in the job folder first
    Takeover,
}

fn sector_size(text: &str) -> Result<u32, String> {
    match text {
        "512" => Ok(512),
        "4096" => Ok(4096),
        _ => Err("sectors have 512 or 4096 bytes".to_owned()),
    }
}
