//! Writing a hive anew from a tree.

#![expect(
    clippy::indexing_slicing,
    clippy::arithmetic_side_effects,
    reason = "sizes and places here are made by this file, none is read from a disk"
)]

use std::collections::BTreeMap;

use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32, U64};

use super::base_block::BaseBlock;
use super::cell::{
    DATA_INLINE, KEY_IS_ROOT, KEY_NAME_NARROW, KEY_NO_DELETE, NONE, RawKey, RawSecurity, RawValue,
    SEGMENT_BYTES, VALUE_NAME_NARROW, encode_name,
};
use super::key::Value;
use super::tree::Node;

const BIN_HEAD: usize = 32;
const BIN_BYTES: usize = 4096;
/// The version that is written where no other is asked for.
const NEWEST_MINOR: u32 = 5;
/// Keys in one list; longer ones become a list of lists, as the systems do.
const LIST_KEYS: usize = 500;

impl Node {
    /// The bytes of a hive of version 1.5 with this tree. `written` is the time for the base block (Windows time),
    /// `sequence` its number.
    pub fn to_hive(&self, written: u64, sequence: u32) -> Vec<u8> {
        self.to_hive_as(written, sequence, NEWEST_MINOR)
    }

    /// The same in the form of version 1.`minor`: how lists of keys and long values are written differs.
    pub fn to_hive_as(&self, written: u64, sequence: u32, minor: u32) -> Vec<u8> {
        let mut bins = Bins {
            minor,
            ..Bins::default()
        };
        let mut securities = Securities::default();
        let root_cell = write_key(&mut bins, &mut securities, self, NONE, true);
        securities.link(&mut bins);
        bins.close();
        let bins_bytes = u32_of(bins.bytes.len());
        let base = BaseBlock {
            sequences: (sequence, sequence),
            written,
            minor,
            root_cell,
            bins_bytes,
        };
        [base.write(), bins.bytes].concat()
    }
}

/// Hives end long before 4 GiB; the tree's own bounds say so.
fn u32_of(len: usize) -> u32 {
    u32::try_from(len).unwrap_or(u32::MAX)
}

fn u16_of(len: usize) -> U16 {
    U16::new(u16::try_from(len).unwrap_or(u16::MAX))
}

/// Bins, filled from the front. A cell that does not fit the open bin closes it and opens another.
#[derive(Debug, Default)]
struct Bins {
    minor: u32,
    bytes: Vec<u8>,
    /// End of the open bin.
    end: usize,
}

impl Bins {
    /// Adds a used cell with this content; its offset.
    fn add(&mut self, content: &[u8]) -> u32 {
        let size = (content.len() + 4).next_multiple_of(8);
        if self.bytes.len() + size > self.end {
            self.close();
            let start = self.bytes.len();
            let bin_bytes = (BIN_HEAD + size).next_multiple_of(BIN_BYTES);
            self.end = start + bin_bytes;
            let mut head = [0; BIN_HEAD];
            head[..4].copy_from_slice(b"hbin");
            head[4..8].copy_from_slice(&u32_of(start).to_le_bytes());
            head[8..12].copy_from_slice(&u32_of(bin_bytes).to_le_bytes());
            self.bytes.extend(head);
        }
        let offset = self.bytes.len();
        self.bytes
            .extend((-i32::try_from(size).unwrap_or(i32::MAX)).to_le_bytes());
        self.bytes.extend(content);
        self.bytes.resize(offset + size, 0);
        u32_of(offset)
    }

    /// Makes the rest of the open bin a free cell.
    fn close(&mut self) {
        let free = self.end - self.bytes.len();
        if free > 0 {
            self.bytes
                .extend(i32::try_from(free).unwrap_or(i32::MAX).to_le_bytes());
            self.bytes.resize(self.end, 0);
        }
    }

    /// Changes the content of a cell that is there.
    fn patch(&mut self, offset: u32, content: &[u8]) {
        let at = offset as usize + 4;
        self.bytes[at..at + content.len()].copy_from_slice(content);
    }
}

/// Security cells: one for each different descriptor, counted and linked in a ring.
#[derive(Debug, Default)]
struct Securities {
    cells: BTreeMap<Vec<u8>, (u32, u32)>,
}

