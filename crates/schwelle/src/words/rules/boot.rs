//! The rules about the boot configuration.

use super::super::nth;
use schwelle_core::bcd::Locator;
use schwelle_core::profile::REMOVABLE_X64;
use schwelle_core::rules::answers::boot::{DefaultFault, Evidence, ImageOn, RecoveryState, Remedy};

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::StartsToday => "has all that a start in BIOS mode needs".to_owned(),
        Evidence::StartDependsToday { step } => format!(
            "whether it starts in BIOS mode today is not known: caution at the step {}",
            step.name()
        ),
        Evidence::NoStartToday { step } => format!(
            "does not start in BIOS mode today: a start ends at the step {}",
            step.name()
        ),
        Evidence::StartUnknown { step } => format!(
            "a start in BIOS mode can be followed as far as the step {}",
            step.name()
        ),
        Evidence::StoreOnDataDisk { path } => {
            format!("{path} is there: a PC starts from this disk, whatever it starts")
        }
        Evidence::Store {
            path,
            partition,
            objects,
            menu,
            pending,
        } => {
            let pending = match pending {
                true => "; it was not closed cleanly, its log was applied",
                false => "",
            };
            format!(
                "{path} on partition {partition}: {objects} objects, {menu} in the menu{pending}"
            )
        }
        Evidence::StoreFault {
            path,
            partition,
            fault,
            can_be_made,
        } => format!(
            "{path} on partition {partition}: {fault}{}",
            none_to_make(*can_be_made)
        ),
        Evidence::NoStore { path, can_be_made } => format!(
            "no volume that could hold it has {path}{}",
            none_to_make(*can_be_made)
        ),
        Evidence::LeadsToWindows { partition } => {
            format!("leads to Windows on partition {partition}")
        }
        Evidence::LeadsToClosed { partition } => {
            format!("leads to partition {partition}, which cannot be read")
        }
        Evidence::LeadsToNoWindows { partition } => {
            format!("leads to partition {partition}, which has no Windows")
        }
        Evidence::LeadsElsewhere { device } => {
            let device = device.map_or("no device".to_owned(), locator);
            format!("leads to no partition of this disk: {device}")
        }
        Evidence::OtherDefault { was, becomes } => format!(
            "the boot manager's default entry {}; \"{becomes}\" becomes the default, the first in the menu that \
             starts Windows here",
            fault(was)
        ),
        Evidence::NoDefault { was } => format!(
            "the boot manager's default entry {}, and no entry of its menu starts Windows here",
            fault(was)
        ),
        Evidence::BiosOnlyEntry => {
            "runs in BIOS mode only and cannot start in UEFI mode".to_owned()
        }
        Evidence::DeviceUnreadable => "its device cannot be read".to_owned(),
        Evidence::NamesAnother { device } => {
            format!("names another disk or partition: {}", locator(*device))
        }
        Evidence::Recovery { state, images } => recovery(state, &images_in_words(images)),
        Evidence::NoOtherLoader => {
            format!("no FAT volume before the new EFI system partition has {REMOVABLE_X64}")
        }
        Evidence::OtherLoader => format!(
            "has {REMOVABLE_X64}, and comes before the new EFI system partition: firmware without a boot entry may \
             start that one"
        ),
        Evidence::OtherLoaderUnknown { fault } => {
            format!("could not be searched for {REMOVABLE_X64}: {fault}")
        }
    }
}

fn none_to_make(can_be_made: bool) -> &'static str {
    match can_be_made {
        true => "",
        false => ", and there is no Windows with boot files to make one for",
    }
}

fn fault(fault: &DefaultFault) -> String {
    match fault {
        DefaultFault::GivenUp { title } => {
            format!(
                "\"{title}\" leads to a 32-bit or damaged Windows, which does not start in UEFI mode"
            )
        }
        DefaultFault::BiosOnly { title } => format!("\"{title}\" runs in BIOS mode only"),
        DefaultFault::InFile { title } => {
            format!("\"{title}\" starts a RAM disk or a virtual disk, and no system on a partition")
        }
        DefaultFault::NotThere => "is not in the store".to_owned(),
    }
}

