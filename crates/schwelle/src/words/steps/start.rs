//! The steps from the EFI system partition to the kernel.

use schwelle_core::fat::FatFault;
use schwelle_core::identities::Style;
use schwelle_core::profile::{REMOVABLE_X64, VolumeKind};
use schwelle_core::rehearse::answers::start::{EntryDevice, Evidence, Origin, Remedy};

use super::super::{lba_range, nth, unfit};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::NoEsp { partitions } => {
            format!("none of the {partitions} partitions has the type EFI system")
        }
        Evidence::Esp {
            partition,
            of,
            sectors,
        } => {
            let more = match of {
                0 | 1 => String::new(),
                of => format!(" (the first of {of})"),
            };
            format!("partition {partition}{more}, {}", lba_range(sectors))
        }
        Evidence::EspByContent { partition, sectors } => format!(
            "no partition has the type EFI system, but partition {partition} holds the loader, {}",
            lba_range(sectors)
        ),
        Evidence::EspNotFirst {
            partition,
            first,
            sectors,
        } => format!(
            "partition {partition}, {}; the first EFI system partition, {first}, has no loader",
            lba_range(sectors)
        ),
        Evidence::EspWithoutDevice { partition } => {
            format!(
                "partition {partition} has the attribute by which firmware does not show it (bit 1)"
            )
        }
        Evidence::EspOverlaps { partition, other } => {
            format!("partition {partition} overlaps partition {other}: firmware shows neither")
        }
        Evidence::EspWithoutGuid { partition, sectors } => format!(
            "partition {partition}, {}, has no GUID of its own",
            lba_range(sectors)
        ),
        Evidence::LoaderInFront {
            partition,
            other,
            sectors,
        } => format!(
            "partition {partition}, {}; partition {other}, in front of it, is a FAT volume with {REMOVABLE_X64} as \
             well: firmware without a boot entry may start that one",
            lba_range(sectors)
        ),
        Evidence::SoundFat {
            fat,
            clusters,
            cluster_bytes,
        } => format!(
            "{}, {clusters} clusters of {cluster_bytes} bytes, boot sector and FATs agree with their copies",
            VolumeKind::Fat(*fat).name()
        ),
        Evidence::FatFaults { faults } => {
            let faults: Vec<String> = faults.iter().map(FatFault::to_string).collect();
            faults.join("; ")
        }
        Evidence::VolumeEncrypted { at } => {
            format!("{at}: the volume is encrypted, and not open here: what is on it is not seen")
        }
        Evidence::VolumeUnreadable { fault } => fault.to_string(),
        Evidence::File { path, bytes } => format!("{path}, {bytes} bytes"),
        Evidence::FileMissing { path } => format!("{path} is not there"),
        Evidence::FileUnusable { path, fault } => format!("{path}: {fault}"),
        Evidence::OnlyByEntry { path, why } => format!(
            "only {path} can be loaded, where a boot entry looks for it; {}",
            unfit(REMOVABLE_X64, why)
        ),
        Evidence::SameLoader { path } => format!("{path}: the same file"),
        Evidence::Program {
            path,
            subsystem,
            version,
            origin,
        } => {
            let version = version
                .as_ref()
                .map_or_else(String::new, |version| format!("version {version}, "));
            let origin = origin.map_or("all sections inside the file", self::origin);
            format!("{path}: x64, subsystem {subsystem}, {version}{origin}")
        }
        Evidence::ProgramUnfit { path, why } => unfit(path, why),
        Evidence::StoreRead {
            path,
            objects,
            menu,
        } => format!("{path}, {objects} objects, {menu} in the menu"),
        Evidence::NoManager => "the BCD store has no boot manager object".to_owned(),
        Evidence::ManagerWithoutDevice => "the boot manager has no device".to_owned(),
        Evidence::ManagerWhereStarted => {
            "the boot manager's device is \"where we were started from\"".to_owned()
        }
        Evidence::ManagerHere { partition } => {
            format!("the boot manager's device is partition {partition}")
        }
        Evidence::ManagerElsewhere { at } => {
            format!("the boot manager's device is another partition ({at})")
        }
        Evidence::ManagerNames { fault } => format!("the boot manager's device {fault}"),
        Evidence::DefaultMissing => {
            "the boot manager's default entry is not in the store".to_owned()
        }
        Evidence::Default { title, id } => format!("\"{title}\" {id}"),
        Evidence::DefaultNoLoader { id, object } => {
            let object = object.as_deref().unwrap_or("its kind is not known");
            format!("the default entry {id} is no system loader ({object})")
        }
        Evidence::DeviceMissing { device, title } => {
            format!("the {} of \"{title}\" is missing", name(*device))
        }
        Evidence::DeviceNames {
            device,
            title,
            fault,
        } => format!("the {} of \"{title}\" {fault}", name(*device)),
        Evidence::DevicesDiffer => "loader and system lie on different partitions".to_owned(),
        Evidence::Devices { sectors } => format!(
            "loader and system on the partition at {}",
            lba_range(sectors)
        ),
        Evidence::NoLoaderNamed => "the entry names no loader".to_owned(),
        Evidence::NoFolderNamed => "the entry names no system folder".to_owned(),
        Evidence::Kernel { path } => format!("{path}: x64"),
    }
}

