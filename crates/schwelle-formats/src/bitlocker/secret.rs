//! What opens a volume, and the keys that it opens.

use std::fmt;

use aes::Aes256;
use ccm::aead::{AeadInPlace, KeyInit};
use ccm::consts::{U12, U16};
use ccm::{Ccm, Nonce, Tag};
use sha2::{Digest, Sha256};
use uuid::Uuid;
use zeroize::Zeroizing;

use super::cipher::{SectorCipher, with_key};
use super::metadata::{
    Entry, Metadata, Method, Protector, ProtectorKind, VALUE_KEY, VALUE_STRETCHED, VALUE_WRAPPED,
};
use crate::bytes::{array_at, u32_at, utf16_bytes};

/// Rounds of hashing from a password to a key: a fixed number, so that no volume can ask for more.
const ROUNDS: u64 = 1 << 20;
/// Pairs of a protector and a secret that are tried: each takes about a second.
const MAX_TRIED: usize = 16;
/// Groups of a recovery password, and digits of each.
const GROUPS: usize = 8;
const GROUP_DIGITS: usize = 6;
/// Each group is a multiple of it, which catches a slip of the finger.
const GROUP_FACTOR: u32 = 11;
/// A key file begins with a header like that of a data set. Windows' have some 156 bytes.
const FILE_HEADER: usize = 48;
const ENTRY_STARTUP_KEY: u16 = 6;
const VALUE_EXTERNAL_KEY: u16 = 9;

type Key = Zeroizing<[u8; 32]>;

/// What a technician has of a volume. It is wiped when it is dropped, and shows nothing of itself.
#[derive(Clone)]
pub enum Secret {
    /// The recovery password: the 16 bytes that its digits stand for.
    RecoveryPassword(Zeroizing<[u8; 16]>),
    /// A password of the user's.
    Password(Zeroizing<String>),
    /// The key in a key file, and the protector that it belongs to.
    KeyFile {
        /// The protector.
        id: Uuid,
        /// The key.
        key: Zeroizing<[u8; 32]>,
    },
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "a secret for {:?}", self.opens())
    }
}

/// Why a text or a file is no secret.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SecretError {
    /// A group of a recovery password is mistyped.
    #[error(
        "group {group} of the recovery password is mistyped: it is no multiple of 11, or too large"
    )]
    Mistyped {
        /// Which one, from 1 on.
        group: usize,
    },
    /// Nothing is there.
    #[error("it is empty")]
    Empty,
    /// It is neither text nor a key file.
    #[error("it is neither a password nor a key file")]
    Other,
}

impl Secret {
    /// What kind of protector it opens.
    pub fn opens(&self) -> ProtectorKind {
        match self {
            Self::RecoveryPassword(_) => ProtectorKind::RecoveryPassword,
            Self::Password(_) => ProtectorKind::Password,
            Self::KeyFile { .. } => ProtectorKind::KeyFile,
        }
    }

    /// The secret that is typed: a recovery password where it has eight groups of digits, else a user's password.
    ///
    /// # Errors
    ///
    /// It is empty, or a group of the recovery password cannot be right.
    pub fn typed(text: &str) -> Result<Self, SecretError> {
        let text = text.trim_end_matches(['\r', '\n']);
        if text.is_empty() {
            return Err(SecretError::Empty);
        }
        let groups: Vec<&str> = text.trim().split('-').map(str::trim).collect();
        let is_number = |group: &&str| {
            !group.is_empty()
                && group.len() <= GROUP_DIGITS
                && group.bytes().all(|c| c.is_ascii_digit())
        };
        if groups.len() != GROUPS || !groups.iter().all(is_number) {
            return Ok(Self::Password(Zeroizing::new(text.to_owned())));
        }
        let mut key = Zeroizing::new([0; 16]);
        for (index, (group, part)) in groups.iter().zip(key.chunks_exact_mut(2)).enumerate() {
            let number: Option<u32> = group.parse().ok();
            let number = number.filter(|number| number % GROUP_FACTOR == 0);
            let word = number.and_then(|number| u16::try_from(number / GROUP_FACTOR).ok());
            let word = word.ok_or(SecretError::Mistyped { group: index + 1 })?;
            part.copy_from_slice(&word.to_le_bytes());
        }
        Ok(Self::RecoveryPassword(key))
    }

