//! NTFS: boot sector, file records, runlists, directories, files, the volume's health, and plans for
//! making it smaller. Nothing here writes: a plan is a value ([`ShrinkPlan`]).
//!
//! There is no published specification; the facts are those that free implementations agree on,
//! each checked against volumes made by the NTFS utilities (see the tests of the crate `schwelle`).
//! [`NtfsVolume`] is the way in. Files that the file system or an overlay has compressed are read
//! too. Not supported, and refused with a typed error rather than read wrongly: encrypted content,
//! and content that lies in an image file elsewhere.

#![warn(clippy::indexing_slicing)]

mod attribute;
mod attribute_list;
mod audit;
mod boot_sector;
mod compressed;
mod file_record;
mod fingerprint;
mod fixup;
mod health;
mod index;
#[cfg(test)]
mod pieces;
mod requirements;
mod rewrite;
mod runlist;
mod shadow;
mod shrink;
mod stream;
mod volume;

pub use audit::{Audit, AuditFault};
pub use boot_sector::NtfsShape;
pub use health::{CopyFault, Hibernation, LogState, VolumeFlags};
pub use index::DirEntry;
pub use runlist::{Lcn, Run, Vcn};
pub use shadow::ShadowCopies;
pub use shrink::{ClusterMove, Patch, ShrinkError, ShrinkPlan};
pub use stream::NtfsFile;
pub use volume::{NtfsVolume, ROOT_RECORD};

use crate::device::DeviceError;

/// Why something on an NTFS volume could not be read.
#[derive(Debug, thiserror::Error)]
pub enum NtfsError {
    /// The boot sector does not describe a volume.
    #[error("LBA {lba}: no NTFS volume: the boot sector's {field} is wrong")]
    BootSector {
        /// Where it lies on the disk.
        lba: u64,
        /// The field at fault.
        field: &'static str,
    },
    /// A structure that breaks its own rules.
    #[error("LBA {lba}: NTFS file record {record}: {fault}")]
    Record {
        /// Where the record lies on the disk; 0 when its place is not known.
        lba: u64,
        /// The record's number.
        record: u64,
        /// What is wrong.
        fault: &'static str,
    },
    /// Content in a form that is not read.
    #[error("NTFS file record {record}: {what}")]
    Unsupported {
        /// The record's number.
        record: u64,
        /// The form.
        what: &'static str,
    },
    /// Compressed content that does not come apart.
    #[error("NTFS file record {record}, at byte {offset} of the file: {source}")]
    Unpack {
        /// The record's number.
        record: u64,
        /// First byte of the unit, in the file.
        offset: u64,
        /// What is wrong.
        source: crate::unpack::UnpackError,
    },
    /// A read beyond the end of a file, or a file longer than the caller takes.
    #[error(
        "NTFS file record {record}: bytes {offset} to {end} asked for, but the limit is {limit}"
    )]
    Length {
        /// The record's number.
        record: u64,
        /// First byte.
        offset: u64,
        /// Beyond the last byte.
        end: u64,
        /// The file's length, or the caller's limit.
        limit: u64,
    },
    /// The device failed.
    #[error(transparent)]
    Device(#[from] DeviceError),
}
