//! Encrypted volumes: not opened, but their state is read from their own metadata.
//!
//! The volume header carries the name `-FVE-FS-` and the places of three metadata blocks (each: a
//! header of 64 bytes, a header of 48 with the size of what follows, then entries). Facts as free
//! implementations agree on them; a made-up volume is read by one of those in the tests of the
//! crate `schwelle`. Not supported: the first version of the format (its volumes are recognised,
//! their state is not reported).

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bytes::{u16_at, u32_at, u64_at};
use crate::device::ReadDevice;

const SIGNATURE: &[u8] = b"-FVE-FS-";
/// Volumes to go carry a FAT-like header, with this in its place (at 3) and the metadata's GUID
/// further on.
const TO_GO_MARK: &[u8] = b"MSWIN4.1";
const TO_GO_GUID: [u8; 16] = [
    0x3B, 0xD6, 0x67, 0x49, 0x29, 0x2E, 0xD8, 0x4A, 0x83, 0x99, 0xF6, 0xA3, 0x39, 0xE3, 0xD0, 0x01,
];
const TO_GO_GUID_AT: usize = 424;
const TO_GO_OFFSETS_AT: usize = 440;
const OFFSETS_AT: usize = 176;
const HEADERS_BYTES: usize = 112;
const MAX_METADATA_BYTES: usize = 64 << 10;
const ENTRY_KEY: u16 = 2;
const VALUE_KEY: u16 = 8;
const PROTECTOR_CLEAR: u16 = 0;

const STATE_DECRYPTED: u16 = 1;
const STATE_ENCRYPTED: u16 = 4;

/// What an encrypted volume is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum EncryptionState {
    /// Encrypted, and the key is protected.
    Encrypted,
    /// Encrypted, but the key lies open beside it until protection is resumed.
    Suspended,
    /// Being encrypted.
    Encrypting,
    /// Being decrypted.
    Decrypting,
    /// Decrypted, but the metadata is still there.
    Decrypted,
    /// The metadata could not be read.
    NotReported,
}

/// The state of the volume on `device`; `None` when its first sector is not that of an encrypted
/// volume.
pub fn recognise(device: &dyn ReadDevice, first_sector: &[u8]) -> Option<EncryptionState> {
    let name = first_sector.get(3..11)?;
    let to_go = name == TO_GO_MARK && first_sector.get(TO_GO_GUID_AT..)?.starts_with(&TO_GO_GUID);
    if name != SIGNATURE && !to_go {
        return None;
    }
    let at = if to_go { TO_GO_OFFSETS_AT } else { OFFSETS_AT };
    let blocks = (0..3usize)
        .filter_map(|index| u64_at(first_sector, at.saturating_add(index.saturating_mul(8))));
    let shown = blocks
        .into_iter()
        .find_map(|offset| metadata_state(device, offset));
    Some(shown.unwrap_or(EncryptionState::NotReported))
}

fn metadata_state(device: &dyn ReadDevice, offset: u64) -> Option<EncryptionState> {
    let block = device.read_vec(offset, HEADERS_BYTES).ok()?;
    if !block.starts_with(SIGNATURE) || u16_at(&block, 10)? != 2 {
        return None;
    }
    let (now, next) = (u16_at(&block, 12)?, u16_at(&block, 14)?);
    let size = usize::try_from(u32_at(&block, 64)?).ok()?;
    let header = usize::try_from(u32_at(&block, 72)?).ok()?;
    let entries_len = size
        .checked_sub(header)
        .filter(|&len| len <= MAX_METADATA_BYTES)?;
    let entries_at = offset.checked_add(64)?.checked_add(header as u64)?;
    let entries = device.read_vec(entries_at, entries_len).ok()?;
    Some(match (now, next) {
        (STATE_DECRYPTED, STATE_DECRYPTED) => EncryptionState::Decrypted,
        (STATE_ENCRYPTED, STATE_ENCRYPTED) if has_clear_key(&entries) => EncryptionState::Suspended,
        (STATE_ENCRYPTED, STATE_ENCRYPTED) => EncryptionState::Encrypted,
        (_, STATE_DECRYPTED) => EncryptionState::Decrypting,
        (_, STATE_ENCRYPTED) => EncryptionState::Encrypting,
        _ => EncryptionState::NotReported,
    })
}

/// True when one of the volume key's protectors is "none": protection is suspended.
fn has_clear_key(mut entries: &[u8]) -> bool {
    while let Some(len) = u16_at(entries, 0).map(usize::from).filter(|&len| len >= 8) {
        let Some(entry) = entries.get(..len) else {
            return false;
        };
        let is_key = u16_at(entry, 2) == Some(ENTRY_KEY) && u16_at(entry, 4) == Some(VALUE_KEY);
        // After the entry's header of 8 bytes: GUID, time, a number, then the kind of protector.
        if is_key && u16_at(entry, 8 + 26) == Some(PROTECTOR_CLEAR) {
            return true;
        }
        entries = entries.get(len..).unwrap_or_default();
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{BlockDevice, Memory};

    /// A volume whose first metadata block is damaged, so that the second is asked.
    fn volume(now: u16, next: u16, protectors: &[u16]) -> Memory {
        let disk = Memory::new(512, 2048);
        let mut sector = vec![0; 512];
        sector[3..11].copy_from_slice(SIGNATURE);
        for (index, offset) in [65_536u64, 131_072, 196_608].into_iter().enumerate() {
            sector[OFFSETS_AT + index * 8..][..8].copy_from_slice(&offset.to_le_bytes());
        }
        disk.write_at(0, &sector).unwrap();
        let mut entries = Vec::new();
        for protector in protectors {
            let mut entry = vec![0; 44];
            for (at, value) in [(0, 44), (2, ENTRY_KEY), (4, VALUE_KEY), (34, *protector)] {
                entry[at..at + 2].copy_from_slice(&u16::to_le_bytes(value));
            }
            entries.extend(entry);
        }
        let mut block = vec![0; 112];
        block[..8].copy_from_slice(SIGNATURE);
        for (at, value) in [(10, 2), (12, now), (14, next)] {
            block[at..at + 2].copy_from_slice(&u16::to_le_bytes(value));
        }
        let size = u32::try_from(48 + entries.len()).unwrap();
        block[64..68].copy_from_slice(&size.to_le_bytes());
        block[72..76].copy_from_slice(&48u32.to_le_bytes());
        block.extend(entries);
        block.resize(1024, 0);
        disk.write_at(131_072, &block).unwrap();
        disk
    }

    #[test]
    fn states_are_told_apart() {
        use EncryptionState::{
            Decrypted, Decrypting, Encrypted, Encrypting, NotReported, Suspended,
        };
        for (now, next, protectors, expected) in [
            (4, 4, &[0x0100, 0x0800][..], Encrypted),
            (4, 4, &[0x0800, 0x0000], Suspended),
            (2, 4, &[0x0800], Encrypting),
            (5, 1, &[0x0800], Decrypting),
            (4, 1, &[0x0800], Decrypting),
            (1, 1, &[], Decrypted),
            (9, 9, &[], NotReported),
        ] {
            let disk = volume(now, next, protectors);
            let sector = disk.read_vec(0, 512).unwrap();
            assert_eq!(recognise(&disk, &sector), Some(expected), "{now} -> {next}");
        }
        assert_eq!(recognise(&Memory::new(512, 8), &[0; 512]), None);
    }
}