    /// The secret in a file: a key file, or a text with a password.
    ///
    /// # Errors
    ///
    /// It is neither.
    pub fn in_file(bytes: &[u8]) -> Result<Self, SecretError> {
        if let Some(secret) = Self::key_file(bytes) {
            return Ok(secret);
        }
        // As Windows saves a recovery password: a text in which it stands on a line by itself.
        let text = Zeroizing::new(match bytes {
            [0xFF, 0xFE, text @ ..] => crate::bytes::utf16_lossy(text),
            [0xEF, 0xBB, 0xBF, text @ ..] | text => str::from_utf8(text)
                .map_err(|_fault| SecretError::Other)?
                .to_owned(),
        });
        let mut lines = text.lines().map(Self::typed);
        let recovery = lines.find(|line| matches!(line, Ok(Self::RecoveryPassword(_))));
        match recovery {
            Some(secret) => secret,
            None if text.contains('\0') => Err(SecretError::Other),
            None => Self::typed(text.lines().next().unwrap_or_default()),
        }
    }

    fn key_file(bytes: &[u8]) -> Option<Self> {
        let len = usize::try_from(u32_at(bytes, 0)?).ok()?;
        let header = usize::try_from(u32_at(bytes, 8)?).ok()?;
        let entries = Entry::all(bytes.get(header.max(FILE_HEADER)..len)?)?;
        let outer = entries
            .iter()
            .find(|entry| entry.kind == ENTRY_STARTUP_KEY && entry.value == VALUE_EXTERNAL_KEY)?;
        // GUID and time, then the key.
        let parts = Entry::all(outer.data.get(24..)?)?;
        Some(Self::KeyFile {
            id: Uuid::from_bytes_le(array_at(&outer.data, 0)?),
            key: plain_key(&parts)?,
        })
    }

    /// What wraps the master key for this protector.
    fn wrapping_key(&self, protector: &Protector) -> Option<Key> {
        match self {
            Self::RecoveryPassword(key) => stretch(&hash(key.as_slice()), protector),
            Self::Password(text) => {
                let text = Zeroizing::new(utf16_bytes(text));
                stretch(&hash(hash(&text).as_slice()), protector)
            }
            Self::KeyFile { id, key } => (*id == protector.id).then(|| key.clone()),
        }
    }
}

/// A hash that is wiped when it is dropped, since a key is made of it.
fn hash(bytes: &[u8]) -> Key {
    Zeroizing::new(Sha256::digest(bytes).into())
}

/// A key that is stored in the clear in one of these entries.
fn plain_key(parts: &[Entry]) -> Option<Key> {
    let entry = parts.iter().find(|entry| entry.value == VALUE_KEY)?;
    // A number, then the key.
    Some(Zeroizing::new(array_at(&entry.data, 4)?))
}

/// The key that a password gives with the protector's salt.
fn stretch(first: &Key, protector: &Protector) -> Option<Key> {
    let parts = protector.parts.iter();
    let salted = parts.clone().find(|part| part.value == VALUE_STRETCHED)?;
    let salt: [u8; 16] = array_at(&salted.data, 4)?;
    // The last hash, the first one, the salt, the number of the round.
    let mut round = Zeroizing::new([0_u8; 88]);
    round[32..64].copy_from_slice(first.as_slice());
    round[64..80].copy_from_slice(&salt);
    for count in 0..ROUNDS {
        round[80..].copy_from_slice(&count.to_le_bytes());
        let last = hash(round.as_slice());
        round[..32].copy_from_slice(last.as_slice());
    }
    Some(Zeroizing::new(array_at(round.as_slice(), 0)?))
}

