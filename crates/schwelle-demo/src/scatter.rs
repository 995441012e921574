//! Moves streams to the end of a volume, for the cases in which a shrink must move them.

use anyhow::{Context, Result};
use schwelle_core::bytes::{u16_at, u64_at};
use schwelle_core::device::BlockDevice;
use schwelle_core::ntfs::NtfsVolume;

use crate::edit::{attribute_at, edit_record};

/// Moves streams from the front of a volume into its last quarter, which must be free: streams of
/// the file system itself lie there only on old and crowded volumes. Each is (record, kind of
/// attribute) and has one run.
pub fn scatter(volume: &dyn BlockDevice, streams: &[(u64, u32)]) -> Result<()> {
    let shape = *NtfsVolume::open(volume)?.shape();
    let cluster = u64::from(shape.cluster_bytes);
    let mut next = shape.clusters() * 3 / 4;
    let mut marked: Vec<(u64, u64, u64)> = Vec::new();
    for &(record, kind) in streams {
        let mut moved = None;
        edit_record(volume, record, |bytes| moved = move_run(bytes, kind, next))?;
        let (old, clusters) = moved.context("the stream has no run")?;
        marked.push((old, next, clusters));
        // Copied after the change: a record may describe the very clusters it lies in.
        let len = usize::try_from(clusters * cluster)?;
        let content = volume.read_vec(old * cluster, len)?;
        volume.write_at(next * cluster, &content)?;
        let named_at = match (record, kind) {
            (0, 0x80) => Some(0x30),
            (1, 0x80) => Some(0x38),
            _ => None,
        };
        if let Some(field) = named_at {
            let last = shape.total_sectors * u64::from(shape.sector_bytes);
            for at in [0, last] {
                let mut boot = volume.read_vec(at, shape.sector_bytes as usize)?;
                boot[field..field + 8].copy_from_slice(&next.to_le_bytes());
                volume.write_at(at, &boot)?;
            }
        }
        next += clusters + 3;
    }
    let bitmap = {
        let opened = NtfsVolume::open(volume)?;
        let file = opened.open_file(6)?;
        let first = file.runs().first().and_then(|run| run.lcn);
        first.context("the bitmap has no clusters")?.0 * cluster
    };
    let len = usize::try_from(shape.clusters().div_ceil(8))?;
    let sector = shape.sector_bytes as usize;
    let mut bits = volume.read_vec(bitmap, len.next_multiple_of(sector))?;
    for (old, new, clusters) in marked {
        for index in 0..clusters {
            let (old, new) = (old + index, new + index);
            bits[usize::try_from(old / 8)?] &= !(1u8 << (old % 8));
            bits[usize::try_from(new / 8)?] |= 1u8 << (new % 8);
        }
    }
    Ok(volume.write_at(bitmap, &bits)?)
}

/// Gives the one run of a stream another place; its old one, and its clusters.
fn move_run(bytes: &mut [u8], kind: u32, next: u64) -> Option<(u64, u64)> {
    let at = attribute_at(bytes, kind)?;
    let runs = at + usize::from(u16_at(bytes, at + 0x20)?);
    let clusters = u64_at(bytes, at + 0x18)? + 1;
    let len_size = usize::from(bytes[runs] & 0x0F);
    let place_size = usize::from(bytes[runs] >> 4);
    let place = runs + 1 + len_size;
    let mut number = [0; 8];
    number[..place_size].copy_from_slice(&bytes[place..place + place_size]);
    // Three bytes of place fit into the padding of every attribute here.
    bytes[runs] = 0x30 | u8::try_from(len_size).ok()?;
    bytes[place..place + 3].copy_from_slice(&next.to_le_bytes()[..3]);
    bytes[place + 3] = 0;
    Some((u64::from_le_bytes(number), clusters))
}
