//! What a host says, in the same terms on every system.

use std::fmt;
use std::fs::File;
use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;

/// An operating system that this runs on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum System {
    /// Linux: a rescue stick as a rule.
    Linux,
    /// Windows: the one that was converted, its recovery prompt, or that of another PC.
    Windows,
}

/// What a path names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A real disk, or a part of one.
    Disk,
    /// A file.
    Image,
    /// A folder.
    Folder,
    /// A pipe, a socket, or a device that is no disk.
    Other,
}

/// An opened disk or image.
#[derive(Debug)]
pub struct Opened {
    /// What is read and written.
    pub file: File,
    /// What must stay open as long.
    pub held: Vec<File>,
}

/// The sizes of a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DiskSize {
    /// Bytes of a logical sector.
    pub logical_sector: u32,
    /// Bytes of a physical sector.
    pub physical_sector: u32,
    /// Bytes of the disk.
    pub len_bytes: u64,
}

/// How this session was started, and what the PC tells of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SessionFacts {
    /// It was started in UEFI mode; `None` where the system does not say.
    pub in_uefi_mode: Option<bool>,
    /// The firmware works with so many bits.
    pub bits: Option<u32>,
    /// The SMBIOS table (DMTF DSP0134), with or without its entry point in front.
    pub smbios: Option<Vec<u8>>,
}

/// What kind of thing a path names, and who uses it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HostFacts {
    /// Real disk (or partition of one), not an image.
    pub is_block_device: bool,
    /// The disk that this device is a partition of.
    pub partition_of: Option<String>,
    /// What connects it.
    pub bus: Option<Bus>,
    /// Model as the disk says it.
    pub model: Option<String>,
    /// Serial number as the disk says it.
    pub serial: Option<String>,
    /// Names below `/dev/disk/by-id`, which stay from start to start; the clearest one first.
    pub stable_names: Vec<String>,
    /// The kernel will not let anybody write it.
    pub read_only: bool,
    /// Who uses it.
    pub users: Vec<User>,
    /// Volumes of it that the running system has mounted, where it takes them off by itself before the disk is
    /// written. What is read of them changes meanwhile.
    pub mounted: Vec<Mounted>,
    /// Two looks at it, one after the other, differed: something was written meanwhile.
    pub changed_meanwhile: bool,
}

/// A volume that the running system has mounted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mounted {
    /// Where.
    pub at: String,
    /// That is a drive letter or a folder, and not just its name.
    pub is_shown: bool,
    /// Where on the disk it begins, in bytes; several where it lies in parts.
    pub first_bytes: Vec<u64>,
}

/// What the PC runs on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PowerSource {
    /// Mains, or a PC without a battery.
    Mains,
    /// A battery, and no mains.
    Battery,
    /// Not reported.
    Unknown,
}

/// What a folder lies on: the one named, or the nearest one above it that is there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FolderFacts {
    /// What is written there is lost when the power goes; `None` where the system does not say.
    pub in_memory: Option<bool>,
    /// Nothing can be written there.
    pub read_only: bool,
    /// Free for this user, in bytes.
    pub free_bytes: Option<u64>,
    /// What each file takes at least, in bytes.
    pub block_bytes: u64,
    /// It is NTFS, written without its journal: a power cut can leave it so that it cannot be mounted before it has
    /// been repaired.
    pub may_need_repair: bool,
    /// The device path of the disk that it lies on.
    pub disk: Option<PathBuf>,
}

/// What connects a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Bus {
    /// SATA, or PATA.
    Ata,
    /// SCSI and SAS.
    Scsi,
    /// NVMe.
    Nvme,
    /// USB.
    Usb,
    /// A virtual PC's own.
    Virtio,
    /// SD cards and eMMC.
    Mmc,
}

impl Bus {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Ata => "SATA",
            Self::Scsi => "SCSI",
            Self::Nvme => "NVMe",
            Self::Usb => "USB",
            Self::Virtio => "virtio",
            Self::Mmc => "MMC",
        }
    }
}

/// Who uses a disk or a partition of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum User {
    /// A driver holds it.
    Held {
        /// The device.
        device: String,
        /// The device that the driver makes of it.
        by: String,
    },
    /// It is mounted.
    Mounted {
        /// The device.
        device: String,
        /// Where.
        at: PathBuf,
        /// In whose view, where not in this process's own.
        seen_by: Option<Process>,
    },
    /// The system that this runs on lies on it.
    RunningSystem {
        /// The device.
        device: String,
        /// Where it is mounted.
        at: String,
        /// The partition that the firmware started it from, as the system has it: an ARC name.
        started_from: Option<String>,
    },
    /// It is used as swap.
    Swap {
        /// The device.
        device: String,
    },
    /// A loop device lies on it.
    Attached {
        /// The device; none for an image.
        device: Option<String>,
        /// Name of the loop device.
        as_device: String,
    },
    /// A program has it open.
    Open {
        /// The device.
        device: String,
        /// The program.
        process: Process,
    },
    /// Whether something uses it is unknown: a place that would tell could not be read.
    Unknown {
        /// The place.
        place: PathBuf,
        /// The error.
        fault: Cause,
    },
}

/// A running program.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Process {
    /// Its name, where it tells.
    pub program: Option<String>,
    /// Its number.
    pub id: String,
}

impl fmt::Display for User {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unknown { place, fault } => write!(
                f,
                "whether something uses it is unknown, because {} cannot be read: {fault}",
                place.display()
            ),
            Self::Held { device, by } => write!(f, "{device} is held by {by}"),
            Self::Mounted {
                device,
                at,
                seen_by,
            } => {
                write!(f, "{device} is mounted at {}", at.display())?;
                match seen_by {
                    Some(process) => write!(f, ", as {process} sees it"),
                    None => Ok(()),
                }
            }
            Self::RunningSystem { device, at, .. } => {
                write!(f, "{device} has the running system on it ({at})")
            }
            Self::Swap { device } => write!(f, "{device} is used as swap"),
            Self::Attached {
                device: Some(device),
                as_device,
            } => write!(f, "{device} is attached as /dev/{as_device}"),
            Self::Attached {
                device: None,
                as_device,
            } => write!(f, "attached as /dev/{as_device}"),
            Self::Open { device, process } => write!(f, "{device} is open in {process}"),
        }
    }
}

impl fmt::Display for Process {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let program = self.program.as_deref().unwrap_or("another program");
        write!(f, "{program} (process {})", self.id)
    }
}
