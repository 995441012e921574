//! Changes values of a hive where they stand. The file keeps its length: what grows takes a free
//! cell, as the systems do, and a new bin only where the file has room after its bins.

use std::collections::BTreeMap;
use std::mem::offset_of;
use std::ops::Range;

use super::HiveError;
use super::base_block::{BASE_BYTES, BaseBlock};
use super::cell::{DATA_INLINE, RawKey, RawValue, SEGMENT_BYTES};
use super::key::Hive;
use crate::bytes::{ReadBytes, u32_at};

/// A hive is edited up to this length; those of the systems have some ten MiB.
const MAX_HIVE_BYTES: u64 = 512 << 20;
/// Free cells kept account of, at most: far more than any hive has.
const MAX_FREE: usize = 2 << 20;
const BIN_HEAD: u32 = 32;
const BIN_BYTES: u32 = 4096;
/// Cells are multiples of this, with the four bytes of their size.
const CELL_UNIT: u32 = 8;

/// Why a value could not be changed.
#[derive(Debug, thiserror::Error)]
pub enum EditError {
    /// The hive.
    #[error(transparent)]
    Hive(#[from] HiveError),
    /// There is no such value.
    #[error("the registry hive has no value \"{name}\" in \"{key}\"")]
    NoValue {
        /// Path of the key.
        key: String,
        /// Name of the value.
        name: String,
    },
    /// The value's data is kept in segments, or would have to be.
    #[error("the value \"{name}\" is too long to be changed in place")]
    TooLong {
        /// Name of the value.
        name: String,
    },
    /// No free cell is large enough, and the file has no room after its bins.
    #[error("the registry hive has no free cell of {needed} bytes, and its file no room for one")]
    NoRoom {
        /// Bytes of the cell that is needed.
        needed: u32,
    },
}

/// A hive in memory, being edited.
#[derive(Debug, Clone)]
pub struct HiveEditor {
    bytes: Vec<u8>,
    base: BaseBlock,
    /// Free cells: offset and size.
    free: BTreeMap<u32, u32>,
    bins: Vec<Range<u32>>,
}

impl HiveEditor {
    /// Reads a hive that was closed cleanly, or has been recovered, and walks all of its bins and
    /// cells.
    pub fn open<S: ReadBytes + ?Sized>(source: &S) -> Result<Self, HiveError> {
        let len_bytes = source.len_bytes();
        if len_bytes > MAX_HIVE_BYTES {
            return Err(HiveError::TooLarge {
                what: "bytes",
                limit: usize::try_from(MAX_HIVE_BYTES).unwrap_or(usize::MAX),
            });
        }
        let mut bytes = vec![0; usize::try_from(len_bytes).unwrap_or(0)];
        source
            .read_bytes(0, &mut bytes)
            .map_err(|error| HiveError::Source(error.into()))?;
        let base =
            BaseBlock::parse(&bytes, len_bytes).map_err(|field| HiveError::BaseBlock { field })?;
        let mut editor = Self {
            bytes,
            base,
            free: BTreeMap::new(),
            bins: Vec::new(),
        };
        editor.walk()?;
        Ok(editor)
    }

    /// Finds bins and free cells.
    fn walk(&mut self) -> Result<(), HiveError> {
        let mut at = 0;
        while at < self.base.bins_bytes {
            let fault = |fault| HiveError::Cell { offset: at, fault };
            let head = self.file_offset(at);
            let signature = self.bytes.get(head..head.saturating_add(4));
            let own = u32_at(&self.bytes, head.saturating_add(4));
            let len = u32_at(&self.bytes, head.saturating_add(8)).unwrap_or(0);
            let end = at.checked_add(len).filter(|&end| {
                len >= BIN_BYTES && len.is_multiple_of(BIN_BYTES) && end <= self.base.bins_bytes
            });
            let end = end
                .filter(|_| signature == Some(b"hbin") && own == Some(at))
                .ok_or_else(|| fault("is not the beginning of a bin"))?;
            let mut cell = at.saturating_add(BIN_HEAD);
            while cell < end {
                let fault = |fault| HiveError::Cell {
                    offset: cell,
                    fault,
                };
                let size = self.size_field(cell).unwrap_or(0);
                let len = size.unsigned_abs();
                let next = cell
                    .checked_add(len)
                    .filter(|&next| len > 0 && len.is_multiple_of(CELL_UNIT) && next <= end);
                let next = next.ok_or_else(|| fault("has a size that leaves its bin"))?;
                if size > 0 {
                    self.free.insert(cell, len);
                }
                if self.free.len() > MAX_FREE {
                    return Err(HiveError::TooLarge {
                        what: "free cells",
                        limit: MAX_FREE,
                    });
                }
                cell = next;
            }
            self.bins.push(at..end);
            at = end;
        }
        Ok(())
    }

