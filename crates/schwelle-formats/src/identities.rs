//! The identities of a disk and its partitions in both tables, and which way they are converted.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use uuid::Uuid;

/// The style of table that a conversion makes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Style {
    /// GPT, started in UEFI mode.
    #[default]
    Gpt,
    /// MBR, started in BIOS mode: the way back.
    Mbr,
}

impl Style {
    /// The word in options and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gpt => "gpt",
            Self::Mbr => "mbr",
        }
    }
}

/// What a partition is called by those who keep its name: BCD stores, drive letters, the recovery
/// configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PartitionName {
    /// By the MBR's disk signature and the partition's byte offset.
    Mbr {
        /// Disk signature.
        signature: u32,
        /// Byte offset of the partition on the disk.
        offset: u64,
    },
    /// By GUIDs.
    Gpt {
        /// GUID of the disk.
        disk: Uuid,
        /// GUID of the partition.
        partition: Uuid,
    },
}

/// How a disk and its partitions are named in an MBR and in a GPT. Places do not change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identities {
    /// Which of the two tables the disk gets.
    pub to: Style,
    /// Signature of the MBR disk.
    pub signature: u32,
    /// GUID of the GPT disk.
    pub disk: Uuid,
    /// GUID of the EFI system partition.
    pub esp: Uuid,
    /// Byte offset and GUID of each partition that is carried over.
    pub partitions: Vec<(u64, Uuid)>,
}

impl Identities {
    /// The GUID of the partition that an MBR disk's signature and a byte offset name; `None` when
    /// they name none of this disk's.
    pub fn partition(&self, signature: u32, offset: u64) -> Option<Uuid> {
        let mut partitions = self.partitions.iter();
        let known = partitions.find(|(place, _)| *place == offset)?;
        (signature == self.signature).then_some(known.1)
    }

    /// The byte offset of the partition with this GUID.
    pub fn offset(&self, partition: Uuid) -> Option<u64> {
        let mut partitions = self.partitions.iter();
        Some(partitions.find(|(_, id)| *id == partition)?.0)
    }

    /// What a partition of this disk is called afterwards; `None` for one that is called so already, and
    /// for all of other disks.
    pub fn converted(&self, name: PartitionName) -> Option<PartitionName> {
        match (self.to, name) {
            (Style::Gpt, PartitionName::Mbr { signature, offset }) => Some(PartitionName::Gpt {
                disk: self.disk,
                partition: self.partition(signature, offset)?,
            }),
            (Style::Mbr, PartitionName::Gpt { disk, partition }) if disk == self.disk => {
                let (signature, offset) = (self.signature, self.offset(partition)?);
                Some(PartitionName::Mbr { signature, offset })
            }
            _ => None,
        }
    }

    /// What the partition at this byte offset is called now.
    pub fn name_before(&self, offset: u64) -> Option<PartitionName> {
        let signature = self.signature;
        match self.to {
            Style::Gpt => Some(PartitionName::Mbr { signature, offset }),
            Style::Mbr => Some(PartitionName::Gpt {
                disk: self.disk,
                partition: self.partition(signature, offset)?,
            }),
        }
    }

    /// What the partition with this GUID is called afterwards. On the way to GPT, the EFI system partition
    /// need not be among those that are carried over.
    pub(crate) fn name_after(&self, partition: Uuid) -> PartitionName {
        match (self.to, self.offset(partition)) {
            (Style::Mbr, Some(offset)) => PartitionName::Mbr {
                signature: self.signature,
                offset,
            },
            _ => PartitionName::Gpt {
                disk: self.disk,
                partition,
            },
        }
    }
}
