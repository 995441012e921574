//! The attribute list as a shrink changes it: entries kept as they are, with the fields that name a
//! part rewritten.

use crate::bytes::{u16_at, u32_at, u64_at};
use crate::ntfs::attribute::Attribute;

use super::editor::Editor;

// Places in an entry (the same that `RawListEntry` in attribute_list.rs names).
const LENGTH: usize = 4;
const NAME_UNITS: usize = 6;
const NAME_AT: usize = 7;
const LOWEST: usize = 8;
const REFERENCE: usize = 16;
const ID: usize = 24;
const HEAD: usize = 26;

/// An entry, its bytes as in the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Item(Vec<u8>);

impl Item {
    /// The entry of an attribute that lies in the record of `editor`, with the reference `holder`.
    pub(super) fn of(editor: &Editor, attribute: &Attribute, holder: u64) -> Option<Self> {
        let whole = editor.part(attribute.place.clone());
        let units = *whole.get(9)?;
        let name_at = usize::from(u16_at(whole, 10)?);
        let name = whole.get(name_at..name_at.checked_add(usize::from(units) * 2)?)?;
        let lowest = match attribute.body {
            crate::ntfs::attribute::Body::Resident(_) => 0,
            crate::ntfs::attribute::Body::NonResident { lowest_vcn, .. } => lowest_vcn.0,
        };
        let mut bytes = vec![0; HEAD];
        bytes.extend(name);
        bytes.resize(bytes.len().checked_next_multiple_of(8)?, 0);
        let len = u16::try_from(bytes.len()).ok()?;
        bytes
            .get_mut(..LENGTH)?
            .copy_from_slice(&attribute.kind.to_le_bytes());
        bytes
            .get_mut(LENGTH..NAME_UNITS)?
            .copy_from_slice(&len.to_le_bytes());
        *bytes.get_mut(NAME_UNITS)? = units;
        *bytes.get_mut(NAME_AT)? = u8::try_from(HEAD).ok()?;
        Some(Self(bytes).naming(lowest, holder, attribute.id))
    }

    /// The same attribute's entry for another part.
    pub(super) fn naming(&self, lowest: u64, reference: u64, id: u16) -> Self {
        let mut bytes = self.0.clone();
        let fields = [
            (LOWEST, lowest.to_le_bytes().to_vec()),
            (REFERENCE, reference.to_le_bytes().to_vec()),
            (ID, id.to_le_bytes().to_vec()),
        ];
        for (at, value) in fields {
            if let Some(place) = bytes.get_mut(at..at.saturating_add(value.len())) {
                place.copy_from_slice(&value);
            }
        }
        Self(bytes)
    }

    /// True when it names this attribute of this record.
    pub(super) fn names(&self, reference: u64, id: u16) -> bool {
        u64_at(&self.0, REFERENCE) == Some(reference) && u16_at(&self.0, ID) == Some(id)
    }

    pub(super) fn kind(&self) -> u32 {
        u32_at(&self.0, 0).unwrap_or(0)
    }
}

/// Splits a list into its entries; `None` when one leaves it.
pub(super) fn parse(mut bytes: &[u8]) -> Option<Vec<Item>> {
    let mut items = Vec::new();
    while !bytes.is_empty() {
        let len = usize::from(u16_at(bytes, LENGTH)?);
        let (item, rest) = bytes.split_at_checked(len).filter(|_| len >= HEAD)?;
        items.push(Item(item.to_vec()));
        bytes = rest;
    }
    Some(items)
}

/// The list of these entries.
pub(super) fn write(items: &[Item]) -> Vec<u8> {
    items
        .iter()
        .flat_map(|item| item.0.iter().copied())
        .collect()
}
