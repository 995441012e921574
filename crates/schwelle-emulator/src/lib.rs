//! The rehearsal on real firmware: the disk, or the draft of one, is started in an emulator.
//!
//! The emulator (QEMU, with OVMF as UEFI firmware or its own SeaBIOS) is a program installed on this machine; if
//! it is not there, [`Missing`] says what to install. It never writes to the disk: it sees an overlay
//! ([`write_overlay`]) above the disk, which holds the draft's changes and everything that the guest writes.
//! [`Start::run`] gives a [`Record`] of what happened, and [`judge`] says what that means: the sectors that were
//! read show how far the start came, whatever the loader prints.
//!
//! ```
//! use schwelle_core::firmware::BootMode;
//! use schwelle_emulator::{Emulator, Missing};
//!
//! // A missing program or firmware is named.
//! match Emulator::find(&["/nowhere".into()], None, BootMode::Uefi) {
//!     Err(Missing::Program) => {}
//!     other => panic!("{:?}", other.err()),
//! }
//! ```

mod find;
mod judge;
mod qcow2;
mod run;
mod screen;

pub use find::{Emulator, Missing};
pub use judge::{EmulatedStep, EmulatedStepId, Emulation, Seen, judge};
pub use qcow2::{Backing, write_overlay};
pub use run::{EmulatorError, Ending, Record, Start};
