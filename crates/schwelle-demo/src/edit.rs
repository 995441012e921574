//! Changes files on an NTFS volume in place, for the stories that need it. Length and clusters stay
//! as they are.

use anyhow::{Context, Result, ensure};
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
    if file.runs().is_empty() {
        // A file in its record: whole records are written.
        for patch in volume.plan_rewrite(entry.record, &content)? {
            window.write_at(patch.offset, &patch.bytes)?;
        }
        return Ok(());
    }
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

/// Lets `edit` change a file record of the volume on `volume` as its writer would: the fix-ups are
/// taken off before and put on after. The first four records are changed in the mirror as well.
pub fn edit_record(
    volume: &dyn BlockDevice,
    number: u64,
    edit: impl FnOnce(&mut [u8]),
) -> Result<()> {
    const STRIDE: usize = 512;
    let (original, shape) = {
        let opened = NtfsVolume::open(volume)?;
        let original = opened.record_offset(number).context("no such record")?;
        (original, *opened.shape())
    };
    let len = shape.record_bytes as usize;
    let mut record = volume.read_vec(original, len)?;
    let array = usize::from(u16_at(&record, 4).context("record is cut off")?);
    let strides = 1..=len / STRIDE;
    for stride in strides.clone() {
        let truth = array + stride * 2;
        record.copy_within(truth..truth + 2, stride * STRIDE - 2);
    }
    edit(&mut record);
    for stride in strides {
        let end = stride * STRIDE;
        record.copy_within(end - 2..end, array + stride * 2);
        record.copy_within(array..array + 2, end - 2);
    }
    let mirror = shape.mirror_lcn.0 * u64::from(shape.cluster_bytes)
        + number * u64::from(shape.record_bytes);
    volume.write_at(original, &record)?;
    if number < 4 {
        volume.write_at(mirror, &record)?;
    }
    Ok(())
}

/// Where the first attribute of a kind begins in a record.
pub fn attribute_at(record: &[u8], kind: u32) -> Option<usize> {
    let mut at = usize::from(u16_at(record, 0x14)?);
    loop {
        match u32_at(record, at)? {
            found if found == kind => return Some(at),
            u32::MAX => return None,
            _ => at += u32_at(record, at + 4).filter(|&len| len > 0)? as usize,
        }
    }
}

/// Sets the flag "check at the next start" of the volume at `extent`.
pub fn mark_dirty(device: &dyn BlockDevice, extent: Extent) -> Result<()> {
    const VOLUME_RECORD: u64 = 3;
    const VOLUME_INFORMATION: u32 = 0x70;
    let window = Window::new(device, extent).context("the volume leaves the disk")?;
    edit_record(&window, VOLUME_RECORD, |record| {
        // Its flags are two bytes at 10 of the value.
        let at = attribute_at(record, VOLUME_INFORMATION);
        if let Some((at, value)) = at.and_then(|at| Some((at, u16_at(record, at + 0x14)?))) {
            record[at + usize::from(value) + 10] |= 1;
        }
    })
}
