//! The rules about the partition table.

use schwelle_core::disk_use::DiskUse;
use schwelle_core::rules::answers::table::{Evidence, Remedy};

use super::super::{copy_name, nth};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::Mbr { signature } => format!("MBR, disk signature {signature:08X}"),
        Evidence::MbrOverGpt => "MBR, with the remains of an older GPT after it".to_owned(),
        Evidence::GptAlready => "the disk has a GPT already".to_owned(),
        Evidence::Hybrid => {
            "hybrid: sector 0 names partitions beside the protective entry".to_owned()
        }
        Evidence::BareVolume => {
            "LBA 0: a file system on the bare disk, no partition table".to_owned()
        }
        Evidence::Blank { disk_use } => {
            let then = match disk_use {
                DiskUse::Data => "; the disk gets an empty table",
                DiskUse::System => "",
            };
            format!("LBA 0: no partition table and no partition{then}")
        }
        Evidence::UnknownTable => {
            "LBA 0: neither a partition table nor a file system that is known".to_owned()
        }
        Evidence::TraceOfTable { at } => {
            format!("{at}: content, though sector 0 is empty; a blank disk has none there")
        }
        Evidence::TraceOfVolume { at, volume } => format!(
            "{at}: a volume begins there ({}), though no partition is named",
            volume.name()
        ),
        Evidence::TraceOfContent { at } => {
            format!("{at}: content, though no partition is named")
        }
        Evidence::CopyDamaged { copy, fault } => format!("{} copy: {fault}", copy_name(*copy)),
        Evidence::CopiesDisagree { disagreement } => disagreement.to_string(),
        Evidence::Damage { at, damage } => format!("{at}: {damage}"),
        Evidence::DynamicMember { named_at } => {
            format!("{named_at}: type 42h, a member of a dynamic disk")
        }
        Evidence::DynamicHeader { at } => format!("{at}: private header of a dynamic disk"),
        Evidence::ManufacturersType { named_at, mbr_type } => format!(
            "{named_at}: type {:02X}h, {}: kept, hidden and without a drive letter",
            mbr_type.0,
            mbr_type.name()
        ),
        Evidence::TypeNotKnown { named_at, mbr_type } => format!(
            "{named_at}: type {:02X}h: no GPT type is known for it",
            mbr_type.0
        ),
        Evidence::TooMany {
            partitions,
            and_esp,
            entries,
        } => {
            let more = match and_esp {
                true => ", and one for the EFI system partition",
                false => "",
            };
            format!("{partitions} partitions{more}; the table has {entries} entries")
        }
        Evidence::Unaligned {
            first_lba,
            beyond_bytes,
        } => format!("begins at {first_lba}, {beyond_bytes} bytes past a multiple of 4096"),
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    let fixed = match remedy {
        Remedy::NothingToConvert => {
            return format!(
                "Nothing to convert. Ask whether it starts in UEFI mode: {}; if it does not: {}. The way back to \
                 MBR: {}",
                nth(next, 0),
                nth(next, 1),
                nth(next, 2)
            );
        }
        Remedy::NoTableNeeded => {
            return format!(
                "There is nothing to convert: the volume fills the whole disk. Check that this is the right \
                 disk: {}",
                nth(next, 0)
            );
        }
        Remedy::RightDiskOrData => {
            return format!(
                "Check that this is the right disk ({}). If it is to become an empty GPT disk: {}",
                nth(next, 0),
                nth(next, 1)
            );
        }
        Remedy::EncryptedOrDamaged => {
            return format!(
                "Check that this is the right disk ({}), and whether it is encrypted as a whole or damaged.",
                nth(next, 0)
            );
        }
        Remedy::MendCopies => {
            return format!(
                "The table should be rewritten from its sound copy before the disk is used further; what that \
                 means is shown by: {}",
                nth(next, 0)
            );
        }
        Remedy::MbrInUse => {
            "Make sure that the MBR's partitions are the ones in use (do they hold the customer's data?); the \
             remains are overwritten."
        }
        Remedy::RestoreTable => {
            "The disk may have lost its table. Copy it sector by sector, and have the table restored on the \
             copy. If nothing on it is needed, overwrite this sector with zeros and check again."
        }
        Remedy::NobodyNeedsIt => {
            "Make sure that it is not needed: the new table will not name it either."
        }
        Remedy::RepairOnCopy => {
            "Do not write to this disk. Copy it sector by sector first, then have the table repaired on the copy."
        }
        Remedy::MakeBasic => {
            "Turn it into a basic disk first: back the volumes up, delete them in Windows' disk management, \
             convert to a basic disk there, and restore."
        }
        Remedy::ManufacturersKey => {
            "What the firmware starts from it by a key (the manufacturer's diagnostics or recovery) may look for the \
             old type and not start any more. To give it another type: [[type]] in the policy."
        }
        Remedy::GiveTypeForm => {
            "Find out what made this partition. To keep it as it is, add its type to the policy ([[type]] byte, \
             guid; docs/policy.toml) and check again with --policy FILE. If it is plain data, give it the type \
             of its file system (07h for NTFS); if it is not needed, back it up and delete it."
        }
        Remedy::DeletePartitions => {
            "Back up what is on the ones that are not needed, delete them in Windows' disk management, and check \
             again."
        }
        Remedy::KeptUnaligned => {
            "It is kept where it is. Moving it would be a job of its own, with a backup."
        }
    };
    fixed.to_owned()
}
