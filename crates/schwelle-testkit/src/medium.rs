//! A medium with a volatile cache, on which power goes, or a write fails.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::sync::Arc;
use std::sync::Mutex;

use schwelle_disk::device::{
    BlockDevice, DeviceError, Extent, Geometry, IoOp, Lba, Memory, ReadDevice,
};

use crate::Dice;

/// What differs from the old disk.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Image {
    /// Shared until one of the copies is written.
    sectors: Arc<BTreeMap<u64, Arc<[u8]>>>,
    /// First sectors of physical sectors that cannot be read until they are written whole.
    unreadable: BTreeSet<u64>,
}

impl Image {
    /// The sectors that differ, one by one.
    pub fn changed(&self) -> Vec<Extent> {
        let one = |&sector: &u64| Extent::new(Lba(sector), 1).unwrap();
        self.sectors.keys().map(one).collect()
    }

    /// The sectors in which this one holds something else than `other`, one by one.
    pub fn differs_from(&self, other: &Self) -> Vec<Lba> {
        let sectors = self.sectors.keys().chain(other.sectors.keys());
        let differs = sectors.filter(|&at| self.sectors.get(at) != other.sectors.get(at));
        let differs: BTreeSet<u64> = differs.copied().collect();
        differs.into_iter().map(Lba).collect()
    }

    fn put(&mut self, old: &Memory, sector: u64, bytes: &Arc<[u8]>) {
        if old.read_sector(Lba(sector)).unwrap()[..] == bytes[..] {
            if self.sectors.contains_key(&sector) {
                Arc::make_mut(&mut self.sectors).remove(&sector);
            }
        } else {
            Arc::make_mut(&mut self.sectors).insert(sector, Arc::clone(bytes));
        }
    }
}

/// What goes wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Failure {
    /// Power: nothing works any more, and the cache is lost.
    Power,
    /// One operation fails and does nothing.
    Once,
    /// One operation fails half-way.
    Short,
}

type Write = Vec<(u64, Arc<[u8]>)>;

#[derive(Debug, Default)]
struct Inside {
    durable: Image,
    /// Writes since the last flush, each by sector.
    pending: Vec<Write>,
    operations: usize,
    /// Which operations were flushes.
    flushes: Vec<usize>,
}

/// The medium: what is flushed lasts, of what is pending any part may be lost.
#[derive(Debug)]
pub struct Medium<'a> {
    old: &'a Memory,
    inside: Mutex<Inside>,
    failure: Option<(Failure, usize)>,
}

impl<'a> Medium<'a> {
    /// One that holds `old`, but for what differs from it.
    pub fn new(old: &'a Memory, durable: Image) -> Self {
        let inside = Inside {
            durable,
            ..Inside::default()
        };
        Self {
            old,
            inside: Mutex::new(inside),
            failure: None,
        }
    }

    /// Lets the operation with this number fail.
    pub fn fail(mut self, failure: Failure, at: usize) -> Self {
        self.failure = Some((failure, at));
        self
    }

    /// Writes and flushes so far.
    pub fn operations(&self) -> usize {
        self.inside.lock().unwrap().operations
    }

    /// Which operations were flushes.
    pub fn flushes(&self) -> Vec<usize> {
        self.inside.lock().unwrap().flushes.clone()
    }

    /// Writes since the last flush.
    pub fn pending(&self) -> usize {
        self.inside.lock().unwrap().pending.len()
    }

    /// What the medium holds when its cache has been written.
    pub fn into_image(self) -> Image {
        let inside = self.inside.into_inner().unwrap();
        let mut image = inside.durable;
        for (sector, bytes) in inside.pending.into_iter().flatten() {
            image.put(self.old, sector, &bytes);
        }
        image
    }

    fn surviving(&self, mut keep: impl FnMut(usize, usize) -> bool) -> Image {
        let inside = self.inside.lock().unwrap();
        let mut image = inside.durable.clone();
        for (write, sectors) in inside.pending.iter().enumerate() {
            for (index, (sector, bytes)) in sectors.iter().enumerate() {
                if keep(write, index) {
                    image.put(self.old, *sector, bytes);
                }
            }
        }
        image
    }

    /// What may be left after a cut: all of the unflushed writes, and with `omissions` all but each
    /// single one. Each beginning of them is what an earlier cut has left.
    pub fn survivors(&self, omissions: bool) -> Vec<Image> {
        let count = self.inside.lock().unwrap().pending.len();
        let single = count.saturating_sub(1) * usize::from(omissions);
        let without = (0..single).map(|without| self.surviving(|write, _| write != without));
        std::iter::once(self.surviving(|_, _| true))
            .chain(without)
            .collect()
    }

    /// A random choice of single sectors: writes in any order, and torn.
    pub fn survivors_at_random(&self, dice: &mut Dice) -> Image {
        self.surviving(|_, _| dice.once_in(2))
    }

