//! What the attributes of the system's own files must be for the drivers that open a volume: they refuse it for one of
//! another form, also where this program reads past it. Records of other files are not looked at: one that is damaged
//! keeps no volume closed.
//!
//! The layouts are those of the Linux kernel's documentation (Documentation/filesystems/ntfs3.rst) and of
//! ntfs-3g's `layout.h`; what is refused was found by changing each byte of the system's own records.

use super::attribute::{Attribute, Body, COMPRESSED, ENCRYPTED, LZNT1, kind};
use super::file_record::FileRecord;
use super::runlist;
use crate::bytes::{u16_at, u32_at, u64_at};

/// Attribute types are multiples of `TYPE_STEP`, up to `LAST_TYPE`.
const TYPE_STEP: u32 = 0x10;
const LAST_TYPE: u32 = 0x100;
/// Lengths of an attribute's head: resident, not resident, and not resident and compressed or sparse.
const RESIDENT_HEAD: usize = 0x18;
const OUTSIDE_HEAD: usize = 0x40;
const COMPRESSED_HEAD: usize = 0x48;
const SPARSE: u16 = 0x8000;
/// Lengths of the standard information, as old and as newer systems write it.
const STANDARD_INFORMATION: [usize; 2] = [0x30, 0x48];
/// Length of a file name's fields, before the name; its length in characters is in the byte before the last.
const NAME_FIELDS: usize = 0x42;
const NAME_UNITS: usize = 0x40;
/// Length of an index root's own fields; the head of the index follows.
const INDEX_ROOT_FIELDS: usize = 0x10;
const INDEX_HEAD: usize = 0x10;
/// The system's own files; that of bad clusters may be sparse.
const SYSTEM_RECORDS: u64 = 12;
const BAD_CLUSTERS: u64 = 8;
/// Those that are folders: what is made in the root folder may be compressed or encrypted from then on.
const FOLDERS: [u64; 2] = [5, 11];
/// In the standard information: sparse, or a reparse point; compressed, or encrypted.
const SPECIAL: u32 = 0x0600;
const PACKED: u32 = 0x4800;

/// What a driver finds wrong with a record of the system's own files, beyond what this program needs of it.
pub(super) fn fault(
    number: u64,
    record: &FileRecord<'_>,
    (record_bytes, cluster_bytes, volume_clusters): (u32, u32, u64),
) -> Option<&'static str> {
    if number >= SYSTEM_RECORDS {
        return None;
    }
    if u32_at(&record.bytes, 0x1C) != Some(record_bytes) {
        return Some("the record's length is not that of the volume's records");
    }
    if !record
        .attributes
        .is_sorted_by_key(|attribute| attribute.kind)
    {
        return Some("the attributes are not in the order of their types");
    }
    let has_list = record
        .attributes
        .iter()
        .any(|attribute| attribute.kind == kind::ATTRIBUTE_LIST);
    let whole = !has_list && !record.is_extension;
    let is_folder = FOLDERS.contains(&number);
    record.attributes.iter().find_map(|attribute| {
        let bytes = record.bytes.get(attribute.place.clone())?;
        head_fault(attribute, bytes).or_else(|| match &attribute.body {
            Body::Resident(value) => {
                let value = record.bytes.get(value.clone())?;
                value_fault(attribute, bytes, (value, is_folder))
            }
            Body::NonResident { .. } => {
                let is_plain = number != BAD_CLUSTERS && !is_folder;
                outside_fault(
                    attribute,
                    bytes,
                    (whole, is_plain),
                    (cluster_bytes, volume_clusters),
                )
            }
        })
    })
}

/// Checks the header that all attributes share.
fn head_fault(attribute: &Attribute, bytes: &[u8]) -> Option<&'static str> {
    let kind = attribute.kind;
    if !kind.is_multiple_of(TYPE_STEP) || !(TYPE_STEP..=LAST_TYPE).contains(&kind) {
        return Some("an attribute has an unknown type");
    }
    if *bytes.get(8)? > 1 {
        return Some("an attribute is neither inside the record nor outside");
    }
    let known = COMPRESSED | ENCRYPTED | SPARSE;
    if attribute.flags & !known != 0 || attribute.flags & COMPRESSED > LZNT1 {
        return Some("an attribute has unknown flags");
    }
    let units = usize::from(*bytes.get(9)?);
    let name_at = usize::from(u16_at(bytes, 10)?);
    let (head, body_at) = match &attribute.body {
        Body::Resident(_) => (RESIDENT_HEAD, u16_at(bytes, 0x14)?),
        Body::NonResident { unit_power: 0, .. } => (OUTSIDE_HEAD, u16_at(bytes, 0x20)?),
        Body::NonResident { .. } => (COMPRESSED_HEAD, u16_at(bytes, 0x20)?),
    };
    let body_at = usize::from(body_at);
    if body_at < head.min(OUTSIDE_HEAD) {
        return Some("an attribute's content lies in its head");
    }
    if units == 0 {
        return None;
    }
    if !may_have_name(kind) {
        return Some("an attribute has a name that has none in its type");
    }
    let name_end = name_at.saturating_add(units * 2);
    if name_at < head.min(OUTSIDE_HEAD) || name_end > body_at {
        return Some("an attribute's name does not lie between its head and its content");
    }
    None
}

fn may_have_name(kind: u32) -> bool {
    matches!(
        kind,
        kind::DATA
            | kind::INDEX_ROOT
            | kind::INDEX_ALLOCATION
            | kind::BITMAP
            | kind::PROPERTY_SET
            | kind::LOGGED_STREAM
    )
}

