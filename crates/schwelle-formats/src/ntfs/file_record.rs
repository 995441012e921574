//! A file record of the MFT.

use std::borrow::Cow;

use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

use super::attribute::{Attribute, Body, parse_all};
use super::attribute_list::record_number;
use super::fixup;

const IN_USE: u16 = 1;
const DIRECTORY: u16 = 2;

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawRecord {
    magic: [u8; 4],
    fixup_offset: U16,
    fixup_count: U16,
    log_sequence: U64,
    use_count: U16,
    links: U16,
    attributes_offset: U16,
    flags: U16,
    used_bytes: U32,
    allocated_bytes: U32,
    base_record: U64,
}

const _: () = assert!(size_of::<RawRecord>() == 40);

/// What is wrong with a record that is sound and free.
pub(super) const NOT_IN_USE: &str = "the record is not in use";

/// A file record in use, its fix-ups restored and its attributes found.
#[derive(Debug, Clone)]
pub(super) struct FileRecord<'a> {
    pub(super) bytes: Cow<'a, [u8]>,
    pub(super) attributes: Vec<Attribute>,
    pub(super) is_directory: bool,
    /// The record this one extends; 0 for a base record.
    pub(super) base_record: u64,
    /// Extends another record. The MFT's own extensions name record 0.
    pub(super) is_extension: bool,
}

impl FileRecord<'static> {
    /// Parses a record as read from the disk; the error says what is wrong.
    pub(super) fn parse(mut bytes: Vec<u8>) -> Result<Self, &'static str> {
        let FileRecord {
            attributes,
            is_directory,
            base_record,
            is_extension,
            ..
        } = FileRecord::parse_in_place(&mut bytes)?;
        Ok(Self {
            bytes: Cow::Owned(bytes),
            attributes,
            is_directory,
            base_record,
            is_extension,
        })
    }
}

impl<'a> FileRecord<'a> {
    /// Parses a record where it lies: for walking a whole table.
    pub(super) fn parse_in_place(bytes: &'a mut [u8]) -> Result<Self, &'static str> {
        if !bytes.starts_with(b"FILE") {
            return Err("the signature \"FILE\" is missing");
        }
        if !fixup::restore(bytes) {
            return Err("the fix-ups do not match: the record was written only in part");
        }
        let (raw, _) =
            RawRecord::ref_from_prefix(bytes).map_err(|_too_short| "the record is too short")?;
        let flags = raw.flags.get();
        if flags & IN_USE == 0 {
            return Err(NOT_IN_USE);
        }
        let used = usize::try_from(raw.used_bytes.get()).unwrap_or(usize::MAX);
        let used = bytes
            .get(..used)
            .ok_or("more bytes are in use than the record has")?;
        let attributes = parse_all(used, raw.attributes_offset.get().into())?;
        let base_record = record_number(raw.base_record.get());
        let is_extension = raw.base_record.get() != 0;
        Ok(Self {
            attributes,
            is_directory: flags & DIRECTORY != 0,
            base_record,
            is_extension,
            bytes: Cow::Borrowed(bytes),
        })
    }

    /// The value of the first resident attribute of a kind.
    pub(super) fn resident(&self, kind: u32) -> Option<&[u8]> {
        self.all_resident(kind).next()
    }

    /// The values of all resident attributes of a kind.
    pub(super) fn all_resident(&self, kind: u32) -> impl Iterator<Item = &[u8]> {
        let attributes = self.attributes.iter();
        attributes
            .filter(move |attribute| attribute.kind == kind)
            .filter_map(|attribute| match &attribute.body {
                Body::Resident(range) => self.bytes.get(range.clone()),
                Body::NonResident { .. } => None,
            })
    }
}
