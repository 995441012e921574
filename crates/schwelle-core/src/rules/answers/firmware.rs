//! Answers about the PC around the disk.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::firmware::{Ground, How, Verdict};
use crate::next::Next;
use crate::profile::SignedSet;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleFirmwareEvidence"))]
pub enum Evidence {
    /// What is known of UEFI mode.
    Uefi {
        /// The PC can start in it; none where that is not known.
        able: Option<bool>,
        /// Where that is known from, or why it is not.
        source: Ground,
    },
    /// The width of the firmware.
    Bits {
        /// In bits; none where that is not known.
        bits: Option<u32>,
        /// Where that is known from, or why it is not.
        source: Ground,
    },
    /// The Windows needs the CSM, and the PC has none.
    NeedsCsmHasNone {
        /// Where that is known from.
        source: Ground,
    },
    /// The Windows needs the CSM.
    NeedsCsm,
    /// Which version of Windows it is is unknown, and so is whether it needs the CSM.
    VersionUnknown,
    /// Secure Boot's verdict on the boot manager that is placed.
    SecureBoot {
        /// The set that it belongs to.
        set: SignedSet,
        /// Whether it would be let run.
        verdict: Verdict,
        /// Secure Boot is on; none where that is not known.
        on: Option<bool>,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleFirmwareRemedy"))]
pub enum Remedy {
    /// In this PC the disk starts in BIOS mode only.
    LeaveForBios,
    /// The PC would not start the 64-bit loader.
    LeaveForBits,
    /// Find the fact out.
    FindOut {
        /// How.
        how: How,
    },
    /// Leave it as it is, or switch the module on.
    LeaveOrSwitchCsmOn,
    /// Leave the module on, and Secure Boot off.
    KeepCsmOn,
    /// Leave the CSM on until it is known that this is Windows 8 or later.
    KeepCsmUnlessNewer,
    /// What is true about Secure Boot with this boot manager.
    SecureBootAfterwards {
        /// Whether it would be let run.
        verdict: Verdict,
    },
    /// See the other findings first.
    OtherFindingsFirst,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        Vec::new()
    }
}
