//! What hostile bytes are given to: every parser, and the check as a whole.
//!
//! [`TARGETS`] is the one list. The short run over it is a test (`tests/short.rs`, any toolchain); the long one is
//! `cargo fuzz`, whose programs in `fuzz/` call the same functions. Seeds come from the demo disks. A target must
//! come back, without a panic, in bounded memory and time; what it answers does not matter.

#![expect(
    clippy::unwrap_used,
    reason = "the bases are ours: where one cannot be made, nothing can be tried"
)]

mod base;
mod bytes;
mod everything;
mod folders;
mod tampered;

/// Something that reads hostile bytes.
#[derive(Debug)]
pub struct Target {
    /// Its name, which is that of the fuzzing program.
    pub name: &'static str,
    /// Well-formed inputs, from the demo disks.
    pub seeds: fn() -> Vec<Vec<u8>>,
    /// Reads.
    pub run: fn(&[u8]),
}

/// All of them.
pub static TARGETS: &[Target] = &[
    Target {
        name: "table",
        seeds: bytes::table_seeds,
        run: bytes::table,
    },
    Target {
        name: "ntfs",
        seeds: base::seeds,
        run: base::ntfs,
    },
    Target {
        name: "fat",
        seeds: base::seeds,
        run: base::fat,
    },
    Target {
        name: "linux",
        seeds: base::seeds,
        run: base::linux,
    },
    Target {
        name: "encrypted",
        seeds: bytes::encrypted_seeds,
        run: bytes::encrypted,
    },
    Target {
        name: "hive",
        seeds: bytes::hive_seeds,
        run: bytes::hive,
    },
    Target {
        name: "bcd-store",
        seeds: bytes::store_seeds,
        run: bytes::bcd_store,
    },
    Target {
        name: "program",
        seeds: bytes::program_seeds,
        run: bytes::program,
    },
    Target {
        name: "packed",
        seeds: bytes::packed_seeds,
        run: bytes::packed,
    },
    Target {
        name: "recovery",
        seeds: bytes::recovery_seeds,
        run: bytes::recovery,
    },
    Target {
        name: "variable",
        seeds: bytes::variable_seeds,
        run: bytes::variable,
    },
    Target {
        name: "smbios",
        seeds: folders::smbios_seeds,
        run: folders::smbios,
    },
    Target {
        name: "machine",
        seeds: folders::machine_seeds,
        run: folders::machine,
    },
    Target {
        name: "policy",
        seeds: folders::policy_seeds,
        run: folders::policy,
    },
    Target {
        name: "job",
        seeds: folders::job_seeds,
        run: folders::job,
    },
    Target {
        name: "tampered",
        seeds: tampered::seeds,
        run: tampered::run,
    },
    Target {
        name: "check",
        seeds: base::seeds,
        run: base::check,
    },
];

/// Gives bytes to the target with this name; false where there is none.
pub fn run(name: &str, bytes: &[u8]) -> bool {
    let target = TARGETS.iter().find(|target| target.name == name);
    target.inspect(|target| (target.run)(bytes)).is_some()
}
