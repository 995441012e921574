//! The cells of a hive: key nodes, values, and the lists between them.

use std::mem::offset_of;

use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// "No cell".
pub(super) const NONE: u32 = 0xFFFF_FFFF;
/// Name of a key node is one byte a character (Latin-1) instead of UTF-16.
pub(super) const KEY_NAME_NARROW: u16 = 0x20;
/// The root key of a hive.
pub(super) const KEY_IS_ROOT: u16 = 0x04;
/// The root key may not be deleted.
pub(super) const KEY_NO_DELETE: u16 = 0x08;
/// Name of a value is one byte a character.
pub(super) const VALUE_NAME_NARROW: u16 = 1;
/// In a value's length: the data lies in the field of its offset.
pub(super) const DATA_INLINE: u32 = 0x8000_0000;
/// Data longer than this is cut into segments of this length ("db" cell), from hive version 1.4 on.
pub(super) const SEGMENT_BYTES: usize = 16_344;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct RawKey {
    pub(super) signature: [u8; 2],
    pub(super) flags: U16,
    pub(super) written: U64,
    pub(super) access: U32,
    pub(super) parent: U32,
    pub(super) subkeys: U32,
    pub(super) volatile_subkeys: U32,
    pub(super) subkey_list: U32,
    pub(super) volatile_list: U32,
    pub(super) values: U32,
    pub(super) value_list: U32,
    pub(super) security: U32,
    pub(super) class: U32,
    pub(super) longest_subkey_name: U32,
    pub(super) longest_class: U32,
    pub(super) longest_value_name: U32,
    pub(super) longest_data: U32,
    pub(super) reserved: U32,
    pub(super) name_bytes: U16,
    pub(super) class_bytes: U16,
}

pub(super) const KEY_HEAD: usize = size_of::<RawKey>();
const _: () = assert!(KEY_HEAD == 0x4C);
const _: () =
    assert!(offset_of!(RawKey, subkey_list) == 0x1C && offset_of!(RawKey, value_list) == 0x28);

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct RawValue {
    pub(super) signature: [u8; 2],
    pub(super) name_bytes: U16,
    pub(super) data_bytes: U32,
    pub(super) data: [u8; 4],
    pub(super) kind: U32,
    pub(super) flags: U16,
    pub(super) spare: U16,
}

pub(super) const VALUE_HEAD: usize = size_of::<RawValue>();
const _: () = assert!(VALUE_HEAD == 0x14);

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct RawSecurity {
    pub(super) signature: [u8; 2],
    pub(super) reserved: U16,
    pub(super) next: U32,
    pub(super) previous: U32,
    pub(super) users: U32,
    pub(super) descriptor_bytes: U32,
}

pub(super) const SECURITY_HEAD: usize = size_of::<RawSecurity>();
const _: () = assert!(SECURITY_HEAD == 0x14);

/// The name in bytes after a key's or value's head.
pub(super) fn decode_name(bytes: &[u8], narrow: bool) -> String {
    if narrow {
        bytes.iter().map(|&byte| char::from(byte)).collect()
    } else {
        crate::bytes::utf16_lossy(bytes)
    }
}

/// The bytes of a name, and whether they are the narrow form.
pub(super) fn encode_name(name: &str) -> (Vec<u8>, bool) {
    match name
        .chars()
        .map(|c| u8::try_from(u32::from(c)).ok())
        .collect()
    {
        Some(narrow) => (narrow, true),
        None => (crate::bytes::utf16_bytes(name), false),
    }
}

/// Key and value names are compared without regard to case.
pub(super) fn same_name(a: &str, b: &str) -> bool {
    a.chars()
        .flat_map(char::to_uppercase)
        .eq(b.chars().flat_map(char::to_uppercase))
}
