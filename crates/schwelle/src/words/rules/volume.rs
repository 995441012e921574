//! The rules about the volumes.

use schwelle_core::encryption::EncryptionState;
use schwelle_core::rules::answers::volume::{Evidence, Remedy};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::Encryption { at, state } => format!("{at}: {}", encryption(*state)),
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

fn encryption(state: EncryptionState) -> &'static str {
    match state {
        EncryptionState::Encrypted => "encrypted",
        EncryptionState::Suspended => {
            "encrypted, protection suspended: the content is still encrypted, only the key is stored in the clear"
        }
        EncryptionState::Encrypting => "encryption is under way",
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
        Remedy::DecryptSuspended => {
            "Suspending is not enough here, since the boot files cannot be read from outside. In Windows, turn \
             the encryption off and wait until decryption is complete."
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
