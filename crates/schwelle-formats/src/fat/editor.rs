//! Puts files into a FAT32 volume that exists. All else on it stays where it is.

use zerocopy::FromBytes;

use super::FatShape;
use super::bpb::{FatKind, RawBpb};
use super::dir_entry::{
    ATTR_ARCHIVE, ATTR_DIRECTORY, DosTime, ENTRY_BYTES, ShortEntry, move_entry, write_long,
};
use super::directory::{Placed, entries};
use super::name::{is_valid_long, short_name};
use super::volume::{FatVolume, MAX_DIRECTORY_BYTES};
use super::writer::{END_OF_CHAIN, FatWriteError};
use crate::device::BlockDevice;

/// The file allocation table is kept in memory up to this length: that of a volume of 64 GiB.
const MAX_FAT_BYTES: u64 = 64 << 20;
/// Bits of an entry that belong to the cluster; the upper four are kept as they are.
const CLUSTER_BITS: u32 = 0x0FFF_FFFF;
/// In entry 1: closed cleanly, and no read or write has failed ("FAT[1]", bits 27 and 26).
const CLEAN: u32 = 0x0C00_0000;
/// A slot whose first byte is this is free, and so are all after it.
const END: u8 = 0;
const DELETED: u8 = 0xE5;

/// A volume being added to. Files and directories are written as they come; the FATs by
/// [`finish`](Self::finish).
#[derive(Debug)]
pub struct FatEditor<'a> {
    device: &'a dyn BlockDevice,
    shape: FatShape,
    fsinfo_sector: u16,
    time: DosTime,
    fat: Vec<u32>,
    /// Where the search for free clusters goes on.
    next: u32,
    /// A chain has been changed.
    is_changed: bool,
}

/// A directory in memory.
struct Folder {
    clusters: Vec<u32>,
    bytes: Vec<u8>,
}

fn unfit(fault: &'static str) -> FatWriteError {
    FatWriteError::Unfit { fault }
}

impl<'a> FatEditor<'a> {
    /// Opens the volume on `device`, the window on its partition.
    ///
    /// # Errors
    ///
    /// It is not sound, was not closed cleanly, or keeps its FATs in a way of its own; or the device's.
    pub fn open(device: &'a dyn BlockDevice, time: DosTime) -> Result<Self, FatWriteError> {
        Self::open_to_replace(device, time, |_| false)
    }

    /// The same for a volume on which files may have a length that is not theirs, if they are among those that
    /// [`write_file`](Self::write_file) puts another one in place of: `is_replaced` is given their paths, from the
    /// root on with backslashes.
    ///
    /// # Errors
    ///
    /// As for [`open`](Self::open).
    pub fn open_to_replace(
        device: &'a dyn BlockDevice,
        time: DosTime,
        is_replaced: impl Fn(&str) -> bool,
    ) -> Result<Self, FatWriteError> {
        let volume = FatVolume::open(device)?;
        if volume.shape().kind() != FatKind::Fat32 {
            return Err(unfit(
                "it is FAT12 or FAT16, and files are put into FAT32 only",
            ));
        }
        let faults = volume.check()?;
        let mut faults = faults.into_iter();
        if let Some(fault) = faults.find(|fault| !fault.only_file().is_some_and(&is_replaced)) {
            return Err(FatWriteError::NotSound(fault));
        }
        let shape = *volume.shape();
        let sector = device.read_vec(0, shape.sector_bytes as usize)?;
        let (raw, _) =
            RawBpb::ref_from_prefix(&sector).map_err(|_too_short| unfit("no boot sector"))?;
        let len_bytes = u64::from(shape.fat_sectors).saturating_mul(shape.sector_bytes.into());
        if len_bytes > MAX_FAT_BYTES {
            return Err(unfit("it is larger than any EFI system partition"));
        }
        let len = usize::try_from(len_bytes).map_err(|_too_large| unfit("its FAT is too long"))?;
        let bytes = device.read_vec(fat_at(&shape, 0), len)?;
        let fat: Vec<u32> = bytes
            .as_chunks::<4>()
            .0
            .iter()
            .map(|entry| u32::from_le_bytes(*entry))
            .collect();
        if fat.get(1).is_none_or(|flags| flags & CLEAN != CLEAN) {
            return Err(unfit("it was not closed cleanly"));
        }
        Ok(Self {
            device,
            shape,
            fsinfo_sector: raw.fsinfo_sector.get(),
            time,
            fat,
            next: 2,
            is_changed: false,
        })
    }

