//! What a volume says of its own encryption.

use std::fmt;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;
use zeroize::Zeroizing;

use crate::bytes::{array_at, u16_at, u32_at, u64_at, utf16_lossy};
use crate::device::{DeviceError, Lba, ReadDevice};

const SIGNATURE: &[u8] = b"-FVE-FS-";
/// Volumes to go carry a FAT-like header, with this in its place (at 3) and the metadata's GUID further on.
const TO_GO_MARK: &[u8] = b"MSWIN4.1";
/// Before the places of the metadata: what kind of metadata that is.
const USUAL: Uuid = Uuid::from_u128(0x4967_D63B_2E29_4AD8_8399_F6A3_39E3_D001);
/// While each sector is encrypted when it is written next, as long as the volume is not encrypted whole.
const ON_WRITE: Uuid = Uuid::from_u128(0x92A8_4D3B_DD80_4D0E_9E4E_B1E3_284E_AED8);
const KIND_AT: usize = 160;
const TO_GO_KIND_AT: usize = 424;
const COPIES: usize = 3;
/// Bytes that each copy of the metadata has for itself.
pub(super) const COPY_BYTES: u64 = 64 << 10;

/// Header of a copy, and of the data set in it.
const BLOCK_HEADER: usize = 64;
const SET_HEADER: usize = 48;
/// After the data set: size, version, CRC-32 of all before.
const CHECK_BYTES: usize = 8;
/// Entries in a data set, or in one of them; Windows writes some ten.
const MAX_ENTRIES: usize = 256;

const ENTRY_PROTECTOR: u16 = 2;
const ENTRY_VOLUME_KEY: u16 = 3;
const ENTRY_DESCRIPTION: u16 = 7;
const ENTRY_FIRST_SECTORS: u16 = 15;
pub(super) const VALUE_KEY: u16 = 1;
const VALUE_TEXT: u16 = 2;
pub(super) const VALUE_STRETCHED: u16 = 3;
pub(super) const VALUE_WRAPPED: u16 = 5;
const VALUE_PROTECTOR: u16 = 8;
const VALUE_EXTENT: u16 = 15;

const STATE_DECRYPTED: u16 = 1;
const STATE_ENCRYPTED: u16 = 4;

/// What an encrypted volume is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum EncryptionState {
    /// Encrypted, and the key is protected.
    Encrypted,
    /// Encrypted, but the key is stored in the clear beside it until protection is resumed.
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

/// How the sectors of a volume are encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Method {
    /// AES-CBC with a key of 128 bits and the diffuser: Windows 7.
    Cbc128Diffuser,
    /// The same with 256 bits.
    Cbc256Diffuser,
    /// AES-CBC with a key of 128 bits: Windows 8, and sticks.
    Cbc128,
    /// The same with 256 bits.
    Cbc256,
    /// AES-XTS with a key of 128 bits: since Windows 10.
    Xts128,
    /// The same with 256 bits.
    Xts256,
    /// Another one, by its number: a drive that encrypts by itself among them.
    Other(u16),
}

impl Method {
    /// Volumes encrypted by it are opened here.
    pub fn is_supported(self) -> bool {
        !matches!(self, Self::Other(_))
    }

    fn of(number: u16) -> Self {
        match number {
            0x8000 => Self::Cbc128Diffuser,
            0x8001 => Self::Cbc256Diffuser,
            0x8002 => Self::Cbc128,
            0x8003 => Self::Cbc256,
            0x8004 => Self::Xts128,
            0x8005 => Self::Xts256,
            other => Self::Other(other),
        }
    }
}

impl fmt::Display for Method {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Cbc128Diffuser => "AES-CBC 128 with diffuser",
            Self::Cbc256Diffuser => "AES-CBC 256 with diffuser",
            Self::Cbc128 => "AES-CBC 128",
            Self::Cbc256 => "AES-CBC 256",
            Self::Xts128 => "AES-XTS 128",
            Self::Xts256 => "AES-XTS 256",
            Self::Other(number) => return write!(f, "method {number:#06x}"),
        })
    }
}

/// What a volume's master key is protected by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ProtectorKind {
    /// Nothing: protection is suspended.
    ClearKey,
    /// The chip of the PC, alone or with a PIN or a stick.
    Tpm,
    /// A key file on a stick.
    KeyFile,
    /// The recovery password of 48 digits.
    RecoveryPassword,
    /// A password of the user's.
    Password,
    /// Something else.
    Other,
}

