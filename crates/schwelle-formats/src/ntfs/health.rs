//! Whether a volume may be touched: its dirty flag, its log, hibernation, and the copies of what
//! matters most.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use std::ops::Range;

use super::NtfsError;
use super::attribute::kind;
use super::fixup;
use super::volume::NtfsVolume;
use crate::bytes::{ReadBytes, u16_at, u32_at, u64_at, utf16_lossy};

const LOG_RECORD: u64 = 2;
const VOLUME_RECORD: u64 = 3;
const DIRTY: u16 = 1;
const NO_CLIENT: u16 = 0xFFFF;
const VOLUME_IS_CLEAN: u16 = 2;
/// In a restart page: the major version of the log.
const MAJOR_VERSION: usize = 0x1C;
/// Records that the mirror repeats.
const MIRRORED_RECORDS: u64 = 4;
/// In a file record: how many bytes of it are in use.
const USED_BYTES: usize = 0x18;
/// What the two copies of the boot sector must agree on: the file system's name, sizes, places and the serial
/// number. Repairs and copying programs write boot code, and where the partition begins, into the first one
/// only, and the systems' own check does not mind.
const BOOT_SECTOR_FIELDS: [Range<usize>; 2] = [3..0x18, 0x28..0x50];

/// State of the journal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LogState {
    /// Never used, or emptied.
    Empty,
    /// Closed by the system that used it.
    Clean,
    /// Changes may be pending in it.
    InUse,
    /// Of version 2.0, which Windows 8 and later use while a volume is mounted, and take back to 1.1
    /// when they close it: the system that mounted it is running, or asleep.
    Mounted,
    /// Its restart pages are invalid.
    Damaged,
}

/// What the file of a hibernated session says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hibernation {
    /// No session waits.
    None,
    /// A session waits to be resumed.
    Waiting,
    /// A session was being resumed. Not every system takes that back when it is through.
    Resuming,
}

/// A copy of what matters most that does not say the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum CopyFault {
    /// The mirror of this file record.
    #[error("file record {0} and its mirror differ")]
    Mirror(u64),
    /// There is no sector beyond the volume for the boot sector's copy.
    #[error("the partition has no sector left for the copy of the boot sector")]
    NoRoom,
    /// The boot sector beyond the volume.
    #[error("the boot sector and its copy beyond the volume differ")]
    BootSector,
}

/// What the volume says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VolumeFlags {
    /// Label.
    pub label: String,
    /// Marked for a check at the next start.
    pub dirty: bool,
    /// NTFS version, as (major, minor).
    pub version: (u8, u8),
}

impl NtfsVolume<'_> {
    /// Label, version and dirty flag, from `$Volume`.
    pub fn flags(&self) -> Result<VolumeFlags, NtfsError> {
        let record = self.record(VOLUME_RECORD)?;
        let label = record
            .resident(kind::VOLUME_NAME)
            .map(utf16_lossy)
            .unwrap_or_default();
        let info = record.resident(kind::VOLUME_INFORMATION);
        match info.and_then(|info| Some((*info.get(8)?, *info.get(9)?, u16_at(info, 10)?))) {
            Some((major, minor, flags)) => Ok(VolumeFlags {
                label,
                dirty: flags & DIRTY != 0,
                version: (major, minor),
            }),
            None => Err(self.fault(VOLUME_RECORD, "has no volume information")),
        }
    }

    /// State of `$LogFile`: the newer of its two restart pages decides.
    pub fn log_state(&self) -> Result<LogState, NtfsError> {
        let log = self.open_file(LOG_RECORD)?;
        let mut newest: Option<(u64, LogState)> = None;
        let mut page_bytes = 4096;
        let mut empty = true;
        for page in 0..2u64 {
            let mut bytes = vec![0; page_bytes];
            if log.len_bytes() < (page + 1).saturating_mul(page_bytes as u64) {
                break;
            }
            log.read_bytes(page.saturating_mul(page_bytes as u64), &mut bytes)?;
            if bytes.iter().all(|&byte| byte == 0xFF) {
                continue;
            }
            empty = false;
            if page == 0
                && let Some(size @ 512..=65_536) = u32_at(&bytes, 0x10)
            {
                page_bytes = size as usize;
            }
            if let Some(found) = restart_page(bytes) {
                newest = newest
                    .into_iter()
                    .chain([found])
                    .max_by_key(|(lsn, _)| *lsn);
            }
        }
        match newest {
            Some((_, state)) => Ok(state),
            None if empty => Ok(LogState::Empty),
            None => Ok(LogState::Damaged),
        }
    }

    /// Whether a hibernated session, or that of Fast Startup, waits on this volume.
    pub fn hibernation(&self) -> Result<Hibernation, NtfsError> {
        let Some(file) = self.find("\\hiberfil.sys")? else {
            return Ok(Hibernation::None);
        };
        let file = self.open_file(file.record)?;
        if file.len_bytes() < 4 {
            return Ok(Hibernation::None);
        }
        let mut signature = [0; 4];
        file.read_bytes(0, &mut signature)?;
        // "wake" or zeros: the session has been resumed or discarded.
        Ok(match &signature {
            b"hibr" | b"HIBR" => Hibernation::Waiting,
            b"rstr" | b"RSTR" => Hibernation::Resuming,
            _ => Hibernation::None,
        })
    }

    /// What is wrong with the copies of what matters most: the mirror of the first file records and
    /// the boot sector beyond the volume. Empty when they say the same.
    pub fn check_copies(&self) -> Result<Vec<CopyFault>, NtfsError> {
        let shape = self.shape();
        let mut faults = Vec::new();
        let record_bytes = shape.record_bytes as usize;
        for number in 0..MIRRORED_RECORDS {
            let original = self
                .record_offset(number)
                .ok_or_else(|| self.fault(number, "outside the MFT"))?;
            let mirror = shape
                .byte_of(shape.mirror_lcn)
                .unwrap_or(u64::MAX)
                .saturating_add(number.saturating_mul(shape.record_bytes.into()));
            let (original, mirror) = (
                self.device().read_vec(original, record_bytes)?,
                self.device().read_vec(mirror, record_bytes)?,
            );
            if used(original) != used(mirror) {
                faults.push(CopyFault::Mirror(number));
            }
        }
        let behind = shape
            .total_sectors
            .saturating_mul(shape.sector_bytes.into());
        let sector = shape.sector_bytes as usize;
        if behind.saturating_add(sector as u64) > self.device().geometry().len_bytes() {
            faults.push(CopyFault::NoRoom);
            return Ok(faults);
        }
        let (first, copy) = (
            self.device().read_vec(0, sector)?,
            self.device().read_vec(behind, sector)?,
        );
        let differ = |range: &Range<usize>| first.get(range.clone()) != copy.get(range.clone());
        if BOOT_SECTOR_FIELDS.iter().any(differ) {
            faults.push(CopyFault::BootSector);
        }
        Ok(faults)
    }
}