    fn file_offset(&self, offset: u32) -> usize {
        usize::try_from(BASE_BYTES)
            .unwrap_or(0)
            .saturating_add(offset as usize)
    }

    fn size_field(&self, cell: u32) -> Option<i32> {
        u32_at(&self.bytes, self.file_offset(cell))
            .map(|size| i32::from_le_bytes(size.to_le_bytes()))
    }

    /// Writes at an offset in the bins. What is written has been read there before.
    fn put(&mut self, offset: u32, bytes: &[u8]) {
        let at = self.file_offset(offset);
        if let Some(place) = self.bytes.get_mut(at..at.saturating_add(bytes.len())) {
            place.copy_from_slice(bytes);
        }
    }

    /// The hive as it stands.
    pub fn hive(&self) -> Result<Hive<'_, [u8]>, HiveError> {
        Hive::open(&self.bytes[..])
    }

    /// Gives a value other data; its type stays.
    pub fn set_data(&mut self, key: &str, name: &str, data: &[u8]) -> Result<(), EditError> {
        let no_value = || EditError::NoValue {
            key: key.to_owned(),
            name: name.to_owned(),
        };
        let too_long = || EditError::TooLong {
            name: name.to_owned(),
        };
        let hive = self.hive()?;
        let found = hive.find(key)?.ok_or_else(no_value)?;
        let key_cell = found.offset();
        let value = found.value_cell(name)?.ok_or_else(no_value)?;
        drop(found);
        let len = u32::try_from(data.len()).map_err(|_too_large| too_long())?;
        let place = |cell: u32, field: usize| {
            let field = u32::try_from(field).unwrap_or(0);
            cell.saturating_add(4).saturating_add(field)
        };
        let len_field = place(value, offset_of!(RawValue, data_bytes));
        let data_field = place(value, offset_of!(RawValue, data));
        let read = |at: u32| u32_at(&self.bytes, self.file_offset(at)).unwrap_or(0);
        let (old_len, old_cell) = (read(len_field), read(data_field));
        let old_cell = (old_len & DATA_INLINE == 0 && old_len > 0).then_some(old_cell);
        if data.len() > SEGMENT_BYTES || old_cell.is_some() && old_len as usize > SEGMENT_BYTES {
            return Err(too_long());
        }
        if data.len() <= 4 {
            let mut small = [0; 4];
            small
                .iter_mut()
                .zip(data)
                .for_each(|(to, from)| *to = *from);
            if let Some(cell) = old_cell {
                self.release(cell)?;
            }
            self.put(data_field, &small);
            self.put(len_field, &(len | DATA_INLINE).to_le_bytes());
        } else {
            let cell = self.cell_for(old_cell, len)?;
            self.put(cell.saturating_add(4), data);
            self.put(data_field, &cell.to_le_bytes());
            self.put(len_field, &len.to_le_bytes());
        }
        // A key says how long its longest data is; it may say more than there is.
        let longest = place(key_cell, offset_of!(RawKey, longest_data));
        if u32_at(&self.bytes, self.file_offset(longest)).is_some_and(|known| known < len) {
            self.put(longest, &len.to_le_bytes());
        }
        Ok(())
    }

    /// A used cell for `len` bytes of data, in exchange for the cell `old`.
    fn cell_for(&mut self, old: Option<u32>, len: u32) -> Result<u32, EditError> {
        let needed = len.saturating_add(4).next_multiple_of(CELL_UNIT);
        if let Some(cell) = old {
            let size = self.size_field(cell).unwrap_or(0).unsigned_abs();
            if size >= needed {
                return Ok(cell);
            }
        }
        let joined = old.map(|cell| self.joined(cell)).transpose()?;
        let fits = |size: u32| size >= needed;
        if !self.free.values().copied().any(fits)
            && !joined.is_some_and(|(_, size)| fits(size))
            && self.new_bin(needed).is_none()
        {
            return Err(EditError::NoRoom { needed });
        }
        if let Some(cell) = old {
            self.release(cell)?;
        }
        // The smallest that fits, so that large ones stay for what needs them.
        let fitting = self.free.iter().filter(|&(_, &size)| fits(size));
        let best = fitting
            .min_by_key(|&(_, &size)| size)
            .map(|(&at, &size)| (at, size));
        let chosen = best.or_else(|| self.add_bin(needed));
        let (cell, size) = chosen.ok_or(EditError::NoRoom { needed })?;
        self.free.remove(&cell);
        if let Some(rest) = size.checked_sub(needed).filter(|&rest| rest > 0) {
            self.mark_free(cell.saturating_add(needed), rest);
        }
        let used = i32::try_from(needed).unwrap_or(i32::MAX).saturating_neg();
        self.put(cell, &used.to_le_bytes());
        Ok(cell)
    }