impl ProtectorKind {
    fn of(number: u16) -> Self {
        match number {
            0x0000 => Self::ClearKey,
            0x0100 | 0x0300 | 0x0500 | 0x0700 => Self::Tpm,
            0x0200 => Self::KeyFile,
            0x0800 => Self::RecoveryPassword,
            0x2000 => Self::Password,
            _ => Self::Other,
        }
    }
}

/// One way to a volume's master key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Protector {
    /// Its identifier, as Windows shows it beside the recovery password.
    pub id: Uuid,
    /// What opens it.
    pub kind: ProtectorKind,
    /// What it consists of: wrapped keys, salt.
    pub(super) parts: Vec<Entry>,
}

/// One entry of a data set. It may be a key that is stored in the clear, so it is wiped when it is dropped, and shows
/// nothing of its content.
#[derive(Clone, PartialEq, Eq)]
pub(super) struct Entry {
    pub(super) kind: u16,
    pub(super) value: u16,
    pub(super) data: Zeroizing<Vec<u8>>,
}

impl fmt::Debug for Entry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let len = self.data.len();
        write!(f, "entry {} of type {}, {len} bytes", self.kind, self.value)
    }
}

impl Entry {
    /// The entries that follow each other in these bytes; `None` where one leaves them.
    pub(super) fn all(mut bytes: &[u8]) -> Option<Vec<Self>> {
        const HEADER: usize = 8;
        let mut entries = Vec::new();
        // What is left may be padding.
        while u16_at(bytes, 0).is_some_and(|len| len != 0) {
            let len = usize::from(u16_at(bytes, 0)?);
            if len < HEADER || entries.len() >= MAX_ENTRIES {
                return None;
            }
            entries.push(Self {
                kind: u16_at(bytes, 2)?,
                value: u16_at(bytes, 4)?,
                data: Zeroizing::new(bytes.get(HEADER..len)?.to_vec()),
            });
            bytes = bytes.get(len..)?;
        }
        Some(entries)
    }

    fn protector(&self) -> Option<Protector> {
        // GUID, time, a number, the kind of protector, its parts.
        let kind = ProtectorKind::of(u16_at(&self.data, 26)?);
        Some(Protector {
            id: Uuid::from_bytes_le(array_at(&self.data, 0)?),
            kind,
            parts: Self::all(self.data.get(28..)?)?,
        })
    }
}

/// Why a volume's metadata cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum MetadataError {
    /// It has the first version of the format.
    #[error("the volume has version {0} of the format, which is not supported")]
    Version(u16),
    /// No copy of it is whole.
    #[error(
        "none of the three copies of the volume's metadata is whole; the last one at {at}: {why}"
    )]
    Damaged {
        /// Where on the disk the last copy lies.
        at: Lba,
        /// What is wrong with it.
        why: Damage,
    },
}

/// What is wrong with a copy of the metadata.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Damage {
    /// Reading failed, or it leaves the volume.
    #[error("it cannot be read")]
    Unreadable,
    /// Something else is there.
    #[error("no metadata is there")]
    NotThere,
    /// A length or a number in it is impossible.
    #[error("a length in it is impossible")]
    Lengths,
    /// Its bytes do not have its checksum.
    #[error("its checksum is wrong")]
    Checksum,
}

/// What a volume says of its encryption.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Metadata {
    /// The volume's identifier.
    pub id: Uuid,
    /// What it is doing.
    pub state: EncryptionState,
    /// How its sectors are encrypted.
    pub method: Method,
    /// What opens it.
    pub protectors: Vec<Protector>,
    /// What it was called when it was encrypted: PC, label, day. Comes from the disk.
    pub description: String,
    /// Bytes of a sector, for the cipher.
    pub(super) sector: u32,
    /// Bytes that are encrypted, from the start on.
    pub(super) encrypted_bytes: u64,
    /// Where the copies of the metadata are.
    pub(super) copies: [u64; COPIES],
    /// Where the file system's first sectors are kept, in bytes from the start, and how many bytes.
    pub(super) first_sectors: (u64, u64),
    /// The key of the sectors, wrapped by the master key; a decrypted volume has none.
    pub(super) wrapped_key: Option<Entry>,
}

