//! Identities and a time that are the same on every run, for tests and benchmarks.

use schwelle_core::draft::Stamp;
use schwelle_core::fat::DosTime;
use uuid::Uuid;

/// A time like any other: 23 November 2025, 0:00.
pub const STAMP: Stamp = Stamp {
    dos: DosTime {
        date: 0x5B77,
        time: 0,
    },
    windows: 1,
};

/// GUIDs counted from one.
pub fn counted_guids() -> impl FnMut() -> Uuid {
    let mut number = 0;
    move || {
        number += 1;
        Uuid::from_u128(number)
    }
}
