//! Fills the EFI system partition: boot files from the Windows volume, the BCD store, the
//! marker.

use std::collections::BTreeSet;

use crate::device::{BlockDevice, Draft, Extent, Lba, ReadDevice, Window};
use crate::fat::{FatEditor, FatError, FatVolume, FatWriteError, FatWriter};
use crate::marker::{MARKER, MAX_MARKER_BYTES, Marker};
use crate::ntfs::NtfsVolume;
use crate::placement::{EspFrom, EspPlace};
use crate::profile::{BootFile, MAX_BOOT_FILE_BYTES};

use super::basis::{DraftError, Stamp};
use super::patch;
use super::start::Content;

/// A file that a partition which is made anew keeps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct KeptFile {
    /// Names from the root on.
    pub(crate) path: Vec<String>,
    /// What it holds.
    pub(crate) content: Vec<u8>,
}

/// The path of these names, from the root on with backslashes.
pub(crate) fn path_text(names: &[String]) -> String {
    format!("\\{}", names.join("\\"))
}

/// What was put on the partition.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Filled {
    /// Files put there, with the paths they got, and the bytes of all.
    pub(crate) files: Vec<String>,
    pub(crate) bytes: u64,
    /// Those in whose place others were.
    pub(crate) replaced: Vec<String>,
    hashes: Vec<blake3::Hash>,
}

/// Takes a file by the names of its path; true when it is in place of another.
type Write<'w> = &'w mut dyn FnMut(&[&str], &[u8]) -> Result<bool, FatWriteError>;

/// Fills the partition at `place` of `draft` with this content, if any: one that exists is added to,
/// else its volume is made, with the files that it keeps. Boot files come from `disk`.
pub(crate) fn fill(
    draft: &Draft<'_>,
    disk: &dyn ReadDevice,
    place: EspPlace,
    (content, kept): (Option<&Content>, Option<&[KeptFile]>),
    (volume_id, stamp): (u32, Stamp),
) -> Result<Filled, DraftError> {
    let extent = place.extent;
    let esp = Window::new(draft, extent).ok_or(DraftError::Outside(extent))?;
    let mut filled = Filled::default();
    if let EspFrom::Existing(_) = place.from {
        let is_replaced = |path: &str| content.is_some_and(|content| content.has_file(path));
        let mut editor = FatEditor::open_to_replace(&esp, stamp.dos, is_replaced)?;
        let write: Write<'_> = &mut |path, content| editor.write_file(path, content);
        if let Some(content) = content {
            filled.put(write, disk, content)?;
        }
        editor.finish()?;
    } else {
        // A place taken over is written from end to end: nothing of the old volume is left there.
        if let EspFrom::Takeover(_) = place.from {
            patch::untouched(draft, extent)?;
            draft.fill(extent, 0)?;
        }
        if kept.is_some() {
            draft.fill(extent, 0)?;
        }
        let mut writer = FatWriter::new(&esp, extent, volume_id, *b"SYSTEM     ", stamp.dos)?;
        let write: Write<'_> = &mut |path, content| {
            writer.write_file(path, content)?;
            Ok(false)
        };
        if let Some(content) = content {
            filled.put(write, disk, content)?;
        }
        let new: BTreeSet<String> = filled
            .files
            .iter()
            .map(|path| path.to_lowercase())
            .collect();
        for KeptFile { path, content } in kept.into_iter().flatten() {
            if !new.contains(&path_text(path).to_lowercase()) {
                let names: Vec<&str> = path.iter().map(String::as_str).collect();
                match writer.write_file(&names, content) {
                    // A folder that has lost its long name is called as the new one is in short.
                    Err(FatWriteError::Name { .. }) => {
                        let names: Vec<String> =
                            path.iter().map(|name| name.replace('~', "_")).collect();
                        let names: Vec<&str> = names.iter().map(String::as_str).collect();
                        writer.write_file(&names, content)?;
                    }
                    written => written?,
                }
            }
        }
        writer.finish()?;
    }
    filled.compare(&esp)?;
    Ok(filled)
}

/// A marker on a partition, in which a job leaves the hash of its journal.
pub(super) struct MarkerPlace {
    /// Byte offset on the disk at which the hash comes.
    pub(super) hash_at: u64,
    /// The sector with it.
    pub(super) sector: Lba,
    /// The marker has the hash of another job, which this one comes after.
    pub(super) is_taken: bool,
}

