//! A fact about a PC: what it is and where that is known from, or why it is not known.

use crate::cause::Cause;
#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A fact about a PC.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fact<T> {
    /// It is known.
    Known {
        /// What it is.
        value: T,
        /// Where from.
        source: Ground,
    },
    /// It is not.
    NotReported {
        /// Why.
        why: Ground,
        /// How the technician finds out.
        how: How,
    },
}

/// Where a fact is known from, or why it is not known.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Ground {
    /// The kernel says so.
    Kernel,
    /// SMBIOS.
    Smbios,
    /// The SMBIOS table that the machine file names.
    SmbiosOfFile,
    /// The firmware says in SMBIOS that it is UEFI.
    SmbiosSaysUefi,
    /// The same, though this session was started in BIOS mode.
    SmbiosSaysUefiInBiosSession,
    /// This session was started in UEFI mode.
    UefiSession,
    /// This session was started in UEFI mode, so the PC can.
    UefiSessionSoAble,
    /// A variable of the firmware.
    Variable {
        /// Its name.
        name: String,
    },
    /// The variables with the enrolled keys.
    KeyVariables,
    /// The variables with the keys that the manufacturer delivers.
    FactoryKeyVariables,
    /// The variables with the boot entries.
    EntryVariables,
    /// The machine file says so.
    MachineFile,
    /// The machine file says that the PC can.
    MachineFileAble,
    /// The machine file says that the PC cannot.
    MachineFileUnable,
    /// Not known: the disk is an image.
    Image,
    /// Not known: this session's kernel does not show it.
    KernelSilent,
    /// Not known: this session was started in BIOS mode.
    BiosSession,
    /// Not known: this session was started in BIOS mode, and the firmware does not say in SMBIOS.
    BiosSessionAndSmbiosSilent,
    /// Not known: this session was started in BIOS mode, so the firmware is set to that or to both.
    BiosSessionSoEither,
    /// Not known: the firmware does not say in SMBIOS.
    SmbiosSilent,
    /// Not known: the system knows no battery.
    NoBattery,
    /// Not known: the firmware does not have this variable.
    NoVariable {
        /// Its name.
        name: String,
    },
    /// Not known: a variable is invalid, or cannot be read.
    VariableFault {
        /// Why.
        fault: Cause,
    },
    /// Not known: the firmware does not show it.
    NotShown,
    /// Not known: the machine file does not say.
    MachineFileSilent,
}

/// How a technician finds a fact out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// By the label on the PC.
    Label,
    /// By its setup, or a session in UEFI mode.
    Uefi,
    /// By a session in UEFI mode; what is usual.
    Bits,
    /// By its setup.
    Setting,
    /// By a session in UEFI mode.
    Variables,
    /// By looking at the PC.
    Power,
}

impl<T> Fact<T> {
    pub(super) fn known(value: T, source: Ground) -> Self {
        Self::Known { value, source }
    }

    pub(super) fn not_reported(why: Ground, how: How) -> Self {
        Self::NotReported { why, how }
    }

    pub(super) fn reported(value: Option<T>, source: &Ground, why: Ground, how: How) -> Self {
        match value {
            Some(value) => Self::known(value, source.clone()),
            None => Self::not_reported(why, how),
        }
    }

    /// The value, where it is known.
    pub fn value(&self) -> Option<&T> {
        match self {
            Self::Known { value, .. } => Some(value),
            Self::NotReported { .. } => None,
        }
    }

    /// Where it is known from, or why it is not.
    pub fn ground(&self) -> &Ground {
        match self {
            Self::Known { source: ground, .. } | Self::NotReported { why: ground, .. } => ground,
        }
    }

    /// How to find out, where it is not known.
    pub fn how(&self) -> Option<How> {
        match self {
            Self::Known { .. } => None,
            Self::NotReported { how, .. } => Some(*how),
        }
    }
}
