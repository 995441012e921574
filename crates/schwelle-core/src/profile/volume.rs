//! What a partition holds, by its content and not from its type.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::foreign::Foreign;
use crate::bitlocker::{self, EncryptionState};
use crate::cause::Cause;
use crate::device::{DeviceError, Extent, Lba, ReadDevice, Window};
use crate::fat::{self, FatKind};
use crate::ntfs::{
    Audit, CopyFault, Hibernation, LogState, NtfsError, NtfsShape, NtfsVolume, ShadowCopies,
};

/// Bytes of unknown content that are shown.
const FIRST_BYTES: usize = 16;

/// Kind of content.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum VolumeKind {
    /// NTFS.
    Ntfs,
    /// FAT12, FAT16 or FAT32.
    Fat(FatKind),
    /// exFAT.
    ExFat,
    /// An encrypted volume in this state.
    Encrypted(EncryptionState),
    /// ext2, ext3 or ext4.
    Ext,
    /// Linux swap.
    Swap,
    /// Linux LVM.
    Lvm,
    /// A file system that is only recognised.
    Foreign(Foreign),
    /// Nothing but zeros at its start.
    Blank,
    /// Something else.
    Unknown,
}

impl VolumeKind {
    /// What technicians call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Ntfs => "NTFS",
            Self::Fat(FatKind::Fat12) => "FAT12",
            Self::Fat(FatKind::Fat16) => "FAT16",
            Self::Fat(FatKind::Fat32) => "FAT32",
            Self::ExFat => "exFAT",
            Self::Encrypted(_) => "encrypted",
            Self::Ext => "ext",
            Self::Swap => "Linux swap",
            Self::Lvm => "Linux LVM",
            Self::Foreign(foreign) => foreign.name(),
            Self::Blank => "blank",
            Self::Unknown => "unknown",
        }
    }
}

/// Health of an NTFS volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NtfsHealth {
    /// What its boot sector says.
    pub shape: NtfsShape,
    /// Marked for a check.
    pub dirty: bool,
    /// State of its log.
    pub log: LogState,
    /// Whether a hibernated session waits on it.
    pub hibernation: Hibernation,
    /// Shadow copies (restore points) on it.
    pub shadows: Option<ShadowCopies>,
    /// Copies that do not match.
    pub faults: Vec<CopyFault>,
    /// Whether its file system is consistent.
    pub audit: Audit,
}

/// Why a volume cannot be looked into.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum VolumeFault {
    /// Its partition leaves the disk.
    #[error("it leaves the disk (ends at {end})")]
    LeavesDisk {
        /// Where the partition ends.
        end: Lba,
    },
    /// It is NTFS, and cannot be read.
    #[error("{fault}")]
    Unreadable {
        /// Why not.
        fault: Cause,
    },
}

/// What a partition holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Volume {
    /// Kind of content.
    pub kind: VolumeKind,
    /// Label; comes from the disk, so it is escaped before it is shown.
    pub label: String,
    /// Health, for NTFS volumes that could be opened.
    pub ntfs: Option<NtfsHealth>,
    /// Why it cannot be looked into.
    pub fault: Option<VolumeFault>,
    /// Of content that is not known: its first bytes.
    pub first_bytes: Vec<u8>,
}

impl NtfsHealth {
    /// A session may come back and write what it remembers.
    pub(crate) fn is_hibernated(&self) -> bool {
        match self.hibernation {
            Hibernation::None => false,
            Hibernation::Waiting => true,
            Hibernation::Resuming => !self.log_is_clean(),
        }
    }

    /// Nothing is pending in the log.
    pub(crate) fn log_is_clean(&self) -> bool {
        matches!(self.log, LogState::Clean | LogState::Empty)
    }
}

impl Volume {
    fn plain(kind: VolumeKind) -> Self {
        Self {
            kind,
            label: String::new(),
            ntfs: None,
            fault: None,
            first_bytes: Vec::new(),
        }
    }

    /// A volume whose partition leaves the disk: nothing can be said.
    pub(super) fn leaves_disk(extent: Extent) -> Self {
        let end = extent.last();
        Self {
            fault: Some(VolumeFault::LeavesDisk { end }),
            ..Self::plain(VolumeKind::Unknown)
        }
    }

