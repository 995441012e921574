//! The steps of a start in BIOS mode.

use schwelle_core::rehearse::answers::bios::{BootCode, Evidence, ManagerFault, Remedy};

use super::super::{copy_name, lba_range, nth};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::NoBootRecord => "LBA 0: no boot record".to_owned(),
        Evidence::ProtectsGpt => "LBA 0: the protective MBR of a GPT disk".to_owned(),
        Evidence::MbrDamage { at, damage } => format!("{at}: {damage}"),
        Evidence::MbrSound {
            partitions,
            logical,
            signature,
        } => format!(
            "LBA 0: {partitions} partitions, {logical} of them logical; disk signature {signature:08X}"
        ),
        Evidence::NoGptLeft => "no copy of a GPT is left".to_owned(),
        Evidence::GptLeft { copies } => {
            let copies: Vec<&str> = copies.iter().map(|copy| copy_name(*copy)).collect();
            format!("a GPT header is left ({})", copies.join(", "))
        }
        Evidence::BootCode { code } => format!("LBA 0: {}", boot_code(*code)),
        Evidence::GrubGoesTo {
            menu_on,
            partition,
            by_default,
        } => {
            let how = match by_default {
                true => "starts",
                false => "has an entry that starts",
            };
            format!(
                "LBA 0: GRUB's boot code; its menu on partition {menu_on} {how} partition {partition}"
            )
        }
        Evidence::GrubMenuOn { partition } => {
            format!("LBA 0: GRUB's boot code, with its menu on partition {partition}")
        }
        Evidence::ActivePartition { partition, sectors } => {
            format!("partition {partition}, {}", lba_range(sectors))
        }
        Evidence::NoActive => "LBA 0: no partition is active".to_owned(),
        Evidence::ManyActive { count } => format!("LBA 0: {count} partitions are active"),
        Evidence::NoSignature { at } => format!("{at}: no signature 55 AA"),
        Evidence::OwnRecord { at, path } => format!("{at}: boot code that loads {path}"),
        Evidence::WindowsRecord { at } => {
            format!("{at}: Windows' own boot code, which loads BOOTMGR")
        }
        Evidence::OtherRecord { at } => {
            format!("{at}: unknown boot code; what it starts is not known")
        }
        Evidence::FatToStart => "FAT32, both FATs agree, every chain is whole".to_owned(),
        Evidence::NtfsToStart => "NTFS".to_owned(),
        Evidence::ManagerUnfit { path, why } => format!("{path}: {}", manager_fault(why)),
        Evidence::ManagerDiffers { path } => format!(
            "{path} is as long as \\Windows\\Boot\\PCAT\\bootmgr on the Windows volume and not the same: damaged, \
             or of another update"
        ),
        Evidence::StoreElsewhere { path, partition } => {
            format!("{path}: is not on partition {partition}")
        }
    }
}

fn boot_code(code: BootCode) -> &'static str {
    match code {
        BootCode::ToActive => "boot code that goes to the active partition",
        BootCode::StartsNothing => "boot code that starts nothing from here",
        BootCode::None => "no boot code",
        BootCode::Windows => "Windows' own boot code",
        BootCode::Grub => "GRUB's boot code; no entry of its menu is known to start Windows",
        BootCode::Unknown => "unknown boot code; what it starts is not known",
    }
}

fn manager_fault(fault: &ManagerFault) -> String {
    match fault {
        ManagerFault::Missing => "is not there".to_owned(),
        ManagerFault::Empty => "is empty".to_owned(),
        ManagerFault::TooLong { bytes, limit } => {
            format!("has {bytes} bytes, and the boot record's code has room for {limit}")
        }
        ManagerFault::ShortName => {
            "its short (8.3) name is not BOOTMGR, by which the boot code looks for it".to_owned()
        }
        ManagerFault::Unreadable { fault } => fault.to_string(),
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    let fixed = match remedy {
        Remedy::NotMbr => {
            return format!(
                "This is not an MBR disk. To see whether it can become one: {}",
                nth(next, 0)
            );
        }
        Remedy::FinishStopped => {
            return format!(
                "Some programs take the disk for a GPT disk because of it. If a conversion was stopped: {}",
                nth(next, 0)
            );
        }
        Remedy::RepairTableOnCopy => {
            "Do not write to this disk. Copy it sector by sector first, then have the table repaired on the copy."
        }
        Remedy::WriteBootCode => {
            "Let the startup repair of Windows' recovery environment write its own boot code."
        }
        Remedy::SeeItStart => "See the PC start from this disk once.",
        Remedy::MarkRightActive => {
            "Mark the one partition active that holds \\bootmgr and \\Boot\\BCD."
        }
        Remedy::WriteBootRecord => {
            "Let the startup repair of Windows' recovery environment write the partition's boot record."
        }
        Remedy::CheckOnCopy => "Let the volume's own system check it, on a copy of the disk.",
        Remedy::CopyBootManager => {
            "Copy \\Windows\\Boot\\PCAT\\bootmgr from the Windows volume to the root of the active partition."
        }
        Remedy::StoreBesideManager => {
            "The BCD store must lie beside the boot manager, on the active partition."
        }
    };
    fixed.to_owned()
}
