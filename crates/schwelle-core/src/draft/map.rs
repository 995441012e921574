//! The layout before and after, as it is shown.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::device::{Extent, Geometry};
use crate::gpt::{GptEntry, type_guid, type_name};
use crate::mbr::MbrLayout;
use crate::placement::EspFrom;
use crate::profile::{Origin, Partition, Profile, Role};

/// What happens to a part of the disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Change {
    /// Stays as it is.
    Kept,
    /// Is new.
    New,
    /// Is shrunk.
    Smaller,
    /// Stays, and gets more files.
    Filled,
    /// Stays, and gets a new file system.
    Formatted,
    /// Stays, and gets another type.
    Retyped,
}

impl Change {
    /// The word in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Kept => "kept",
            Self::New => "new",
            Self::Smaller => "smaller",
            Self::Filled => "filled",
            Self::Formatted => "formatted",
            Self::Retyped => "retyped",
        }
    }
}

/// A partition or a gap, at its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MapPart {
    /// The partition's number; `None` for a gap.
    pub number: Option<usize>,
    /// Where it lies.
    pub extent: Extent,
    /// Type as its table names it.
    pub kind: String,
    /// What it is for; `None` for a gap.
    pub role: Option<Role>,
    /// Label; comes from the disk.
    pub label: String,
    /// Marked active (MBR).
    pub active: bool,
    /// Attribute bits (GPT).
    pub attributes: u64,
    /// What happens to it.
    pub change: Change,
}

impl MapPart {
    fn gap(extent: Extent) -> Self {
        Self {
            number: None,
            extent,
            kind: "unused".to_owned(),
            role: None,
            label: String::new(),
            active: false,
            attributes: 0,
            change: Change::Kept,
        }
    }

    fn of(partition: &Partition) -> Self {
        let (kind, active, attributes) = match &partition.origin {
            Origin::Mbr { kind, active, .. } => {
                (format!("{:02X}h {}", kind.0, kind.name()), *active, 0)
            }
            Origin::Gpt(entry) => (type_name(entry.kind).to_owned(), false, entry.attributes),
            Origin::Bare => ("no table".to_owned(), false, 0),
        };
        Self {
            number: Some(partition.number),
            extent: partition.extent,
            kind,
            role: Some(partition.role),
            label: partition.volume.label.clone(),
            active,
            attributes,
            change: Change::Kept,
        }
    }

    /// The disk as it is, in disk order.
    pub fn before(profile: &Profile) -> Vec<Self> {
        let gaps = profile.gaps.iter().map(|&gap| Self::gap(gap));
        sorted(
            profile
                .partitions
                .iter()
                .map(Self::of)
                .chain(gaps)
                .collect(),
        )
    }

    /// The disk as it will be. `entries` are the new table's, with their numbers.
    pub(crate) fn after<'e>(
        geometry: Geometry,
        kept: &[&Partition],
        entries: impl Iterator<Item = (usize, &'e GptEntry)>,
        esp: Option<EspFrom>,
    ) -> Vec<Self> {
        let entries: Vec<(usize, &GptEntry)> = entries.collect();
        let used: Vec<Extent> = entries.iter().map(|(_, entry)| entry.extent).collect();
        let gaps = crate::gaps::gaps(geometry, &used);
        let parts = entries.iter().map(|(number, entry)| {
            // No two begin at the same place.
            let mut kept = kept.iter();
            let kept = kept.find(|part| part.extent.first == entry.extent.first);
            Self {
                number: Some(*number),
                extent: entry.extent,
                kind: type_name(entry.kind).to_owned(),
                role: Some(match kept {
                    Some(partition) if entry.kind != type_guid::EFI_SYSTEM => partition.role,
                    _ => Role::Esp,
                }),
                label: kept.map_or_else(String::new, |partition| partition.volume.label.clone()),
                active: false,
                attributes: entry.attributes,
                change: match kept {
                    None => Change::New,
                    Some(partition) if partition.extent != entry.extent => Change::Smaller,
                    Some(partition) if esp == Some(EspFrom::Existing(partition.number)) => {
                        Change::Filled
                    }
                    Some(partition) if esp == Some(EspFrom::Formatted(partition.number)) => {
                        Change::Formatted
                    }
                    Some(partition) if partition.gpt_kind().is_some_and(|k| k != entry.kind) => {
                        Change::Retyped
                    }
                    Some(_) => Change::Kept,
                },
            }
        });
        sorted(parts.chain(gaps.into_iter().map(Self::gap)).collect())
    }
}

impl MapPart {
    /// The disk as it will be, on the way back to MBR.
    pub(crate) fn after_back(
        geometry: Geometry,
        kept: &[&Partition],
        layout: &MbrLayout,
    ) -> Vec<Self> {
        let used: Vec<Extent> = layout.numbered().map(|(_, entry)| entry.extent).collect();
        let gaps = crate::gaps::gaps(geometry, &used);
        let parts = layout.numbered().map(|(number, entry)| {
            let mut kept = kept.iter();
            let kept = kept.find(|part| part.extent == entry.extent);
            let (role, change) = match entry.active {
                true => (Some(Role::Boot), Change::Filled),
                false => (kept.map(|part| part.role), Change::Kept),
            };
            Self {
                number: Some(number),
                extent: entry.extent,
                kind: format!("{:02X}h {}", entry.kind.0, entry.kind.name()),
                role,
                label: kept.map_or_else(String::new, |part| part.volume.label.clone()),
                active: entry.active,
                attributes: 0,
                change,
            }
        });
        sorted(parts.chain(gaps.into_iter().map(Self::gap)).collect())
    }
}

fn sorted(mut parts: Vec<MapPart>) -> Vec<MapPart> {
    parts.sort_by_key(|part| part.extent);
    parts
}
