//! The evidence that lasts, piece by piece.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bcd::BcdStore;
use crate::device::Extent;
use crate::fat::FatVolume;
use crate::firmware::{BootMode, Ground};
use crate::gpt::GptCopy;
use crate::hive::Hive;
use crate::marker::Marker;
use crate::ntfs::{LogState, NtfsVolume};
use crate::profile::{ESP_STORE, WindowsSystem};
use crate::windows::{HiveFile, SYSTEM_HIVE};

const BOOT_STATUS: &str = "\\EFI\\Microsoft\\Boot\\bootstat.dat";
const MAX_STORE_BYTES: u64 = 16 << 20;

/// What a piece of evidence is worth.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// Without it nothing else counts.
    Needed,
    /// The running system says it itself: nothing else counts.
    Decisive,
    /// Answers the question.
    Strong,
    /// Fits, but something else may have done it.
    Weak,
    /// Is about something else that the technician wants to know.
    Aside,
}

impl Weight {
    /// The word in reports and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Needed => "needed",
            Self::Decisive => "decisive",
            Self::Strong => "strong",
            Self::Weak => "weak",
            Self::Aside => "aside",
        }
    }
}

/// What a piece of evidence says to "did it start in UEFI mode".
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Says {
    /// Yes.
    Yes,
    /// No.
    No,
    /// Neither.
    Nothing,
}

impl Says {
    /// The word in reports and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Yes => "yes",
            Self::No => "no",
            Self::Nothing => "nothing",
        }
    }
}

/// A piece of evidence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Evidence {
    /// What it is worth.
    pub weight: Weight,
    /// What it says.
    pub says: Says,
    /// Number of the partition with the installed Windows it is about; `None` where it is about all.
    pub system: Option<usize>,
    /// What was found.
    pub found: Lasting,
}

/// What is known of a start: what lasts of it, or what the system says that was started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Lasting {
    /// The mode of the PC's firmware.
    Firmware {
        /// Which; none where it is not known.
        mode: Option<BootMode>,
        /// Where that is known from, or why it is not.
        source: Ground,
    },
    /// The system that this runs on lies on the disk.
    Running {
        /// Where it is mounted.
        at: String,
        /// How it was started; none where it does not say.
        mode: Option<BootMode>,
    },
    /// The EFI system partition is mounted in the running system.
    EspMounted {
        /// Its number.
        partition: usize,
        /// Where.
        at: String,
    },
    /// Whether the EFI system partition gets a drive letter.
    Esp {
        /// Its number.
        partition: usize,
        /// It gets none.
        hidden: bool,
    },
    /// The marker of the conversion.
    Marker {
        /// It is there.
        found: bool,
    },
    /// The BCD store on the EFI system partition.
    BcdStore {
        /// It has been written since the conversion.
        written: bool,
    },
    /// The boot manager's status file.
    BootStatus {
        /// It is there.
        found: bool,
    },
    /// The registry of an installed Windows.
    Registry {
        /// Its name.
        system: String,
        /// When it was written.
        written: Written,
    },
    /// The partition that an installed Windows was last started from, as its registry says.
    BootDevice {
        /// Its name.
        system: String,
        /// The partition, as an ARC name.
        device: String,
        /// What that means.
        means: Means,
    },
    /// The log of an installed Windows' volume.
    VolumeLog {
        /// Its name.
        system: String,
        /// It is in use, so that something has written.
        in_use: bool,
    },
}

/// When a registry was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Written {
    /// Since the conversion.
    Since,
    /// By the conversion.
    ByConversion,
    /// At an earlier time than the conversion.
    Earlier,
}

/// What the partition says that an installed Windows was started from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Means {
    /// It is the same as before the conversion.
    SameAsBefore,
    /// It is the EFI system partition.
    Esp {
        /// And was another one before.
        was_another: bool,
    },
    /// It is not the EFI system partition.
    NotEsp {
        /// The number of that.
        esp: usize,
    },
    /// It does not say.
    Nothing,
}

impl Lasting {
    /// A stable name.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Firmware { .. } => "firmware",
            Self::Running { .. } => "running",
            Self::EspMounted { .. } => "esp-mounted",
            Self::Esp { .. } => "esp",
            Self::Marker { .. } => "marker",
            Self::BcdStore { .. } => "bcd-store",
            Self::BootStatus { .. } => "boot-status",
            Self::Registry { .. } => "registry",
            Self::BootDevice { .. } => "boot-device",
            Self::VolumeLog { .. } => "volume-log",
        }
    }
}

impl Evidence {
    pub(super) fn new(weight: Weight, says: Says, found: Lasting) -> Self {
        Self {
            weight,
            says,
            system: None,
            found,
        }
    }
}

