//! The demo disks of Schwelle: system disks of a made-up lighthouse service, on which the whole job
//! can be tried.
//!
//! The NTFS volumes in `assets/` were made by the NTFS utilities (`standins/volumes.sh` makes them
//! again), the boot programs are stand-ins that real firmware can start (`standins/build.sh`), signed
//! with made-up keys (`standins/sign.sh`).
//! [`DiskBuilder`] lays them out on a disk and changes what a story needs; [`disks`] is the list of
//! stories. Tests build their disks with the same builder.

mod assets;
mod builder;
mod disks;
mod edit;
mod fixed;
mod kinds;
mod logs;
mod pc;
mod scatter;
mod start;

pub use assets::{Asset, BOOT_MANAGER, BOOT_PROGRAM_ARM64, KERNEL_32BIT};
pub use builder::{DiskBuilder, MbrEntry, Standard};
pub use disks::{DemoDisk, disks, make};
pub use edit::{attribute_at, edit_file, edit_record, mark_dirty, put_program, replace_bytes};
pub use fixed::{STAMP, convert, counted_guids, outside, plan_back, plan_of};
pub use kinds::{GAP_CODE, SMALL_JOBS, SmallJob};
pub use logs::{LogFormat, Unfinished, interrupted};
pub use pc::{BOOT_KEY, make_pc};
pub use scatter::scatter;
pub use start::windows_was_started;
