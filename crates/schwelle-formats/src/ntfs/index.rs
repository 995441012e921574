//! Directories: the index $I30 of file names, a B-tree whose root lies in the record and whose
//! other nodes in clusters.

use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

use super::attribute_list::record_number;
use super::fixup;
use crate::bytes::{u64_at, utf16_lossy};

pub(super) const NAME: &str = "$I30";
const HAS_CHILD: u16 = 1;
const LAST: u16 = 2;
const DOS_ONLY: u8 = 2;
const DIRECTORY_FLAG: u32 = 0x1000_0000;

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawRoot {
    kind: U32,
    collation: U32,
    block_bytes: U32,
    block_clusters: u8,
    padding: [u8; 3],
}

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawNode {
    entries_offset: U32,
    used_bytes: U32,
    allocated_bytes: U32,
    flags: U32,
}

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawEntry {
    record: U64,
    len_bytes: U16,
    key_bytes: U16,
    flags: U16,
    reserved: U16,
}

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawFileName {
    parent: U64,
    times: [U64; 4],
    allocated_len: U64,
    data_len: U64,
    flags: U32,
    reparse: U32,
    name_units: u8,
    namespace: u8,
}

const _: () = assert!(size_of::<RawRoot>() == 16 && size_of::<RawNode>() == 16);
const _: () = assert!(size_of::<RawEntry>() == 16 && size_of::<RawFileName>() == 66);

/// A name in a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirEntry {
    /// The long name.
    pub name: String,
    /// Number of the file's record.
    pub record: u64,
    /// A directory.
    pub is_directory: bool,
}

/// What one node of the tree holds.
#[derive(Debug, Default)]
pub(super) struct Node {
    pub(super) entries: Vec<DirEntry>,
    /// Places of the nodes below, in clusters (or 512-byte units, where a node is smaller than a
    /// cluster).
    pub(super) children: Vec<u64>,
}

/// Parses the root; gives the bytes in one of the other nodes too.
pub(super) fn parse_root(value: &[u8]) -> Result<(Node, u32), &'static str> {
    let (root, rest) =
        RawRoot::ref_from_prefix(value).map_err(|_too_short| "the index root is cut off")?;
    let block_bytes = root.block_bytes.get();
    if !block_bytes.is_power_of_two() || !(512..=65_536).contains(&block_bytes) {
        return Err("the index has an impossible block size");
    }
    Ok((parse_node(rest)?, block_bytes))
}

/// Parses a node that lies in clusters.
pub(super) fn parse_block(mut bytes: Vec<u8>) -> Result<Node, &'static str> {
    if !bytes.starts_with(b"INDX") {
        return Err("an index block has no signature \"INDX\"");
    }
    if !fixup::restore(&mut bytes) {
        return Err("the fix-ups of an index block do not match");
    }
    // Signature, fix-ups, log sequence, own place: 24 bytes; then the node.
    parse_node(bytes.get(24..).unwrap_or_default())
}

/// The name in a file name attribute, or in the key of an index entry, which has the same shape.
pub(super) fn file_name(value: &[u8]) -> Option<String> {
    let (head, tail) = RawFileName::ref_from_prefix(value).ok()?;
    tail.get(..usize::from(head.name_units).saturating_mul(2))
        .map(utf16_lossy)
}

fn parse_node(bytes: &[u8]) -> Result<Node, &'static str> {
    let (head, _) =
        RawNode::ref_from_prefix(bytes).map_err(|_too_short| "an index node is cut off")?;
    let range = |value: U32| usize::try_from(value.get()).unwrap_or(usize::MAX);
    let mut rest = bytes
        .get(range(head.entries_offset)..range(head.used_bytes))
        .ok_or("an index node's entries lie outside it")?;
    let mut node = Node::default();
    loop {
        let (entry, _) = RawEntry::ref_from_prefix(rest)
            .map_err(|_too_short| "an index node has no last entry")?;
        let len = usize::from(entry.len_bytes.get());
        let whole = rest
            .get(..len)
            .filter(|whole| whole.len() >= size_of::<RawEntry>());
        let whole = whole.ok_or("an index entry has an impossible length")?;
        let flags = entry.flags.get();
        if flags & HAS_CHILD != 0 {
            let child = whole.len().checked_sub(8).and_then(|at| u64_at(whole, at));
            node.children
                .push(child.ok_or("an index entry is too short for its child")?);
        }
        if flags & LAST != 0 {
            return Ok(node);
        }
        let key = whole.get(size_of::<RawEntry>()..).unwrap_or_default();
        let cut_off = "a file name in an index is cut off";
        let (head, _) = RawFileName::ref_from_prefix(key).map_err(|_too_short| cut_off)?;
        if head.namespace != DOS_ONLY {
            node.entries.push(DirEntry {
                name: file_name(key).ok_or(cut_off)?,
                record: record_number(entry.record.get()),
                is_directory: head.flags.get() & DIRECTORY_FLAG != 0,
            });
        }
        rest = rest.get(len..).unwrap_or_default();
    }
}