/// Makes room for the hash of a journal in the marker on a partition of the draft; `None` if there is no marker.
///
/// # Errors
///
/// The partition could not be read or written, or what was just put there is damaged (`is_own`).
pub(super) fn claim(
    draft: &Draft<'_>,
    partition: Extent,
    is_own: bool,
) -> Result<Option<MarkerPlace>, DraftError> {
    let window = Window::new(draft, partition).ok_or(DraftError::Outside(partition))?;
    let found = FatVolume::open(&window).and_then(|volume| {
        let Some(entry) = volume.find(MARKER)? else {
            return Ok(None);
        };
        let marker = volume.read_file(&entry, MAX_MARKER_BYTES)?;
        let first = volume.extents_of(&entry)?.first().copied();
        Ok(first.map(|first| (marker, first.first)))
    });
    let (mut marker, first) = match found {
        Ok(Some(found)) => found,
        // A partition that firmware reads all the same may have no file system of this kind.
        Ok(None) | Err(FatError::BootSector { .. } | FatError::Odd(_)) => return Ok(None),
        Err(FatError::Device(error)) if !error.is_out_of_bounds() => return Err(error.into()),
        Err(error) if is_own => return Err(error.into()),
        Err(_damaged) => return Ok(None),
    };
    let Some((at, is_taken)) = Marker::make_room(&mut marker) else {
        return Ok(None);
    };
    let sector_bytes = draft.geometry().logical_sector as usize;
    let outside = || DraftError::Outside(partition);
    let in_window = u64::try_from(at / sector_bytes).ok();
    let in_window = in_window
        .and_then(|sectors| first.0.checked_add(sectors))
        .map(Lba);
    let in_window = in_window.ok_or_else(outside)?;
    let mut sector = window.read_sector(in_window)?;
    let begin = at / sector_bytes * sector_bytes;
    for (byte, new) in sector.iter_mut().zip(marker.iter().skip(begin)) {
        *byte = *new;
    }
    let byte_in_window = draft.geometry().byte_of(in_window).ok_or_else(outside)?;
    window.write_at(byte_in_window, &sector)?;
    let lba = partition.first.0.checked_add(in_window.0).map(Lba);
    let lba = lba.ok_or_else(outside)?;
    let hash_at = draft
        .geometry()
        .byte_of(lba)
        .zip(u64::try_from(at - begin).ok());
    let hash_at = hash_at.and_then(|(first, at)| first.checked_add(at));
    Ok(Some(MarkerPlace {
        hash_at: hash_at.ok_or_else(outside)?,
        sector: lba,
        is_taken,
    }))
}

impl Filled {
    fn put(
        &mut self,
        write: Write<'_>,
        disk: &dyn ReadDevice,
        content: &Content,
    ) -> Result<(), DraftError> {
        let Some(windows) = content.windows else {
            return self.put_own(write, content);
        };
        let source = Window::new(disk, windows).ok_or(DraftError::Outside(windows))?;
        let volume = NtfsVolume::open(&source)?;
        let files = &content.files;
        // The files made here lie between the others, away from the folders and from the loader, so
        // that an emulator's log of reads tells whether the BCD store was wanted.
        let (before, behind) = files.split_at(files.len() / 2);
        for file in before {
            self.copy(write, &volume, file)?;
        }
        self.put_own(write, content)?;
        for file in behind {
            self.copy(write, &volume, file)?;
        }
        Ok(())
    }

    /// The files that do not come from the Windows volume.
    fn put_own(&mut self, write: Write<'_>, content: &Content) -> Result<(), DraftError> {
        for (path, content) in &content.own {
            let names: Vec<&str> = path.split('\\').filter(|name| !name.is_empty()).collect();
            let replaces = write(&names, content)?;
            self.note(path, content, replaces);
        }
        Ok(())
    }

    /// Copies a file; one in memory at a time, boot files are some ten MiB together.
    fn copy(
        &mut self,
        write: Write<'_>,
        volume: &NtfsVolume<'_>,
        file: &BootFile,
    ) -> Result<(), DraftError> {
        let content = volume.open_file(file.record)?.read_all(file.len_bytes)?;
        let path: Vec<&str> = file.target.iter().map(String::as_str).collect();
        let replaces = write(&path, &content)?;
        self.note(&file.place(), &content, replaces);
        Ok(())
    }

    fn note(&mut self, path: &str, content: &[u8], replaces: bool) {
        if replaces {
            self.replaced.push(path.to_owned());
        }
        self.files.push(path.to_owned());
        self.bytes += content.len() as u64;
        self.hashes.push(blake3::hash(content));
    }

    /// Reads every file back from the new volume: it must hold what its source does.
    fn compare(&self, esp: &dyn ReadDevice) -> Result<(), DraftError> {
        let fat = FatVolume::open(esp)?;
        for (path, hash) in self.files.iter().zip(&self.hashes) {
            let entry = fat.find(path)?.filter(|entry| !entry.is_directory);
            let content = match entry {
                Some(entry) => fat.read_file(&entry, MAX_BOOT_FILE_BYTES)?,
                None => Vec::new(),
            };
            if blake3::hash(&content) != *hash {
                return Err(DraftError::Copy { path: path.clone() });
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{MIB, Memory};
    use crate::fat::DosTime;

    #[test]
    fn a_copy_that_is_not_its_source_is_noticed() {
        let esp = Memory::new(512, 100 * MIB / 512);
        let extent = Extent::new(Lba(0), 100 * MIB / 512).unwrap();
        let time = DosTime { date: 1, time: 0 };
        let mut writer = FatWriter::new(&esp, extent, 1, *b"SYSTEM     ", time).unwrap();
        writer.write_file(&["EFI", "a"], b"written").unwrap();
        writer.finish().unwrap();
        let shown = |path: &str, content: &[u8]| {
            let mut filled = Filled::default();
            filled.note(path, content, false);
            filled.compare(&esp).map_err(|error| error.to_string())
        };
        assert_eq!(shown("\\EFI\\a", b"written"), Ok(()));
        for (path, content) in [("\\EFI\\a", b"meant"), ("\\EFI\\b", b"never")] {
            let error = shown(path, content).unwrap_err();
            assert!(error.contains(path), "{error}");
        }
    }
}
