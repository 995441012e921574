//! The rules about the PC around the disk.

use schwelle_core::firmware::Verdict;
use schwelle_core::profile::SignedSet;
use schwelle_core::rules::answers::firmware::{Evidence, Remedy};

use super::super::facts::{self, ground};
use super::super::secure_boot;

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::Uefi { source, .. } => ground(source),
        Evidence::Bits { bits, source } => match bits {
            Some(64) => format!("64-bit: {}", ground(source)),
            Some(bits) => format!("its firmware is {bits}-bit: {}", ground(source)),
            None => ground(source),
        },
        Evidence::NeedsCsmHasNone { source } => {
            format!(
                "it needs the CSM's video, and the PC has none: {}",
                ground(source)
            )
        }
        Evidence::NeedsCsm => {
            "in UEFI mode it needs the CSM's video, and does not support Secure Boot".to_owned()
        }
        Evidence::VersionUnknown => {
            "its version cannot be read from its registry, kernel or loader; before Windows 8 it needs the CSM's video"
                .to_owned()
        }
        Evidence::SecureBoot { set, verdict, on } => {
            let which = match set {
                SignedSet::First => "the boot manager",
                SignedSet::Second => "the boot manager signed in 2023, which is installed,",
            };
            let reason = secure_boot::reason(verdict);
            match (verdict, on) {
                (Verdict::Accepted { .. }, _) => {
                    format!("{which} would be allowed to run: {reason}")
                }
                (Verdict::Refused { .. }, Some(true)) => {
                    format!("Secure Boot is on, and {which} would not be allowed to run: {reason}")
                }
                (Verdict::Refused { .. }, Some(false)) => format!(
                    "Secure Boot is off, and must stay so: {which} would not be allowed to run: {reason}"
                ),
                (Verdict::Refused { .. }, None) => format!(
                    "{which} would not be allowed to run: {reason}; whether Secure Boot is on is not known"
                ),
                (Verdict::NotReported { .. }, _) => reason,
            }
        }
    }
}

pub(super) fn remedy(remedy: &Remedy) -> String {
    let fixed = match remedy {
        Remedy::FindOut { how } => facts::how(*how),
        Remedy::SecureBootAfterwards { verdict } => return secure_boot::advice(verdict),
        Remedy::LeaveForBios => {
            "Leave the disk as it is: in this PC it starts in BIOS mode only. If the PC got a firmware update \
             that brings UEFI, correct the machine file and check again."
        }
        Remedy::LeaveForBits => {
            "Leave the disk as it is: this PC would not start the 64-bit loader of its system."
        }
        Remedy::LeaveOrSwitchCsmOn => {
            "Leave the disk as it is, or see whether the firmware setup has a CSM (legacy video) \
             and switch it on; then correct the machine file and check again."
        }
        Remedy::KeepCsmUnlessNewer => {
            "Find out which Windows this is (winver in that Windows). Unless it is Windows 8 or later, leave the CSM on after \
             the switch; on a PC without a CSM, do not convert it."
        }
        Remedy::KeepCsmOn => {
            "Leave the CSM on and Secure Boot off after the switch. A PC without a \
             CSM does not start this Windows in UEFI mode."
        }
        Remedy::OtherFindingsFirst => "See the other findings first.",
    };
    fixed.to_owned()
}