    /// Looks at the volume on `window`. The device failing is an error only where the first sectors
    /// are concerned.
    pub(super) fn read(window: &dyn ReadDevice) -> Result<Self, DeviceError> {
        let len = window.geometry().len_bytes().min(16 << 10);
        let head = window.read_vec(0, usize::try_from(len).unwrap_or(0))?;
        if let Some(state) = bitlocker::recognise(window, &head) {
            return Ok(Self::plain(VolumeKind::Encrypted(state)));
        }
        let starts = |at: usize, signature: &[u8]| {
            head.get(at..)
                .is_some_and(|rest| rest.starts_with(signature))
        };
        if starts(3, b"NTFS    ") {
            return Ok(match Self::read_ntfs(window) {
                Ok(volume) => volume,
                Err(error) => Self {
                    fault: Some(VolumeFault::Unreadable {
                        fault: error.into(),
                    }),
                    ..Self::plain(VolumeKind::Ntfs)
                },
            });
        }
        if starts(3, b"EXFAT   ") {
            return Ok(Self::plain(VolumeKind::ExFat));
        }
        if let Some((kind, label)) = fat::recognise(&head) {
            return Ok(Self {
                label,
                ..Self::plain(VolumeKind::Fat(kind))
            });
        }
        // ext: superblock at byte 1024, magic at 56 in it, label at 120.
        if starts(1024 + 56, &[0x53, 0xEF]) {
            let label = head.get(1024 + 120..1024 + 136).unwrap_or_default();
            let label = label.split(|&byte| byte == 0).next().unwrap_or_default();
            return Ok(Self {
                label: String::from_utf8_lossy(label).into_owned(),
                ..Self::plain(VolumeKind::Ext)
            });
        }
        if starts(4096 - 10, b"SWAPSPACE2") {
            return Ok(Self::plain(VolumeKind::Swap));
        }
        // LVM: its label may stand in any of the first four 512-byte sectors.
        if (0..4).any(|sector| starts(sector * 512, b"LABELONE")) {
            return Ok(Self::plain(VolumeKind::Lvm));
        }
        if let Some(foreign) = Foreign::recognise(window)? {
            return Ok(Self::plain(VolumeKind::Foreign(foreign)));
        }
        let blank = head.iter().all(|&byte| byte == 0);
        if blank {
            return Ok(Self::plain(VolumeKind::Blank));
        }
        Ok(Self {
            first_bytes: head.get(..FIRST_BYTES).unwrap_or_default().to_vec(),
            ..Self::plain(VolumeKind::Unknown)
        })
    }

    fn read_ntfs(window: &dyn ReadDevice) -> Result<Self, NtfsError> {
        let volume = NtfsVolume::open(window)?;
        let flags = volume.flags()?;
        let health = NtfsHealth {
            shape: *volume.shape(),
            dirty: flags.dirty,
            log: volume.log_state()?,
            hibernation: volume.hibernation()?,
            shadows: volume.shadow_copies()?,
            faults: volume.check_copies()?,
            audit: volume.audit()?,
        };
        Ok(Self {
            label: flags.label,
            ntfs: Some(health),
            ..Self::plain(VolumeKind::Ntfs)
        })
    }
}

/// What kind of volume begins at an extent; `None` if the extent exceeds the disk.
///
/// # Errors
///
/// The volume's first sectors cannot be read.
pub(crate) fn volume_kind(
    device: &dyn ReadDevice,
    extent: Extent,
) -> Result<Option<VolumeKind>, DeviceError> {
    let volume = read_volume(device, extent)?;
    let leaves_disk = matches!(volume.fault, Some(VolumeFault::LeavesDisk { .. }));
    Ok((!leaves_disk).then_some(volume.kind))
}

/// Looks at the volume of a partition with these sectors.
pub(super) fn read_volume(device: &dyn ReadDevice, extent: Extent) -> Result<Volume, DeviceError> {
    match Window::new(device, extent) {
        Some(window) => Volume::read(&window),
        None => Ok(Volume::leaves_disk(extent)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{BlockDevice, Memory};

    /// A boot sector of FAT12 or FAT16 with this many sectors, one to a cluster.
    fn fat(sectors: u16) -> Vec<u8> {
        let mut sector = vec![0; 512];
        sector[..3].copy_from_slice(&[0xEB, 0x3C, 0x90]);
        sector[11..13].copy_from_slice(&512u16.to_le_bytes());
        sector[13] = 1;
        sector[14] = 1;
        sector[16] = 2;
        sector[17..19].copy_from_slice(&512u16.to_le_bytes());
        sector[19..21].copy_from_slice(&sectors.to_le_bytes());
        sector[21] = 0xF8;
        sector[22] = 240;
        sector[43..54].copy_from_slice(b"LAMPENOEL  ");
        sector[510..].copy_from_slice(&[0x55, 0xAA]);
        sector
    }

    #[test]
    fn volumes_are_known_by_their_content() {
        let at = |offset: usize, signature: &[u8]| [&vec![0; offset][..], signature].concat();
        let ext = [at(1024 + 56, &[0x53, 0xEF]), at(62, b"Tonne\0old")].concat();
        let cases: [(Vec<u8>, VolumeKind, &str); 9] = [
            (Vec::new(), VolumeKind::Blank, ""),
            (at(700, b"x"), VolumeKind::Unknown, ""),
            (at(4096 - 10, b"SWAPSPACE2"), VolumeKind::Swap, ""),
            (ext, VolumeKind::Ext, "Tonne"),
            (at(512, b"LABELONE"), VolumeKind::Lvm, ""),
            (
                [&[0xEB, 0x76, 0x90][..], b"EXFAT   "].concat(),
                VolumeKind::ExFat,
                "",
            ),
            (fat(3000), VolumeKind::Fat(FatKind::Fat12), "LAMPENOEL"),
            (fat(60_000), VolumeKind::Fat(FatKind::Fat16), "LAMPENOEL"),
            (at(3, b"NTFS    "), VolumeKind::Ntfs, ""),
        ];
        for (mut head, kind, label) in cases {
            head.resize(8192, 0);
            let disk = Memory::new(512, 100);
            disk.write_at(0, &head).unwrap();
            let volume = Volume::read(&disk).unwrap();
            assert_eq!((volume.kind, volume.label.as_str()), (kind, label));
            // An NTFS signature without a volume after it is damage, with the place.
            let fault = volume.fault.map(|fault| fault.to_string());
            let fault = fault.unwrap_or_default();
            assert_eq!(
                fault.starts_with("LBA 0: no NTFS volume"),
                kind == VolumeKind::Ntfs,
                "{fault}"
            );
        }
    }
}