/// What the header of an encrypted volume says.
struct Header {
    copies: [u64; COPIES],
    sector: u32,
    on_write: bool,
}

impl Header {
    /// `None` where it is none.
    fn of(first_sector: &[u8]) -> Option<Self> {
        let kind_at = |at| array_at(first_sector, at).map(Uuid::from_bytes_le);
        let at = match first_sector.get(3..11)? {
            SIGNATURE => KIND_AT,
            TO_GO_MARK if [USUAL, ON_WRITE].contains(&kind_at(TO_GO_KIND_AT)?) => TO_GO_KIND_AT,
            _ => return None,
        };
        let place = |index: usize| u64_at(first_sector, at + 16 + index * 8);
        Some(Self {
            copies: [place(0)?, place(1)?, place(2)?],
            sector: u16_at(first_sector, 11)?.into(),
            on_write: kind_at(at) == Some(ON_WRITE),
        })
    }
}

/// The state of the volume on `device`; `None` when its first sector is not that of an encrypted volume. A copy of the
/// metadata with a wrong checksum tells it as well, where none is whole: such a volume is never opened.
pub fn recognise(device: &dyn ReadDevice, first_sector: &[u8]) -> Option<EncryptionState> {
    let header = Header::of(first_sector)?;
    let state = |checked: Checksum| {
        let mut copies = header.copies.iter();
        copies.find_map(|&offset| Metadata::read_copy(device, &header, offset, checked).ok())
    };
    let found = state(Checksum::Holds).or_else(|| state(Checksum::Ignored));
    Some(found.map_or(EncryptionState::NotReported, |metadata| metadata.state))
}

/// What is asked of a copy's checksum.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Checksum {
    Holds,
    Ignored,
}

impl Metadata {
    /// Reads the metadata of a volume with this first sector, of its copies the first one that is whole; `None`
    /// where that is not the first sector of an encrypted volume.
    ///
    /// # Errors
    ///
    /// Another version, or no copy is whole: what is wrong with the last one that was looked at.
    pub fn read(
        device: &dyn ReadDevice,
        first_sector: &[u8],
    ) -> Option<Result<Self, MetadataError>> {
        Header::of(first_sector).map(|header| Self::read_by(device, &header))
    }

    fn read_by(device: &dyn ReadDevice, header: &Header) -> Result<Self, MetadataError> {
        let sector_bytes = u64::from(device.geometry().logical_sector);
        let mut last = (Lba(0), Damage::NotThere);
        for offset in header.copies {
            match Self::read_copy(device, header, offset, Checksum::Holds) {
                Ok(metadata) => return Ok(metadata),
                Err(Unusable::Version(version)) => return Err(MetadataError::Version(version)),
                Err(Unusable::Damaged(why)) => {
                    let on_disk = device.disk_offset().saturating_add(offset);
                    last = (Lba(on_disk / sector_bytes), why);
                }
            }
        }
        let (at, why) = last;
        Err(MetadataError::Damaged { at, why })
    }

    fn read_copy(
        device: &dyn ReadDevice,
        header: &Header,
        offset: u64,
        checksum: Checksum,
    ) -> Result<Self, Unusable> {
        let start = device.read_vec(offset, BLOCK_HEADER + SET_HEADER)?;
        if !start.starts_with(SIGNATURE) {
            return Err(Damage::NotThere.into());
        }
        let number = |at: usize| u16_at(&start, at).ok_or(Damage::Lengths);
        let version = number(10)?;
        if version != 2 {
            return Err(Unusable::Version(version));
        }
        // In units of 16 bytes, with both headers.
        let len = usize::from(number(8)?) * 16;
        if len < BLOCK_HEADER + SET_HEADER || (len + CHECK_BYTES) as u64 > COPY_BYTES {
            return Err(Damage::Lengths.into());
        }
        let block = device.read_vec(offset, len + CHECK_BYTES)?;
        let (block, check) = block.split_at(len);
        let holds = u32_at(check, 4) == Some(crc32fast::hash(block));
        if !holds && checksum == Checksum::Holds {
            return Err(Damage::Checksum.into());
        }
        Self::parse(block, header).ok_or_else(|| Damage::Lengths.into())
    }