impl Securities {
    fn cell(&mut self, bins: &mut Bins, descriptor: &[u8]) -> u32 {
        let (offset, users) = self.cells.entry(descriptor.to_vec()).or_insert_with(|| {
            let head = security_head(0, 0, 0, descriptor.len());
            (bins.add(&[head.as_bytes(), descriptor].concat()), 0)
        });
        *users += 1;
        *offset
    }

    fn link(&self, bins: &mut Bins) {
        let cells: Vec<_> = self.cells.iter().collect();
        for (index, (descriptor, (offset, users))) in cells.iter().enumerate() {
            let at = |index: usize| cells[index % cells.len()].1.0;
            let head = security_head(
                at(index + 1),
                at(index + cells.len() - 1),
                *users,
                descriptor.len(),
            );
            bins.patch(*offset, head.as_bytes());
        }
    }
}

fn security_head(next: u32, previous: u32, users: u32, descriptor_bytes: usize) -> RawSecurity {
    RawSecurity {
        signature: *b"sk",
        reserved: U16::new(0),
        next: U32::new(next),
        previous: U32::new(previous),
        users: U32::new(users),
        descriptor_bytes: U32::new(u32_of(descriptor_bytes)),
    }
}

fn write_key(
    bins: &mut Bins,
    securities: &mut Securities,
    node: &Node,
    parent: u32,
    is_root: bool,
) -> u32 {
    let (name, narrow) = encode_name(&node.name);
    let longest =
        |lengths: &mut dyn Iterator<Item = usize>| U32::new(u32_of(lengths.max().unwrap_or(0)));
    let utf16_bytes = |name: &str| name.encode_utf16().count() * 2;
    let own_flags = node.flags & !(KEY_IS_ROOT | KEY_NO_DELETE)
        | if is_root {
            KEY_IS_ROOT | KEY_NO_DELETE
        } else {
            0
        };
    let mut raw = RawKey {
        signature: *b"nk",
        flags: U16::new(own_flags | if narrow { KEY_NAME_NARROW } else { 0 }),
        written: U64::new(node.written),
        access: U32::new(0),
        parent: U32::new(if parent == NONE { 0 } else { parent }),
        subkeys: U32::new(u32_of(node.subkeys.len())),
        volatile_subkeys: U32::new(0),
        subkey_list: U32::new(NONE),
        volatile_list: U32::new(NONE),
        values: U32::new(u32_of(node.values.len())),
        value_list: U32::new(NONE),
        security: U32::new(NONE),
        class: U32::new(NONE),
        longest_subkey_name: longest(&mut node.subkeys.iter().map(|key| utf16_bytes(&key.name))),
        longest_class: longest(&mut node.subkeys.iter().map(|key| key.class.len())),
        longest_value_name: longest(&mut node.values.iter().map(|value| utf16_bytes(&value.name))),
        longest_data: longest(&mut node.values.iter().map(|value| value.data.len())),
        reserved: U32::new(0),
        name_bytes: u16_of(name.len()),
        class_bytes: u16_of(node.class.len()),
    };
    let offset = bins.add(&[raw.as_bytes(), &name].concat());
    if let Some(descriptor) = &node.security {
        raw.security = U32::new(securities.cell(bins, descriptor));
    }
    if !node.class.is_empty() {
        raw.class = U32::new(bins.add(&node.class));
    }
    if !node.values.is_empty() {
        let values: Vec<u8> = node
            .values
            .iter()
            .flat_map(|value| write_value(bins, value).to_le_bytes())
            .collect();
        raw.value_list = U32::new(bins.add(&values));
    }
    if !node.subkeys.is_empty() {
        // Systems search the lists by name, so they stand in its order.
        let mut ordered: Vec<&Node> = node.subkeys.iter().collect();
        ordered.sort_by_key(|key| key.name.to_uppercase());
        let cells: Vec<(u32, [u8; 4])> = ordered
            .into_iter()
            .map(|key| {
                let hint = match bins.minor {
                    NEWEST_MINOR.. => name_hash(&key.name).to_le_bytes(),
                    _ => name_start(&key.name),
                };
                (write_key(bins, securities, key, offset, false), hint)
            })
            .collect();
        raw.subkey_list = U32::new(write_list(bins, &cells));
    }
    bins.patch(offset, raw.as_bytes());
    offset
}