/// Checks a resident value.
fn value_fault(
    attribute: &Attribute,
    bytes: &[u8],
    (value, is_folder): (&[u8], bool),
) -> Option<&'static str> {
    let name_bytes = usize::from(*bytes.get(9)?) * 2;
    let expected = (RESIDENT_HEAD + name_bytes).next_multiple_of(8);
    if usize::from(u16_at(bytes, 0x14)?) != expected {
        return Some("an attribute's value does not follow its head");
    }
    match attribute.kind {
        kind::STANDARD_INFORMATION => {
            if !STANDARD_INFORMATION.contains(&value.len()) {
                return Some("the standard information has an unknown length");
            }
            let unfit = if is_folder { SPECIAL } else { SPECIAL | PACKED };
            let is_special = u32_at(value, 0x20)? & unfit != 0;
            is_special.then_some("one of the system's own files is marked as sparse, compressed, encrypted or a reparse point")
        }
        kind::FILE_NAME => {
            let Some(&units) = value.get(NAME_UNITS) else {
                return Some("a file name is too short");
            };
            let len = NAME_FIELDS.saturating_add(usize::from(units) * 2);
            (units == 0 || len != value.len()).then_some("a file name's length is wrong")
        }
        kind::INDEX_ROOT => index_root_fault(value),
        kind::INDEX_ALLOCATION => Some("an index's blocks lie inside the record"),
        kind::VOLUME_INFORMATION => {
            (value.len() < 12).then_some("the volume information is too short")
        }
        _ => None,
    }
}

/// An index root: what it indexes, and the head of the index: where the entries begin, end, and have room up to.
fn index_root_fault(value: &[u8]) -> Option<&'static str> {
    let field = |at: usize| u32_at(value, INDEX_ROOT_FIELDS + at).map(|field| field as usize);
    let (Some(first), Some(end), Some(room)) = (field(0), field(4), field(8)) else {
        return Some("an index root is too short");
    };
    let len = value.len().saturating_sub(INDEX_ROOT_FIELDS);
    let is_right = first >= INDEX_HEAD
        && first <= end
        && end <= room
        && room <= len
        && first.is_multiple_of(8);
    let block = u32_at(value, 8)?;
    if !is_right {
        return Some("the lengths in an index root contradict one another");
    }
    if !block.is_power_of_two() || block < 512 {
        return Some("an index's blocks have an impossible length");
    }
    let has_blocks = value.get(INDEX_ROOT_FIELDS + 12)? & 1 != 0;
    let entries = value.get(INDEX_ROOT_FIELDS + first..INDEX_ROOT_FIELDS + end)?;
    (!are_entries(entries, has_blocks)).then_some("the entries of an index root do not fill it")
}

/// True if entries of an index follow one another up to the last one, which ends where they do.
fn are_entries(mut entries: &[u8], has_blocks: bool) -> bool {
    const BELOW: u16 = 1;
    const LAST: u16 = 2;
    const HEAD: usize = 16;
    loop {
        let (Some(len), Some(flags)) = (u16_at(entries, 8), u16_at(entries, 12)) else {
            return false;
        };
        let len = usize::from(len);
        let Some(rest) = entries.get(len..) else {
            return false;
        };
        if len < HEAD || !len.is_multiple_of(8) || flags & !(BELOW | LAST) != 0 {
            return false;
        }
        if flags & BELOW != 0 && !has_blocks {
            return false;
        }
        if flags & LAST != 0 {
            // Nothing but the number of a block below, if there is one.
            let below = usize::from(flags & BELOW) * 8;
            return rest.is_empty() && len == HEAD + below;
        }
        entries = rest;
    }
}

/// A value in clusters. `whole` says that all of it is described here, `is_plain` that it is neither compressed nor sparse.
fn outside_fault(
    attribute: &Attribute,
    bytes: &[u8],
    (whole, is_plain): (bool, bool),
    (cluster_bytes, volume_clusters): (u32, u64),
) -> Option<&'static str> {
    let Body::NonResident {
        lowest_vcn,
        runs,
        unit_power,
        allocated_len,
        ..
    } = &attribute.body
    else {
        return None;
    };
    if !matches!(
        attribute.kind,
        kind::ATTRIBUTE_LIST
            | kind::DATA
            | kind::SECURITY_DESCRIPTOR
            | kind::INDEX_ALLOCATION
            | kind::BITMAP
            | kind::REPARSE_POINT
            | kind::EXTENDED
            | kind::LOGGED_STREAM
    ) {
        return Some("an attribute lies outside the record whose type does not");
    }
    let is_packed = attribute.flags & (COMPRESSED | SPARSE) != 0;
    if attribute.flags & COMPRESSED != 0 && *unit_power == 0 {
        return Some("a compressed attribute has no compression unit");
    }
    if is_plain && (attribute.flags != 0 || *unit_power != 0) {
        return Some("one of the system's own files is compressed, sparse or encrypted");
    }
    let in_attribute = runs.start.checked_sub(attribute.place.start)?;
    let runs = runlist::decode(bytes.get(in_attribute..)?, *lowest_vcn, volume_clusters)?;
    let clusters: u64 = runs.iter().map(|run| run.clusters).sum();
    let highest = u64_at(bytes, 0x18)?;
    // An empty one ends before it begins.
    let next = lowest_vcn.0.checked_add(clusters)?;
    if highest.wrapping_add(1) != next {
        return Some("an attribute's clusters are not as many as it says");
    }
    let cluster = u64::from(cluster_bytes);
    if lowest_vcn.0 == 0 && !allocated_len.is_multiple_of(cluster) {
        return Some("an attribute's allocated length is no number of clusters");
    }
    let described = clusters.saturating_mul(cluster);
    if whole && lowest_vcn.0 != 0 {
        return Some("an attribute has no beginning");
    }
    if whole && !is_packed && *allocated_len != described {
        return Some("an attribute's allocated length is not that of its clusters");
    }
    None
}
