//! What is mended, and why something is not.

use schwelle_core::mend::{FixKind, NotMended, StoreFrom};

use super::{lba_range, places, titled, titles};

/// What is done about a step that does not hold.
pub(crate) fn fix(fix: &FixKind) -> String {
    match fix {
        FixKind::ProtectiveEntry => {
            "sector 0 gets one protective entry over the whole disk".to_owned()
        }
        FixKind::TablePlaces => "the LBAs in both copies of the table are corrected".to_owned(),
        FixKind::BackupTable => {
            "the backup table is rewritten from the primary one, on the last sectors of the disk"
                .to_owned()
        }
        FixKind::PrimaryTable => "the primary table is rewritten from the backup one".to_owned(),
        FixKind::Retyped { partition } => format!(
            "{} holds boot files: it gets the type of an EFI system partition, and no drive letter",
            titled(partition)
        ),
        FixKind::NewEsp { place } => {
            let place = place.map_or_else(String::new, places::place);
            format!("an EFI system partition is made ({place})")
        }
        FixKind::Shown { partition } => format!(
            "{} loses the attribute that hides it from firmware",
            titled(partition)
        ),
        FixKind::TypeTaken { partition } => format!(
            "{} is no EFI system partition: it gets the type of basic data",
            titled(partition)
        ),
        FixKind::NewGuid { partition } => format!("{} gets a GUID of its own", titled(partition)),
        FixKind::Repaired { partition } => format!(
            "boot sector and FATs of {} are repaired from their copies",
            titled(partition)
        ),
        FixKind::Remade {
            partition,
            files,
            lost,
        } => {
            let lost = if lost.is_empty() {
                String::new()
            } else {
                let (count, names) = (lost.len(), some_of(lost));
                format!("; {count} files or folders that cannot be read are left out: {names}")
            };
            let (count, names) = (files.len(), some_of(files));
            format!(
                "the file system of {} has faults: it is formatted again and keeps its {count} files ({names}){lost}",
                titled(partition)
            )
        }
        FixKind::Formatted { partition } => {
            format!(
                "{} is empty: it gets a FAT32 file system",
                titled(partition)
            )
        }
        FixKind::Filled { store } => {
            let store = match store {
                StoreFrom::Esp => "the BCD store there names this disk's partitions",
                StoreFrom::Bios => "the BCD store for BIOS mode is carried over",
                StoreFrom::Nothing => "a new BCD store is made for the Windows installation found",
            };
            format!("boot files from the Windows volume; {store}")
        }
        FixKind::Letters => {
            "drive letters still name the MBR disk that this one was: edited".to_owned()
        }
        FixKind::Recovery => {
            "the recovery configuration still names the MBR disk that this one was: edited"
                .to_owned()
        }
    }
}

/// The first names of a list that may be long.
fn some_of(names: &[String]) -> String {
    const MOST: usize = 6;
    let (first, more) = names.split_at(names.len().min(MOST));
    let first = first.join(", ");
    match more.len() {
        0 => first,
        more => format!("{first}, and {more} more, which --json lists"),
    }
}

/// Why a step that does not hold is not mended.
pub(crate) fn not_mended(why: &NotMended) -> String {
    match why {
        NotMended::SystemFiles => {
            "the system's own files are damaged or missing: repair them from its installation medium"
                .to_owned()
        }
        NotMended::Volume => "a volume is damaged: let the system that uses it repair it".to_owned(),
        NotMended::MbrDisk => "it is about an MBR disk".to_owned(),
        NotMended::NoRemedy => "Schwelle has no remedy for it".to_owned(),
        NotMended::DraftDoesNotHelp => "the drafted remedy does not help".to_owned(),
        NotMended::NoSoundCopy => "neither copy of the table is sound".to_owned(),
        NotMended::LoaderInFront { partition } => format!(
            "{} holds a loader that firmware may start first, and whose it is is not known: rename it if nothing is \
             started from there",
            titled(partition)
        ),
        NotMended::Overlap => {
            "it overlaps another partition: which of the two is right cannot be known from here"
                .to_owned()
        }
        NotMended::OnlyInSector0 { sectors } => format!(
            "sector 0 names {}, which lie in no partition of the GPT: no table would name them afterwards",
            lba_range(sectors)
        ),
        NotMended::OtherForm => {
            "its table has another form (more than 128 entries, or longer ones)".to_owned()
        }
        NotMended::SeveralWithBootFiles { partitions } => {
            format!(
                "more than one partition holds boot files: {}",
                titles(partitions)
            )
        }
        NotMended::HoldsSomething { partition, volume } => format!(
            "{} holds {}, which would be lost",
            titled(partition),
            volume.name()
        ),
        NotMended::UnknownContent { partition } => format!(
            "{} holds something that is not recognised, and formatting would destroy it",
            titled(partition)
        ),
        NotMended::TablesDisagree { partition } => format!(
            "the two copies of the table disagree about where partition {partition} begins, and its content does not tell \
             which one is right"
        ),
        NotMended::TooSmall => "the partition is too small for FAT32".to_owned(),
        NotMended::NoBootFiles => {
            "there is no Windows with UEFI boot files on this disk to take them from".to_owned()
        }
        NotMended::NoStoreHelps => "none of the BCD stores that could be made helps".to_owned(),
    }
}
