//! The evidence that lasts, piece by piece.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bootstore::BootStore;
use crate::device::Extent;
use crate::fat::FatVolume;
use crate::gpt::GptCopy;
use crate::hive::Hive;
use crate::ntfs::{LogState, NtfsVolume};
use crate::profile::{ESP_STORE, WindowsSystem};
use crate::receipt::Receipt;
use crate::windows::{HiveFile, SYSTEM_HIVE};

const BOOT_STATUS: &str = "\\EFI\\Microsoft\\Boot\\bootstat.dat";
const MAX_STORE_BYTES: u64 = 16 << 20;

/// What a piece of evidence is worth.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// Without it nothing else counts.
    Needed,
    /// Settles the question.
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
            Self::Strong => "strong",
            Self::Weak => "weak",
            Self::Aside => "aside",
        }
    }
}

/// What a piece of evidence says to "did it start in UEFI mode".
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
    /// A stable name.
    pub name: &'static str,
    /// What it is worth.
    pub weight: Weight,
    /// What it says.
    pub says: Says,
    /// Number of the partition with the Windows it is about; `None` where it is about all.
    pub system: Option<usize>,
    /// What was found.
    pub text: String,
}

impl Evidence {
    pub(super) fn new(
        name: &'static str,
        weight: Weight,
        says: Says,
        text: impl Into<String>,
    ) -> Self {
        Self {
            name,
            weight,
            says,
            system: None,
            text: text.into(),
        }
    }
}

/// What the boot manager leaves on the EFI system partition.
pub(super) fn of_esp(fat: &FatVolume<'_>, receipt: Option<&Receipt>) -> Vec<Evidence> {
    let mut all = Vec::new();
    let store = fat.find(ESP_STORE).ok().flatten();
    let store = store.and_then(|entry| fat.read_file(&entry, MAX_STORE_BYTES).ok());
    let written = store.and_then(|bytes| {
        BootStore::read(&bytes[..]).ok()?;
        Some(Hive::open(&bytes[..]).ok()?.written().0)
    });
    // The boot manager does not always write its store, so an old one says nothing.
    if let (Some(written), Some(receipt)) = (written, receipt) {
        let (says, text) = if written == receipt.converted {
            (Says::Nothing, "is as the conversion made it")
        } else {
            (Says::Yes, "has been written since the conversion")
        };
        let text = format!("the boot store {text}");
        all.push(Evidence::new("boot-store", Weight::Strong, says, text));
    }
    let status = fat.find(BOOT_STATUS).ok().flatten();
    let (says, text) = match status {
        Some(_) => (Says::Yes, "lies beside the boot store"),
        None => (Says::Nothing, "is not there"),
    };
    let text = format!("the boot manager's status file {text}");
    all.push(Evidence::new("boot-status", Weight::Weak, says, text));
    all
}

/// What a Windows leaves on its own volume. `place`: the table, its partition, and the number of
/// the EFI system partition.
pub(super) fn of_system(
    volume: &NtfsVolume<'_>,
    system: &WindowsSystem,
    (table, extent, esp): (&GptCopy, Extent, Option<usize>),
    receipt: Option<&Receipt>,
) -> Vec<Evidence> {
    let mut all = Vec::new();
    let id = table
        .entries
        .iter()
        .find(|(_, entry)| entry.extent == extent);
    let before = receipt.and_then(|receipt| {
        let (_, entry) = id?;
        let mut systems = receipt.systems.iter();
        systems.find(|system| system.partition == entry.id)
    });
    let subject = system.title();
    if let Some(receipt) = receipt {
        all.extend(registry_time(volume, &subject, receipt.converted));
    }
    let before = before.and_then(|system| system.firmware_boot_device.as_deref());
    if let Some(device) = &system.firmware_boot_device {
        all.push(boot_device(&subject, device, before, esp));
    }
    let log = match volume.log_state() {
        Ok(LogState::InUse | LogState::Mounted) => {
            Some("is in use: something has written since the conversion")
        }
        Ok(LogState::Clean) => Some("was closed properly"),
        _ => None,
    };
    if let Some(text) = log {
        let text = format!("{subject}: the volume's log {text}");
        all.push(Evidence::new(
            "volume-log",
            Weight::Weak,
            Says::Nothing,
            text,
        ));
    }
    for piece in &mut all {
        piece.system = Some(system.partition);
    }
    all
}

/// When the registry was last written. A Windows writes it at every start, and a GPT disk starts in
/// UEFI mode only.
fn registry_time(volume: &NtfsVolume<'_>, subject: &str, converted: u64) -> Option<Evidence> {
    let hive = HiveFile::find(volume, SYSTEM_HIVE).ok()??;
    let (written, is_closed) = {
        let hive = Hive::open(&hive.file).ok()?;
        (hive.written().0, hive.is_cleanly_closed())
    };
    let (says, text) = if !is_closed || written > converted {
        (
            Says::Yes,
            "its registry has been written since the conversion",
        )
    } else if written == converted {
        (Says::No, "its registry is as the conversion left it")
    } else {
        (
            Says::Nothing,
            "its registry says an earlier time than that of the conversion",
        )
    };
    let text = format!("{subject}: {text}");
    Some(Evidence::new("registry", Weight::Strong, says, text))
}

/// The partition that the firmware started from, as Windows wrote it down at its last start.
fn boot_device(subject: &str, device: &str, before: Option<&str>, esp: Option<usize>) -> Evidence {
    let number = |name: &str| -> Option<usize> {
        let (_, rest) = name.rsplit_once("partition(")?;
        rest.strip_suffix(')')?.parse().ok()
    };
    let now = number(device);
    let (says, text) = match (now, esp) {
        _ if before == Some(device) && now != esp => {
            (Says::No, "the same as before the conversion".to_owned())
        }
        (Some(now), Some(esp)) if now == esp && before != Some(device) => {
            let since = if before.is_some() {
                ", and was another before"
            } else {
                ""
            };
            (
                Says::Yes,
                format!("that is the EFI system partition{since}"),
            )
        }
        (Some(now), Some(esp)) if now != esp => (
            Says::No,
            format!("that is not the EFI system partition, which is number {esp}"),
        ),
        _ => (Says::Nothing, "which does not tell".to_owned()),
    };
    let text = format!("{subject}: last started from {device}: {text}");
    Evidence::new("boot-device", Weight::Strong, says, text)
}
