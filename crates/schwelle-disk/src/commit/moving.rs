//! The stage `move`: copies clusters, and reads back what is on the medium while more is copied.

use std::cell::Cell;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, Receiver, Sender};
use std::{mem, thread};

use super::apply::{CommitError, Event, Observer, Place, Run, failure, places};
use super::change_set::Stage;
use crate::ahead::read_ahead;
use crate::device::{Buffer, DeviceError, ReadDevice};

/// So much is copied and flushed before it is read back.
const BATCH_BYTES: usize = 64 << 20;

/// Transfers whose sectors are copied.
type Batch = Vec<Place>;

impl Run<'_> {
    /// Copies what `stage` moves. Returns when all of it is on the medium and was read back as it was
    /// written, with the hash of each extent.
    pub(super) fn copy(
        &mut self,
        stage: &Stage,
        observer: &mut dyn Observer,
    ) -> Result<Vec<blake3::Hash>, CommitError> {
        let (disk, given_up) = (self.disk, AtomicBool::new(false));
        let (to_read, on_medium) = mpsc::channel();
        let (tell, shown) = mpsc::channel();
        let (copied, read) = thread::scope(|scope| {
            let reader = scope.spawn(|| read_back(disk, on_medium, &given_up, tell));
            let copied = self.copy_batches(stage, observer, to_read);
            given_up.store(copied.is_err(), Ordering::Relaxed);
            if copied.is_ok() {
                observer.event(Event::VerifyStarted(stage.bytes(self.geometry)));
                for bytes in shown {
                    observer.event(Event::Verified(bytes));
                }
            }
            (copied, reader.join().expect("reading does not panic"))
        });
        // Copying ends when reading has failed: that is reported, and not the end.
        let read = read.map_err(|source| failure(self.wrote, stage.kind, source))?;
        let copied = copied?;
        let mut pairs = stage.extents().zip(copied.iter().zip(&read));
        match pairs.find(|(_, (written, found))| written != found) {
            Some((extent, _)) => Err(CommitError::Mismatch { at: extent.first }),
            None => Ok(copied),
        }
    }

    /// Copies, flushes after each batch, and hands the batch on to be read back.
    fn copy_batches(
        &mut self,
        stage: &Stage,
        observer: &mut dyn Observer,
        to_read: Sender<Batch>,
    ) -> Result<Vec<blake3::Hash>, CommitError> {
        let kind = stage.kind;
        let wrote = Cell::new(self.wrote);
        let failed = |source| failure(wrote.get(), kind, source);
        let mut hashes = Hashes::default();
        let (mut batch, mut batch_bytes) = (Batch::new(), 0);
        let places = places(self.geometry, stage);
        let draft = self.drafts.of(kind);
        let read = |&(_, offset, len): &Place, buffer: &mut Buffer| {
            draft.read_at(offset, buffer.of_len(len))
        };
        let done = read_ahead(places, read, |(index, offset, len), bytes| {
            let bytes = bytes.map_err(failed)?;
            // What was copied so far lies in free clusters: it may be left there.
            let stopped = CommitError::Interrupted {
                stage: kind,
                wrote: wrote.get(),
            };
            if observer.wants_to_stop() {
                return Err(stopped);
            }
            // A write that fails may have written some of its sectors.
            wrote.set(true);
            self.disk.write_at(offset, bytes).map_err(failed)?;
            observer.event(Event::Written(len as u64));
            hashes.add(index, bytes);
            batch.push((index, offset, len));
            batch_bytes += len;
            if batch_bytes >= BATCH_BYTES {
                self.disk.flush().map_err(failed)?;
                batch_bytes = 0;
                // It is not taken any more when something could not be read.
                to_read
                    .send(mem::take(&mut batch))
                    .map_err(|_closed| stopped)?;
            }
            Ok(())
        });
        self.wrote = wrote.get();
        done?;
        self.disk.flush().map_err(failed)?;
        to_read.send(batch).ok();
        Ok(hashes.finish())
    }
}

/// Reads batches as they come, and tells how many bytes were read. The hash of each extent, or as far
/// as it came when the copying was given up.
fn read_back(
    disk: &dyn ReadDevice,
    on_medium: Receiver<Batch>,
    given_up: &AtomicBool,
    tell: Sender<u64>,
) -> Result<Vec<blake3::Hash>, DeviceError> {
    let mut hashes = Hashes::default();
    let places = on_medium
        .into_iter()
        .flatten()
        .take_while(|_| !given_up.load(Ordering::Relaxed));
    let read =
        |&(_, offset, len): &Place, buffer: &mut Buffer| disk.read_at(offset, buffer.of_len(len));
    read_ahead(places, read, |(index, _, len), bytes| {
        hashes.add(index, bytes?);
        tell.send(len as u64).ok();
        Ok(())
    })?;
    Ok(hashes.finish())
}