    /// Writes a file, in place of one of this name that is there. `path` is its names from the root on;
    /// folders on the way are made. True when it replaces one; one that holds the same already stays
    /// where it is.
    pub fn write_file(&mut self, path: &[&str], content: &[u8]) -> Result<bool, FatWriteError> {
        let refused = || FatWriteError::Name {
            path: path.join("\\"),
        };
        let (name, folders) = path.split_last().ok_or_else(refused)?;
        let folder = self.folder(folders)?;
        let known = self.find(folder, name)?;
        if let Some(known) = &known {
            if known.entry.is_directory {
                return Err(refused());
            }
            if self.holds(known, content)? {
                return Ok(false);
            }
            self.give_back(known.entry.cluster)?;
        }
        let full = || FatWriteError::Full {
            path: path.join("\\"),
        };
        let len_bytes = u32::try_from(content.len()).map_err(|_too_large| full())?;
        let count = content.len().div_ceil(self.shape.cluster_bytes() as usize);
        let clusters = self.allocate(count).ok_or_else(full)?;
        self.write_clusters(&clusters, content)?;
        let first = clusters.first().copied().unwrap_or(0);
        match &known {
            Some(known) => {
                let mut directory = self.load(folder)?;
                let slot = directory.bytes.get_mut(known.at..);
                let slot = slot.and_then(|rest| rest.first_chunk_mut::<ENTRY_BYTES>());
                let slot = slot.ok_or_else(refused)?;
                move_entry(slot, first, len_bytes, self.time);
                self.write_clusters(&directory.clusters, &directory.bytes)?;
            }
            None => self.add(folder, name, ATTR_ARCHIVE, first, len_bytes)?,
        }
        Ok(known.is_some())
    }

