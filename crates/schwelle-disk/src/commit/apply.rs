//! Applies a change set, and reads it back.

use std::cell::Cell;
use std::io;

use super::change_set::{ChangeSet, Stage, StageKind};
use crate::ahead::read_ahead;
use crate::device::{
    BlockDevice, Buffer, DeviceError, Extent, Geometry, Guard, IoOp, Lba, ReadDevice,
};

/// Bytes moved at a time.
const CHUNK_BYTES: usize = 1 << 20;

/// What happens during a commit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Event {
    /// A stage begins; it writes this many bytes.
    StageStarted(StageKind, u64),
    /// So many bytes have been written since the last event.
    Written(u64),
    /// All of a stage is on the medium.
    StageFlushed(StageKind),
    /// Reading back begins; so many bytes.
    VerifyStarted(u64),
    /// So many bytes have been read back since the last event.
    Verified(u64),
}

/// Takes events: a progress bar, a log, or nothing.
pub trait Observer {
    /// Something happened.
    fn event(&mut self, event: Event);

    /// True when a stop was asked for. Heeded where stopping is clean: between stages, and
    /// while clusters are copied.
    fn wants_to_stop(&self) -> bool {
        false
    }
}

impl Observer for () {
    fn event(&mut self, _: Event) {}
}

/// Keeps the record of how far a commit has come, where a power cut does not reach it.
pub trait Ledger {
    /// A stage is on the medium, and the next one has not begun. `moved` are the hashes of the
    /// sectors copied, in the order of the change set's moves; empty but for the stage `move`.
    fn stage_done(&mut self, stage: StageKind, moved: &[blake3::Hash]) -> io::Result<()>;
}

impl Ledger for () {
    fn stage_done(&mut self, _: StageKind, _: &[blake3::Hash]) -> io::Result<()> {
        Ok(())
    }
}

/// Why a commit stopped. Says whether the disk has been written.
#[derive(Debug, thiserror::Error)]
pub enum CommitError {
    /// The draft could not be read, or the device failed, before anything was written.
    #[error("nothing was written: {0}")]
    Untouched(DeviceError),
    /// The device failed after the first write.
    #[error("stopped in the stage {}{}: {source}", .stage.name(), ended_by(.source))]
    Stopped {
        /// The stage.
        stage: StageKind,
        /// What failed.
        source: DeviceError,
    },
    /// All is written, and could not be read back.
    #[error("all is written, but could not be read back: {0}")]
    NotReadBack(DeviceError),
    /// What was read back is not what was written.
    #[error("read back from {at}: not what was written")]
    Mismatch {
        /// The first sector that differs.
        at: Lba,
    },
    /// A stop was asked for.
    #[error("stopped as asked, before the stage {} was complete", .stage.name())]
    Interrupted {
        /// The stage that was not begun, or not finished.
        stage: StageKind,
        /// The disk has been written.
        wrote: bool,
    },
    /// A stage is complete, but the record of it could not be kept.
    #[error("the stage {} is complete, but the job's record could not be kept: {source}", .stage.name())]
    NotRecorded {
        /// The stage.
        stage: StageKind,
        /// What the system said.
        source: io::Error,
    },
}

/// A flush ends the stage that it fails in.
fn ended_by(source: &DeviceError) -> &'static str {
    match source.operation {
        IoOp::Flush => ", by the flush that ends it",
        IoOp::Read | IoOp::Write => "",
    }
}

impl CommitError {
    /// True when nothing was written to the disk.
    pub fn is_untouched(&self) -> bool {
        matches!(
            self,
            Self::Untouched(_) | Self::Interrupted { wrote: false, .. }
        )
    }
}

/// An extent cut into transfers: (byte offset, length).
fn transfers(geometry: Geometry, extent: Extent) -> impl Iterator<Item = (u64, usize)> {
    let sector = u64::from(geometry.logical_sector);
    let (from, to) = (
        extent.first.0.saturating_mul(sector),
        extent.end.0.saturating_mul(sector),
    );
    (from..to).step_by(CHUNK_BYTES).map(move |at| {
        let left = usize::try_from(to - at);
        (at, left.map_or(CHUNK_BYTES, |left| left.min(CHUNK_BYTES)))
    })
}