    fn mark_free(&mut self, cell: u32, size: u32) {
        self.free.insert(cell, size);
        self.put(cell, &size.to_le_bytes());
    }

    /// The free cell that a used one would make with its free neighbours: offset and size.
    fn joined(&self, cell: u32) -> Result<(u32, u32), HiveError> {
        let fault = |fault| HiveError::Cell {
            offset: cell,
            fault,
        };
        let size = self.size_field(cell).filter(|&size| size < 0);
        let mut size = size.ok_or_else(|| fault("is free"))?.unsigned_abs();
        let bin = self.bins.iter().find(|bin| bin.contains(&cell)).cloned();
        let bin = bin.ok_or_else(|| fault("lies outside the bins"))?;
        let mut first = cell;
        let before = self.free.range(bin.start..cell).next_back();
        if let Some((&at, &len)) = before.filter(|&(&at, &len)| at.saturating_add(len) == cell) {
            first = at;
            size = size.saturating_add(len);
        }
        // After the bin's end lies a bin's header and no cell.
        let next = self.free.get(&first.saturating_add(size));
        Ok((first, size.saturating_add(next.copied().unwrap_or(0))))
    }

    /// Frees a used cell and joins it with free neighbours in its bin.
    fn release(&mut self, cell: u32) -> Result<(), HiveError> {
        let (first, size) = self.joined(cell)?;
        self.free
            .retain(|&at, _| !(first..first.saturating_add(size)).contains(&at));
        self.mark_free(first, size);
        Ok(())
    }

    /// Where a bin for a cell of this size would lie, after the last one in the file.
    fn new_bin(&self, needed: u32) -> Option<Range<u32>> {
        let start = self.base.bins_bytes;
        let len = needed.checked_add(BIN_HEAD)?.next_multiple_of(BIN_BYTES);
        let end = start.checked_add(len)?;
        (self.file_offset(end) <= self.bytes.len()).then_some(start..end)
    }

    /// Adds a bin where the file has room for it; its one free cell.
    fn add_bin(&mut self, needed: u32) -> Option<(u32, u32)> {
        let Range { start, end } = self.new_bin(needed)?;
        let len = end.saturating_sub(start);
        let (from, to) = (self.file_offset(start), self.file_offset(end));
        self.bytes.get_mut(from..to)?.fill(0);
        self.put(start, b"hbin");
        self.put(start.saturating_add(4), &start.to_le_bytes());
        self.put(start.saturating_add(8), &len.to_le_bytes());
        self.base.bins_bytes = end;
        self.bins.push(start..end);
        let cell = (start.saturating_add(BIN_HEAD), len.saturating_sub(BIN_HEAD));
        self.mark_free(cell.0, cell.1);
        // What follows reads the hive through its base block.
        let base = self.base;
        base.patch(&mut self.bytes);
        Some(cell)
    }

    /// The bytes of the file, closed cleanly at `written` (Windows time) under a new number.
    pub fn finish(mut self, written: u64) -> Vec<u8> {
        let number = self.base.sequences.0.max(self.base.sequences.1);
        let number = number.wrapping_add(1);
        let base = BaseBlock {
            sequences: (number, number),
            written,
            ..self.base
        };
        base.patch(&mut self.bytes);
        self.bytes
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Node, Value};
    use super::*;
    use proptest::prelude::*;

    const KEY: &str = "MountedDevices";

    fn hive(values: &[Value]) -> Vec<u8> {
        let key = Node {
            name: KEY.into(),
            values: values.to_vec(),
            ..Node::default()
        };
        let root = Node {
            name: "root".into(),
            flags: 0x0C,
            subkeys: vec![key],
            ..Node::default()
        };
        root.to_hive(1, 5)
    }

    fn value(name: &str, len: usize) -> Value {
        Value {
            name: name.into(),
            kind: 3,
            data: vec![0xA5; len],
        }
    }

    fn values(bytes: &[u8]) -> Vec<Value> {
        let hive = Hive::open(bytes).unwrap();
        let tree = Node::read(&hive).unwrap();
        tree.find(KEY).unwrap().values.clone()
    }

    /// Takes all free cells: what is left is one of `size` bytes, or none.
    fn fill_up(bytes: &mut [u8], size: u32) {
        let editor = HiveEditor::open(&*bytes).unwrap();
        let (&at, &len) = editor.free.iter().next_back().unwrap();
        let mut editor = editor;
        editor.put(at, &(-i32::try_from(len - size).unwrap()).to_le_bytes());
        if size > 0 {
            editor.put(at + len - size, &size.to_le_bytes());
        }
        bytes.copy_from_slice(&editor.bytes);
    }