/// What the boot manager leaves on the EFI system partition.
pub(super) fn of_esp(fat: &FatVolume<'_>, marker: Option<&Marker>) -> Vec<Evidence> {
    let mut all = Vec::new();
    let store = fat.find(ESP_STORE).ok().flatten();
    let store = store.and_then(|entry| fat.read_file(&entry, MAX_STORE_BYTES).ok());
    let written = store.and_then(|bytes| {
        BcdStore::read(&bytes[..]).ok()?;
        Some(Hive::open(&bytes[..]).ok()?.written().0)
    });
    // The boot manager does not always write its store, so an old one says nothing.
    if let (Some(written), Some(marker)) = (written, marker) {
        let written = written != marker.converted;
        let says = yes_or_nothing(written);
        let found = Lasting::BcdStore { written };
        all.push(Evidence::new(Weight::Strong, says, found));
    }
    let found = fat.find(BOOT_STATUS).ok().flatten().is_some();
    let says = yes_or_nothing(found);
    all.push(Evidence::new(
        Weight::Weak,
        says,
        Lasting::BootStatus { found },
    ));
    all
}

fn yes_or_nothing(yes: bool) -> Says {
    match yes {
        true => Says::Yes,
        false => Says::Nothing,
    }
}

/// What an installed Windows leaves on its own volume. `place`: the table, its partition, and the number of
/// the EFI system partition. `started_from`: what it was started from, where it is the one that is running.
pub(super) fn of_system(
    volume: &NtfsVolume<'_>,
    system: &WindowsSystem,
    (table, extent, esp): (&GptCopy, Extent, Option<usize>),
    marker: Option<&Marker>,
    started_from: Option<&str>,
) -> Vec<Evidence> {
    let mut all = Vec::new();
    let id = table
        .entries
        .iter()
        .find(|(_, entry)| entry.extent == extent);
    let before = marker.and_then(|marker| {
        let (_, entry) = id?;
        let mut systems = marker.systems.iter();
        systems.find(|system| system.partition == entry.id)
    });
    let subject = system.title();
    if let Some(marker) = marker {
        all.extend(registry_time(volume, &subject, marker.converted));
    }
    let before = before.and_then(|system| system.firmware_boot_device.as_deref());
    // What is running knows it better than its files, which are written later.
    if let Some(device) = started_from.or(system.firmware_boot_device.as_deref()) {
        all.push(boot_device(&subject, device, before, esp));
    }
    let in_use = match volume.log_state() {
        Ok(LogState::InUse | LogState::Mounted) => Some(true),
        Ok(LogState::Clean) => Some(false),
        _ => None,
    };
    all.extend(in_use.map(|in_use| {
        let system = subject.clone();
        let found = Lasting::VolumeLog { system, in_use };
        Evidence::new(Weight::Weak, Says::Nothing, found)
    }));
    for piece in &mut all {
        piece.system = Some(system.partition);
    }
    all
}

/// When the registry was last written. An installed Windows writes it at every start, and a GPT disk starts in
/// UEFI mode only.
fn registry_time(volume: &NtfsVolume<'_>, subject: &str, converted: u64) -> Option<Evidence> {
    let hive = HiveFile::find(volume, SYSTEM_HIVE).ok()??;
    let (written, is_closed) = {
        let hive = Hive::open(&hive.file).ok()?;
        (hive.written().0, hive.is_cleanly_closed())
    };
    let (says, written) = if !is_closed || written > converted {
        (Says::Yes, Written::Since)
    } else if written == converted {
        (Says::No, Written::ByConversion)
    } else {
        (Says::Nothing, Written::Earlier)
    };
    let system = subject.to_owned();
    let found = Lasting::Registry { system, written };
    Some(Evidence::new(Weight::Strong, says, found))
}

/// The partition that the firmware started from, as Windows wrote it down at its last start.
fn boot_device(subject: &str, device: &str, before: Option<&str>, esp: Option<usize>) -> Evidence {
    let number = |name: &str| -> Option<usize> {
        let (_, rest) = name.rsplit_once("partition(")?;
        rest.strip_suffix(')')?.parse().ok()
    };
    let now = number(device);
    let (says, means) = match (now, esp) {
        _ if before == Some(device) && now != esp => (Says::No, Means::SameAsBefore),
        (Some(now), Some(esp)) if now == esp && before != Some(device) => {
            let was_another = before.is_some();
            (Says::Yes, Means::Esp { was_another })
        }
        (Some(now), Some(esp)) if now != esp => (Says::No, Means::NotEsp { esp }),
        _ => (Says::Nothing, Means::Nothing),
    };
    let found = Lasting::BootDevice {
        system: subject.to_owned(),
        device: device.to_owned(),
        means,
    };
    Evidence::new(Weight::Strong, says, found)
}