/// The drafts that the stages take their bytes from. Two, since a sector may change twice: a file
/// whose clusters were moved is edited where they are now, and the old disk must not see that.
#[derive(Debug, Clone, Copy)]
pub struct Drafts<'a> {
    /// The disk when it is converted, before anything is edited.
    pub converted: &'a dyn ReadDevice,
    /// The finished disk; may be the same.
    pub finished: &'a dyn ReadDevice,
}

impl<'a> Drafts<'a> {
    /// One draft, in which nothing is left to edit.
    pub fn one(draft: &'a dyn ReadDevice) -> Self {
        Self {
            converted: draft,
            finished: draft,
        }
    }

    /// The one that `stage` takes its bytes from.
    pub fn of(&self, stage: StageKind) -> &'a dyn ReadDevice {
        match stage {
            StageKind::Edit => self.finished,
            _ => self.converted,
        }
    }
}

/// Writes the stages of `set` to `disk`, taking the bytes from `drafts`, which lie over this
/// disk. Each stage is flushed, and entered in the ledger, before the next begins. What was
/// moved is read back before anything that relies on it is written.
///
/// # Errors
///
/// Where it stopped, and whether anything was written. That the ledger did not take the last stage is no error: the
/// disk is complete then, and the caller records the end of the job itself.
pub fn apply(
    drafts: Drafts<'_>,
    set: &ChangeSet,
    disk: &dyn BlockDevice,
    ledger: &mut dyn Ledger,
    observer: &mut dyn Observer,
) -> Result<(), CommitError> {
    let guard = Guard::new(disk, set.extents().collect());
    let mut run = Run {
        drafts,
        geometry: set.geometry,
        disk: &guard,
        wrote: false,
    };
    for (index, stage) in set.stages.iter().enumerate() {
        let is_last = index + 1 == set.stages.len();
        if observer.wants_to_stop() {
            let (stage, wrote) = (stage.kind, run.wrote);
            return Err(CommitError::Interrupted { stage, wrote });
        }
        observer.event(Event::StageStarted(stage.kind, stage.bytes(set.geometry)));
        let kind = stage.kind;
        let moved = if kind == StageKind::Move {
            run.copy(stage, observer)?
        } else {
            run.write(stage, observer)?;
            Vec::new()
        };
        match ledger.stage_done(kind, &moved) {
            // Everything is written: a record that does not say so is one for the caller to complete.
            Err(source) if !is_last => {
                return Err(CommitError::NotRecorded {
                    stage: kind,
                    source,
                });
            }
            Ok(()) | Err(_) => {}
        }
        observer.event(Event::StageFlushed(stage.kind));
    }
    Ok(())
}

/// A commit under way.
pub(super) struct Run<'a> {
    pub(super) drafts: Drafts<'a>,
    pub(super) geometry: Geometry,
    pub(super) disk: &'a dyn BlockDevice,
    pub(super) wrote: bool,
}

impl Run<'_> {
    /// Writes a stage, and returns when it is on the medium.
    fn write(&mut self, stage: &Stage, observer: &mut dyn Observer) -> Result<(), CommitError> {
        let wrote = Cell::new(self.wrote);
        let failed = |source| failure(wrote.get(), stage.kind, source);
        let places = places(self.geometry, stage);
        let draft = self.drafts.of(stage.kind);
        let read = |&(_, offset, len): &Place, buffer: &mut Buffer| {
            draft.read_at(offset, buffer.of_len(len))
        };
        let done = read_ahead(places, read, |(_, offset, _), bytes| {
            let bytes = bytes.map_err(failed)?;
            // A write that fails may have written some of its sectors.
            wrote.set(true);
            self.disk.write_at(offset, bytes).map_err(failed)?;
            observer.event(Event::Written(bytes.len() as u64));
            Ok(())
        });
        self.wrote = wrote.get();
        done?;
        self.disk
            .flush()
            .map_err(|source| failure(self.wrote, stage.kind, source))
    }
}