/// Unwraps a key; `None` where this one does not open it.
fn unwrap(key: &[u8; 32], wrapped: &Entry) -> Option<Zeroizing<Vec<u8>>> {
    let nonce: [u8; 12] = array_at(&wrapped.data, 0)?;
    let tag: [u8; 16] = array_at(&wrapped.data, 12)?;
    let mut bytes = Zeroizing::new(wrapped.data.get(28..)?.to_vec());
    let cipher = Ccm::<Aes256, U16, U12>::new_from_slice(key).ok()?;
    let (nonce, tag) = (Nonce::from(nonce), Tag::from(tag));
    cipher
        .decrypt_in_place_detached(&nonce, &[], &mut bytes, &tag)
        .ok()?;
    // An entry again: its header, a number, the key.
    let bytes = bytes.get(12..).map(<[u8]>::to_vec)?;
    Some(Zeroizing::new(bytes))
}

/// Why a volume stays closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum UnlockError {
    /// None of what was given opens it.
    #[error("none of its protectors is opened by what was given")]
    NoneFits,
    /// Its method of encryption is not supported.
    #[error("its method of encryption, {0}, is not supported")]
    Method(Method),
    /// A conversion is under way on it, or it has no key.
    #[error("a conversion is under way on it")]
    UnderWay,
    /// What it says of itself leaves it.
    #[error("its metadata names places outside of it")]
    Damaged,
    /// The keys that were found are not as long as the method wants.
    #[error("its key has not the length that its method wants")]
    KeyLength,
}

/// The key of a volume's sectors. It is wiped when it is dropped.
pub struct VolumeKey {
    pub(super) cipher: Box<dyn SectorCipher>,
    /// What opened it.
    pub opened_by: ProtectorKind,
}

impl fmt::Debug for VolumeKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "a key opened by {:?}", self.opened_by)
    }
}

impl Metadata {
    /// Opens the volume: by its clear key where protection is suspended, else by one of these.
    ///
    /// # Errors
    ///
    /// None fits, or what it is encrypted by is not supported here.
    pub fn unlock(&self, secrets: &[Secret]) -> Result<VolumeKey, UnlockError> {
        use super::EncryptionState::{Encrypted, Suspended};
        if !matches!(self.state, Encrypted | Suspended) {
            return Err(UnlockError::UnderWay);
        }
        if let Method::Other(_) = self.method {
            return Err(UnlockError::Method(self.method));
        }
        let wrapped = self.wrapped_key.as_ref().ok_or(UnlockError::UnderWay)?;
        let is_open = |protector: &&Protector| protector.kind == ProtectorKind::ClearKey;
        let open = self.protectors.iter().filter(is_open);
        let open = open.filter_map(|protector| Some((protector, plain_key(&protector.parts)?)));
        let tried = self.protectors.iter().flat_map(|protector| {
            let fitting = secrets
                .iter()
                .filter(|secret| secret.opens() == protector.kind);
            fitting.map(move |secret| (protector, secret))
        });
        let given = tried
            .take(MAX_TRIED)
            .filter_map(|(protector, secret)| Some((protector, secret.wrapping_key(protector)?)));
        let key = open.chain(given).find_map(|(protector, wrapping)| {
            let part = protector
                .parts
                .iter()
                .find(|part| part.value == VALUE_WRAPPED)?;
            let master: Key = Zeroizing::new(array_at(&unwrap(&wrapping, part)?, 0)?);
            Some((protector.kind, unwrap(&master, wrapped)?))
        });
        let (opened_by, key) = key.ok_or(UnlockError::NoneFits)?;
        let cipher = with_key(self.method, &key).ok_or(UnlockError::KeyLength)?;
        Ok(VolumeKey { cipher, opened_by })
    }
}