fn locator(locator: Locator) -> String {
    match locator {
        Locator::Mbr { signature, offset } => format!("MBR disk {signature:08X}, byte {offset}"),
        Locator::Gpt { disk, partition } => format!("GPT disk {disk}, partition {partition}"),
    }
}

fn images_in_words(images: &[ImageOn]) -> String {
    let on = |image: &ImageOn| format!("{} on partition {}", image.path, image.partition);
    match images {
        [] => "there is no image of one on the disk".to_owned(),
        some => some.iter().map(on).collect::<Vec<_>>().join(" and "),
    }
}

fn recovery(state: &RecoveryState, images: &str) -> String {
    match state {
        RecoveryState::ConfigFault { fault } => {
            format!("its configuration cannot be read ({fault}); {images}")
        }
        RecoveryState::None => {
            "no Windows recovery environment: neither a configuration nor an image".to_owned()
        }
        RecoveryState::NotNamed => {
            format!("no configuration names one; {images}, stays where it is")
        }
        RecoveryState::Off => format!("not switched on; {images}, stays where it is"),
        RecoveryState::Elsewhere { path } => {
            format!("switched on, but {path} is on no partition of this disk; {images}")
        }
        RecoveryState::ImageMissing { path, partition } => {
            format!("switched on, but {path} is not on partition {partition}; {images}")
        }
        RecoveryState::NotEditable { path, partition } => format!(
            "switched on, {path} on partition {partition}; its configuration cannot be edited where it lies, and \
             will name the old disk"
        ),
        RecoveryState::CarriedOver { path, partition } => {
            format!(
                "switched on, {path} on partition {partition}; stays, and its names are updated"
            )
        }
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    match remedy {
        Remedy::SeeItStartFirst => {
            return format!(
                "See what keeps it from starting: {}. Then see the PC start from it once, before it is converted.",
                nth(next, 0)
            );
        }
        Remedy::WhichSystemStarts => {
            "Find out which system starts from here, perhaps on another disk. It would not start any more."
        }
        Remedy::LookAtNextMenu => {
            "Look at the menu in the plan: it is what the next start would show."
        }
        Remedy::NewStore => {
            "A new one is made for the Windows installation found: its menu has the systems on this disk and nothing else; \
             names, order and other settings of the old menu are lost. WinRE must be \
             enabled again in Windows."
        }
        Remedy::SeeItStart => {
            "Check that this is the disk that the PC starts from, and see it start before converting."
        }
        Remedy::SetDefault => {
            "Set the default to Windows on this disk (in Windows: System, Advanced settings, Startup and \
             Recovery), see it start, and check again."
        }
        Remedy::SetDefaultAfterwards => {
            "If another one should start by default, set it in Windows after the switch."
        }
        Remedy::EntryTakenOut => {
            "It is taken out of the menu and stays in the store. Tell the customer; in BIOS mode, after an undo, \
             it is there again."
        }
        Remedy::EntryDead => {
            "It is carried over unchanged, and does not start now either. Remove it in Windows if it is not \
             needed."
        }
        Remedy::EntryElsewhere => {
            "It is carried over unchanged. If that disk is in the same PC, see whether the entry still starts \
             after the switch."
        }
        Remedy::RecoveryAgain => {
            "After the switch, disable WinRE and enable it again in Windows."
        }
        Remedy::RecoveryIfWanted => {
            "If the customer wants WinRE, set it up in Windows after the switch."
        }
        Remedy::RenameLoader => {
            "Ask whose it is: a manufacturer's recovery may be started from there. Rename that file, or copy it away \
             and delete it; then check again."
        }
    }
    .to_owned()
}
