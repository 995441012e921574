//! The rehearsal: walks a disk or a draft as UEFI firmware and the boot manager do, from sector 0 to the kernel.
//!
//! [`walk`] gives one step after the other with its evidence, and stops at the first that fails, with a remedy. A
//! step that only some firmware gets past, or only by a backup copy, is a caution, and the answer is then
//! [`Answer::Depends`]. After the kernel it looks at the rest of the menu, drive letters and recovery.
//! [`walk_to`] also walks an MBR disk as a BIOS does, and a data disk to its volumes.

pub mod answers;
mod around;
mod bios;
mod entry;
mod esp;
mod linux;
mod loader;
mod names;
mod step;
mod store;
mod volumes;
mod walk;

pub use answers::{Evidence, Remedy};
pub use bios::walk_bios_to_kernel;
pub use linux::LinuxOnEsp;
pub use names::partition_named;
pub use step::{Answer, Rehearsal, Step, StepId, StepOutcome};
pub use walk::{walk, walk_to};