/// By what a loader's content was judged.
fn origin(origin: Origin) -> &'static str {
    match origin {
        Origin::Signed => "its content is what was signed",
        Origin::AsOnWindows => "not signed, the same as on the Windows volume",
        Origin::Unknown => "not signed, and not the one on the Windows volume",
    }
}

fn name(device: EntryDevice) -> &'static str {
    match device {
        EntryDevice::Loader => "loader's device",
        EntryDevice::System => "system's device",
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    let mend = nth(next, 0);
    let fixed = match remedy {
        Remedy::CopyLoader { path } => {
            return format!(
                "\\Windows\\Boot\\EFI\\bootmgfw.efi from the Windows volume belongs at {path} on the EFI system \
                 partition: {mend}"
            );
        }
        Remedy::CopyLoaderAgain { path } => {
            return format!(
                "Copy \\Windows\\Boot\\EFI\\bootmgfw.efi from the Windows volume to {path} again: {mend}. If it is \
                 the same there, that system's files are damaged or made for another processor."
            );
        }
        Remedy::SetEspType => {
            return format!(
                "Firmware that looks for the type finds no EFI system partition. Give this one the type: {mend}"
            );
        }
        Remedy::ShowEsp => return format!("Take the attribute away: {mend}"),
        Remedy::NewEspGuid => {
            return format!("A boot entry cannot name it. Give it a GUID: {mend}");
        }
        Remedy::RepairEsp => {
            return format!(
                "Some firmware does not read such a volume. Repair it, or make it again with its files: {mend}"
            );
        }
        Remedy::NoLoaderInFront { other } => {
            return format!(
                "Rename {REMOVABLE_X64} on partition {other} if nothing is started from there. With a boot entry that \
                 names the EFI system partition, the disk starts all the same."
            );
        }
        Remedy::CheckEspOrMake => {
            return format!(
                "Repair it from the copies of its boot sector and FAT, or if it is empty, format it: \
                 {mend}"
            );
        }
        Remedy::NoOverlap => {
            "Find out which of the two partitions is the right one, and take the other out of the table."
        }
        Remedy::CheckEsp => "Run the file system checker on the EFI system partition.",
        Remedy::MakeStore => {
            return format!(
                "The BCD store must be made again, from the one of the BIOS start (\\Boot\\BCD on the System \
                 Reserved partition) if it is still there: {mend}"
            );
        }
        Remedy::ManagerDevice { style: Style::Gpt } => {
            "The boot manager's device in the BCD store must be the EFI system partition."
        }
        Remedy::ManagerDevice { style: Style::Mbr } => {
            "The boot manager's device in the BCD store must be the active partition."
        }
        Remedy::CorrectEntry => {
            "Correct the entry in the BCD store on the EFI system partition, or make a new store."
        }
        Remedy::BringLoader { style: Style::Gpt } => {
            "Windows must bring its UEFI loader: repair the system's files from its installation medium."
        }
        Remedy::BringLoader { style: Style::Mbr } => {
            "Windows must bring its BIOS loader: repair the system's files from its installation medium."
        }
        Remedy::Unlock => {
            "Open it with its recovery password or key file, and repeat the command: --unlock FILE, or --unlock - to \
             type it."
        }
        Remedy::RepairSystem => "Repair the system's files from its installation medium.",
    };
    fixed.to_owned()
}
