//! The rehearsal on real firmware: the disk, or the draft of one, is started in an emulator.
//!
//! The emulator (QEMU, with OVMF as UEFI firmware or its own SeaBIOS) is a program of the machine
//! that this runs on; where it is missing, [`Missing`] says what to install. It never writes the
//! disk: what it sees is an overlay ([`write_overlay`]) whose backing file is the disk, and in which the
//! draft's changes and all that the guest writes lie. [`Start::run`] gives a [`Record`] of what happened,
//! and [`judge`] says what that means: the sectors that were read tell how far the start came, whatever
//! the loader prints.
//!
//! ```
//! use schwelle_core::firmware::BootMode;
//! use schwelle_emulator::{Emulator, Missing};
//!
//! // Where a program or the firmware is missing, it is said which.
//! match Emulator::find(&["/nowhere".into()], None, BootMode::Uefi) {
//!     Err(Missing::Program) => {}
//!     other => panic!("{:?}", other.err()),
//! }
//! ```

mod judge;
mod qcow2;
mod run;
mod screen;

pub use judge::{EmulatedStep, EmulatedStepId, Emulation, Seen, judge};
pub use qcow2::{Backing, write_overlay};
pub use run::{Emulator, EmulatorError, Ending, Missing, Record, Start};