/// Lists with hints are as old as version 1.3; what the hint is has changed with 1.5.
fn write_list(bins: &mut Bins, cells: &[(u32, [u8; 4])]) -> u32 {
    let (signature, has_hints) = match bins.minor {
        NEWEST_MINOR.. => (*b"lh", true),
        3.. => (*b"lf", true),
        _ => (*b"li", false),
    };
    let head = |signature: [u8; 2], count: usize| -> Vec<u8> {
        [signature, u16_of(count).to_bytes()].concat()
    };
    let mut lists: Vec<u32> = Vec::new();
    for part in cells.chunks(LIST_KEYS) {
        let mut list = head(signature, part.len());
        for (offset, hint) in part {
            list.extend(offset.to_le_bytes());
            list.extend(hint.iter().filter(|_| has_hints));
        }
        lists.push(bins.add(&list));
    }
    match lists[..] {
        [only] => only,
        _ => {
            let mut outer = head(*b"ri", lists.len());
            outer.extend(lists.iter().flat_map(|offset| offset.to_le_bytes()));
            bins.add(&outer)
        }
    }
}

/// The first characters of a name in an "lf" list; zeros for one that is not in the narrow form.
fn name_start(name: &str) -> [u8; 4] {
    let mut start = [0; 4];
    if let (bytes, true) = encode_name(name) {
        start
            .iter_mut()
            .zip(bytes)
            .for_each(|(to, byte)| *to = byte);
    }
    start
}

/// Hash of a name in an "lh" list.
fn name_hash(name: &str) -> u32 {
    let upper = name.to_uppercase();
    upper.encode_utf16().fold(0u32, |hash, unit| {
        hash.wrapping_mul(37).wrapping_add(unit.into())
    })
}

fn write_value(bins: &mut Bins, value: &Value) -> u32 {
    let (name, narrow) = encode_name(&value.name);
    let len = u32_of(value.data.len());
    let (data_bytes, data) = match value.data.len() {
        0..=4 => {
            let mut field = [0; 4];
            field[..value.data.len()].copy_from_slice(&value.data);
            (len | DATA_INLINE, field)
        }
        // Before version 1.4, long values stood in one piece too.
        len_bytes if len_bytes <= SEGMENT_BYTES || bins.minor < 4 => {
            (len, bins.add(&value.data).to_le_bytes())
        }
        _ => {
            let segments: Vec<u8> = value
                .data
                .chunks(SEGMENT_BYTES)
                .flat_map(|segment| bins.add(segment).to_le_bytes())
                .collect();
            let list = bins.add(&segments);
            let cell = [*b"db", u16_of(segments.len() / 4).to_bytes()].concat();
            (
                len,
                bins.add(&[cell, list.to_le_bytes().to_vec(), vec![0; 4]].concat())
                    .to_le_bytes(),
            )
        }
    };
    let raw = RawValue {
        signature: *b"vk",
        name_bytes: u16_of(name.len()),
        data_bytes: U32::new(data_bytes),
        data,
        kind: U32::new(value.kind),
        flags: U16::new(if narrow { VALUE_NAME_NARROW } else { 0 }),
        spare: U16::new(0),
    };
    bins.add(&[raw.as_bytes(), &name].concat())
}

#[cfg(test)]
mod tests {
    use super::super::Hive;
    use super::*;
    use proptest::prelude::*;

    fn read(bytes: &[u8]) -> Node {
        Node::read(&Hive::open(bytes).unwrap()).unwrap()
    }

    fn leaf(name: &str, values: Vec<Value>) -> Node {
        Node {
            name: name.into(),
            written: 7,
            security: Some(vec![1, 2, 3]),
            values,
            ..Node::default()
        }
    }

    fn root(subkeys: Vec<Node>) -> Node {
        Node {
            flags: KEY_IS_ROOT | KEY_NO_DELETE,
            subkeys,
            ..leaf("root", Vec::new())
        }
    }

