//! The key `MountedDevices`: which volume has which drive letter.

use uuid::Uuid;

use crate::bytes::{array_at, u32_at, u64_at};
use crate::hive::Value;
use crate::identities::{Identities, PartitionName};

/// The key, below the root of the hive SYSTEM.
pub(crate) const MOUNTED_DEVICES: &str = "MountedDevices";

const LETTER: &str = "\\DosDevices\\";
/// What the GPT form begins with; the partition's GUID follows.
const GPT_MARK: &[u8; 8] = b"DMIO:ID:";
const MBR_BYTES: usize = 12;
const GPT_BYTES: usize = 24;

/// What a value of the key names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MountTarget {
    /// A partition of an MBR disk: signature and byte offset.
    Mbr {
        /// Signature of the disk.
        signature: u32,
        /// Byte offset of the partition.
        offset: u64,
    },
    /// A partition of a GPT disk.
    Gpt(Uuid),
    /// Something else, such as a drive with removable media.
    Other,
}

/// A value of the key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MountedName {
    /// The value's name.
    pub name: String,
    /// What it names.
    pub target: MountTarget,
}

impl MountedName {
    /// What a value says.
    pub fn of(value: &Value) -> Self {
        let data = &value.data[..];
        let target = match data.len() {
            MBR_BYTES => u32_at(data, 0)
                .zip(u64_at(data, 4))
                .map(|(signature, offset)| MountTarget::Mbr { signature, offset }),
            GPT_BYTES if data.starts_with(GPT_MARK) => {
                array_at(data, GPT_MARK.len()).map(|id| MountTarget::Gpt(Uuid::from_bytes_le(id)))
            }
            _ => None,
        };
        Self {
            name: value.name.clone(),
            target: target.unwrap_or(MountTarget::Other),
        }
    }

    /// The drive letter, with its colon; `None` for names of other kinds.
    pub fn letter(&self) -> Option<&str> {
        let (head, letter) = self.name.split_at_checked(LETTER.len())?;
        head.eq_ignore_ascii_case(LETTER).then_some(letter)
    }

    /// The value's new data, when the partition it names is carried over.
    pub fn converted(&self, identities: &Identities) -> Option<Vec<u8>> {
        let name = match self.target {
            MountTarget::Mbr { signature, offset } => PartitionName::Mbr { signature, offset },
            // The GUID of a partition stands for itself, without its disk's.
            MountTarget::Gpt(partition) => PartitionName::Gpt {
                disk: identities.disk,
                partition,
            },
            MountTarget::Other => return None,
        };
        Some(match identities.converted(name)? {
            PartitionName::Mbr { signature, offset } => {
                [&signature.to_le_bytes()[..], &offset.to_le_bytes()].concat()
            }
            PartitionName::Gpt { partition, .. } => {
                [&GPT_MARK[..], &partition.to_bytes_le()].concat()
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identities::Style;

    #[test]
    fn names_of_this_disk_cross_and_no_others() {
        let value = |name: &str, data: &[u8]| Value {
            name: name.into(),
            kind: 3,
            data: data.to_vec(),
        };
        let mbr = |signature: u32, offset: u64| {
            [&signature.to_le_bytes()[..], &offset.to_le_bytes()].concat()
        };
        let partition = Uuid::from_u128(7);
        let identities = Identities {
            to: Style::Gpt,
            signature: 0x51C3_A7E5,
            disk: Uuid::from_u128(1),
            esp: Uuid::from_u128(2),
            partitions: vec![(51 << 20, partition)],
        };
        let gpt = [b"DMIO:ID:", &partition.to_bytes_le()[..]].concat();
        for (name, data, letter, converted) in [
            (
                "\\DosDevices\\C:",
                mbr(0x51C3_A7E5, 51 << 20),
                Some("C:"),
                true,
            ),
            (
                "\\dosdevices\\d:",
                mbr(0x51C3_A7E5, 50 << 20),
                Some("d:"),
                false,
            ),
            (
                "\\DosDevices\\E:",
                mbr(0x0BAD_CAFE, 51 << 20),
                Some("E:"),
                false,
            ),
            ("\\??\\Volume{x}", mbr(0x51C3_A7E5, 51 << 20), None, true),
            ("\\DosDevices\\F:", gpt.clone(), Some("F:"), false),
            ("#{y}", b"_??_USBSTOR".to_vec(), None, false),
        ] {
            let name = MountedName::of(&value(name, &data));
            assert_eq!(name.letter(), letter);
            assert_eq!(
                name.converted(&identities),
                converted.then(|| gpt.clone()),
                "{name:?}"
            );
            if let Some(data) = name.converted(&identities) {
                let after = MountedName::of(&value(&name.name, &data));
                assert_eq!(after.target, MountTarget::Gpt(partition));
                let back = Identities {
                    to: Style::Mbr,
                    ..identities.clone()
                };
                assert_eq!(after.converted(&back), Some(mbr(0x51C3_A7E5, 51 << 20)));
                assert_eq!(name.converted(&back), None);
            }
        }
    }
}
