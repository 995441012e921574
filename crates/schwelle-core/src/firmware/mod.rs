//! What a PC's firmware can do, is set to, and will start.
//!
//! [`Machine`] holds the facts: of this PC ([`Machine::of`]), or of another one from a
//! machine file ([`MachineFile`]). Each is known, with where from, or not, with how to find out.
//! Their sources are SMBIOS, the UEFI variables ([`Variables`]: boot entries as [`LoadOption`]s,
//! certificates as signature lists) and sysfs. [`verdict`] says whether Secure Boot would let a
//! loader run, [`EntryPlan`] writes a boot entry.

mod boot_entry;
mod certificate;
mod fact;
mod keys;
mod load_option;
mod machine;
mod machine_file;
mod secure_boot;
mod signature_list;
mod smbios;
mod target;
mod variables;

pub use boot_entry::{EntryError, EntryPlan, ask_for_setup};
pub use fact::{Fact, Ground, How};
pub use keys::{Keys, KeysError};
pub use load_option::{DiskSignature, LoadOption, LoadOptionError, OtherTarget, PathNode};
pub use machine::{BootEntry, BootMode, Machine};
pub use machine_file::{FileError, MachineFile};
pub use secure_boot::{
    AcceptedBy, LoaderChoice, Objection, Unreported, Verdict, verdict, verdict_on_loader,
};
pub(crate) use secure_boot::{choose, linux_loaders};
pub use signature_list::{Signature, SignatureListError, certificate_list, parse_lists};
pub use target::{AttachedDisk, Target};
pub(crate) use target::{is_protected, read_loader};
pub(crate) use variables::LASTING;
pub use variables::{GLOBAL, IMAGE_SECURITY, Variable, VariableError, VariableFault, Variables};
