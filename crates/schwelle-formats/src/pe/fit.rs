//! Whether a program can be started here, by its headers and, where it is signed, its content.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{EFI_APPLICATION, LoadFault, Machine, PeImage};
use crate::cause::Cause;

/// Why a program does not fit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum ProgramFault {
    /// It is made for another processor.
    #[error("made for {machine}, not for x64")]
    OtherProcessor {
        /// Which.
        machine: String,
    },
    /// It names this processor, and its headers are laid out as those of a 32-bit program.
    #[error("made for x64, but with the headers of a 32-bit program")]
    OtherForm,
    /// It is made for another purpose.
    #[error("subsystem {is}, not {wanted}")]
    OtherSubsystem {
        /// The subsystem that its header names.
        is: u16,
        /// The one that is needed.
        wanted: u16,
    },
    /// It is cut off.
    #[error("truncated: section {section} ends at byte {end}, beyond the file")]
    CutOff {
        /// Name of the section.
        section: String,
        /// Where that ends.
        end: u64,
    },
    /// It is signed, and not what was signed: damaged, or changed since.
    #[error("its content does not match its signature: damaged or changed")]
    Altered,
    /// Firmware does not load it.
    #[error("firmware does not load it: {fault}")]
    NotLoadable {
        /// Why not.
        fault: LoadFault,
    },
    /// It is as long as the one that Windows brings, and not the same.
    #[error("is as long as the one on the Windows volume and not the same: damaged or changed")]
    NotItsSource,
    /// It is not signed, and pages of its code are empty.
    #[error("pages of its code are all zeros: damaged")]
    Hollow,
    /// It runs in BIOS mode only.
    #[error("runs in BIOS mode only")]
    BiosOnly,
    /// It runs in UEFI mode only.
    #[error("runs in UEFI mode only")]
    UefiOnly,
    /// It is not there.
    #[error("is not there")]
    Missing,
    /// It cannot be read.
    #[error("{fault}")]
    Unreadable {
        /// Why not.
        fault: Cause,
    },
}

impl ProgramFault {
    /// The fault of a program that cannot be read.
    pub fn unreadable(error: impl std::error::Error) -> Self {
        let fault = error.into();
        Self::Unreadable { fault }
    }
}

impl PeImage {
    /// The image, where it can be started here: for 64-bit x86, of the right subsystem where one is asked for, whole,
    /// where firmware is to load it, so that it does, and where it is signed, what was signed.
    ///
    /// # Errors
    ///
    /// What does not fit.
    pub fn fitting(self, subsystem: Option<u16>) -> Result<Self, ProgramFault> {
        if self.machine != Machine::X64 {
            let machine = self.machine.to_string();
            return Err(ProgramFault::OtherProcessor { machine });
        }
        if !self.is_64_bit_form {
            return Err(ProgramFault::OtherForm);
        }
        let is = self.subsystem;
        if let Some(wanted) = subsystem.filter(|&wanted| wanted != is) {
            return Err(ProgramFault::OtherSubsystem { is, wanted });
        }
        if let Some((section, end)) = self.cut_off {
            return Err(ProgramFault::CutOff { section, end });
        }
        if subsystem == Some(EFI_APPLICATION) {
            if let Some(fault) = self.load_fault {
                return Err(ProgramFault::NotLoadable { fault });
            }
            if self.is_hollow {
                return Err(ProgramFault::Hollow);
            }
        }
        match self.is_altered {
            true => Err(ProgramFault::Altered),
            false => Ok(self),
        }
    }
}
