//! Load options: what a boot entry `Boot####` holds, with the device path that it leads along.
//!
//! Source: UEFI 2.10 §3.1.3 (`EFI_LOAD_OPTION`), §10.3 (device paths: hard drive media node
//! §10.3.5.1, file path node §10.3.5.4, end node §10.3.1).

#![warn(clippy::indexing_slicing)]

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::bytes::{array_at, u16_at, u32_at, u64_at, utf16_bytes, utf16_lossy};
use crate::device::{Extent, Lba};

/// Bit 0 of the attributes: the entry is tried.
const ACTIVE: u32 = 1;

const END: u8 = 0x7F;
const MEDIA: u8 = 4;
const HARD_DRIVE: u8 = 1;
const FILE_PATH: u8 = 4;
const FIRMWARE_FILE: u8 = 6;
const BIOS_BOOT: u8 = 5;
const MESSAGING: u8 = 3;

/// What a hard drive node knows a disk by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DiskSignature {
    /// The partition's GUID.
    Gpt(Uuid),
    /// The MBR's disk signature.
    Mbr(u32),
    /// None, or one of a kind that the specification does not know: table format, kind, bytes.
    Other(u8, u8, [u8; 16]),
}

/// A node of a device path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PathNode {
    /// A partition.
    HardDrive {
        /// Number of the partition.
        number: u32,
        /// Where it lies.
        extent: Extent,
        /// Which disk.
        signature: DiskSignature,
    },
    /// A file on it.
    File(String),
    /// Any other node, kept as it is: type, subtype, data.
    Other(u8, u8, Vec<u8>),
}

/// A boot entry's content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoadOption {
    /// Attribute bits.
    pub attributes: u32,
    /// Name in the firmware's menu.
    pub description: String,
    /// The first device path, without its end node.
    pub path: Vec<PathNode>,
    /// What follows it: more device paths, and data for the loader.
    pub rest: Vec<u8>,
    /// Bytes of `rest` that belong to device paths.
    pub more_paths_bytes: u16,
}

/// Why bytes are no load option.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error("no boot entry: {what} (byte {offset})")]
pub struct LoadOptionError {
    /// Where, in the variable's content.
    pub offset: usize,
    /// What is wrong.
    pub what: &'static str,
}

/// What an entry leads to where that is no partition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum OtherTarget {
    /// A program inside the firmware.
    Firmware,
    /// The network.
    Network,
    /// A USB device.
    Usb,
    /// A whole device, by its removable-media path.
    WholeDevice,
    /// A device in BIOS mode.
    BiosDevice,
    /// Something else.
    Unknown,
}

impl LoadOption {
    /// An active entry for a file on a GPT partition.
    pub fn for_file(description: &str, partition: (u32, Extent, Uuid), file: &str) -> Self {
        let (number, extent, id) = partition;
        let signature = DiskSignature::Gpt(id);
        let drive = PathNode::HardDrive {
            number,
            extent,
            signature,
        };
        Self {
            attributes: ACTIVE,
            description: description.to_owned(),
            path: vec![drive, PathNode::File(file.to_owned())],
            rest: Vec::new(),
            more_paths_bytes: 0,
        }
    }

    /// The firmware tries it.
    pub fn is_active(&self) -> bool {
        self.attributes & ACTIVE != 0
    }

    /// The partition that it leads to, where it names one.
    pub fn partition(&self) -> Option<(DiskSignature, Extent)> {
        self.path.iter().find_map(|node| match node {
            PathNode::HardDrive {
                signature, extent, ..
            } => Some((*signature, *extent)),
            _ => None,
        })
    }

    /// The file that it leads to, where it names one.
    pub fn file(&self) -> Option<&str> {
        self.path.iter().find_map(|node| match node {
            PathNode::File(path) => Some(path.as_str()),
            _ => None,
        })
    }

    /// What it leads to where that is no partition.
    pub fn other_target(&self) -> OtherTarget {
        let last = self.path.iter().rev().find_map(|node| match node {
            PathNode::Other(kind, subkind, _) => Some((*kind, *subkind)),
            _ => None,
        });
        match last {
            Some((MEDIA, FIRMWARE_FILE)) => OtherTarget::Firmware,
            Some((MESSAGING, 11..=13)) => OtherTarget::Network,
            Some((MESSAGING, 5)) => OtherTarget::Usb,
            Some((MESSAGING, _)) => OtherTarget::WholeDevice,
            Some((BIOS_BOOT, _)) => OtherTarget::BiosDevice,
            _ => OtherTarget::Unknown,
        }
    }

