//! Device elements: which partition something lies on.
//!
//! An element is a 16-byte options object, then a locator of 72 bytes. A RAM disk or a file on a
//! partition nests such a locator further in, with more after it. The MBR and the GPT form of a
//! locator have the same length, so one can be replaced in place wherever it stands.

use uuid::Uuid;
use zerocopy::little_endian::U32;
use zerocopy::{FromBytes, FromZeros, Immutable, IntoBytes, KnownLayout, Unaligned};

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawLocator {
    kind: U32,
    flags: U32,
    len_bytes: U32,
    zero: U32,
    /// MBR: byte offset of the partition, then zeros. GPT: the partition's GUID.
    partition: [u8; 16],
    zero_2: U32,
    scheme: U32,
    /// MBR: the disk's signature, then zeros. GPT: the disk's GUID.
    disk: [u8; 16],
    /// Zeros, or what was there.
    rest: [u8; 16],
}

const LOCATOR_BYTES: usize = 0x48;
const _: () = assert!(size_of::<RawLocator>() == LOCATOR_BYTES);
const OPTIONS_BYTES: usize = 16;
const KIND_PARTITION: u32 = 6;
const KIND_BOOT: u32 = 5;
const KIND_LOCATE: u32 = 8;
const SCHEME_GPT: u32 = 0;
const SCHEME_MBR: u32 = 1;

/// What a locator names.
pub use crate::identities::PartitionName as Locator;

fn parse(raw: &RawLocator) -> Option<Locator> {
    if raw.kind.get() != KIND_PARTITION
        || raw.len_bytes.get() as usize != LOCATOR_BYTES
        || raw.zero_2.get() != 0
    {
        return None;
    }
    let [a, b, c, d, e, f, g, h, ..] = raw.partition;
    match raw.scheme.get() {
        // What fills the rest of both fields need not be zero.
        SCHEME_MBR => {
            let [s, t, u, v, ..] = raw.disk;
            let signature = u32::from_le_bytes([s, t, u, v]);
            Some(Locator::Mbr {
                signature,
                offset: u64::from_le_bytes([a, b, c, d, e, f, g, h]),
            })
        }
        SCHEME_GPT => Some(Locator::Gpt {
            disk: Uuid::from_bytes_le(raw.disk),
            partition: Uuid::from_bytes_le(raw.partition),
        }),
        _ => None,
    }
}

/// `flags` and `rest` say nothing of the partition's name.
fn write(locator: Locator, flags: U32, rest: [u8; 16]) -> [u8; LOCATOR_BYTES] {
    let mut raw = RawLocator::new_zeroed();
    (raw.flags, raw.rest) = (flags, rest);
    raw.kind = U32::new(KIND_PARTITION);
    raw.len_bytes = U32::new(0x48);
    match locator {
        Locator::Mbr { signature, offset } => {
            raw.partition[..8].copy_from_slice(&offset.to_le_bytes());
            raw.scheme = U32::new(SCHEME_MBR);
            raw.disk[..4].copy_from_slice(&signature.to_le_bytes());
        }
        Locator::Gpt { disk, partition } => {
            raw.partition = partition.to_bytes_le();
            raw.scheme = U32::new(SCHEME_GPT);
            raw.disk = disk.to_bytes_le();
        }
    }
    zerocopy::transmute!(raw)
}

/// The bytes of a device element.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceElement(pub Vec<u8>);

impl DeviceElement {
    /// The element for a whole partition.
    pub fn partition(locator: Locator) -> Self {
        Self([&[0; OPTIONS_BYTES][..], &write(locator, U32::ZERO, [0; 16])].concat())
    }

    /// True when it says "the device we were started from".
    pub fn is_boot_device(&self) -> bool {
        crate::bytes::u32_at(&self.0, OPTIONS_BYTES) == Some(KIND_BOOT)
    }

    /// True when it says "wherever this file is".
    pub fn is_searched_for(&self) -> bool {
        crate::bytes::u32_at(&self.0, OPTIONS_BYTES) == Some(KIND_LOCATE)
    }

