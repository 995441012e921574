//! BitLocker volumes: their state, what their key is protected by, and their content once one of those is at hand.
//!
//! The volume header carries the name `-FVE-FS-` and the places of three copies of the metadata ([`Metadata`]):
//! what the volume is doing, its protectors ([`Protector`]), and the key of its sectors, wrapped twice. A protector
//! opened by a [`Secret`] gives the volume's master key, that one the key of the sectors ([`VolumeKey`]). The first
//! sectors of the file system lie elsewhere on the volume; [`Unlocked`] shows a disk with its volumes decrypted,
//! [`Sealed`] the same once more encrypted, for what has been changed.
//!
//! Facts as free implementations agree on them (the format's description of the library libbde; the device mapper
//! set-up of cryptsetup), and, of the diffuser, its designer's paper (N. Ferguson, "AES-CBC + Elephant diffuser",
//! 2006). Volumes that Windows wrote are read in the tests beside two of those. Not supported: the first version of
//! the format (its volumes are recognised, no more), and volumes on which a conversion is under way.

mod cipher;
mod diffuser;
mod metadata;
mod sealed;
mod secret;
mod unlocked;

pub use metadata::{
    EncryptionState, Metadata, MetadataError, Method, Protector, ProtectorKind, recognise,
};
pub use sealed::{NotSealed, Sealed, can_be_sealed};
pub use secret::{Secret, SecretError, UnlockError, VolumeKey};
pub use unlocked::{Unlocked, UnlockedVolume};
