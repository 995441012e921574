//! What the tests of several crates share: a seeded source of numbers, a medium on which power goes, a watch over files,
//! the programs of others that judge results, and files that are made from the code. The disks that tests begin with are made by the
//! builder of the demo, which needs it itself.
//!
//! ```
//! use schwelle_testkit::Dice;
//!
//! let (mut one, mut other) = (Dice::new(7), Dice::new(7));
//! assert_eq!(one.bytes(100), other.bytes(100));
//! assert!(one.below(6) < 6);
//! ```

#![expect(
    clippy::panic,
    clippy::unwrap_used,
    reason = "a test that cannot go on fails"
)]

mod dice;
mod faults;
mod images;
mod medium;
mod opened;
mod referees;
mod renew;

pub use dice::Dice;
pub use faults::{Fault, Faults, FaultyDisk};
pub use images::{copy_image, hash};
pub use medium::{Failure, Image, Medium};
pub use opened::WriteWatch;
pub use referees::{Mounted, Run, dump, extract, hex, merge, real_data, tool, tool_any, unmount};
pub use renew::{is_up_to_date, renew};
