//! The entries of a directory, with where they stand in it.

use super::dir_entry::{
    ATTR_DIRECTORY, ATTR_VOLUME_ID, ENTRY_BYTES, LONG_UNITS, Slot, short_checksum,
};
use super::name::short_text_in;
use super::volume::FatEntry;

/// An entry and its place.
pub(super) struct Placed {
    pub(super) entry: FatEntry,
    /// Byte of its short entry, counted from the start of the directory.
    pub(super) at: usize,
}

/// The entries in a directory's bytes, without "." and "..", and without the volume's label.
pub(super) fn entries(bytes: &[u8]) -> Vec<Placed> {
    let mut entries = Vec::new();
    let mut long = LongName::default();
    let slots = bytes.as_chunks::<ENTRY_BYTES>().0;
    for (at, slot) in (0..).step_by(ENTRY_BYTES).zip(slots) {
        match Slot::parse(slot) {
            Slot::End => break,
            Slot::Deleted => long = LongName::default(),
            Slot::Long {
                order,
                last,
                checksum,
                units,
            } => long.add(order, last, checksum, &units),
            Slot::Short { entry: short, case } => {
                let long_name = std::mem::take(&mut long).finish(short_checksum(&short.name));
                if short.attributes & ATTR_VOLUME_ID != 0 || short.name[0] == b'.' {
                    continue;
                }
                let entry = FatEntry {
                    name: long_name.unwrap_or_else(|| short_text_in(&short.name, case)),
                    short_name: short.name,
                    is_directory: short.attributes & ATTR_DIRECTORY != 0,
                    cluster: short.cluster,
                    len_bytes: short.len_bytes,
                };
                entries.push(Placed { entry, at });
            }
        }
    }
    entries
}

/// True when the bytes hold the directory's end: nothing after it counts.
pub(super) fn has_end(bytes: &[u8]) -> bool {
    let mut slots = bytes.as_chunks::<ENTRY_BYTES>().0.iter();
    slots.any(|slot| matches!(Slot::parse(slot), Slot::End))
}

/// Collects the long-name entries before a short one.
#[derive(Debug, Default)]
struct LongName {
    units: Vec<u16>,
    expected: u8,
    checksum: u8,
}

impl LongName {
    fn add(&mut self, order: u8, last: bool, checksum: u8, part: &[u16; LONG_UNITS]) {
        if last {
            *self = Self {
                units: Vec::new(),
                expected: order,
                checksum,
            };
        }
        if order == 0 || order != self.expected || checksum != self.checksum {
            *self = Self::default();
            return;
        }
        self.expected = order - 1;
        self.units.splice(0..0, part.iter().copied());
    }

    fn finish(self, checksum: u8) -> Option<String> {
        let whole = !self.units.is_empty() && self.expected == 0 && self.checksum == checksum;
        let units = self.units.into_iter().take_while(|&unit| unit != 0);
        whole.then(|| {
            char::decode_utf16(units)
                .map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER))
                .collect()
        })
    }
}
