//! The table of a disk, and the partitions that it names.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::device::{Extent, Lba};
use crate::gpt::{GptEntry, GptPair};
use crate::mbr::{Kind, MbrTable};

use super::encryption::Encryption;
use super::volume::{Volume, VolumeKind};

/// Style of the partition table.
#[derive(Debug)]
pub enum Table {
    /// No table, and nothing in sector 0.
    Blank,
    /// A file system on the bare disk.
    Bare,
    /// Sector 0 holds something that is no table.
    Unknown,
    /// MBR.
    Mbr {
        /// The table.
        table: MbrTable,
        /// A GPT header lies on the disk all the same: a leftover.
        gpt_leftover: bool,
    },
    /// GPT.
    Gpt {
        /// Both copies.
        pair: GptPair,
        /// Sector 0 names partitions besides the protective one.
        hybrid: bool,
    },
}

impl Table {
    /// The disk's GUID in each sound copy of its GPT.
    pub(crate) fn disk_ids(&self) -> impl Iterator<Item = Uuid> {
        let copies = match self {
            Self::Gpt { pair, .. } => [pair.primary.as_ref().ok(), pair.backup.as_ref().ok()],
            Self::Blank | Self::Bare | Self::Unknown | Self::Mbr { .. } => [None, None],
        };
        copies.into_iter().flatten().map(|copy| copy.header.disk_id)
    }
}

/// Where a partition is named, and how.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// In the MBR or an extended boot record.
    Mbr {
        /// Type byte.
        kind: Kind,
        /// Marked active.
        active: bool,
        /// A logical partition.
        logical: bool,
        /// The sector that names it.
        named_at: Lba,
    },
    /// In the GPT.
    Gpt(GptEntry),
    /// The whole bare disk.
    Bare,
}

/// What a partition is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub enum Role {
    /// EFI system partition.
    #[serde(rename = "EFI system")]
    Esp,
    /// Holds the boot files of a BIOS start.
    #[serde(rename = "boot")]
    Boot,
    /// Holds an installed Windows.
    #[serde(rename = "Windows")]
    Windows,
    /// Holds a recovery environment and nothing else of note.
    #[serde(rename = "recovery")]
    Recovery,
    /// Reserved by the system.
    #[serde(rename = "reserved")]
    Reserved,
    /// Anything else.
    #[serde(rename = "data")]
    Data,
}

impl Role {
    /// The word shown.
    pub fn name(self) -> &'static str {
        match self {
            Self::Esp => "EFI system",
            Self::Boot => "boot",
            Self::Windows => "Windows",
            Self::Recovery => "recovery",
            Self::Reserved => "reserved",
            Self::Data => "data",
        }
    }
}

/// A partition with its content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// Its number in the table.
    pub number: usize,
    /// Where it lies.
    pub extent: Extent,
    /// How it is named.
    pub origin: Origin,
    /// What it holds.
    pub volume: Volume,
    /// What it is for.
    pub role: Role,
    /// How its volume is encrypted, where it is; it may be open.
    pub encryption: Option<Encryption>,
}

/// A partition as it is named to people: by its number and the label of its volume. The label comes from the
/// disk and is escaped before it is shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Titled {
    /// Its number.
    pub number: usize,
    /// The label of its volume; empty where it has none.
    pub label: String,
}

impl Partition {
    /// Its number and label.
    pub fn titled(&self) -> Titled {
        Titled {
            number: self.number,
            label: self.volume.label.clone(),
        }
    }

    /// "partition 2 (Leuchtturm)": number and label.
    pub fn title(&self) -> String {
        match self.volume.label.as_str() {
            "" => format!("partition {}", self.number),
            label => format!("partition {} ({label})", self.number),
        }
    }

    /// Type GUID, in a GPT.
    pub(crate) fn gpt_kind(&self) -> Option<Uuid> {
        match &self.origin {
            Origin::Gpt(entry) => Some(entry.kind),
            _ => None,
        }
    }

    /// There are shadow copies (restore points) on its volume.
    pub(crate) fn has_shadow_copies(&self) -> bool {
        let ntfs = self.volume.ntfs.as_ref();
        ntfs.is_some_and(|health| health.shadows.is_some())
    }

    /// Its type says NTFS or exFAT, and it holds nothing that is known.
    pub fn is_unrecognised(&self) -> bool {
        let is_07 = matches!(self.origin, Origin::Mbr { kind, .. } if kind.visible() == Kind(0x07));
        is_07 && self.volume.kind == VolumeKind::Unknown
    }

    /// Cannot be looked into: encrypted, or damaged.
    pub fn is_closed(&self) -> bool {
        matches!(self.volume.kind, VolumeKind::Encrypted(_)) || self.volume.fault.is_some()
    }

    /// An encrypted volume that has been opened.
    pub fn is_opened(&self) -> bool {
        let encryption = self.encryption.as_ref();
        encryption.is_some_and(|encryption| encryption.opened_by.is_some())
    }

    /// An NTFS volume that can be read.
    pub(super) fn is_sound_ntfs(&self) -> bool {
        self.volume.kind == VolumeKind::Ntfs && self.volume.fault.is_none()
    }

    /// Marked active.
    pub fn is_active(&self) -> bool {
        matches!(self.origin, Origin::Mbr { active: true, .. })
    }
}

/// What kind of table a disk has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub enum TableStyle {
    /// An MBR.
    #[serde(rename = "MBR")]
    Mbr,
    /// A GPT.
    #[serde(rename = "GPT")]
    Gpt,
    /// A GPT whose sector 0 names partitions beside the protective entry.
    #[serde(rename = "hybrid")]
    Hybrid,
    /// None: a file system fills the disk.
    #[serde(rename = "bare volume")]
    BareVolume,
    /// None, and no partition.
    #[serde(rename = "blank")]
    Blank,
    /// None that is known.
    #[serde(rename = "unknown")]
    Unknown,
}

impl TableStyle {
    /// What technicians call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Mbr => "MBR",
            Self::Gpt => "GPT",
            Self::Hybrid => "hybrid",
            Self::BareVolume => "bare volume",
            Self::Blank => "blank",
            Self::Unknown => "unknown",
        }
    }
}

/// The extended boot records' own sectors are in use as long as the disk is an MBR disk: a new
/// partition must not lie on them before sector 0 is replaced.
pub(super) fn used_extents(table: &Table, partitions: &[Partition]) -> Vec<Extent> {
    let mut used: Vec<Extent> = partitions
        .iter()
        .map(|partition| partition.extent)
        .collect();
    if let Table::Mbr { table, .. } = table {
        let records = table
            .partitions
            .iter()
            .map(|partition| partition.named_at)
            .filter(|lba| lba.0 != 0);
        let extended = table.extended.iter().map(|extended| extended.extent.first);
        used.extend(
            records
                .chain(extended)
                .filter_map(|lba| Extent::new(lba, 1)),
        );
    }
    used
}
