//! Changing a file record: attributes in and out, runlists replaced.

use std::ops::Range;

use crate::bytes::{u16_at, u32_at, u64_at};
use crate::ntfs::attribute::{Attribute, kind, parse_all};
use crate::ntfs::attribute_list::record_number;
use crate::ntfs::fixup;
use crate::ntfs::runlist::{Run, encode};

// Places in a record (the same that `RawRecord` in file_record.rs names).
const USE_COUNT: usize = 0x10;
const ATTRIBUTES_AT: usize = 0x14;
const FLAGS: usize = 0x16;
const USED_BYTES: usize = 0x18;
const ALLOCATED_BYTES: usize = 0x1C;
const BASE_RECORD: usize = 0x20;
const NEXT_ID: usize = 0x28;
/// The record's own number, in records that have their array of fix-ups after it.
const OWN_NUMBER: usize = 0x2C;
const FIRST_ARRAY_BEHIND_NUMBER: u16 = 0x30;
/// The end marker, and the four bytes that fill it up.
const END_BYTES: usize = 8;

// Places in an attribute (`RawAttribute` and `RawNonResident` in attribute.rs).
const LENGTH: usize = 4;
const NON_RESIDENT: usize = 8;
const NAME_UNITS: usize = 9;
const NAME_AT: usize = 10;
const ATTRIBUTE_FLAGS: usize = 12;
const ID: usize = 14;
const VALUE_LEN: usize = 0x10;
const VALUE_AT: usize = 0x14;
const LOWEST: usize = 0x10;
const HIGHEST: usize = 0x18;
const RUNS_AT: usize = 0x20;
const ALLOCATED_LEN: usize = 0x28;
const DATA_LEN: usize = 0x30;
const INITIALIZED_LEN: usize = 0x38;
const COMPRESSED_LEN: usize = 0x40;
/// Compressed or sparse: the header has a field more.
const HAS_COMPRESSED_LEN: u16 = 0x80FF;

/// A record being changed; its fix-ups are restored.
#[derive(Debug, Clone)]
pub(super) struct Editor {
    bytes: Vec<u8>,
    /// Where the attributes begin.
    first: usize,
    /// Bytes in use, the end marker included.
    used: u32,
    use_count: u16,
    /// The record that this one extends, as a full reference; 0 for a base record.
    base: u64,
    next_id: u16,
}

/// Puts a value at a place; `None` where the bytes end before it.
fn put<const N: usize>(bytes: &mut [u8], at: usize, value: [u8; N]) -> Option<()> {
    let place = bytes.get_mut(at..at.checked_add(N)?)?;
    place.copy_from_slice(&value);
    Some(())
}

impl Editor {
    /// An editor of a record in use; `None` where its header is invalid.
    pub(super) fn new(bytes: Vec<u8>) -> Option<Self> {
        let editor = Self {
            first: u16_at(&bytes, ATTRIBUTES_AT)?.into(),
            used: u32_at(&bytes, USED_BYTES)?,
            use_count: u16_at(&bytes, USE_COUNT)?,
            base: u64_at(&bytes, BASE_RECORD)?,
            next_id: u16_at(&bytes, NEXT_ID)?,
            bytes,
        };
        let used = editor.bytes.get(..editor.used())?;
        (editor.used().checked_sub(END_BYTES)? >= editor.first).then_some(())?;
        parse_all(used, editor.first).ok()?;
        Some(editor)
    }