/// A failure, before or after the first write.
pub(super) fn failure(wrote: bool, stage: StageKind, source: DeviceError) -> CommitError {
    if wrote {
        CommitError::Stopped { stage, source }
    } else {
        CommitError::Untouched(source)
    }
}

/// A transfer: number of the extent, byte offset, length.
pub(super) type Place = (usize, u64, usize);

/// A stage cut into transfers.
pub(super) fn places(geometry: Geometry, stage: &Stage) -> impl Iterator<Item = Place> + Send {
    stage
        .extents()
        .enumerate()
        .flat_map(move |(index, extent)| {
            transfers(geometry, extent).map(move |(offset, len)| (index, offset, len))
        })
}

/// BLAKE3 hash of an extent of a device.
pub fn hash_of(device: &dyn ReadDevice, extent: Extent) -> Result<blake3::Hash, DeviceError> {
    let mut hasher = blake3::Hasher::new();
    for (offset, len) in transfers(device.geometry(), extent) {
        hasher.update(&device.read_vec(offset, len)?);
    }
    Ok(hasher.finalize())
}

/// Reads back every extent of `set` and compares it with the finished disk.
///
/// The drafts hold every sector of the set themselves, so this compares with what was meant even
/// when they lie over the very disk that was written. What was moved is only a reference there,
/// and has been read back before its source was given up.
pub fn verify(
    drafts: Drafts<'_>,
    set: &ChangeSet,
    disk: &dyn ReadDevice,
    observer: &mut dyn Observer,
) -> Result<(), CommitError> {
    let held = || {
        set.stages
            .iter()
            .filter(|stage| stage.kind != StageKind::Move)
    };
    let bytes = held().map(|stage| stage.bytes(set.geometry)).sum();
    observer.event(Event::VerifyStarted(bytes));
    let failed = CommitError::NotReadBack;
    let sector = u64::from(set.geometry.logical_sector);
    for (offset, len) in held()
        .flat_map(Stage::extents)
        .flat_map(|extent| transfers(set.geometry, extent))
    {
        let (wanted, found) = (
            drafts.finished.read_vec(offset, len).map_err(failed)?,
            disk.read_vec(offset, len).map_err(failed)?,
        );
        let differs = wanted.iter().zip(&found).position(|(a, b)| a != b);
        if let Some(at) = differs {
            return Err(CommitError::Mismatch {
                at: Lba((offset + at as u64) / sector),
            });
        }
        observer.event(Event::Verified(len as u64));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;
    use crate::commit::Purpose;
    use crate::commit::Region;
    use crate::device::{Draft, Memory};

    #[derive(Debug, Clone, PartialEq)]
    enum Step {
        Write(u64, usize),
        Flush,
    }

    /// Records what is done to it, and fails at the nth step if asked to.
    #[derive(Debug)]
    struct Recorder {
        disk: Memory,
        steps: Mutex<Vec<Step>>,
        fail_at: Option<usize>,
    }

    impl Recorder {
        fn new(fail_at: Option<usize>) -> Self {
            Self {
                disk: Memory::new(512, 10_000),
                steps: Mutex::default(),
                fail_at,
            }
        }

        fn step(&self, step: Step) -> Result<(), DeviceError> {
            let mut steps = self.steps.lock().unwrap();
            steps.push(step);
            match self.fail_at {
                Some(at) if at + 1 == steps.len() => {
                    Err(DeviceError::out_of_bounds(IoOp::Write, 0, 0))
                }
                _ => Ok(()),
            }
        }
    }

    impl ReadDevice for Recorder {
        fn geometry(&self) -> Geometry {
            self.disk.geometry()
        }
        fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
            self.disk.read_at(offset, buffer)
        }
    }

    impl BlockDevice for Recorder {
        fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
            self.step(Step::Write(offset, bytes.len()))?;
            self.disk.write_at(offset, bytes)
        }
        fn flush(&self) -> Result<(), DeviceError> {
            self.step(Step::Flush)
        }
    }

    fn set(draft: &Draft<'_>) -> ChangeSet {
        let region = |first, end| Extent::between(Lba(first), Lba(end));
        let regions = [
            Region::new(StageKind::Prepare, Purpose::Esp, region(1, 10_000)),
            Region::new(StageKind::Commit, Purpose::Sector0, region(0, 1)),
        ];
        ChangeSet::of(draft, Purpose::MovedClusters, &regions).unwrap()
    }

    fn write(draft: &Draft<'_>, disk: &Recorder) -> Result<(), CommitError> {
        apply(Drafts::one(draft), &set(draft), disk, &mut (), &mut ())
    }

    #[test]
    fn sector_0_comes_alone_behind_a_flush_and_before_one() {
        let recorder = Recorder::new(None);
        let draft = Draft::new(&recorder.disk);
        draft.write_at(0, &[1; 3 << 20]).unwrap();
        write(&draft, &recorder).unwrap();
        let steps = recorder.steps.lock().unwrap().clone();
        assert_eq!(steps[0], Step::Write(512, 1 << 20));
        assert_eq!(
            steps[steps.len() - 3..],
            [Step::Flush, Step::Write(0, 512), Step::Flush]
        );
        assert_eq!(steps.iter().filter(|step| **step == Step::Flush).count(), 2);
        verify(Drafts::one(&draft), &set(&draft), &recorder, &mut ()).unwrap();
    }

    #[test]
    fn a_failure_says_whether_the_disk_was_written() {
        for (fail_at, expected) in [
            (0, "stopped in the stage prepare"),
            (4, "stopped in the stage commit"), // three writes, the flush, sector 0
            (5, "stopped in the stage commit"),
        ] {
            let recorder = Recorder::new(Some(fail_at));
            let draft = Draft::new(&recorder.disk);
            draft.write_at(0, &[1; 3 << 20]).unwrap();
            let error = write(&draft, &recorder).unwrap_err().to_string();
            assert!(error.starts_with(expected), "{error}");
        }
    }

    /// Says that it writes, and does not write one sector.
    #[derive(Debug)]
    struct Forgetful(Memory, u64);

    impl ReadDevice for Forgetful {
        fn geometry(&self) -> Geometry {
            self.0.geometry()
        }
        fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
            self.0.read_at(offset, buffer)
        }
    }

    impl BlockDevice for Forgetful {
        fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
            for (sector, bytes) in (offset / 512..).zip(bytes.chunks(512)) {
                if sector != self.1 {
                    self.0.write_at(sector * 512, bytes)?;
                }
            }
            Ok(())
        }
        fn flush(&self) -> Result<(), DeviceError> {
            Ok(())
        }
    }

    #[test]
    fn what_was_moved_is_read_back_before_anything_else_is_written() {
        let disk = Forgetful(Memory::new(512, 10_000), 5001);
        disk.0.write_at(900 * 512, &[7; 8 * 512]).unwrap();
        let draft = Draft::new(&disk);
        for (from, to) in [(900, 4000), (902, 5000)] {
            draft.move_sectors(crate::device::Move {
                from: Lba(from),
                to: Lba(to),
                sectors: 2,
            });
        }
        draft.write_at(900 * 512, &[1; 512]).unwrap();
        let set = set(&draft);
        assert_eq!((set.moved_bytes(), set.bytes()), (4 * 512, 5 * 512));
        let error = apply(Drafts::one(&draft), &set, &disk, &mut (), &mut ()).unwrap_err();
        assert!(
            matches!(error, CommitError::Mismatch { at: Lba(5000) }),
            "{error}"
        );
        assert_eq!(disk.read_vec(900 * 512, 512).unwrap(), [7; 512]);
    }

    #[test]
    fn what_is_not_as_written_is_noticed() {
        let (base, recorder) = (Memory::new(512, 10_000), Recorder::new(None));
        let draft = Draft::new(&base);
        draft.write_at(4096, &[7; 4096]).unwrap();
        write(&draft, &recorder).unwrap();
        recorder.disk.write_at(11 * 512, &[8; 512]).unwrap();
        let error = verify(Drafts::one(&draft), &set(&draft), &recorder, &mut ()).unwrap_err();
        assert!(
            matches!(error, CommitError::Mismatch { at: Lba(11) }),
            "{error}"
        );
    }
}
