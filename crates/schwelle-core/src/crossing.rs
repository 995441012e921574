//! The identities of a disk and its partitions, before and after it crosses from MBR to GPT.

use uuid::Uuid;

/// How a disk and its partitions are named before and after. Places do not change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Crossing {
    /// Signature of the MBR disk.
    pub signature: u32,
    /// GUID of the GPT disk.
    pub disk: Uuid,
    /// GUID of the EFI system partition.
    pub esp: Uuid,
    /// Byte offset and GUID of each partition that crosses.
    pub partitions: Vec<(u64, Uuid)>,
}

impl Crossing {
    /// The GUID of the partition that an MBR disk's signature and a byte offset name; `None` when
    /// they name none of this disk's.
    pub fn partition(&self, signature: u32, offset: u64) -> Option<Uuid> {
        let mut partitions = self.partitions.iter();
        let known = partitions.find(|(place, _)| *place == offset)?;
        (signature == self.signature).then_some(known.1)
    }
}