    /// Reads the content of a variable `Boot####`.
    pub fn parse(bytes: &[u8]) -> Result<Self, LoadOptionError> {
        let fault = |offset, what| LoadOptionError { offset, what };
        let (attributes, paths_bytes) = u32_at(bytes, 0)
            .zip(u16_at(bytes, 4))
            .ok_or(fault(0, "shorter than its header of 6 bytes"))?;
        let text = bytes.get(6..).unwrap_or_default();
        let units = text.as_chunks::<2>().0;
        let len = units
            .iter()
            .position(|unit| *unit == [0, 0])
            .ok_or(fault(6, "its name does not end"))?;
        let description = utf16_lossy(text.get(..len * 2).unwrap_or_default());
        let paths_at = 6 + len * 2 + 2;
        let paths_end = paths_at + usize::from(paths_bytes);
        let paths = bytes
            .get(paths_at..paths_end)
            .ok_or(fault(paths_at, "its device path leaves the variable"))?;
        let (path, used) = parse_path(paths).map_err(|(at, what)| fault(paths_at + at, what))?;
        let rest = bytes.get(paths_at + used..).unwrap_or_default();
        Ok(Self {
            attributes,
            description,
            path,
            rest: rest.to_vec(),
            more_paths_bytes: paths_bytes.saturating_sub(u16::try_from(used).unwrap_or(u16::MAX)),
        })
    }

    /// The content of the variable; `None` when the device path is longer than can be said.
    pub fn write(&self) -> Option<Vec<u8>> {
        let mut path = Vec::new();
        for node in &self.path {
            let (kind, subkind, data) = node.parts();
            let len = u16::try_from(data.len() + 4).ok()?;
            path.extend([kind, subkind]);
            path.extend(len.to_le_bytes());
            path.extend(data);
        }
        path.extend([END, 0xFF, 4, 0]);
        let paths_bytes = u16::try_from(path.len())
            .ok()?
            .checked_add(self.more_paths_bytes)?;
        let mut bytes = self.attributes.to_le_bytes().to_vec();
        bytes.extend(paths_bytes.to_le_bytes());
        bytes.extend(utf16_bytes(&self.description));
        bytes.extend([0, 0]);
        bytes.extend(path);
        bytes.extend(&self.rest);
        Some(bytes)
    }
}

/// The nodes up to the first end node, and the bytes that they take with it.
fn parse_path(bytes: &[u8]) -> Result<(Vec<PathNode>, usize), (usize, &'static str)> {
    let mut nodes = Vec::new();
    let mut at = 0;
    loop {
        let [kind, subkind, low, high] =
            array_at(bytes, at).ok_or((at, "its device path has no end"))?;
        let len = usize::from(u16::from_le_bytes([low, high]));
        let data = len
            .checked_sub(4)
            .and_then(|data_bytes| bytes.get(at + 4..at + 4 + data_bytes))
            .ok_or((at, "a node of its device path has a wrong length"))?;
        at += len;
        // Both "end of all" and "end of this instance" end the first path.
        if kind == END {
            return Ok((nodes, at));
        }
        nodes.push(PathNode::of(kind, subkind, data));
    }
}

impl PathNode {
    fn of(kind: u8, subkind: u8, data: &[u8]) -> Self {
        let known = match (kind, subkind) {
            (MEDIA, HARD_DRIVE) => Self::hard_drive(data),
            (MEDIA, FILE_PATH) => Self::file_path(data),
            _ => None,
        };
        known.unwrap_or_else(|| Self::Other(kind, subkind, data.to_vec()))
    }

    /// Number, first LBA, sectors, signature, table format, kind of signature: 38 bytes.
    fn hard_drive(data: &[u8]) -> Option<Self> {
        let (number, first, sectors) = (u32_at(data, 0)?, u64_at(data, 4)?, u64_at(data, 12)?);
        let (signature, format, kind) = (array_at::<16>(data, 20)?, data.get(36)?, data.get(37)?);
        let signature = match (format, kind) {
            (2, 2) => DiskSignature::Gpt(Uuid::from_bytes_le(signature)),
            (1, 1) if signature.get(4..)?.iter().all(|&byte| byte == 0) => {
                DiskSignature::Mbr(u32_at(&signature, 0)?)
            }
            _ => DiskSignature::Other(*format, *kind, signature),
        };
        let extent = Extent::new(Lba(first), sectors).filter(|_| data.len() == 38)?;
        Some(Self::HardDrive {
            number,
            extent,
            signature,
        })
    }

