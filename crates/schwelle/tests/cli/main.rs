//! Drives the built program on disks in temporary folders, as a technician would.

#![expect(
    clippy::unwrap_used,
    clippy::panic,
    reason = "a test that cannot go on fails"
)]

mod adapters;
mod altered;
mod back;
mod block_writes;
mod blocked;
mod boot_manager;
mod cautions;
mod confirm;
mod convert;
mod damage;
mod devices;
mod emulate;
mod emulator_rights;
mod encrypted;
mod events;
mod every_disk;
mod faulty;
mod firmware;
mod foreign_volumes;
mod greedy;
mod identity;
mod job_files;
mod job_medium;
mod jobs;
mod json;
mod layouts;
mod lived_in;
mod many;
mod mend;
mod menu;
mod overview;
mod packed;
mod policy;
mod printed;
mod private;
mod promises;
mod random_layouts;
mod readers;
mod real_disks;
mod real_firmware;
mod recover;
mod referees;
mod rehearse;
mod report;
mod restore_points;
mod screen;
mod secure_boot;
mod shrink;
mod signing;
mod signpost;
mod sinks;
mod starts;
mod stopped;
mod support;
mod tampered;
mod terminal;
mod undo_used;
mod usage;
mod volumes;
mod wording;