    /// `None` where a length is impossible.
    fn parse(block: &[u8], header: &Header) -> Option<Self> {
        let set_len = usize::try_from(u32_at(block, BLOCK_HEADER)?).ok()?;
        let set_header = usize::try_from(u32_at(block, BLOCK_HEADER + 8)?).ok()?;
        let set = block.get(BLOCK_HEADER..BLOCK_HEADER.checked_add(set_len)?)?;
        let entries = Entry::all(set.get(set_header.max(SET_HEADER)..)?)?;
        let find = |kind: u16, value: u16| {
            let mut entries = entries.iter();
            entries.find(|entry| entry.kind == kind && entry.value == value)
        };
        let is_protector =
            |entry: &&Entry| entry.kind == ENTRY_PROTECTOR && entry.value == VALUE_PROTECTOR;
        let protectors: Option<Vec<Protector>> = entries
            .iter()
            .filter(is_protector)
            .map(Entry::protector)
            .collect();
        let protectors = protectors?;
        let state = match (u16_at(block, 12)?, u16_at(block, 14)?) {
            (STATE_DECRYPTED, STATE_DECRYPTED) => EncryptionState::Decrypted,
            (STATE_ENCRYPTED, STATE_ENCRYPTED) if header.on_write => EncryptionState::Encrypting,
            (STATE_ENCRYPTED, STATE_ENCRYPTED) => {
                let is_open = |protector: &Protector| protector.kind == ProtectorKind::ClearKey;
                if protectors.iter().any(is_open) {
                    EncryptionState::Suspended
                } else {
                    EncryptionState::Encrypted
                }
            }
            (_, STATE_DECRYPTED) => EncryptionState::Decrypting,
            (_, STATE_ENCRYPTED) => EncryptionState::Encrypting,
            _ => EncryptionState::NotReported,
        };
        let sector = header.sector;
        if !(512..=4096).contains(&sector) || !sector.is_power_of_two() {
            return None;
        }
        let first_sectors = match find(ENTRY_FIRST_SECTORS, VALUE_EXTENT) {
            Some(entry) => (u64_at(&entry.data, 0)?, u64_at(&entry.data, 8)?),
            None => (
                u64_at(block, 56)?,
                u64::from(u32_at(block, 28)?) * u64::from(sector),
            ),
        };
        let description = find(ENTRY_DESCRIPTION, VALUE_TEXT).map(|entry| utf16_lossy(&entry.data));
        Some(Self {
            id: Uuid::from_bytes_le(array_at(set, 16)?),
            state,
            method: Method::of(u16_at(set, 36)?),
            protectors,
            description: description
                .unwrap_or_default()
                .trim_end_matches('\0')
                .to_owned(),
            sector,
            encrypted_bytes: u64_at(block, 16)?,
            copies: header.copies,
            first_sectors,
            wrapped_key: find(ENTRY_VOLUME_KEY, VALUE_WRAPPED).cloned(),
        })
    }
}

impl Metadata {
    /// Bytes that are encrypted, from the start of the volume on.
    pub fn encrypted_bytes(&self) -> u64 {
        self.encrypted_bytes
    }
}

/// Why one copy is no use.
enum Unusable {
    Version(u16),
    Damaged(Damage),
}

impl From<Damage> for Unusable {
    fn from(why: Damage) -> Self {
        Self::Damaged(why)
    }
}

