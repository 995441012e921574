//! Reading: an opened hive, its keys and values, fetched as they are asked for.

use zerocopy::FromBytes;

use super::HiveError;
use super::base_block::{BASE_BYTES, BaseBlock};
use super::cell::{
    DATA_INLINE, KEY_HEAD, KEY_NAME_NARROW, NONE, RawKey, RawSecurity, RawValue, SECURITY_HEAD,
    SEGMENT_BYTES, VALUE_HEAD, VALUE_NAME_NARROW, decode_name, same_name,
};
use crate::bytes::{ReadBytes, u16_at, u32_at, utf16_lossy};

/// Value types used here (winnt.h).
pub mod value_kind {
    /// Text.
    pub(crate) const SZ: u32 = 1;
    /// Bytes.
    pub(crate) const BINARY: u32 = 3;
    /// A 32-bit number.
    pub(crate) const DWORD: u32 = 4;
    /// A list of texts.
    pub(crate) const MULTI_SZ: u32 = 7;
}

/// A cell is read up to this length: above the largest that the systems make.
const MAX_CELL_BYTES: usize = 2 << 20;
/// A value's data is read up to this length.
const MAX_DATA_BYTES: usize = 1 << 20;
const MAX_SUBKEYS: usize = 1 << 20;
const MAX_VALUES: usize = 1 << 16;

/// A hive over a source of bytes.
#[derive(Debug)]
pub struct Hive<'a, S: ReadBytes + ?Sized> {
    source: &'a S,
    base: BaseBlock,
}

/// A key.
#[derive(Debug)]
pub struct Key<'a, S: ReadBytes + ?Sized> {
    hive: &'a Hive<'a, S>,
    raw: RawKey,
    offset: u32,
    name: String,
}

/// A value, its data read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Value {
    /// Name; empty for the key's unnamed value.
    pub name: String,
    /// Type, see [`value_kind`].
    pub kind: u32,
    /// The bytes.
    pub data: Vec<u8>,
}

impl Value {
    /// The text of a text value, up to its first zero.
    pub fn text(&self) -> String {
        let text = utf16_lossy(&self.data);
        text.split('\0').next().unwrap_or_default().to_owned()
    }

    /// The texts of a list value.
    pub fn texts(&self) -> Vec<String> {
        utf16_lossy(&self.data)
            .split('\0')
            .filter(|text| !text.is_empty())
            .map(str::to_owned)
            .collect()
    }

    /// The number of a 32-bit value.
    pub fn dword(&self) -> Option<u32> {
        u32_at(&self.data, 0)
    }
}

impl<'a, S: ReadBytes + ?Sized> Hive<'a, S> {
    /// Opens a hive.
    pub fn open(source: &'a S) -> Result<Self, HiveError> {
        let len_bytes = source.len_bytes();
        let mut block = vec![0; 512];
        if len_bytes < BASE_BYTES {
            return Err(HiveError::BaseBlock { field: "length" });
        }
        source
            .read_bytes(0, &mut block)
            .map_err(|error| HiveError::Source(error.into()))?;
        let base =
            BaseBlock::parse(&block, len_bytes).map_err(|field| HiveError::BaseBlock { field })?;
        Ok(Self { source, base })
    }

    /// True when the last writer finished; else changes may sit in a transaction log beside the
    /// hive.
    pub fn is_cleanly_closed(&self) -> bool {
        self.base.sequences.0 == self.base.sequences.1
    }

    /// When the hive was last written, as a Windows time (100 ns since 1601); and its sequence
    /// number.
    pub fn written(&self) -> (u64, u32) {
        (self.base.written, self.base.sequences.0)
    }

    /// Minor version of the form that it is written in: 3 to 6, after 1.
    pub fn minor(&self) -> u32 {
        self.base.minor
    }