/// The hashes of extents whose chunks come in order.
#[derive(Default)]
struct Hashes {
    done: Vec<blake3::Hash>,
    open: Option<(usize, blake3::Hasher)>,
}

impl Hashes {
    fn add(&mut self, index: usize, bytes: &[u8]) {
        match &mut self.open {
            Some((open, hasher)) if *open == index => {
                hasher.update(bytes);
            }
            _ => {
                let before = self.open.take().map(|(_, hasher)| hasher.finalize());
                self.done.extend(before);
                let mut hasher = blake3::Hasher::new();
                hasher.update(bytes);
                self.open = Some((index, hasher));
            }
        }
    }

    fn finish(mut self) -> Vec<blake3::Hash> {
        let last = self.open.map(|(_, hasher)| hasher.finalize());
        self.done.extend(last);
        self.done
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commit::Purpose;
    use crate::commit::{ChangeSet, Drafts, apply};
    use crate::device::{BlockDevice, Draft, Geometry, IoOp, Lba, Memory, Move};

    const MIB: u64 = 2048;

    /// A disk with a sector that can be written and not read.
    #[derive(Debug)]
    struct Unreadable(Memory, u64);

    impl ReadDevice for Unreadable {
        fn geometry(&self) -> Geometry {
            self.0.geometry()
        }
        fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
            if (offset..offset + buffer.len() as u64).contains(&(self.1 * 512)) {
                return Err(DeviceError::out_of_bounds(IoOp::Read, offset, 0));
            }
            self.0.read_at(offset, buffer)
        }
    }

    impl BlockDevice for Unreadable {
        fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
            self.0.write_at(offset, bytes)
        }
        fn flush(&self) -> Result<(), DeviceError> {
            Ok(())
        }
    }

    /// What is reported of a commit.
    #[derive(Default)]
    struct Told(Vec<Event>);

    impl Observer for Told {
        fn event(&mut self, event: Event) {
            self.0.push(event);
        }
    }

    /// Two batches and some, as one extent and many of a sector.
    fn moving(disk: &dyn BlockDevice) -> (Result<(), CommitError>, Told) {
        let draft = Draft::new(disk);
        let mut shown = Told::default();
        let long = Move {
            from: Lba(MIB),
            to: Lba(200 * MIB),
            sectors: 140 * MIB,
        };
        draft.move_sectors(long);
        for number in 0..300 {
            draft.move_sectors(Move {
                from: Lba(150 * MIB + 2 * number),
                to: Lba(350 * MIB + 3 * number),
                sectors: 1,
            });
        }
        let set = ChangeSet::of(&draft, Purpose::MovedClusters, &[]).unwrap();
        let done = apply(Drafts::one(&draft), &set, disk, &mut (), &mut shown);
        (done, shown)
    }

    #[test]
    fn all_that_was_moved_is_read_back_once() {
        let disk = Memory::new(512, 400 * MIB);
        disk.write_at(77 * MIB * 512, &[7; 5000]).unwrap();
        let (done, shown) = moving(&disk);
        done.unwrap();
        let moved = 140 * MIB * 512 + 300 * 512;
        let count = |bytes_of: fn(&Event) -> Option<u64>| -> u64 {
            shown.0.iter().filter_map(bytes_of).sum()
        };
        let written = count(|event| match event {
            Event::Written(bytes) => Some(*bytes),
            _ => None,
        });
        let verified = count(|event| match event {
            Event::Verified(bytes) => Some(*bytes),
            _ => None,
        });
        assert_eq!((written, verified), (moved, moved));
        assert_eq!(
            disk.read_vec(276 * MIB * 512, 5001).unwrap()[4999..],
            [7, 0]
        );
    }

    #[test]
    fn a_sector_that_cannot_be_read_back_ends_the_copying() {
        // In the first batch, in the last, and among the small extents.
        for sector in [201 * MIB, 339 * MIB, 350 * MIB + 3 * 299] {
            let (done, _) = moving(&Unreadable(Memory::new(512, 400 * MIB), sector));
            let error = done.unwrap_err();
            assert!(
                matches!(&error, CommitError::Stopped { source, .. } if source.operation == IoOp::Read),
                "{error}"
            );
        }
    }
}
