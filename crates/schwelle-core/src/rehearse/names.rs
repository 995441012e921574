//! By which names the partitions of a disk are found: those that boot stores, drive letters and the recovery
//! configuration use.

use uuid::Uuid;

use crate::bootstore::DeviceElement;
use crate::crossing::{PartitionName, Style};
use crate::device::{Extent, Geometry};
use crate::gpt::{GptCopy, type_guid};
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

    /// The partition with a name; the text says what is wrong with it.
    pub(super) fn find(&self, name: PartitionName) -> Result<&Named, String> {
        let mut partitions = self.partitions.iter();
        match (self.disk, name) {
            (DiskId::Gpt(own), PartitionName::Gpt { disk, partition }) if disk == own => {
                partitions.find(|part| part.id == partition).ok_or_else(|| {
                    format!("names the partition {partition}, which this disk does not have")
                })
            }
            (DiskId::Gpt(own), PartitionName::Gpt { disk, .. }) => {
                Err(format!("names the disk {disk}, but this is {own}"))
            }
            (DiskId::Mbr(own), PartitionName::Mbr { signature, offset }) if signature == own => {
                partitions
                    .find(|part| part.offset == offset)
                    .ok_or_else(|| format!("names byte {offset}, where no partition begins"))
            }
            (DiskId::Mbr(own), PartitionName::Mbr { signature, .. }) => Err(format!(
                "names the disk with the signature {signature:08X}, but this is {own:08X}"
            )),
            (DiskId::Gpt(_), PartitionName::Mbr { signature, offset }) => Err(format!(
                "still names an MBR disk (signature {signature:08X}, byte {offset})"
            )),
            (DiskId::Mbr(_), PartitionName::Gpt { disk, partition }) => Err(format!(
                "still names a GPT disk ({disk}, partition {partition})"
            )),
        }
    }

    /// The partition of this disk that a device element names; the text says what is wrong.
    pub(super) fn resolve(&self, device: &DeviceElement) -> Result<Extent, String> {
        match device.locators().first() {
            Some(&name) => Ok(self.find(name)?.extent),
            None => Err("names no partition".to_owned()),
        }
    }
}