    /// The locators in the element, nested ones too, with their places.
    fn places(&self) -> Vec<(usize, Locator)> {
        let (mut places, mut at) = (Vec::new(), 0);
        while let Some(rest) = self.0.get(at..).filter(|rest| rest.len() >= LOCATOR_BYTES) {
            match RawLocator::ref_from_prefix(rest)
                .ok()
                .and_then(|(raw, _)| parse(raw))
            {
                Some(locator) => {
                    places.push((at, locator));
                    at = at.saturating_add(LOCATOR_BYTES);
                }
                // Nested structures are made of 32-bit words.
                None => at = at.saturating_add(4),
            }
        }
        places
    }

    /// The partitions that the element names, outermost first.
    pub fn locators(&self) -> Vec<Locator> {
        self.places()
            .into_iter()
            .map(|(_, locator)| locator)
            .collect()
    }

    /// True when the first partition that it names stands further in: what is meant lies in a file on that one.
    pub fn is_in_file(&self) -> bool {
        let places = self.places();
        places.first().is_some_and(|(at, _)| *at != OPTIONS_BYTES)
    }

    /// True when it is a plain partition and no RAM disk or file on one.
    pub fn is_plain_partition(&self) -> bool {
        matches!(self.places()[..], [(OPTIONS_BYTES, _)])
            && self.0.len() == OPTIONS_BYTES + LOCATOR_BYTES
    }

    /// Replaces each locator for which `change` gives another; length, flags and what follows the names stay. The
    /// number replaced.
    pub fn replace(&mut self, change: impl Fn(Locator) -> Option<Locator>) -> usize {
        let mut replaced = 0;
        for (at, locator) in self.places() {
            if let Some(new) = change(locator)
                && let Some(place) = self.0.get_mut(at..at.saturating_add(LOCATOR_BYTES))
            {
                let old = RawLocator::ref_from_bytes(place).ok();
                let kept = old.map(|old| (old.flags, old.rest));
                let (flags, rest) = kept.unwrap_or((U32::ZERO, [0; 16]));
                place.copy_from_slice(&write(new, flags, rest));
                replaced += 1;
            }
        }
        replaced
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const MBR: Locator = Locator::Mbr {
        signature: 0x51C3_A7E5,
        offset: 51 << 20,
    };

    #[test]
    fn locators_are_found_and_replaced_wherever_they_stand() {
        let gpt = Locator::Gpt {
            disk: Uuid::from_u128(1),
            partition: Uuid::from_u128(2),
        };
        let plain = DeviceElement::partition(MBR);
        assert_eq!(
            (plain.0.len(), plain.locators(), plain.is_plain_partition()),
            (88, vec![MBR], true)
        );
        // As in a RAM disk: a header of another kind, the locator, a path after it.
        let head = [&[9; 16][..], &[0; 36]].concat();
        let mut nested = DeviceElement(
            [
                head.clone(),
                write(MBR, U32::ZERO, [0; 16]).to_vec(),
                vec![0x5C, 0, 0x52, 0],
            ]
            .concat(),
        );
        assert!(!nested.is_plain_partition() && nested.is_in_file());
        // What stands after a partition's name makes no file of it.
        let longer = DeviceElement([&plain.0[..], &[7; 12]].concat());
        assert!(!plain.is_in_file() && !longer.is_in_file());
        assert_eq!(nested.replace(|locator| (locator == MBR).then_some(gpt)), 1);
        assert_eq!(nested.locators(), [gpt]);
        assert_eq!(nested.0.len(), head.len() + 72 + 4);
        assert_eq!(nested.0[..52], head);
        for short in 0..88 {
            assert_eq!(DeviceElement(plain.0[..short].to_vec()).locators(), []);
        }
    }

    proptest! {
        #[test]
        fn a_locator_survives(signature in any::<u32>(), offset in any::<u64>(), disk in any::<u128>(), partition in any::<u128>()) {
            for locator in [
                Locator::Mbr { signature, offset },
                Locator::Gpt { disk: Uuid::from_u128(disk), partition: Uuid::from_u128(partition) },
            ] {
                prop_assert_eq!(DeviceElement::partition(locator).locators(), [locator]);
            }
        }
    }
}
