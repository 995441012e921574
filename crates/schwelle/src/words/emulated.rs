//! What real firmware in an emulator did.

use schwelle_emulator::{Ending, Seen};

/// What was seen at a step.
pub(crate) fn seen(seen: &Seen) -> String {
    let fixed = match seen {
        Seen::Partition {
            partition,
            opened: true,
        } => return format!("the firmware read the GPT and opened partition {partition}"),
        Seen::Partition {
            partition,
            opened: false,
        } => return format!("the firmware did not come to partition {partition}"),
        Seen::Started { path, line } => {
            return format!("the firmware started {path} (\"{line}\")");
        }
        Seen::NotStarted { line: Some(line) } => {
            return format!("the firmware did not start it (\"{line}\")");
        }
        Seen::BootRecord { at, read: true } => {
            return format!("its boot code read the boot record of the active partition ({at})");
        }
        Seen::BootRecord { at, read: false } => {
            return format!(
                "its boot code did not read the boot record of the active partition ({at})"
            );
        }
        Seen::NoEsp => "the disk has no EFI system partition",
        Seen::NoFileSystem => "the file system of the partition cannot be read",
        Seen::NotStarted { line: None } => "the firmware did not start it",
        Seen::StoreRead => "the loader read the BCD store",
        Seen::StoreReadBySystem => {
            "the loader read the BCD store, or it would not have found the system"
        }
        Seen::StoreByChance => {
            "the BCD store lies so near to the loader that the firmware may have read it by chance"
        }
        Seen::StoreNotRead => "the loader did not read the BCD store",
        Seen::SystemLoader { read: true } => "the system's loader was read from the Windows volume",
        Seen::SystemLoader { read: false } => {
            "the system's loader was not read: the boot manager ended before (a stand-in does), or there was not \
             time enough"
        }
        Seen::Sector0 { read: true } => "the firmware read sector 0",
        Seen::Sector0 { read: false } => "the firmware did not read sector 0",
        Seen::NoneActive => "no partition is active",
        Seen::ReadOn { read: true } => "the boot record's code read on in its partition",
        Seen::ReadOn { read: false } => "the boot record's code read nothing more of its partition",
        Seen::BootManager { read: true } => "the boot record's code read the boot manager",
        Seen::BootManager { read: false } => "the boot record's code did not read the boot manager",
        Seen::BcdStore { read: true } => "the boot manager read the BCD store",
        Seen::BcdStore { read: false } => "the boot manager did not read the BCD store",
    };
    fixed.to_owned()
}

/// How it ended.
pub(crate) fn ending(ending: Ending) -> &'static str {
    match ending {
        Ending::Off => "the guest switched itself off or restarted",
        Ending::NothingLeft => "the firmware had nothing left to start",
        Ending::Limit => "it was still running at the time limit, and was ended",
    }
}