    /// A fresh record: the header of `pattern`, a record of the same volume, with this number, use
    /// count, and base record.
    pub(super) fn fresh(pattern: &Self, number: u64, use_count: u16, base: u64) -> Option<Self> {
        let mut bytes = pattern.bytes.clone();
        let array = (u16_at(&bytes, 4)?, u16_at(&bytes, 6)?);
        let first = usize::from(array.0)
            .checked_add(usize::from(array.1).checked_mul(2)?)?
            .checked_next_multiple_of(8)?;
        bytes.get_mut(8..)?.fill(0);
        put(&mut bytes, usize::from(array.0), 1u16.to_le_bytes())?;
        put(&mut bytes, USE_COUNT, use_count.to_le_bytes())?;
        let begins = u16::try_from(first).ok()?;
        put(&mut bytes, ATTRIBUTES_AT, begins.to_le_bytes())?;
        put(&mut bytes, FLAGS, 1u16.to_le_bytes())?;
        let len = u32::try_from(bytes.len()).ok()?;
        put(&mut bytes, ALLOCATED_BYTES, len.to_le_bytes())?;
        put(&mut bytes, BASE_RECORD, base.to_le_bytes())?;
        if array.0 >= FIRST_ARRAY_BEHIND_NUMBER {
            let number = u32::try_from(number).ok()?;
            put(&mut bytes, OWN_NUMBER, number.to_le_bytes())?;
        }
        put(&mut bytes, first, kind::END.to_le_bytes())?;
        let used = u32::try_from(first.checked_add(END_BYTES)?).ok()?;
        put(&mut bytes, USED_BYTES, used.to_le_bytes())?;
        Self::new(bytes)
    }

    /// The attributes. The record was parsed before and is only changed by this editor.
    pub(super) fn attributes(&self) -> Vec<Attribute> {
        let used = self.bytes.get(..self.used()).unwrap_or_default();
        parse_all(used, self.first).unwrap_or_default()
    }

    /// The attribute with this number.
    pub(super) fn attribute(&self, id: u16) -> Option<Attribute> {
        self.attributes()
            .into_iter()
            .find(|attribute| attribute.id == id)
    }

    /// Bytes of a part of the record.
    pub(super) fn part(&self, place: Range<usize>) -> &[u8] {
        self.bytes.get(place).unwrap_or_default()
    }

    /// The record that this one extends, as a full reference; 0 for a base record.
    pub(super) fn base_reference(&self) -> u64 {
        self.base
    }

    /// The reference by which others name this record.
    pub(super) fn reference(&self, number: u64) -> u64 {
        record_number(number) | u64::from(self.use_count) << 48
    }

    fn used(&self) -> usize {
        self.used as usize
    }

    /// Bytes that attributes may still take.
    pub(super) fn free_bytes(&self) -> usize {
        self.bytes.len().saturating_sub(self.used())
    }

    /// Puts `new` in the place of a part; what is after moves. False, and nothing changed, where
    /// the record has no room.
    pub(super) fn replace(&mut self, place: Range<usize>, new: &[u8]) -> bool {
        let used = self.used();
        let (Some(tail), Some(rest)) = (
            self.bytes.get(place.end..used).map(<[u8]>::to_vec),
            used.checked_sub(place.len()),
        ) else {
            return false;
        };
        let used_after = rest.saturating_add(new.len());
        let (Ok(used), true) = (u32::try_from(used_after), used_after <= self.bytes.len()) else {
            return false;
        };
        let content = new.iter().chain(&tail).copied();
        let Some(to) = self.bytes.get_mut(place.start..) else {
            return false;
        };
        to.iter_mut()
            .zip(content.chain(std::iter::repeat(0)))
            .for_each(|(to, from)| *to = from);
        self.used = used;
        true
    }

    /// Puts an attribute into the record, before the first of a higher kind.
    pub(super) fn insert(&mut self, attribute: &[u8]) -> bool {
        let (Some(wanted), Some(end)) = (u32_at(attribute, 0), self.used().checked_sub(END_BYTES))
        else {
            return false;
        };
        let attributes = self.attributes();
        let next = attributes.iter().find(|other| other.kind > wanted);
        let at = next.map_or(end, |next| next.place.start);
        self.replace(at..at, attribute)
    }

    /// A number for a new attribute of this record.
    pub(super) fn next_id(&mut self) -> u16 {
        let id = self.next_id;
        self.next_id = id.wrapping_add(1);
        id
    }

    /// The record as it goes to the disk; `None` where its header has no room for what it says.
    pub(super) fn finish(mut self) -> Option<Vec<u8>> {
        put(&mut self.bytes, USED_BYTES, self.used.to_le_bytes())?;
        put(&mut self.bytes, NEXT_ID, self.next_id.to_le_bytes())?;
        fixup::protect(&mut self.bytes);
        Some(self.bytes)
    }
}