    /// Text that ends in one zero unit; anything else is kept as bytes, so that nothing is lost.
    fn file_path(data: &[u8]) -> Option<Self> {
        let text = utf16_lossy(data);
        let path = text.strip_suffix('\0')?;
        let is_plain = !path.contains('\0') && utf16_bytes(&text) == data;
        is_plain.then(|| Self::File(path.to_owned()))
    }

    fn parts(&self) -> (u8, u8, Vec<u8>) {
        match self {
            Self::HardDrive {
                number,
                extent,
                signature,
            } => {
                let mut data = number.to_le_bytes().to_vec();
                data.extend(extent.first.0.to_le_bytes());
                data.extend(extent.sectors().to_le_bytes());
                let (bytes, format, kind) = match signature {
                    DiskSignature::Gpt(id) => (id.to_bytes_le(), 2, 2),
                    DiskSignature::Mbr(number) => {
                        let mut bytes = [0; 16];
                        for (byte, value) in bytes.iter_mut().zip(number.to_le_bytes()) {
                            *byte = value;
                        }
                        (bytes, 1, 1)
                    }
                    DiskSignature::Other(format, kind, bytes) => (*bytes, *format, *kind),
                };
                data.extend(bytes);
                data.extend([format, kind]);
                (MEDIA, HARD_DRIVE, data)
            }
            Self::File(path) => (MEDIA, FILE_PATH, utf16_bytes(&format!("{path}\0"))),
            Self::Other(kind, subkind, data) => (*kind, *subkind, data.clone()),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn sample() -> LoadOption {
        let extent = Extent::new(Lba(2048), 532_480).unwrap();
        let id = Uuid::from_u128(0x0011_2233_4455_6677_8899_AABB_CCDD_EEFF);
        LoadOption::for_file("Tide Gauge", (3, extent, id), "\\EFI\\BOOT\\BOOTX64.EFI")
    }

    #[test]
    fn an_entry_is_written_as_the_specification_lays_it_out() {
        let bytes = sample().write().unwrap();
        // Attributes, length of the path: 42 + 4 + 44 + 2 + 4, the name.
        assert_eq!(bytes[..6], [1, 0, 0, 0, 94, 0]);
        let node = &bytes[6 + 22..];
        assert_eq!(node[..8], [4, 1, 42, 0, 3, 0, 0, 0]);
        assert_eq!(node[8..16], 2048_u64.to_le_bytes());
        assert_eq!(node[24..32], [0x33, 0x22, 0x11, 0, 0x55, 0x44, 0x77, 0x66]);
        assert_eq!(node[40..46], [2, 2, 4, 4, 48, 0]);
        assert_eq!(bytes[bytes.len() - 4..], [0x7F, 0xFF, 4, 0]);
        assert_eq!(LoadOption::parse(&bytes).unwrap(), sample());
    }

    #[test]
    fn wrong_lengths_are_told_with_their_place() {
        let good = sample().write().unwrap();
        let with = |at: usize, byte: u8| {
            let mut bytes = good.clone();
            bytes[at] = byte;
            bytes
        };
        let cases = [
            (good[..5].to_vec(), 0, "header of 6 bytes"),
            (good[..12].to_vec(), 6, "name does not end"),
            (good[..good.len() - 1].to_vec(), 28, "leaves the variable"),
            (with(30, 3), 28, "wrong length"),
            (with(30, 200), 28, "wrong length"),
            (with(4, 42), 70, "has no end"),
        ];
        for (bytes, offset, expected) in cases {
            let error = LoadOption::parse(&bytes).unwrap_err();
            assert_eq!(error.offset, offset, "{error}");
            assert!(error.to_string().contains(expected), "{error}");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_are_refused_or_kept(head in any::<[u8; 4]>(), tail in prop::collection::vec(any::<u8>(), 0..200)) {
            // A short name, so that paths are reached.
            let len = u16::try_from(tail.len() / 2).unwrap().to_le_bytes();
            let bytes = [&head[..], &len, &[65, 0, 0, 0], &[4, 1, 42, 0], &tail].concat();
            if let Ok(option) = LoadOption::parse(&bytes) {
                prop_assert_eq!(option.write().map(|b| LoadOption::parse(&b).unwrap()), Some(option));
            }
        }
    }
}
