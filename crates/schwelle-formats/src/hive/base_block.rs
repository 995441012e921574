//! The base block: the first 4096 bytes of a hive.

use std::mem::offset_of;

use zerocopy::little_endian::{U32, U64};
use zerocopy::{FromBytes, FromZeros, Immutable, IntoBytes, KnownLayout, Unaligned};

use super::log::LogFault;
use crate::bytes::u32_at;

/// Bytes of the base block; the bins follow, and every offset in a hive counts from them.
pub(super) const BASE_BYTES: u64 = 4096;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawBaseBlock {
    magic: [u8; 4],
    sequence_1: U32,
    sequence_2: U32,
    written: U64,
    major: U32,
    minor: U32,
    file_type: U32,
    file_format: U32,
    root_cell: U32,
    bins_bytes: U32,
    cluster: U32,
    name: [u8; 64],
    reserved: [u8; 396],
    checksum: U32,
}

const CHECKED_BYTES: usize = 0x1FC;
const _: () = assert!(offset_of!(RawBaseBlock, root_cell) == 0x24);
const _: () = assert!(offset_of!(RawBaseBlock, checksum) == CHECKED_BYTES);

/// What a file that begins with a base block is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum FileKind {
    Hive,
    /// A transaction log of one batch of pages.
    OldLog,
    /// A transaction log of numbered entries.
    NewLog,
}

/// What the base block says, checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct BaseBlock {
    pub(super) sequences: (u32, u32),
    pub(super) written: u64,
    pub(super) minor: u32,
    pub(super) root_cell: u32,
    pub(super) bins_bytes: u32,
}

impl BaseBlock {
    /// Checks the first 512 bytes of a hive of `len_bytes`; the error names the field at fault.
    pub(super) fn parse(bytes: &[u8], len_bytes: u64) -> Result<Self, &'static str> {
        let (kind, base) = Self::parse_any(bytes)?;
        let fits = BASE_BYTES
            .checked_add(base.bins_bytes.into())
            .is_some_and(|end| end <= len_bytes);
        match (kind, fits) {
            (FileKind::Hive, true) => Ok(base),
            (FileKind::Hive, false) => Err("size of the bins"),
            _ => Err("file type"),
        }
    }

    /// Checks the copy of a base block that a transaction log begins with.
    pub(super) fn parse_log(bytes: &[u8]) -> Result<(FileKind, Self), LogFault> {
        Self::parse_any(bytes).map_err(LogFault::BaseBlock)
    }

    fn parse_any(bytes: &[u8]) -> Result<(FileKind, Self), &'static str> {
        let (raw, _) = RawBaseBlock::ref_from_prefix(bytes).map_err(|_too_short| "length")?;
        let check = |good: bool, field| if good { Ok(()) } else { Err(field) };
        check(&raw.magic == b"regf", "signature \"regf\"")?;
        check(checksum(bytes) == raw.checksum.get(), "checksum")?;
        check(
            raw.major.get() == 1 && (2..=6).contains(&raw.minor.get()),
            "version",
        )?;
        let kind = match raw.file_type.get() {
            0 => FileKind::Hive,
            1 | 2 => FileKind::OldLog,
            6 => FileKind::NewLog,
            _ => return Err("file type"),
        };
        let bins_bytes = raw.bins_bytes.get();
        check(
            bins_bytes > 0 && bins_bytes.is_multiple_of(4096),
            "size of the bins",
        )?;
        let base = Self {
            sequences: (raw.sequence_1.get(), raw.sequence_2.get()),
            written: raw.written.get(),
            minor: raw.minor.get(),
            root_cell: raw.root_cell.get(),
            bins_bytes,
        };
        Ok((kind, base))
    }

    /// Puts these values into the first 512 bytes of a hive, where the rest stays, and makes the
    /// checksum.
    pub(super) fn patch(&self, bytes: &mut [u8]) {
        if let Ok((raw, _)) = RawBaseBlock::mut_from_prefix(bytes) {
            raw.sequence_1 = U32::new(self.sequences.0);
            raw.sequence_2 = U32::new(self.sequences.1);
            raw.written = U64::new(self.written);
            raw.file_type = U32::new(0);
            raw.root_cell = U32::new(self.root_cell);
            raw.bins_bytes = U32::new(self.bins_bytes);
            raw.checksum = U32::new(checksum(raw.as_bytes()));
        }
    }

    /// The base block's 4096 bytes, its checksum made.
    pub(super) fn write(&self) -> Vec<u8> {
        let mut raw = RawBaseBlock::new_zeroed();
        raw.magic = *b"regf";
        raw.sequence_1 = U32::new(self.sequences.0);
        raw.sequence_2 = U32::new(self.sequences.1);
        raw.written = U64::new(self.written);
        raw.major = U32::new(1);
        raw.minor = U32::new(self.minor);
        raw.file_format = U32::new(1);
        raw.root_cell = U32::new(self.root_cell);
        raw.bins_bytes = U32::new(self.bins_bytes);
        raw.cluster = U32::new(1);
        raw.checksum = U32::new(checksum(raw.as_bytes()));
        let mut block = raw.as_bytes().to_vec();
        block.resize(4096, 0);
        block
    }
}

/// XOR of the 127 words before the checksum; the two values with a meaning of their own are
/// avoided.
fn checksum(bytes: &[u8]) -> u32 {
    let sum = (0..CHECKED_BYTES)
        .step_by(4)
        .filter_map(|at| u32_at(bytes, at))
        .fold(0, |sum, word| sum ^ word);
    match sum {
        0 => 1,
        u32::MAX => u32::MAX - 1,
        sum => sum,
    }
}
