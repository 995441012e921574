//! A MFT in many parts, made by hand: no utility makes one to order.

use super::fixup;
use super::volume::NtfsVolume;
use crate::device::{BlockDevice, Memory};

const CLUSTER: u64 = 1024;
/// Cluster of the first record of each part, four records long.
const PARTS: [u8; 4] = [100, 200, 60, 120];
/// The records that describe the parts after the first; each lies in the part before its own.
const HOLDERS: [u64; 3] = [2, 5, 9];

fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
}

/// A part of an attribute `$DATA` that lies in clusters from `lcn` on.
fn data(id: u8, first_vcn: u8, lcn: u8, table_bytes: u64) -> Vec<u8> {
    let mut attribute = vec![0; 72];
    put(&mut attribute, 0, &[0x80, 0, 0, 0, 72, 0, 0, 0, 1]);
    attribute[14] = id;
    attribute[16] = first_vcn;
    attribute[24] = first_vcn + 3;
    attribute[32] = 64;
    for at in [40, 48, 56] {
        put(&mut attribute, at, &table_bytes.to_le_bytes());
    }
    // One run: a byte of length, two of place.
    put(&mut attribute, 64, &[0x21, 4, lcn, 0]);
    attribute
}

fn record(base: u64, attributes: &[Vec<u8>]) -> Vec<u8> {
    let mut bytes = vec![0; 1024];
    put(&mut bytes, 0, b"FILE\x30\0\x03\0");
    put(&mut bytes, 0x14, &[0x38, 0, 1, 0]);
    put(&mut bytes, 0x20, &base.to_le_bytes());
    let mut at = 0x38;
    for attribute in attributes {
        put(&mut bytes, at, attribute);
        at += attribute.len();
    }
    put(&mut bytes, at, &[0xFF; 4]);
    put(
        &mut bytes,
        0x18,
        &u32::try_from(at + 8).unwrap().to_le_bytes(),
    );
    fixup::protect(&mut bytes);
    bytes
}

#[test]
fn a_part_may_be_described_in_the_part_before_it() {
    let disk = Memory::new(512, 600);
    let mut boot = vec![0; 512];
    put(&mut boot, 3, b"NTFS    \0\x02\x02");
    put(&mut boot, 0x28, &599u64.to_le_bytes());
    put(&mut boot, 0x30, &u64::from(PARTS[0]).to_le_bytes());
    put(&mut boot, 0x38, &[1]);
    put(&mut boot, 0x40, &[1, 0, 0, 0, 1]);
    put(&mut boot, 510, &[0x55, 0xAA]);
    disk.write_at(0, &boot).unwrap();

    let table_bytes = 16 * CLUSTER;
    let part = |index: u8| data(index, index * 4, PARTS[usize::from(index)], table_bytes);
    let mut list = vec![0; 24];
    for index in 0..4u8 {
        let mut entry = vec![0; 32];
        put(&mut entry, 0, &[0x80, 0, 0, 0, 32, 0, 0, 26]);
        entry[8] = index * 4;
        let holder = index
            .checked_sub(1)
            .map_or(0, |index| HOLDERS[usize::from(index)]);
        put(&mut entry, 16, &holder.to_le_bytes());
        entry[24] = index;
        list.extend(entry);
    }
    let len = u8::try_from(list.len()).unwrap();
    put(&mut list, 0, &[0x20, 0, 0, 0, len]);
    put(&mut list, 16, &[len - 24, 0, 0, 0, 24]);
    let place = |number: u64| {
        let part = u64::from(PARTS[usize::try_from(number / 4).unwrap()]);
        (part + number % 4) * CLUSTER
    };
    disk.write_at(place(0), &record(0, &[list, part(0)]))
        .unwrap();
    for (index, holder) in (1..).zip(HOLDERS) {
        let own = 1 << 48; // record 0, used once
        disk.write_at(place(holder), &record(own, &[part(index)]))
            .unwrap();
    }
    let volume = NtfsVolume::open(&disk).unwrap();
    for number in 0..16 {
        assert_eq!(
            volume.record_offset(number),
            Some(place(number)),
            "{number}"
        );
    }
    assert_eq!(volume.record_offset(16), None);
}