/// The part of a file record that is in use, without the number that protects it against torn writes; all of one that
/// is invalid. The bytes that this number replaces are compared, since drivers compare them too.
fn used(mut record: Vec<u8>) -> Vec<u8> {
    let (Some(from), true) = (u16_at(&record, 4), fixup::restore(&mut record)) else {
        return record;
    };
    let number = usize::from(from)..usize::from(from).saturating_add(2);
    if let Some(number) = record.get_mut(number) {
        number.fill(0);
    }
    let used = u32_at(&record, USED_BYTES).and_then(|used| usize::try_from(used).ok());
    record.truncate(used.unwrap_or(usize::MAX));
    record
}

/// Sequence number and state of one restart page; `None` when it is not one.
fn restart_page(mut bytes: Vec<u8>) -> Option<(u64, LogState)> {
    if bytes.starts_with(b"CHKD") {
        // An offline check has emptied the log, and left the highest sequence number of the volume.
        return Some((u64_at(&bytes, 8)?, LogState::Clean));
    }
    if !bytes.starts_with(b"RSTR") || !fixup::restore(&mut bytes) {
        return None;
    }
    let area = bytes.get(usize::from(u16_at(&bytes, 0x18)?)..)?;
    let lsn = u64_at(area, 0)?;
    let clean = u16_at(area, 12)? == NO_CLIENT || u16_at(area, 14)? & VOLUME_IS_CLEAN != 0;
    let state = match u16_at(&bytes, MAJOR_VERSION)? {
        2.. => LogState::Mounted,
        _ if clean => LogState::Clean,
        _ => LogState::InUse,
    };
    Some((lsn, state))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A restart page of 4096 bytes with the given sequence number, client in use and flags.
    fn page(lsn: u64, client: u16, flags: u16) -> Vec<u8> {
        let mut bytes = vec![0; 4096];
        bytes[..4].copy_from_slice(b"RSTR");
        bytes[4..8].copy_from_slice(&[0x1E, 0, 9, 0]);
        bytes[0x18] = 0x30;
        bytes[0x30..0x38].copy_from_slice(&lsn.to_le_bytes());
        bytes[0x3C..0x3E].copy_from_slice(&client.to_le_bytes());
        bytes[0x3E..0x40].copy_from_slice(&flags.to_le_bytes());
        bytes[0x1E] = 7; // the running number, at the end of each 512 bytes
        (1..=8).for_each(|stride| bytes[stride * 512 - 2] = 7);
        bytes
    }

    #[test]
    fn a_log_is_clean_without_client_or_with_the_flag() {
        assert_eq!(restart_page(page(9, 0xFFFF, 0)), Some((9, LogState::Clean)));
        assert_eq!(restart_page(page(8, 0, 2)), Some((8, LogState::Clean)));
        assert_eq!(restart_page(page(7, 0, 0)), Some((7, LogState::InUse)));
        let mut mounted = page(9, 0xFFFF, 2);
        mounted[0x1C] = 2;
        assert_eq!(restart_page(mounted), Some((9, LogState::Mounted)));
        let mut checked = vec![0; 4096];
        checked[..9].copy_from_slice(b"CHKD\0\0\0\0\x05");
        assert_eq!(restart_page(checked), Some((5, LogState::Clean)));
        let mut torn = page(7, 0, 0);
        torn[1022] = 6;
        assert_eq!(restart_page(torn), None);
    }
}
