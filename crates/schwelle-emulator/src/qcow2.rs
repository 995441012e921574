//! An overlay above a disk, in the format that the emulator reads.
//!
//! Source: QEMU's `docs/interop/qcow2.txt`: header version 2 (72 bytes) with the backing format as a
//! header extension; two levels of tables that map clusters of the disk to clusters of the file; what is
//! not mapped is read from the backing file. Numbers are big-endian. Reference counts are 16 bits wide.

#![expect(clippy::big_endian_bytes, reason = "the format's numbers are")]

use std::fs::File;
use std::io::{self, BufWriter, Seek, SeekFrom, Write};
use std::path::Path;

use schwelle_core::device::{Extent, Geometry, ReadDevice};

const MAGIC: [u8; 4] = *b"QFI\xFB";
const CLUSTER_BITS: u32 = 16;
const CLUSTER: u64 = 1 << CLUSTER_BITS;
/// Entries of 8 bytes in a cluster of the second level.
const PER_TABLE: u64 = CLUSTER / 8;
/// Counts of 2 bytes in a cluster of counts.
const PER_COUNTS: u64 = CLUSTER / 2;
/// "This cluster has no other user."
const COPIED: u64 = 1 << 63;
/// Header extension: format of the backing file.
const BACKING_FORMAT: u32 = 0xE279_2ACA;
const HEADER_BYTES: usize = 72;
/// The format allows no longer name.
const MAX_NAME: usize = 1023;

/// What an overlay lies above.
#[derive(Debug)]
pub struct Backing<'a> {
    /// The disk or image, as a path from the root.
    pub path: &'a Path,
    /// Its geometry.
    pub geometry: Geometry,
}

/// Writes an overlay to `file`: where `changed` says so, the disk has the content of `draft`.
pub fn write_overlay(
    file: File,
    backing: &Backing<'_>,
    draft: &dyn ReadDevice,
    changed: impl Iterator<Item = Extent>,
) -> io::Result<()> {
    let too_large = || io::Error::other("the disk is too large for an overlay");
    let len = backing.geometry.len_bytes();
    let name = backing.path.as_os_str().as_encoded_bytes();
    if name.len() > MAX_NAME {
        return Err(io::Error::other("the path of the disk is too long"));
    }
    let clusters = clusters_of(backing.geometry, changed);
    let mut tables: Vec<u64> = clusters.iter().map(|cluster| cluster / PER_TABLE).collect();
    tables.dedup();

    // The file: header, first level, counts' table, counts, second level, data.
    let count = |entries: u64, per: u64| entries.div_ceil(per).max(1);
    let first_level_entries = len.div_ceil(CLUSTER).div_ceil(PER_TABLE);
    let first_level = count(first_level_entries, PER_TABLE);
    let rest = 1 + first_level + tables.len() as u64 + clusters.len() as u64;
    // Counts count themselves and their table; one more of each than needed is harmless.
    let counts = count(rest + rest / PER_COUNTS + 3, PER_COUNTS);
    let counts_table = count(counts, PER_TABLE);
    let at = |cluster: u64| cluster.checked_mul(CLUSTER).ok_or_else(too_large);
    let first_level_at = at(1)?;
    let counts_table_at = first_level_at + at(first_level)?;
    let counts_at = counts_table_at + at(counts_table)?;
    let second_level_at = counts_at + at(counts)?;
    let data_at = second_level_at + at(tables.len() as u64)?;
    let all = data_at + at(clusters.len() as u64)?;

    let mut out = BufWriter::new(file);
    let mut header = MAGIC.to_vec();
    let field_32 = |value: u64| u32::try_from(value).map_err(|_too_large| too_large());
    let name_at = HEADER_BYTES + 8 + 8 + 8;
    push_32(&mut header, 2);
    push_64(&mut header, name_at as u64);
    push_32(&mut header, field_32(name.len() as u64)?);
    push_32(&mut header, CLUSTER_BITS);
    push_64(&mut header, len);
    push_32(&mut header, 0); // not encrypted
    push_32(&mut header, field_32(first_level_entries.max(1))?);
    push_64(&mut header, first_level_at);
    push_64(&mut header, counts_table_at);
    push_32(&mut header, field_32(counts_table)?);
    push_32(&mut header, 0); // no snapshots
    push_64(&mut header, 0);
    push_32(&mut header, BACKING_FORMAT);
    push_32(&mut header, 3);
    header.extend(b"raw\0\0\0\0\0");
    push_64(&mut header, 0); // the end of the extensions
    header.extend(name);
    out.write_all(&header)?;

    out.seek(SeekFrom::Start(first_level_at))?;
    let mut next = second_level_at;
    for entry in 0..first_level_entries {
        let mapped = tables.binary_search(&entry).is_ok();
        out.write_all(&(if mapped { next | COPIED } else { 0 }).to_be_bytes())?;
        next += if mapped { CLUSTER } else { 0 };
    }
    out.seek(SeekFrom::Start(counts_table_at))?;
    for block in 0..counts {
        out.write_all(&(counts_at + at(block)?).to_be_bytes())?;
    }
    out.seek(SeekFrom::Start(counts_at))?;
    for _ in 0..all / CLUSTER {
        out.write_all(&1_u16.to_be_bytes())?;
    }
    for (index, table) in tables.iter().enumerate() {
        out.seek(SeekFrom::Start(second_level_at + at(index as u64)?))?;
        let from = clusters.partition_point(|cluster| cluster / PER_TABLE < *table);
        let of_table = clusters.iter().enumerate().skip(from);
        let mut entries = vec![0; usize::try_from(PER_TABLE).unwrap_or(0)];
        for (place, cluster) in of_table.take_while(|(_, cluster)| *cluster / PER_TABLE == *table) {
            let entry = usize::try_from(cluster % PER_TABLE).unwrap_or(usize::MAX);
            if let Some(entry) = entries.get_mut(entry) {
                *entry = (data_at + at(place as u64)?) | COPIED;
            }
        }
        for entry in entries {
            out.write_all(&entry.to_be_bytes())?;
        }
    }
    out.seek(SeekFrom::Start(data_at))?;
    for cluster in clusters {
        let from = at(cluster)?;
        let on_disk = usize::try_from(CLUSTER.min(len - from)).unwrap_or(0);
        let mut content = draft.read_vec(from, on_disk).map_err(io::Error::other)?;
        content.resize(content.len().next_multiple_of(1 << CLUSTER_BITS), 0);
        out.write_all(&content)?;
    }
    out.into_inner().map_err(io::IntoInnerError::into_error)?;
    Ok(())
}

/// The clusters of the disk that hold changed sectors, ascending, each once.
fn clusters_of(geometry: Geometry, changed: impl Iterator<Item = Extent>) -> Vec<u64> {
    let mut clusters = std::collections::BTreeSet::new();
    let end = geometry.len_bytes().div_ceil(CLUSTER);
    for extent in changed.filter(|extent| extent.sectors() > 0) {
        let first = geometry.byte_of(extent.first).unwrap_or(0) / CLUSTER;
        let last = geometry.byte_of(extent.last()).unwrap_or(0) / CLUSTER;
        clusters.extend((first..=last).filter(|cluster| *cluster < end));
    }
    clusters.into_iter().collect()
}

fn push_32(bytes: &mut Vec<u8>, value: u32) {
    bytes.extend(value.to_be_bytes());
}

fn push_64(bytes: &mut Vec<u8>, value: u64) {
    bytes.extend(value.to_be_bytes());
}