/// A non-resident attribute like `pattern`, with these runs and this number. Only the part that
/// begins at cluster 0 of the file carries the file's sizes.
pub(super) fn with_runs(pattern: &[u8], id: u16, runs: &[Run]) -> Option<Vec<u8>> {
    let head = usize::from(u16_at(pattern, RUNS_AT)?);
    let mut bytes = pattern.get(..head)?.to_vec();
    bytes.extend(encode(runs));
    bytes.resize(bytes.len().checked_next_multiple_of(8)?, 0);
    let len = u32::try_from(bytes.len()).ok()?;
    put(&mut bytes, LENGTH, len.to_le_bytes())?;
    put(&mut bytes, ID, id.to_le_bytes())?;
    let (first, last) = (runs.first()?, runs.last()?);
    put(&mut bytes, LOWEST, first.vcn.0.to_le_bytes())?;
    let highest = last.end_vcn().0.checked_sub(1)?;
    put(&mut bytes, HIGHEST, highest.to_le_bytes())?;
    if first.vcn.0 != 0 && u64_at(pattern, LOWEST)? == 0 {
        for at in [ALLOCATED_LEN, DATA_LEN, INITIALIZED_LEN] {
            put(&mut bytes, at, 0u64.to_le_bytes())?;
        }
        if u16_at(pattern, ATTRIBUTE_FLAGS)? & HAS_COMPRESSED_LEN != 0 && head >= 0x48 {
            put(&mut bytes, COMPRESSED_LEN, 0u64.to_le_bytes())?;
        }
    }
    Some(bytes)
}

/// Sets the sizes of a non-resident attribute that begins at cluster 0; `None` where it has none.
pub(super) fn set_sizes(attribute: &mut [u8], allocated: u64, data: u64) -> Option<()> {
    let initialized = u64_at(attribute, INITIALIZED_LEN)?.min(data);
    put(attribute, ALLOCATED_LEN, allocated.to_le_bytes())?;
    put(attribute, DATA_LEN, data.to_le_bytes())?;
    put(attribute, INITIALIZED_LEN, initialized.to_le_bytes())
}

/// A resident attribute list with this value.
pub(super) fn resident_list(id: u16, value: &[u8]) -> Option<Vec<u8>> {
    const HEAD: usize = 0x18;
    let mut bytes = vec![0; HEAD.checked_add(value.len())?.checked_next_multiple_of(8)?];
    put(&mut bytes, 0, kind::ATTRIBUTE_LIST.to_le_bytes())?;
    let len = u32::try_from(bytes.len()).ok()?;
    put(&mut bytes, LENGTH, len.to_le_bytes())?;
    put(&mut bytes, NAME_AT, 0x18u16.to_le_bytes())?;
    put(&mut bytes, ID, id.to_le_bytes())?;
    put(
        &mut bytes,
        VALUE_LEN,
        u32::try_from(value.len()).ok()?.to_le_bytes(),
    )?;
    put(&mut bytes, VALUE_AT, 0x18u16.to_le_bytes())?;
    bytes
        .get_mut(HEAD..HEAD.checked_add(value.len())?)?
        .copy_from_slice(value);
    Some(bytes)
}

/// A non-resident attribute list of this length in these clusters.
pub(super) fn outside_list(
    id: u16,
    runs: &[Run],
    len_bytes: u64,
    allocated: u64,
) -> Option<Vec<u8>> {
    let mut head = vec![0; 0x40];
    put(&mut head, 0, kind::ATTRIBUTE_LIST.to_le_bytes())?;
    put(&mut head, NON_RESIDENT, [1])?;
    put(&mut head, NAME_UNITS, [0])?;
    put(&mut head, NAME_AT, 0x40u16.to_le_bytes())?;
    put(&mut head, RUNS_AT, 0x40u16.to_le_bytes())?;
    put(&mut head, INITIALIZED_LEN, len_bytes.to_le_bytes())?;
    set_sizes(&mut head, allocated, len_bytes)?;
    with_runs(&head, id, runs)
}