impl From<DeviceError> for Unusable {
    fn from(_: DeviceError) -> Self {
        Self::Damaged(Damage::Unreadable)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{BlockDevice, Memory};

    const COPY_AT: [u64; 3] = [65_536, 131_072, 196_608];

    fn entry(kind: u16, value: u16, data: &[u8]) -> Vec<u8> {
        let len = u16::try_from(8 + data.len()).unwrap();
        let head = [len, kind, value, 1].map(u16::to_le_bytes).concat();
        [head, data.to_vec()].concat()
    }

    /// A volume with these states and protectors, of whose copies only the second is there.
    fn volume(now: u16, next: u16, protectors: &[u16], on_write: bool) -> Memory {
        let disk = Memory::new(512, 2048);
        let mut sector = vec![0; 512];
        sector[3..11].copy_from_slice(SIGNATURE);
        sector[11..13].copy_from_slice(&512u16.to_le_bytes());
        let kind = if on_write { ON_WRITE } else { USUAL };
        sector[KIND_AT..][..16].copy_from_slice(&kind.to_bytes_le());
        for (index, offset) in COPY_AT.into_iter().enumerate() {
            sector[KIND_AT + 16 + index * 8..][..8].copy_from_slice(&offset.to_le_bytes());
        }
        disk.write_at(0, &sector).unwrap();
        let protector = |kind: &u16| {
            let mut data = vec![7; 28];
            data[26..].copy_from_slice(&kind.to_le_bytes());
            entry(ENTRY_PROTECTOR, VALUE_PROTECTOR, &data)
        };
        let entries: Vec<u8> = protectors.iter().flat_map(protector).collect();
        let len = u32::try_from(SET_HEADER + entries.len()).unwrap();
        let mut block = vec![0; BLOCK_HEADER + SET_HEADER];
        block.extend(entries);
        block.resize(block.len().next_multiple_of(16), 0);
        block[..8].copy_from_slice(SIGNATURE);
        let units = u16::try_from(block.len() / 16).unwrap();
        for (at, value) in [(8, units), (10, 2), (12, now), (14, next), (100, 0x8004)] {
            block[at..at + 2].copy_from_slice(&u16::to_le_bytes(value));
        }
        block[64..68].copy_from_slice(&len.to_le_bytes());
        block[72..76].copy_from_slice(&48u32.to_le_bytes());
        let checksum = crc32fast::hash(&block);
        block.extend([8, 0, 2, 0]);
        block.extend(checksum.to_le_bytes());
        block.resize(1024, 0);
        disk.write_at(COPY_AT[1], &block).unwrap();
        disk
    }

    #[test]
    fn states_are_told_apart() {
        use EncryptionState::{
            Decrypted, Decrypting, Encrypted, Encrypting, NotReported, Suspended,
        };
        for (now, next, protectors, on_write, expected) in [
            (4, 4, &[0x0100, 0x0800][..], false, Encrypted),
            (4, 4, &[0x0800, 0x0000], false, Suspended),
            (4, 4, &[0x0800], true, Encrypting),
            (2, 4, &[0x0800], false, Encrypting),
            (5, 1, &[0x0800], false, Decrypting),
            (4, 1, &[0x0800], false, Decrypting),
            (1, 1, &[], true, Decrypted),
            (9, 9, &[], false, NotReported),
        ] {
            let disk = volume(now, next, protectors, on_write);
            let sector = disk.read_vec(0, 512).unwrap();
            assert_eq!(recognise(&disk, &sector), Some(expected), "{now} -> {next}");
            let metadata = Metadata::read(&disk, &sector).unwrap().unwrap();
            assert_eq!(metadata.protectors.len(), protectors.len());
            assert_eq!(metadata.method, Method::Xts128);
        }
        assert_eq!(recognise(&Memory::new(512, 8), &[0; 512]), None);
    }

    #[test]
    fn a_copy_that_is_not_whole_is_not_used() {
        let disk = volume(4, 4, &[0x0800], false);
        let sector = disk.read_vec(0, 512).unwrap();
        let mut block = disk.read_vec(COPY_AT[1], 1024).unwrap();
        block[120] ^= 1;
        disk.write_at(COPY_AT[1], &block).unwrap();
        // It is still said what the volume is.
        assert_eq!(recognise(&disk, &sector), Some(EncryptionState::Encrypted));
        let why = |disk: &Memory| Metadata::read(disk, &sector).unwrap().unwrap_err();
        let told = why(&disk).to_string();
        assert!(
            told.contains("LBA 384") && told.contains("no metadata is there"),
            "{told}"
        );
        block[10] = 1;
        disk.write_at(COPY_AT[2], &block).unwrap();
        assert!(matches!(why(&disk), MetadataError::Version(1)));
        // Lengths beyond what a copy has room for.
        block[8..12].copy_from_slice(&[0xFF, 0xFF, 2, 0]);
        disk.write_at(COPY_AT[2], &block).unwrap();
        assert!(why(&disk).to_string().contains("length"));
        let entries = |bytes: &[u8]| Entry::all(bytes);
        assert!(entries(&[7, 0, 0, 0, 0, 0, 0, 0]).is_none());
        assert!(entries(&[9, 0, 0, 0, 0, 0, 0, 0]).is_none());
        assert!(entries(&[8, 0, 0, 0, 0, 0, 0, 0].repeat(300)).is_none());
        assert_eq!(entries(&[0; 20]).unwrap().len(), 0);
    }
}
