//! What lasts of a start, and what follows from it.

use schwelle_core::confirm::{Lasting, Means, Reason, Written};
use schwelle_core::firmware::BootMode;

use super::facts;

/// A piece of evidence.
pub(crate) fn found(found: &Lasting) -> String {
    match found {
        Lasting::Firmware { mode, source } => {
            let why = facts::ground(source);
            let mode = match mode {
                Some(BootMode::Uefi) => "is in UEFI mode",
                Some(BootMode::Bios) => "is in BIOS mode, in which this disk cannot start",
                Some(BootMode::Both) => "starts in either mode",
                None => "may be in either mode",
            };
            format!("the PC's firmware {mode}: {why}")
        }
        Lasting::Running { at, mode } => match mode {
            Some(BootMode::Uefi) => {
                format!(
                    "the running Windows lies on this disk ({at}), and says that it was started in UEFI mode"
                )
            }
            Some(BootMode::Bios | BootMode::Both) => {
                format!(
                    "the running Windows lies on this disk ({at}), and says that it was started in BIOS mode"
                )
            }
            None => format!(
                "the running Windows lies on this disk ({at}), and does not say how it was started"
            ),
        },
        Lasting::EspMounted { partition, at } => format!(
            "the EFI system partition ({partition}) is mounted at {at}: take the letter away, or restart"
        ),
        Lasting::Esp { partition, hidden } => {
            let letter = match hidden {
                true => "gets no drive letter, as it should",
                false => "would show up as a drive: its attribute \"no drive letter\" is not set",
            };
            format!("the EFI system partition ({partition}) {letter}")
        }
        Lasting::Marker { found: true } => {
            "the marker of the conversion is on the EFI system partition".to_owned()
        }
        Lasting::Marker { found: false } => {
            "there is no marker of a conversion of this disk: what was there before it is not known"
                .to_owned()
        }
        Lasting::BcdStore { written: true } => {
            "the BCD store has been written since the conversion".to_owned()
        }
        Lasting::BcdStore { written: false } => {
            "the BCD store is as the conversion made it".to_owned()
        }
        Lasting::BootStatus { found: true } => {
            "the boot manager's status file lies beside the BCD store".to_owned()
        }
        Lasting::BootStatus { found: false } => {
            "the boot manager's status file is not there".to_owned()
        }
        Lasting::Registry { system, written } => {
            let written = match written {
                Written::Since => "its registry has been written since the conversion",
                Written::ByConversion => "its registry is as the conversion left it",
                Written::Earlier => "its registry says an earlier time than that of the conversion",
            };
            format!("{system}: {written}")
        }
        Lasting::BootDevice {
            system,
            device,
            means: says,
        } => format!("{system}: last started from {device}: {}", means(*says)),
        Lasting::VolumeLog { system, in_use } => {
            let log = match in_use {
                true => "is in use: something has written since the conversion",
                false => "was closed properly",
            };
            format!("{system}: the volume's log {log}")
        }
    }
}

fn means(means: Means) -> String {
    match means {
        Means::SameAsBefore => "the same as before the conversion".to_owned(),
        Means::Esp { was_another: true } => {
            "that is the EFI system partition, and was another before".to_owned()
        }
        Means::Esp { was_another: false } => "that is the EFI system partition".to_owned(),
        Means::NotEsp { esp } => {
            format!("that is not the EFI system partition, which is number {esp}")
        }
        Means::Nothing => "which proves nothing".to_owned(),
    }
}

/// Why the answer is as it is.
pub(crate) fn reason(reason: Reason) -> String {
    let text = match reason {
        Reason::NoGpt => "the disk has no GPT: it has not been converted",
        Reason::RehearsalFails => "the disk would not start in UEFI mode: its rehearsal fails",
        Reason::FirmwareInBiosMode => "the PC's firmware is in BIOS mode",
        Reason::NotStarted => "no Windows on it has started since the conversion",
        Reason::Contradiction => "the evidence contradicts itself",
        Reason::Unreadable { lba } => {
            return format!("{lba} could not be read, so a part of the evidence is missing");
        }
        Reason::NothingTells => "nothing on the disk proves whether its Windows has started",
        Reason::StartedNotAllRight => {
            "Windows has started from the new EFI system partition, but something is not where it should be"
        }
        Reason::Started => "Windows has started from the new EFI system partition",
        Reason::RunningNotAllRight => {
            "this Windows runs from the disk, started in UEFI mode, but something is not where it should be"
        }
        Reason::Running => "this Windows runs from the disk, and was started in UEFI mode",
    };
    text.to_owned()
}