    /// What may be left where the drive has physical sectors of several logical ones: one that was under way
    /// holds nothing that makes sense, or cannot be read at all. `None` where nothing was under way.
    pub fn torn(&self, is_readable: bool, dice: &mut Dice) -> Option<Image> {
        let step = self.physical();
        let under_way: Vec<u64> = {
            let inside = self.inside.lock().unwrap();
            let sectors = inside.pending.iter().flatten();
            sectors.map(|(sector, _)| sector / step * step).collect()
        };
        let pick = dice.index(under_way.len().max(1));
        let torn = *under_way.get(pick)?;
        let mut image = self.survivors_at_random(dice);
        if is_readable {
            for sector in torn..(torn + step).min(self.geometry().sectors) {
                let number = u8::try_from(sector % 97).unwrap();
                image.put(self.old, sector, &Arc::from([0xA0 ^ number; 512]));
            }
        } else {
            image.unreadable.insert(torn);
        }
        Some(image)
    }

    /// Logical sectors in a physical one.
    fn physical(&self) -> u64 {
        let geometry = self.geometry();
        u64::from(geometry.physical_sector / geometry.logical_sector)
    }

    fn error(operation: IoOp, offset: u64) -> DeviceError {
        DeviceError {
            operation,
            offset,
            lba: None,
            len_bytes: 512,
            source: io::Error::other("made up"),
        }
    }

    /// Counts an operation; how it fails, if it does.
    fn step(&self, inside: &mut Inside) -> Option<Failure> {
        let number = inside.operations;
        inside.operations += 1;
        let (failure, at) = self.failure?;
        let now = match failure {
            Failure::Power => number >= at,
            Failure::Once | Failure::Short => number == at,
        };
        now.then_some(failure)
    }
}

impl ReadDevice for Medium<'_> {
    fn geometry(&self) -> Geometry {
        self.old.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.old.read_at(offset, buffer)?;
        let inside = self.inside.lock().unwrap();
        let sector = u64::from(self.geometry().logical_sector);
        let end = offset + buffer.len() as u64;
        let range = offset / sector..end.div_ceil(sector);
        let step = self.physical();
        let mut lost = inside.durable.unreadable.range(..range.end);
        if let Some(first) = lost
            .next_back()
            .filter(|first| **first + step > range.start)
        {
            let failing = Lba((*first).max(range.start));
            return Err(Self::error(IoOp::Read, offset).at(failing));
        }
        let mut show = |number: u64, bytes: &[u8]| {
            let first = number * sector;
            let (from, to) = (first.max(offset), (first + sector).min(end));
            let index = |at: u64, base: u64| usize::try_from(at - base).unwrap();
            buffer[index(from, offset)..index(to, offset)]
                .copy_from_slice(&bytes[index(from, first)..index(to, first)]);
        };
        for (number, bytes) in inside.durable.sectors.range(range.clone()) {
            show(*number, bytes);
        }
        // A write is a run of sectors: most lie apart from what is read, and are passed over whole.
        let overlaps = |write: &&Write| {
            let ends = write.first().zip(write.last());
            ends.is_some_and(|((first, _), (last, _))| *first < range.end && *last >= range.start)
        };
        for (number, bytes) in inside.pending.iter().filter(overlaps).flatten() {
            if range.contains(number) {
                show(*number, bytes);
            }
        }
        Ok(())
    }
}

impl BlockDevice for Medium<'_> {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        let sector = self.geometry().logical_sector as usize;
        let mut inside = self.inside.lock().unwrap();
        let failure = self.step(&mut inside);
        let first = offset / sector as u64;
        let mut write: Write = (first..).zip(bytes.chunks(sector).map(Arc::from)).collect();
        let (step, end) = (self.physical(), first + write.len() as u64);
        let lost = inside.durable.unreadable.clone();
        for torn in lost.range((first + 1).saturating_sub(step)..end) {
            // The drive reads a physical sector to write a part of it.
            if *torn < first || (torn + step).min(self.geometry().sectors) > end {
                return Err(Self::error(IoOp::Write, offset));
            }
            inside.durable.unreadable.remove(torn);
        }
        match failure {
            Some(Failure::Power | Failure::Once) => return Err(Self::error(IoOp::Write, offset)),
            Some(Failure::Short) => write.truncate(write.len() / 2),
            None => {}
        }
        inside.pending.push(write);
        match failure {
            Some(_) => Err(Self::error(IoOp::Write, offset)),
            None => Ok(()),
        }
    }

    fn flush(&self) -> Result<(), DeviceError> {
        let mut inside = self.inside.lock().unwrap();
        let number = inside.operations;
        inside.flushes.push(number);
        if self.step(&mut inside).is_some() {
            return Err(Self::error(IoOp::Flush, 0));
        }
        let pending = std::mem::take(&mut inside.pending);
        for (sector, bytes) in pending.into_iter().flatten() {
            inside.durable.put(self.old, sector, &bytes);
        }
        Ok(())
    }
}
