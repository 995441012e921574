//! Changes files on an NTFS volume in place, for the stories that need it. Length and clusters stay
//! as they are.

use anyhow::{Context, Result, bail, ensure};
use schwelle_core::bytes::{u16_at, u32_at};
use schwelle_core::device::{BlockDevice, Extent, Window};
use schwelle_core::ntfs::NtfsVolume;

/// Lets `edit` change the content of the file at `path` on the volume at `extent`.
pub fn edit_file(
    device: &dyn BlockDevice,
    extent: Extent,
    path: &str,
    edit: impl FnOnce(&mut [u8]),
) -> Result<()> {
    let window = Window::new(device, extent).context("the volume leaves the disk")?;
    let volume = NtfsVolume::open(&window)?;
    let entry = volume
        .find(path)?
        .with_context(|| format!("{path} is not there"))?;
    let file = volume.open_file(entry.record)?;
    let mut content = file.read_all(64 << 20)?;
    edit(&mut content);
    ensure!(!file.runs().is_empty(), "{path} lies in its record");
    let cluster = volume.shape().cluster_bytes as usize;
    content.resize(content.len().next_multiple_of(cluster), 0);
    for run in file.runs() {
        let Some(start) = run.lcn.and_then(|lcn| volume.shape().byte_of(lcn)) else {
            continue;
        };
        let from = usize::try_from(run.vcn.0)? * cluster;
        let to = (from + usize::try_from(run.clusters)? * cluster).min(content.len());
        if from < to {
            window.write_at(start, &content[from..to])?;
        }
    }
    Ok(())
}

/// Puts a program in the place of the file at `path`; what is left of the file's length is zeros.
pub fn put_program(
    device: &dyn BlockDevice,
    extent: Extent,
    path: &str,
    program: &[u8],
) -> Result<()> {
    edit_file(device, extent, path, |content| {
        content.fill(0);
        content[..program.len()].copy_from_slice(program);
    })
}

/// Replaces every occurrence of `old` in the file at `path` by `new`, which is as long. There must
/// be one at least.
pub fn replace_bytes(
    device: &dyn BlockDevice,
    extent: Extent,
    path: &str,
    old: &[u8],
    new: &[u8],
) -> Result<()> {
    ensure!(old.len() == new.len(), "the replacement has another length");
    let mut found = 0;
    edit_file(device, extent, path, |content| {
        let mut at = 0;
        while let Some(rest) = content.get_mut(at..at + old.len()) {
            if rest == old {
                rest.copy_from_slice(new);
                found += 1;
            }
            at += 1;
        }
    })?;
    ensure!(found > 0, "{path} does not hold what should be replaced");
    Ok(())
}

/// Sets the flag "check at the next start" of the volume, in its record and in the record's mirror.
pub fn mark_dirty(device: &dyn BlockDevice, extent: Extent) -> Result<()> {
    const VOLUME_RECORD: u64 = 3;
    let window = Window::new(device, extent).context("the volume leaves the disk")?;
    let volume = NtfsVolume::open(&window)?;
    let shape = *volume.shape();
    let original = volume.record_offset(VOLUME_RECORD).context("no record 3")?;
    let mirror = shape.mirror_lcn.0 * u64::from(shape.cluster_bytes)
        + VOLUME_RECORD * u64::from(shape.record_bytes);
    let cluster = u64::from(shape.cluster_bytes);
    for offset in [original, mirror] {
        let base = offset / cluster * cluster;
        let mut bytes = schwelle_core::device::ReadDevice::read_vec(
            &window,
            base,
            shape.cluster_bytes as usize,
        )?;
        let record = &mut bytes[usize::try_from(offset - base)?..];
        let mut at = usize::from(u16_at(record, 0x14).context("record is cut off")?);
        // Walk the attributes to the volume information (70h); its flags are two bytes at 10 of the
        // value.
        while u32_at(record, at) != Some(0x70) {
            match u32_at(record, at + 4) {
                Some(len) if len > 0 => at += len as usize,
                _ => bail!("record 3 has no volume information"),
            }
        }
        let value = at + usize::from(u16_at(record, at + 0x14).context("attribute is cut off")?);
        record[value + 10] |= 1;
        window.write_at(base, &bytes)?;
    }
    Ok(())
}
