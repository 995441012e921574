//! Answers about the volumes.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use uuid::Uuid;

use crate::bitlocker::{EncryptionState, ProtectorKind};
use crate::device::Lba;
use crate::mbr::Kind;
use crate::next::Next;
use crate::ntfs::{AuditFault, CopyFault};
use crate::profile::{VolumeFault, VolumeKind};

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleVolumeEvidence"))]
pub enum Evidence {
    /// It is encrypted.
    Encryption {
        /// Its first sector.
        at: Lba,
        /// How far.
        state: EncryptionState,
        /// Identifiers of its recovery passwords.
        recovery_ids: Vec<Uuid>,
        /// The number of its method of encryption, where volumes with that are not opened here: a drive that
        /// encrypts by itself among them.
        other_method: Option<u16>,
    },
    /// It is encrypted, and open here.
    EncryptionOpen {
        /// By what.
        opened_by: ProtectorKind,
        /// Identifiers of its recovery passwords.
        recovery_ids: Vec<Uuid>,
    },
    /// It cannot be read.
    VolumeFault {
        /// Why not.
        fault: VolumeFault,
    },
    /// A session that was not ended waits on it.
    Hibernated,
    /// A session was being resumed, but the volume was closed cleanly since.
    ResumedAndClosed,
    /// It is marked for a check.
    MarkedForCheck,
    /// Its log is in use.
    LogInUse,
    /// Its log is one that Windows uses while it runs.
    LogMounted,
    /// Its log is invalid.
    LogDamaged,
    /// A copy of one of its structures does not match.
    CopyFault {
        /// Which.
        fault: CopyFault,
    },
    /// Its books do not balance.
    AuditFault {
        /// Where.
        fault: AuditFault,
    },
    /// It is consistent.
    Balanced {
        /// Files and folders.
        files: u64,
        /// Clusters in use.
        clusters: u64,
    },
    /// There are shadow copies on it.
    ShadowCopies {
        /// How many; none where their list cannot be read.
        count: Option<u64>,
        /// They are lost, since the volume is shrunk.
        lost: bool,
    },
    /// Its type says NTFS or exFAT, and it holds nothing that is known.
    Unrecognised {
        /// Its first sector.
        at: Lba,
        /// The bytes that it begins with.
        first_bytes: Vec<u8>,
    },
    /// It holds something else than its type says.
    TypeContradicts {
        /// The sector that names it.
        named_at: Lba,
        /// The type.
        mbr_type: Kind,
        /// What it holds.
        volume: VolumeKind,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleVolumeRemedy"))]
pub enum Remedy {
    /// Turn the encryption off.
    Decrypt,
    /// Open it here.
    Unlock,
    /// Wait for the encryption to end, or turn it off.
    WaitForEncryption,
    /// At the next start Windows asks for the recovery password once.
    RecoveryPasswordAtHand,
    /// At the next start Windows protects its key again by itself.
    SealsItsKeyAnew,
    /// Wait for the decryption to end.
    WaitForDecryption,
    /// Start Windows once.
    StartOnceDecrypted,
    /// A data disk's volume is kept without being inspected.
    KeptUnseen,
    /// A volume that nothing starts from is kept without being inspected.
    KeptUnseenAside,
    /// Let Windows check the volume, or copy the disk.
    CheckOrCopy,
    /// Switch hibernation off.
    HibernationOff,
    /// Shut Windows down completely, if in doubt.
    ShutDownIfInDoubt,
    /// Let Windows check the volume, and shut down.
    CheckVolume,
    /// It is mounted here; what counts is how it is left.
    CheckAtRest,
    /// Copy what the restore points hold, or let the room come from elsewhere.
    KeepRestorePoints,
    /// What it holds would be kept without being inspected.
    KeptUnrecognised,
    /// Find out how the type and the content came to differ.
    HowItCame,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        Vec::new()
    }
}