    /// The root key.
    pub fn root(&'a self) -> Result<Key<'a, S>, HiveError> {
        self.key(self.base.root_cell)
    }

    /// The key at a path below the root, with backslashes; `None` when there is none.
    pub fn find(&'a self, path: &str) -> Result<Option<Key<'a, S>>, HiveError> {
        let mut key = self.root()?;
        for name in path.split('\\').filter(|name| !name.is_empty()) {
            match key.subkey(name)? {
                Some(subkey) => key = subkey,
                None => return Ok(None),
            }
        }
        Ok(Some(key))
    }

    /// The value of this name in the key at this path.
    pub fn value(&'a self, path: &str, name: &str) -> Result<Option<Value>, HiveError> {
        match self.find(path)? {
            Some(key) => Ok(key
                .values()?
                .into_iter()
                .find(|value| same_name(&value.name, name))),
            None => Ok(None),
        }
    }

    /// The content of the used cell at `offset`, without its size field.
    fn cell(&self, offset: u32) -> Result<Vec<u8>, HiveError> {
        let fault = |fault| HiveError::Cell { offset, fault };
        let read = |at: u64, buffer: &mut [u8]| {
            let end = at.checked_add(buffer.len() as u64);
            if end.is_none_or(|end| end > u64::from(self.base.bins_bytes)) {
                return Err(fault("lies outside the bins"));
            }
            let at = BASE_BYTES.saturating_add(at);
            self.source
                .read_bytes(at, buffer)
                .map_err(|error| HiveError::Source(error.into()))
        };
        let mut size = [0; 4];
        read(offset.into(), &mut size)?;
        let size = i32::from_le_bytes(size);
        if size >= 0 {
            return Err(fault("is free"));
        }
        let content = usize::try_from(size.unsigned_abs())
            .unwrap_or(usize::MAX)
            .saturating_sub(4);
        if content > MAX_CELL_BYTES {
            return Err(fault("is impossibly long"));
        }
        let mut bytes = vec![0; content];
        read(u64::from(offset).saturating_add(4), &mut bytes)?;
        Ok(bytes)
    }

    fn key(&'a self, offset: u32) -> Result<Key<'a, S>, HiveError> {
        let fault = |fault| HiveError::Cell { offset, fault };
        let bytes = self.cell(offset)?;
        let (raw, rest) = RawKey::read_from_prefix(&bytes)
            .map_err(|_too_short| fault("is too short for a key"))?;
        if &raw.signature != b"nk" {
            return Err(fault("is not a key"));
        }
        let name = rest
            .get(..usize::from(raw.name_bytes.get()))
            .ok_or_else(|| fault("has a name that leaves the cell"))?;
        let name = decode_name(name, raw.flags.get() & KEY_NAME_NARROW != 0);
        debug_assert_eq!(KEY_HEAD.saturating_add(rest.len()), bytes.len());
        Ok(Key {
            hive: self,
            raw,
            offset,
            name,
        })
    }

    /// The offsets in a subkey list, lists of lists included (one level, as the systems make them).
    fn subkey_offsets(
        &self,
        list: u32,
        nested: bool,
        offsets: &mut Vec<u32>,
    ) -> Result<(), HiveError> {
        let fault = |fault| HiveError::Cell {
            offset: list,
            fault,
        };
        let bytes = self.cell(list)?;
        let count = usize::from(u16_at(&bytes, 2).ok_or_else(|| fault("is too short for a list"))?);
        let (stride, lists) = match bytes.first_chunk::<2>() {
            Some(b"lf" | b"lh") => (8, false),
            Some(b"li") => (4, false),
            Some(b"ri") if !nested => (4, true),
            _ => return Err(fault("is not a list of keys")),
        };
        for index in 0..count {
            let at = index.saturating_mul(stride).saturating_add(4);
            let offset = u32_at(&bytes, at).ok_or_else(|| fault("has more entries than fit"))?;
            if lists {
                self.subkey_offsets(offset, true, offsets)?;
            } else {
                offsets.push(offset);
            }
            if offsets.len() > MAX_SUBKEYS {
                return Err(HiveError::TooLarge {
                    what: "keys below one key",
                    limit: MAX_SUBKEYS,
                });
            }
        }
        Ok(())
    }

    fn value_at(&self, offset: u32) -> Result<Value, HiveError> {
        let fault = |fault| HiveError::Cell { offset, fault };
        let bytes = self.cell(offset)?;
        let (raw, rest) = RawValue::read_from_prefix(&bytes)
            .map_err(|_too_short| fault("is too short for a value"))?;
        if &raw.signature != b"vk" {
            return Err(fault("is not a value"));
        }
        let name = rest
            .get(..usize::from(raw.name_bytes.get()))
            .ok_or_else(|| fault("has a name that leaves the cell"))?;
        let name = decode_name(name, raw.flags.get() & VALUE_NAME_NARROW != 0);
        debug_assert_eq!(VALUE_HEAD.saturating_add(rest.len()), bytes.len());
        let len_field = raw.data_bytes.get();
        let len = usize::try_from(len_field & !DATA_INLINE).unwrap_or(usize::MAX);
        let data = if len_field & DATA_INLINE != 0 {
            raw.data
                .get(..len)
                .ok_or_else(|| fault("has more data than its field holds"))?
                .to_vec()
        } else if len == 0 {
            Vec::new()
        } else {
            self.data(u32::from_le_bytes(raw.data), len)?
        };
        Ok(Value {
            name,
            kind: raw.kind.get(),
            data,
        })
    }

    fn data(&self, offset: u32, len: usize) -> Result<Vec<u8>, HiveError> {
        let fault = |fault| HiveError::Cell { offset, fault };
        if len > MAX_DATA_BYTES {
            return Err(fault("holds more data than is read"));
        }
        let mut bytes = self.cell(offset)?;
        if len > SEGMENT_BYTES && bytes.starts_with(b"db") {
            let count = usize::from(u16_at(&bytes, 2).ok_or_else(|| fault("is cut off"))?);
            let list = self.cell(u32_at(&bytes, 4).ok_or_else(|| fault("is cut off"))?)?;
            bytes = Vec::new();
            for index in 0..count {
                let segment = u32_at(&list, index.saturating_mul(4))
                    .ok_or_else(|| fault("has more segments than fit"))?;
                let mut segment = self.cell(segment)?;
                segment.truncate(SEGMENT_BYTES);
                bytes.extend(segment);
                if bytes.len() >= len {
                    break;
                }
            }
        }
        if bytes.len() < len {
            return Err(fault("holds less data than its value says"));
        }
        bytes.truncate(len);
        Ok(bytes)
    }
}

impl<'a, S: ReadBytes + ?Sized> Key<'a, S> {
    /// The key's name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Offset of the key's cell: tells keys apart.
    pub(super) fn offset(&self) -> u32 {
        self.offset
    }

    pub(super) fn flags_and_time(&self) -> (u16, u64) {
        (self.raw.flags.get(), self.raw.written.get())
    }

    /// The keys below.
    pub fn subkeys(&self) -> Result<Vec<Key<'a, S>>, HiveError> {
        let mut offsets = Vec::new();
        if self.raw.subkeys.get() > 0 && self.raw.subkey_list.get() != NONE {
            self.hive
                .subkey_offsets(self.raw.subkey_list.get(), false, &mut offsets)?;
        }
        offsets
            .into_iter()
            .map(|offset| self.hive.key(offset))
            .collect()
    }

    /// The key of this name below, whatever the case.
    pub(crate) fn subkey(&self, name: &str) -> Result<Option<Key<'a, S>>, HiveError> {
        Ok(self
            .subkeys()?
            .into_iter()
            .find(|key| same_name(&key.name, name)))
    }

    /// The values of the key.
    pub fn values(&self) -> Result<Vec<Value>, HiveError> {
        self.value_cells()?
            .into_iter()
            .map(|offset| self.hive.value_at(offset))
            .collect()
    }

    /// The cell of the value with this name.
    pub(super) fn value_cell(&self, name: &str) -> Result<Option<u32>, HiveError> {
        for offset in self.value_cells()? {
            if same_name(&self.hive.value_at(offset)?.name, name) {
                return Ok(Some(offset));
            }
        }
        Ok(None)
    }

    fn value_cells(&self) -> Result<Vec<u32>, HiveError> {
        let count = usize::try_from(self.raw.values.get()).unwrap_or(usize::MAX);
        if count == 0 {
            return Ok(Vec::new());
        }
        if count > MAX_VALUES {
            return Err(HiveError::TooLarge {
                what: "values in one key",
                limit: MAX_VALUES,
            });
        }
        let list_offset = self.raw.value_list.get();
        let list = self.hive.cell(list_offset)?;
        let fault = || HiveError::Cell {
            offset: list_offset,
            fault: "has fewer values than its key says",
        };
        (0..count)
            .map(|index| u32_at(&list, index.saturating_mul(4)).ok_or_else(fault))
            .collect()
    }

    /// The security descriptor, as bytes; `None` when the key names none.
    pub(super) fn security(&self) -> Result<Option<Vec<u8>>, HiveError> {
        let offset = self.raw.security.get();
        if offset == NONE {
            return Ok(None);
        }
        let bytes = self.hive.cell(offset)?;
        let fault = |fault| HiveError::Cell { offset, fault };
        let (raw, rest) = RawSecurity::read_from_prefix(&bytes)
            .map_err(|_too_short| fault("is too short for a security cell"))?;
        debug_assert_eq!(SECURITY_HEAD.saturating_add(rest.len()), bytes.len());
        let len = usize::try_from(raw.descriptor_bytes.get()).unwrap_or(usize::MAX);
        match rest.get(..len) {
            Some(descriptor) if &raw.signature == b"sk" => Ok(Some(descriptor.to_vec())),
            _ => Err(fault("is not a security cell")),
        }
    }

    /// The class name, as bytes.
    pub(super) fn class(&self) -> Result<Vec<u8>, HiveError> {
        let len = usize::from(self.raw.class_bytes.get());
        if len == 0 || self.raw.class.get() == NONE {
            return Ok(Vec::new());
        }
        let mut bytes = self.hive.cell(self.raw.class.get())?;
        bytes.truncate(len);
        Ok(bytes)
    }
}