    #[test]
    fn what_grows_takes_a_free_cell_and_all_else_stays() {
        let known = [value("a", 12), value("b", 12), value("tiny", 4)];
        let bytes = hive(&known);
        let mut editor = HiveEditor::open(&bytes[..]).unwrap();
        let free = |editor: &HiveEditor| editor.free.values().sum::<u32>();
        let before = free(&editor);
        editor.set_data(KEY, "A", &[1; 24]).unwrap();
        // A cell of 32 bytes is taken, one of 16 given back.
        assert_eq!(free(&editor), before - 16);
        editor.set_data(KEY, "tiny", &[2; 24]).unwrap();
        editor.set_data(KEY, "b", &[3; 3]).unwrap();
        let edited = editor.finish(77);
        assert_eq!(edited.len(), bytes.len());
        let data: Vec<_> = values(&edited)
            .into_iter()
            .map(|value| value.data)
            .collect();
        assert_eq!(data, [vec![1; 24], vec![3; 3], vec![2; 24]]);
        let hive = Hive::open(&edited[..]).unwrap();
        assert_eq!((hive.written(), hive.is_cleanly_closed()), ((77, 6), true));
        let key = hive.find(KEY).unwrap().unwrap().offset() as usize;
        let longest = 4096 + key + 4 + offset_of!(RawKey, longest_data);
        assert_eq!(u32_at(&edited, longest), Some(24));
    }

    #[test]
    fn room_is_found_in_free_cells_of_every_size_beside_the_old_cell_or_behind_the_bins() {
        for size in (0..=96).step_by(8) {
            let mut bytes = hive(&[value("a", 12), value("b", 12)]);
            fill_up(&mut bytes, size);
            // As the systems do, the file may be longer than its bins.
            for spare in [0, 4096] {
                let mut bytes = bytes.clone();
                bytes.resize(bytes.len() + spare, 0xEE);
                let mut editor = HiveEditor::open(&bytes[..]).unwrap();
                let untouched = editor.bytes.clone();
                let done = editor.set_data(KEY, "a", &[1; 24]);
                // 24 bytes and the size take 32; there is nothing free beside the old cell.
                if size < 32 && spare == 0 {
                    assert!(
                        matches!(done, Err(EditError::NoRoom { needed: 32 })),
                        "{size}"
                    );
                    assert_eq!(editor.bytes, untouched, "{size}");
                    continue;
                }
                done.unwrap();
                let edited = editor.finish(2);
                assert_eq!(edited.len(), bytes.len());
                let known: Vec<_> = values(&edited).into_iter().map(|v| v.data).collect();
                assert_eq!(known, [vec![1; 24], vec![0xA5; 12]], "{size}");
                HiveEditor::open(&edited[..]).unwrap();
            }
        }
        // The old cell of 16 bytes and 16 free ones after it.
        let mut bytes = hive(&[value("z", 12)]);
        fill_up(&mut bytes, 0);
        let mut editor = HiveEditor::open(&bytes[..]).unwrap();
        editor.set_data(KEY, "z", &[1; 4]).unwrap();
        let freed: Vec<u32> = editor.free.values().copied().collect();
        assert_eq!(freed, [16]);
        assert!(editor.set_data(KEY, "z", &[1; 24]).is_err());
        editor.set_data(KEY, "z", &[2; 12]).unwrap();
        assert!(editor.free.is_empty());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn any_row_of_changes_reads_back(changes in prop::collection::vec((0usize..6, 0usize..120), 1..30)) {
            let mut known: Vec<Value> = (0..6).map(|n| value(&format!("v{n}"), n * 7)).collect();
            let mut editor = HiveEditor::open(&hive(&known)[..]).unwrap();
            for (index, len) in changes {
                let data = vec![u8::try_from(len).unwrap(); len];
                match editor.set_data(KEY, &known[index].name, &data) {
                    Ok(()) => known[index].data = data,
                    Err(EditError::NoRoom { .. }) => {}
                    Err(error) => return Err(TestCaseError::fail(error.to_string())),
                }
            }
            let edited = editor.finish(9);
            prop_assert_eq!(values(&edited), known);
            // Cells still follow each other without gap or overlap, and free ones do not touch.
            let again = HiveEditor::open(&edited[..]).unwrap();
            let ends = again.free.iter().map(|(at, size)| at + size);
            prop_assert!(ends.zip(again.free.keys().skip(1)).all(|(end, next)| end < *next));
        }

        #[test]
        fn damaged_hives_are_errors(hits in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..8)) {
            let mut bytes = hive(&[value("a", 12), value("b", 900)]);
            for (at, byte) in hits {
                let at = at.index(bytes.len() - 4096) + 4096;
                bytes[at] = byte;
            }
            if let Ok(mut editor) = HiveEditor::open(&bytes[..]) {
                let _outcome = editor.set_data(KEY, "a", &[1; 24]);
            }
        }
    }
}
