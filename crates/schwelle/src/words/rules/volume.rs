//! The rules about the volumes.

use schwelle_core::bitlocker::{EncryptionState, ProtectorKind};
use schwelle_core::rules::answers::volume::{Evidence, Remedy};
use uuid::Uuid;

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::Encryption {
            at,
            state,
            recovery_ids,
            other_method,
        } => {
            let method = other_method.map_or(String::new(), |number| {
                format!(", by a method that is not opened here ({number:#06x})")
            });
            format!("{at}: {}{method}{}", encryption(*state), ids(recovery_ids))
        }
        Evidence::EncryptionOpen {
            opened_by,
            recovery_ids,
        } => format!(
            "encrypted, and opened here {}; it stays encrypted{}",
            opener(*opened_by),
            ids(recovery_ids)
        ),
        Evidence::VolumeFault { fault } => fault.to_string(),
        Evidence::Hibernated => {
            "\\hiberfil.sys holds a session that was not ended (hibernation or Fast Startup)".to_owned()
        }
        Evidence::ResumedAndClosed => {
            "\\hiberfil.sys says that a session was being resumed, but the volume was closed cleanly since"
                .to_owned()
        }
        Evidence::MarkedForCheck => "the volume is marked for a check".to_owned(),
        Evidence::LogInUse => {
            "the volume's log is in use: it was not closed cleanly".to_owned()
        }
        Evidence::LogMounted => {
            "the volume's log has version 2.0, which Windows uses while it runs: it was not shut down completely"
                .to_owned()
        }
        Evidence::LogDamaged => "the volume's log is invalid".to_owned(),
        Evidence::CopyFault { fault } => fault.to_string(),
        Evidence::AuditFault { fault } => fault.to_string(),
        Evidence::Balanced { files, clusters } => format!(
            "{files} files and folders, {clusters} clusters: records, runlists and bitmap agree"
        ),
        Evidence::ShadowCopies { count, lost } => {
            let copies = match count {
                Some(1) => "1 restore point (shadow copy)".to_owned(),
                Some(count) => format!("{count} restore points (shadow copies)"),
                None => "restore points (shadow copies), whose list cannot be read".to_owned(),
            };
            match lost {
                true => format!("{copies}: lost, since the volume is shrunk"),
                false => {
                    format!("{copies}: kept; of files that the job edits they show the new sectors")
                }
            }
        }
        Evidence::Unrecognised { at, first_bytes } => {
            let bytes: Vec<String> = first_bytes
                .iter()
                .map(|byte| format!("{byte:02X}"))
                .collect();
            format!(
                "{at}: type 07h (NTFS or exFAT), but nothing that is known; it begins {}",
                bytes.join(" ")
            )
        }
        Evidence::TypeContradicts {
            named_at,
            mbr_type,
            volume,
        } => format!(
            "{named_at}: type {:02X}h ({}), but it holds {}",
            mbr_type.0,
            mbr_type.name(),
            volume.name()
        ),
    }
}

/// Recovery passwords by their identifiers, as Windows and its accounts show them.
fn ids(ids: &[Uuid]) -> String {
    let shown: Vec<String> = ids.iter().map(|id| id.to_string().to_uppercase()).collect();
    match &shown[..] {
        [] => String::new(),
        all => format!("; key ID of its recovery password: {}", all.join(", ")),
    }
}

/// What opened a volume.
pub(crate) fn opener(kind: ProtectorKind) -> &'static str {
    match kind {
        ProtectorKind::ClearKey => {
            "by the key that is stored in the clear while protection is suspended"
        }
        ProtectorKind::RecoveryPassword => "by its recovery password",
        ProtectorKind::Password => "by its password",
        ProtectorKind::KeyFile => "by its key file",
        ProtectorKind::Tpm => "by the PC's security chip",
        ProtectorKind::Other => "by another key",
    }
}

fn encryption(state: EncryptionState) -> &'static str {
    match state {
        EncryptionState::Encrypted => "encrypted",
        EncryptionState::Suspended => {
            "encrypted, protection suspended: the content is still encrypted, only the key is stored in the clear"
        }
        EncryptionState::Encrypting => "encryption is under way, or waits to go on",
        EncryptionState::Decrypting => "decryption is under way",
        EncryptionState::Decrypted => "decrypted, but its encryption metadata is still active",
        EncryptionState::NotReported => "encrypted; its metadata cannot be read",
    }
}

pub(super) fn remedy(remedy: &Remedy) -> String {
    match remedy {
        Remedy::Decrypt => {
            "In Windows, turn the encryption of this volume off and wait until it says that decryption is \
             complete; shut down and check again. Keep the recovery key at hand."
        }
        Remedy::Unlock => {
            "Open it with its recovery password or key file: --unlock FILE, or --unlock - to type it. Or suspend \
             its protection in Windows (manage-bde -protectors -disable C:) and shut down: then it is opened by \
             itself. Nothing is decrypted."
        }
        Remedy::WaitForEncryption => {
            "Start Windows, and wait until it says that the volume is encrypted, or turn the encryption off and \
             wait for that; shut down and check again."
        }
        Remedy::RecoveryPasswordAtHand => {
            "At the first start in the other mode Windows asks once for the recovery password with this key ID, \
             since the PC starts in another way. Have it at hand, or suspend protection in Windows before. Leave \
             the security chip (TPM) alone."
        }
        Remedy::SealsItsKeyAnew => {
            "At the first start in the other mode Windows protects its key again by itself. Do not resume \
             protection before that, and leave the security chip (TPM) alone."
        }
        Remedy::WaitForDecryption => {
            "Start Windows, wait until decryption is complete, shut down and check again."
        }
        Remedy::StartOnceDecrypted => {
            "Start Windows once, so that it finishes; shut down and check again."
        }
        Remedy::KeptUnseen => {
            "It is kept without being inspected. Keep its recovery key at hand, and make sure that no system is on it: \
             it would not start any more."
        }
        Remedy::KeptUnseenAside => {
            "Its volume is kept without being inspected: nothing starts from it. Keep its recovery key at hand."
        }
        Remedy::CheckOrCopy => {
            "Start Windows and let it check this volume (chkdsk), or copy the disk first if it may be failing; \
             then check again."
        }
        Remedy::HibernationOff => {
            "Start Windows, switch Fast Startup and hibernation off (powercfg /h off), shut down and check \
             again."
        }
        Remedy::ShutDownIfInDoubt => {
            "Not every Windows takes that back. If in doubt: start Windows, shut it down completely and check \
             again."
        }
        Remedy::CheckVolume => {
            "Start Windows, let it check the volume (chkdsk /f), shut down completely and check again."
        }
        Remedy::CheckAtRest => {
            "The volume is mounted here, so this is its state at work, and no fault yet. What counts is how it is left: \
             it is judged again when it has been taken off, or from the recovery prompt or the rescue stick."
        }
        Remedy::KeepRestorePoints => {
            "If one may still be needed, copy what it holds first. convert asks for this by name \
             (--lose-restore-points for scripts). Afterwards delete them in Windows (System Protection). To keep \
             them, take the space from elsewhere: unused space, or another volume."
        }
        Remedy::KeptUnrecognised => {
            "It may be encrypted by another program, damaged, or shown by an adapter with another sector size. \
             It would be kept without being inspected; convert asks for that by name (--keep-unrecognised for \
             scripts)."
        }
        Remedy::HowItCame => {
            "Find out how this came about. The partition keeps its content, but its new type follows the old \
             one."
        }
    }
    .to_owned()
}
