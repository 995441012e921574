//! A whole hive as a tree in memory, for small hives that are rewritten, such as a BCD store.

use std::collections::BTreeSet;

use super::HiveError;
use super::cell::same_name;
use super::key::{Hive, Key, Value};
use crate::bytes::ReadBytes;

const MAX_KEYS: usize = 200_000;
const MAX_DEPTH: usize = 64;
const MAX_BYTES: usize = 64 << 20;

/// A key with all below it. Everything that a hive keeps of a key is kept, so that writing loses
/// nothing.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Node {
    /// Name.
    pub name: String,
    /// Flags, without the one for the form of the name.
    pub flags: u16,
    /// When the key was last written, as a Windows time.
    pub written: u64,
    /// Class name, as bytes.
    pub class: Vec<u8>,
    /// Security descriptor.
    pub security: Option<Vec<u8>>,
    /// Values, in the hive's order.
    pub values: Vec<Value>,
    /// Keys below, in the hive's order.
    pub subkeys: Vec<Node>,
}

impl Node {
    /// Reads all of a hive.
    pub fn read<S: ReadBytes + ?Sized>(hive: &Hive<'_, S>) -> Result<Self, HiveError> {
        let mut budget = Budget {
            keys: BTreeSet::new(),
            bytes: 0,
        };
        Self::read_key(&hive.root()?, 0, &mut budget)
    }

    fn read_key<S: ReadBytes + ?Sized>(
        key: &Key<'_, S>,
        depth: usize,
        budget: &mut Budget,
    ) -> Result<Self, HiveError> {
        if !budget.keys.insert(key.offset()) {
            return Err(HiveError::Cell {
                offset: key.offset(),
                fault: "is reached twice: the keys loop",
            });
        }
        if depth > MAX_DEPTH {
            return Err(HiveError::TooLarge {
                what: "levels of keys",
                limit: MAX_DEPTH,
            });
        }
        if budget.keys.len() > MAX_KEYS {
            return Err(HiveError::TooLarge {
                what: "keys",
                limit: MAX_KEYS,
            });
        }
        let values = key.values()?;
        budget.bytes = budget
            .bytes
            .saturating_add(values.iter().map(|value| value.data.len()).sum());
        if budget.bytes > MAX_BYTES {
            return Err(HiveError::TooLarge {
                what: "bytes of values",
                limit: MAX_BYTES,
            });
        }
        let (flags, written) = key.flags_and_time();
        let mut node = Self {
            name: key.name().to_owned(),
            flags: flags & !super::cell::KEY_NAME_NARROW,
            written,
            class: key.class()?,
            security: key.security()?,
            values,
            subkeys: Vec::new(),
        };
        for subkey in key.subkeys()? {
            node.subkeys
                .push(Self::read_key(&subkey, depth.saturating_add(1), budget)?);
        }
        Ok(node)
    }

    /// The key below at this path, with backslashes.
    pub fn find(&self, path: &str) -> Option<&Self> {
        path.split('\\').try_fold(self, |node, name| {
            node.subkeys.iter().find(|key| same_name(&key.name, name))
        })
    }

    /// The same, to be changed.
    pub(crate) fn find_mut(&mut self, path: &str) -> Option<&mut Self> {
        path.split('\\').try_fold(self, |node, name| {
            node.subkeys
                .iter_mut()
                .find(|key| same_name(&key.name, name))
        })
    }

    /// The value of this name.
    pub fn value(&self, name: &str) -> Option<&Value> {
        self.values
            .iter()
            .find(|value| same_name(&value.name, name))
    }

    /// Sets a value, in its place when it is there already.
    pub fn set(&mut self, value: Value) {
        match self
            .values
            .iter_mut()
            .find(|known| same_name(&known.name, &value.name))
        {
            Some(known) => *known = value,
            None => self.values.push(value),
        }
    }
}

struct Budget {
    keys: BTreeSet<u32>,
    bytes: usize,
}