    /// True when a file that is there has this content.
    fn holds(&self, known: &Placed, content: &[u8]) -> Result<bool, FatWriteError> {
        if known.entry.len_bytes as usize != content.len() {
            return Ok(false);
        }
        if content.is_empty() {
            return Ok(known.entry.cluster == 0);
        }
        let clusters = self.chain(known.entry.cluster);
        let clusters = clusters.ok_or_else(|| unfit("a file is damaged"))?;
        let cluster_bytes = self.shape.cluster_bytes() as usize;
        if clusters.len() != content.len().div_ceil(cluster_bytes.max(1)) {
            return Ok(false);
        }
        for (cluster, part) in clusters.iter().zip(content.chunks(cluster_bytes.max(1))) {
            let there = self
                .device
                .read_vec(self.byte_of(*cluster), cluster_bytes)?;
            if !there.starts_with(part) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// First cluster of the folder at `path`, which is made where it is not there.
    fn folder(&mut self, path: &[&str]) -> Result<u32, FatWriteError> {
        let root = self.shape.root_cluster;
        let mut at = root;
        for name in path {
            at = match self.find(at, name)? {
                Some(known) if known.entry.is_directory => known.entry.cluster,
                Some(_) => {
                    let path = path.join("\\");
                    return Err(FatWriteError::Name { path });
                }
                None => {
                    let made = self.allocate(1).ok_or_else(|| FatWriteError::Full {
                        path: (*name).to_owned(),
                    })?;
                    let cluster = made.first().copied().unwrap_or(0);
                    // The parent is written as 0 when it is the root.
                    let up = if at == root { 0 } else { at };
                    let dots = [(*b".          ", cluster), (*b"..         ", up)];
                    let bytes = dots.map(|(name, cluster)| {
                        let entry = ShortEntry {
                            name,
                            attributes: ATTR_DIRECTORY,
                            cluster,
                            len_bytes: 0,
                        };
                        entry.write(self.time)
                    });
                    self.write_clusters(&made, &bytes.concat())?;
                    self.add(at, name, ATTR_DIRECTORY, cluster, 0)?;
                    cluster
                }
            };
        }
        Ok(at)
    }

    fn find(&self, folder: u32, name: &str) -> Result<Option<Placed>, FatWriteError> {
        let directory = self.load(folder)?;
        let mut all = entries(&directory.bytes).into_iter();
        Ok(all.find(|placed| placed.entry.is_named(name)))
    }

    fn load(&self, first: u32) -> Result<Folder, FatWriteError> {
        let cluster_bytes = self.shape.cluster_bytes();
        let limit = MAX_DIRECTORY_BYTES.div_ceil(cluster_bytes.into());
        let clusters = self.chain(first);
        let clusters = clusters.filter(|clusters| clusters.len() as u64 <= limit);
        let clusters = clusters.ok_or_else(|| unfit("a directory is damaged"))?;
        let mut bytes = Vec::new();
        for cluster in &clusters {
            let at = self.byte_of(*cluster);
            bytes.extend(self.device.read_vec(at, cluster_bytes as usize)?);
        }
        Ok(Folder { clusters, bytes })
    }

    /// Adds an entry to a folder, which grows where it has no room.
    fn add(
        &mut self,
        folder: u32,
        name: &str,
        attributes: u8,
        cluster: u32,
        len_bytes: u32,
    ) -> Result<(), FatWriteError> {
        let refused = || FatWriteError::Name {
            path: name.to_owned(),
        };
        let mut directory = self.load(folder)?;
        let taken = entries(&directory.bytes).into_iter();
        let taken = taken.map(|placed| placed.entry.short_name).collect();
        let known = is_valid_long(name)
            .then(|| short_name(name, &taken))
            .flatten();
        let (short, says_all) = known.ok_or_else(refused)?;
        let mut slots = match says_all {
            true => Vec::new(),
            false => write_long(name, &short),
        };
        let entry = ShortEntry {
            name: short,
            attributes,
            cluster,
            len_bytes,
        };
        slots.push(entry.write(self.time));
        let at = match free_slots(&directory.bytes, slots.len()) {
            Some(at) => at,
            None => self.grow(&mut directory, slots.len(), name)?,
        };
        let bytes = slots.concat();
        let end = at.saturating_add(bytes.len());
        let was_end = directory.bytes.get(at..end).is_some_and(|place| {
            let mut firsts = place.iter().step_by(ENTRY_BYTES);
            firsts.any(|first| *first == END)
        });
        let place = directory.bytes.get_mut(at..end).ok_or_else(refused)?;
        place.copy_from_slice(&bytes);
        // What stands beyond the end means nothing, and must not be taken for entries now.
        if let Some(behind) = directory.bytes.get_mut(end).filter(|_| was_end) {
            *behind = END;
        }
        self.write_clusters(&directory.clusters, &directory.bytes)
    }

    /// Gives a directory more clusters, empty ones; where the first of `slots` free slots stands.
    fn grow(
        &mut self,
        directory: &mut Folder,
        slots: usize,
        name: &str,
    ) -> Result<usize, FatWriteError> {
        let cluster_bytes = self.shape.cluster_bytes() as usize;
        let count = slots.saturating_mul(ENTRY_BYTES).div_ceil(cluster_bytes);
        let full = || FatWriteError::Full {
            path: name.to_owned(),
        };
        let more = self.allocate(count).ok_or_else(full)?;
        let (last, next) = (directory.clusters.last(), more.first());
        if let (Some(last), Some(next)) = (last, next) {
            self.set(*last, *next);
        }
        // No slot before these may end the directory.
        let at = directory.bytes.len();
        for slot in directory.bytes.as_chunks_mut::<ENTRY_BYTES>().0 {
            if slot[0] == END {
                slot[0] = DELETED;
            }
        }
        directory.clusters.extend(more);
        let added = count.saturating_mul(cluster_bytes);
        directory.bytes.resize(at.saturating_add(added), 0);
        Ok(at)
    }

    /// The clusters of a chain; `None` where it loops or leaves the volume.
    fn chain(&self, first: u32) -> Option<Vec<u32>> {
        let mut clusters = Vec::new();
        let mut at = first;
        while at < 0x0FFF_FFF8 {
            let is_inside = at >= 2 && u64::from(at) < self.end();
            if !is_inside || clusters.len() as u64 >= self.shape.clusters {
                return None;
            }
            clusters.push(at);
            at = self.fat.get(at as usize)? & CLUSTER_BITS;
        }
        Some(clusters)
    }

    /// The number after that of the last cluster.
    fn end(&self) -> u64 {
        self.shape.clusters.saturating_add(2)
    }

    fn set(&mut self, cluster: u32, value: u32) {
        self.is_changed = true;
        if let Some(entry) = self.fat.get_mut(cluster as usize) {
            *entry = (*entry & !CLUSTER_BITS) | (value & CLUSTER_BITS);
        }
    }

    fn give_back(&mut self, first: u32) -> Result<(), FatWriteError> {
        if first == 0 {
            return Ok(());
        }
        let clusters = self.chain(first);
        for cluster in clusters.ok_or_else(|| unfit("a file is damaged"))? {
            self.set(cluster, 0);
        }
        self.next = 2;
        Ok(())
    }

    /// A chain of `count` free clusters; `None` where there are not as many.
    fn allocate(&mut self, count: usize) -> Option<Vec<u32>> {
        let end = u32::try_from(self.end()).ok()?;
        let free = (self.next..end).filter(|cluster| {
            let entry = self.fat.get(*cluster as usize);
            entry.is_some_and(|entry| entry & CLUSTER_BITS == 0)
        });
        let clusters: Vec<u32> = free.take(count).collect();
        if clusters.len() < count {
            return None;
        }
        self.next = clusters
            .last()
            .map_or(self.next, |last| last.saturating_add(1));
        let links = clusters.iter().skip(1).copied().chain([END_OF_CHAIN]);
        for (cluster, next) in clusters.iter().zip(links) {
            self.set(*cluster, next);
        }
        Some(clusters)
    }

    fn byte_of(&self, cluster: u32) -> u64 {
        let sectors =
            u64::from(cluster.saturating_sub(2)).saturating_mul(self.shape.cluster_sectors.into());
        let sector = self.shape.data_sector.saturating_add(sectors);
        sector.saturating_mul(self.shape.sector_bytes.into())
    }

    /// Writes `content` to these clusters, the last one filled with zeros.
    fn write_clusters(&self, clusters: &[u32], content: &[u8]) -> Result<(), FatWriteError> {
        let cluster_bytes = self.shape.cluster_bytes() as usize;
        for (cluster, part) in clusters.iter().zip(content.chunks(cluster_bytes.max(1))) {
            let mut bytes = part.to_vec();
            bytes.resize(cluster_bytes, 0);
            self.device.write_at(self.byte_of(*cluster), &bytes)?;
        }
        Ok(())
    }

    /// Writes the FATs, and what FSInfo says of free clusters.
    pub fn finish(self) -> Result<(), FatWriteError> {
        if !self.is_changed {
            return Ok(());
        }
        let bytes: Vec<u8> = self
            .fat
            .iter()
            .flat_map(|entry| entry.to_le_bytes())
            .collect();
        for copy in 0..self.shape.fat_count {
            self.device.write_at(fat_at(&self.shape, copy), &bytes)?;
        }
        let clusters = usize::try_from(self.shape.clusters).unwrap_or(usize::MAX);
        let all = self.fat.iter().skip(2).take(clusters);
        let free = all.filter(|entry| *entry & CLUSTER_BITS == 0).count();
        let free = u32::try_from(free).unwrap_or(u32::MAX);
        for base in [0, self.shape.backup_sector] {
            self.write_fsinfo(base.saturating_add(self.fsinfo_sector), free)?;
        }
        Ok(())
    }

    /// Writes the count where there is an FSInfo sector; it is advice, and a volume may have none.
    fn write_fsinfo(&self, sector: u16, free: u32) -> Result<(), FatWriteError> {
        const MARK_AT: usize = 484;
        let sector_bytes = self.shape.sector_bytes;
        let at = u64::from(sector).saturating_mul(sector_bytes.into());
        if sector == 0 || u32::from(sector) >= self.shape.reserved_sectors {
            return Ok(());
        }
        let mut bytes = self.device.read_vec(at, sector_bytes as usize)?;
        let is_there = bytes.starts_with(b"RRaA")
            && bytes
                .get(MARK_AT..)
                .is_some_and(|rest| rest.starts_with(b"rrAa"));
        let values = [free, self.next].map(u32::to_le_bytes).concat();
        let place = bytes.get_mut(MARK_AT.saturating_add(4)..);
        let place = place.and_then(|rest| rest.get_mut(..values.len()));
        if let Some(place) = place.filter(|_| is_there) {
            place.copy_from_slice(&values);
            self.device.write_at(at, &bytes)?;
        }
        Ok(())
    }
}

/// Byte of a copy of the FAT.
fn fat_at(shape: &FatShape, copy: u32) -> u64 {
    let before = u64::from(copy).saturating_mul(shape.fat_sectors.into());
    let sector = u64::from(shape.reserved_sectors).saturating_add(before);
    sector.saturating_mul(shape.sector_bytes.into())
}

/// Where the first of `count` free slots in a row stands.
fn free_slots(directory: &[u8], count: usize) -> Option<usize> {
    let (mut run, mut ended) = (0_usize, false);
    let slots = directory.iter().step_by(ENTRY_BYTES);
    for (at, first) in (0..).step_by(ENTRY_BYTES).zip(slots) {
        ended |= *first == END;
        run = match ended || *first == DELETED {
            true => run.saturating_add(1),
            false => 0,
        };
        if run == count {
            let before = count.saturating_sub(1).saturating_mul(ENTRY_BYTES);
            return usize::checked_sub(at, before);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;
    use crate::device::{Extent, Lba, MIB, Memory, ReadDevice};
    use crate::fat::FatWriter;
    use proptest::prelude::*;

    const TIME: DosTime = DosTime {
        date: 0x5B77,
        time: 0,
    };

    fn volume(files: &BTreeMap<String, Vec<u8>>) -> Memory {
        let disk = Memory::new(512, 100 * MIB / 512);
        let extent = Extent::new(Lba(0), 100 * MIB / 512).unwrap();
        let mut writer = FatWriter::new(&disk, extent, 7, *b"OLD        ", TIME).unwrap();
        for (path, content) in files {
            let names: Vec<&str> = path.split('/').collect();
            writer.write_file(&names, content).unwrap();
        }
        writer.finish().unwrap();
        disk
    }

    fn edit(disk: &Memory, files: &BTreeMap<String, Vec<u8>>) -> Result<usize, FatWriteError> {
        let mut editor = FatEditor::open(disk, TIME)?;
        let mut replaced = 0;
        for (path, content) in files {
            let names: Vec<&str> = path.split('/').collect();
            replaced += usize::from(editor.write_file(&names, content)?);
        }
        editor.finish()?;
        Ok(replaced)
    }

    fn poke(disk: &Memory, at: u64, bytes: &[u8]) {
        let (sector, within) = (at / 512 * 512, usize::try_from(at % 512).unwrap());
        let len = (within + bytes.len()).next_multiple_of(512);
        let mut whole = disk.read_vec(sector, len).unwrap();
        whole[within..within + bytes.len()].copy_from_slice(bytes);
        disk.write_at(sector, &whole).unwrap();
    }

    fn content(disk: &Memory, path: &str) -> Option<Vec<u8>> {
        let fat = FatVolume::open(disk).unwrap();
        let entry = fat.find(&path.replace('/', "\\")).unwrap()?;
        Some(fat.read_file(&entry, 1 << 24).unwrap())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn what_is_added_is_there_and_what_was_there_stays(
            old in prop::collection::btree_map("[a-c]{1,2}/[A-Za-z ~]{1,20}x", prop::collection::vec(any::<u8>(), 0..3000), 0..40),
            new in prop::collection::btree_map("([a-d]{1,2}|b/EFI)/[A-Za-z ~]{1,20}x", prop::collection::vec(any::<u8>(), 0..9000), 1..60),
        ) {
            // FAT does not distinguish names by case.
            let lower = |files: BTreeMap<String, Vec<u8>>| -> BTreeMap<String, Vec<u8>> {
                files.into_iter().map(|(path, content)| (path.to_lowercase(), content)).collect()
            };
            let (old, new) = (lower(old), lower(new));
            let disk = volume(&old);
            let free = FatVolume::open(&disk).unwrap().free_bytes().unwrap();
            let replaced = edit(&disk, &new).unwrap();
            let other = |(path, content): &(&String, &Vec<u8>)| old.get(*path).is_some_and(|old| old != *content);
            prop_assert_eq!(replaced, new.iter().filter(other).count());
            let fat = FatVolume::open(&disk).unwrap();
            prop_assert_eq!(fat.check().unwrap(), []);
            for (path, expected) in old.iter().filter(|(path, _)| !new.contains_key(*path)).chain(&new) {
                prop_assert!(content(&disk, path).as_ref() == Some(expected), "{path}");
            }
            // Written again, nothing changes.
            let once = fat.free_bytes().unwrap();
            prop_assert!(once <= free);
            let before = disk.read_vec(0, 100 << 20).unwrap();
            prop_assert_eq!(edit(&disk, &new).unwrap(), 0);
            prop_assert!(disk.read_vec(0, 100 << 20).unwrap() == before);
            prop_assert!(FatVolume::open(&disk).unwrap().free_bytes().unwrap() == once);
        }
    }

    #[test]
    fn freed_slots_are_used_and_what_stands_behind_the_end_stays_behind_it() {
        let many =
            |count: usize| (0..count).map(|n| (format!("d/file number {n}.efi"), vec![1; 9]));
        let disk = volume(&many(20).collect());
        // 20 names of three slots each, "." and "..": after them rubbish, as a volume in use has it.
        let fat = FatVolume::open(&disk).unwrap();
        let folder = fat.find("\\d").unwrap().unwrap();
        let extents = fat.extents_of(&folder).unwrap();
        let end = extents[0].first.0 * 512 + (2 + 60) * 32;
        poke(&disk, end, &[0]);
        poke(&disk, end + 32, &[b'X'; 1500]);
        edit(
            &disk,
            &BTreeMap::from([("d/SHORT".to_owned(), vec![5; 10])]),
        )
        .unwrap();
        let fat = FatVolume::open(&disk).unwrap();
        assert_eq!(fat.read_dir(&folder).unwrap().len(), 21);
        assert_eq!(fat.check().unwrap(), []);
        edit(&disk, &many(300).collect()).unwrap();
        let fat = FatVolume::open(&disk).unwrap();
        assert_eq!(fat.read_dir(&folder).unwrap().len(), 301);
        assert_eq!(fat.check().unwrap(), []);
    }

    #[test]
    fn volumes_that_are_not_fit_are_refused() {
        let one = BTreeMap::from([("a".to_owned(), vec![1; 9])]);
        let refused = |disk: &Memory| edit(disk, &one).unwrap_err().to_string();
        // Entry 1 of both FATs: not closed cleanly.
        let disk = volume(&one);
        let fat = FatVolume::open(&disk).unwrap();
        for copy in 0..2 {
            let at = fat_at(fat.shape(), copy) + 4;
            poke(&disk, at, &0x07FF_FFFF_u32.to_le_bytes());
        }
        assert_eq!(refused(&disk), "it was not closed cleanly");
        let disk = volume(&one);
        for sector in [0, 6] {
            poke(&disk, sector * 512 + 40, &[0x80]);
        }
        assert_eq!(
            refused(&disk),
            "the boot sector's flags say that only FAT 1 of 2 is in use"
        );
        let disk = volume(&one);
        poke(&disk, fat_at(fat.shape(), 1) + 12, &[9]);
        assert_eq!(
            refused(&disk),
            "the FATs differ, first in the entry of cluster 3"
        );
        // A folder where a file is wanted, and the other way round; and no room.
        let disk = volume(&one);
        let mut editor = FatEditor::open(&disk, TIME).unwrap();
        assert!(editor.write_file(&["a", "b"], &[]).is_err());
        editor.write_file(&["c", "d"], &[]).unwrap();
        assert!(editor.write_file(&["c"], &[]).is_err());
        let error = editor
            .write_file(&["big"], &vec![0; 101 << 20])
            .unwrap_err();
        assert_eq!(error.to_string(), "the volume is full: big does not fit");
    }
}
