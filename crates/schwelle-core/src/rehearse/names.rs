//! By which names the partitions of a disk are found: those that BCD stores, drive letters and the recovery
//! configuration use.

use uuid::Uuid;

use super::answers::NameFault;
use crate::bcd::DeviceElement;
use crate::device::{Extent, Geometry};
use crate::gpt::{GptCopy, type_guid};
use crate::identities::{PartitionName, Style};
use crate::mbr::MbrTable;

/// The identity of a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum DiskId {
    Mbr(u32),
    Gpt(Uuid),
}

/// A partition with its names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Named {
    pub(super) number: usize,
    pub(super) extent: Extent,
    /// Byte offset on the disk.
    pub(super) offset: u64,
    /// Its GUID, in a GPT.
    pub(super) id: Uuid,
    pub(super) is_esp: bool,
}

/// The partitions of a disk, by their names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct DiskNames {
    pub(super) disk: DiskId,
    pub(super) partitions: Vec<Named>,
}

/// The partition of a GPT disk that a device element of a BCD store names.
pub fn partition_named(
    geometry: Geometry,
    table: &GptCopy,
    device: &DeviceElement,
) -> Option<Extent> {
    DiskNames::of_gpt(geometry, table).resolve(device).ok()
}

impl DiskNames {
    pub(super) fn of_gpt(geometry: Geometry, table: &GptCopy) -> Self {
        let named = table.entries.iter().filter_map(|(number, entry)| {
            Some(Named {
                number: *number,
                extent: entry.extent,
                offset: geometry.byte_of(entry.extent.first)?,
                id: entry.id,
                is_esp: entry.kind == type_guid::EFI_SYSTEM,
            })
        });
        Self {
            disk: DiskId::Gpt(table.header.disk_id),
            partitions: named.collect(),
        }
    }

    pub(super) fn of_mbr(geometry: Geometry, table: &MbrTable) -> Self {
        let named = table.partitions.iter().filter_map(|part| {
            Some(Named {
                number: part.slot.number(),
                extent: part.extent,
                offset: geometry.byte_of(part.extent.first)?,
                id: Uuid::nil(),
                is_esp: false,
            })
        });
        Self {
            disk: DiskId::Mbr(table.record.disk_signature),
            partitions: named.collect(),
        }
    }

    /// The style of its table.
    pub(super) fn style(&self) -> Style {
        match self.disk {
            DiskId::Mbr(_) => Style::Mbr,
            DiskId::Gpt(_) => Style::Gpt,
        }
    }

    /// The partition at a place.
    pub(super) fn at(&self, extent: Extent) -> Option<&Named> {
        self.partitions.iter().find(|part| part.extent == extent)
    }

    /// The partition with a name.
    pub(super) fn find(&self, name: PartitionName) -> Result<&Named, NameFault> {
        let mut partitions = self.partitions.iter();
        match (self.disk, name) {
            (DiskId::Gpt(own), PartitionName::Gpt { disk, partition }) if disk == own => {
                let found = partitions.find(|part| part.id == partition);
                found.ok_or(NameFault::NoSuchPartition { partition })
            }
            (DiskId::Gpt(own), PartitionName::Gpt { disk, .. }) => {
                Err(NameFault::OtherGptDisk { disk, own })
            }
            (DiskId::Mbr(own), PartitionName::Mbr { signature, offset }) if signature == own => {
                let found = partitions.find(|part| part.offset == offset);
                found.ok_or(NameFault::NoPartitionAt { offset })
            }
            (DiskId::Mbr(own), PartitionName::Mbr { signature, .. }) => {
                Err(NameFault::OtherMbrDisk { signature, own })
            }
            (DiskId::Gpt(_), PartitionName::Mbr { signature, offset }) => {
                Err(NameFault::StillMbr { signature, offset })
            }
            (DiskId::Mbr(_), PartitionName::Gpt { disk, partition }) => {
                Err(NameFault::StillGpt { disk, partition })
            }
        }
    }

    /// The partition of this disk that a device element names.
    pub(super) fn resolve(&self, device: &DeviceElement) -> Result<Extent, NameFault> {
        match device.locators().first() {
            Some(&name) => Ok(self.find(name)?.extent),
            None => Err(NameFault::None),
        }
    }
}