    #[test]
    fn large_lists_and_large_data_survive() {
        let data = |len: usize| (0..len).map(|at| at.to_le_bytes()[0]).collect::<Vec<u8>>();
        let values =
            [0, 1, 4, 5, 4000, SEGMENT_BYTES, SEGMENT_BYTES + 1, 100_000].map(|len| Value {
                name: format!("länge {len} 水"),
                kind: 3,
                data: data(len),
            });
        let mut keys: Vec<Node> = (0..1700)
            .map(|n| leaf(&format!("Key{n:04}"), Vec::new()))
            .collect();
        keys.push(leaf("zz big", values.to_vec()));
        let tree = root(keys);
        for (minor, list, in_pieces) in [
            (2, b"li", false),
            (3, b"lf", false),
            (5, b"lh", true),
            (6, b"lh", true),
        ] {
            let bytes = tree.to_hive_as(1234, 9, minor);
            assert_eq!(bytes.len() % 4096, 0);
            assert_eq!(read(&bytes), tree);
            let hive = Hive::open(&bytes[..]).unwrap();
            assert_eq!(
                (hive.written(), hive.is_cleanly_closed(), hive.minor()),
                ((1234, 9), true, minor)
            );
            assert!(hive.find("KEY0042").unwrap().is_some());
            // Both stand at the beginning of a cell, which is a multiple of 8 bytes after its length.
            let has = |signature: &[u8]| {
                bytes
                    .chunks(8)
                    .any(|piece| piece[4..].starts_with(signature))
            };
            assert_eq!((has(list), has(b"db")), (true, in_pieces), "{minor}");
        }
    }

    #[test]
    fn damage_is_an_error_with_its_cell() {
        let good = root(vec![leaf(
            "a",
            vec![Value {
                name: "v".into(),
                kind: 3,
                data: vec![9; 40],
            }],
        )])
        .to_hive(0, 1);
        let (mut loops, mut checksum) = (good.clone(), good.clone());
        checksum[8] ^= 1;
        assert!(matches!(
            Hive::open(&checksum[..]),
            Err(super::super::HiveError::BaseBlock { field: "checksum" })
        ));
        // Point the root's list entry back at the root.
        let list = loops.windows(2).position(|pair| pair == b"lh").unwrap();
        loops[list + 4..list + 8].copy_from_slice(&32u32.to_le_bytes());
        let error = Node::read(&Hive::open(&loops[..]).unwrap())
            .unwrap_err()
            .to_string();
        assert!(error.contains("the keys loop"), "{error}");
    }

    fn any_tree() -> impl Strategy<Value = Node> {
        let value = (
            "[a-zA-Zä水]{1,12}",
            any::<u32>(),
            prop::collection::vec(any::<u8>(), 0..90),
        );
        let value = value.prop_map(|(name, kind, data)| Value { name, kind, data });
        let leaf_node = (
            "[A-Z]{1,8}",
            prop::collection::vec(value, 0..4),
            prop::option::of(prop::collection::vec(any::<u8>(), 1..9)),
        )
            .prop_map(|(name, values, security)| Node {
                security,
                ..leaf(&name, values)
            });
        leaf_node.prop_recursive(4, 40, 6, |inner| {
            (
                "[A-Z]{1,8}",
                prop::collection::btree_map("[A-Z]{1,8}", inner, 0..6),
            )
                .prop_map(|(name, subkeys)| Node {
                    subkeys: subkeys
                        .into_iter()
                        .map(|(name, node)| Node { name, ..node })
                        .collect(),
                    ..leaf(&name, Vec::new())
                })
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn trees_survive_and_damaged_hives_do_not_panic(tree in any_tree(), hits in prop::collection::vec((4096usize.., any::<u8>()), 1..8)) {
            let mut tree = tree;
            tree.flags = KEY_IS_ROOT | KEY_NO_DELETE;
            let bytes = tree.to_hive(1, 1);
            prop_assert_eq!(read(&bytes), tree);
            let mut damaged = bytes;
            let len = damaged.len();
            hits.into_iter().for_each(|(at, byte)| damaged[4096 + at % (len - 4096)] = byte);
            if let Ok(hive) = Hive::open(&damaged[..]) {
                let _outcome = Node::read(&hive);
            }
        }
    }
}
