//! Where the facts of a PC are known from, why they are not known, and how to find them out.

use schwelle_core::firmware::{Ground, How, OtherTarget};

use super::here::here;

/// Where a fact is known from, or why it is not.
pub(crate) fn ground(ground: &Ground) -> String {
    let fixed = match ground {
        Ground::Variable { name } => return format!("the variable {name}"),
        Ground::NoVariable { name } => return format!("the firmware has no variable {name}"),
        Ground::VariableFault { fault } => return fault.to_string(),
        Ground::Kernel => here().says,
        Ground::Smbios => "SMBIOS",
        Ground::SmbiosOfFile => "the SMBIOS table that the machine file names",
        Ground::SmbiosSaysUefi => "its firmware says so (SMBIOS)",
        Ground::SmbiosSaysUefiInBiosSession => {
            "its firmware says so (SMBIOS); this session was started in BIOS mode"
        }
        Ground::UefiSession => "this session was started in UEFI mode",
        Ground::UefiSessionSoAble => "this session was started in UEFI mode, so the PC can",
        Ground::KeyVariables => "the variables PK, KEK, db and dbx",
        Ground::FactoryKeyVariables => {
            "the variables PKDefault, KEKDefault, dbDefault and dbxDefault"
        }
        Ground::EntryVariables => "the variables BootOrder and Boot####",
        Ground::MachineFile => "the machine file says so",
        Ground::MachineFileAble => "the machine file says that it can",
        Ground::MachineFileUnable => "the machine file says that it cannot",
        Ground::Image => "the disk is an image, so the PC it belongs to is not known",
        Ground::KernelSilent => here().silent,
        Ground::BiosSession => "this session was started in BIOS mode",
        Ground::BiosSessionAndSmbiosSilent => {
            "this session was started in BIOS mode, and the firmware does not report it (SMBIOS)"
        }
        Ground::BiosSessionSoEither => {
            "this session was started in BIOS mode, so the firmware is set to that or to both"
        }
        Ground::SmbiosSilent => "the firmware does not report it (SMBIOS)",
        Ground::NoBattery => "no battery known to the system",
        Ground::NotShown => "the firmware does not show them",
        Ground::MachineFileSilent => "the machine file does not say",
    };
    fixed.to_owned()
}

/// How to find it out.
pub(crate) fn how(how: How) -> &'static str {
    match how {
        How::Label => "Read the label on the PC, or its setup's first page.",
        How::Uefi => {
            "Look into the firmware setup of the PC that the disk belongs to: there must be a UEFI boot mode. Or \
             start the rescue stick there in UEFI mode and ask again."
        }
        How::Bits => {
            "Start the rescue stick there in UEFI mode and ask again. PCs sold with 64-bit systems have 64-bit \
             firmware, except some tablets and small notebooks."
        }
        How::Setting => {
            "Look into the firmware setup of the PC, on the page about boot or security."
        }
        How::Variables => {
            "Start the rescue stick there in UEFI mode and ask again: only then does the firmware show its \
             variables."
        }
        How::Power => "Look at the PC's power supply.",
    }
}

/// What a boot entry leads to where that is no partition.
pub(crate) fn other_target(target: OtherTarget) -> &'static str {
    match target {
        OtherTarget::Firmware => "a program inside the firmware",
        OtherTarget::Network => "the network",
        OtherTarget::Usb => "a USB device",
        OtherTarget::WholeDevice => "a whole device, by its removable-media path",
        OtherTarget::BiosDevice => "a device in BIOS mode",
        OtherTarget::Unknown => "something other than a partition",
    }
}
