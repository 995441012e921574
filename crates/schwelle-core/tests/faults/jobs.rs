//! The jobs that fail: a disk and a folder at several moments, and the ways that lead on from there.

use std::path::Path;
use std::sync::{Arc, Mutex};

use schwelle_core::bitlocker::Unlocked;
use schwelle_core::device::{
    BlockDevice, DeviceError, Extent, Geometry, Lba, Memory, ReadDevice, Tracked, Window,
};
use schwelle_core::draft::{Plan, RestoredNames};
use schwelle_core::job::{
    Finished, JobError, JobFolder, JobState, MovedExtent, PlannedResume, PlannedUndo, RecoverError,
    Recovery, RecoveryFailed,
};
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::pipeline::Rehearsed;
use schwelle_demo::{STAMP, SmallJob, edit_record};
use schwelle_testkit::{Failure, Faults, FaultyDisk, Image, Medium};

use crate::folder::Folder;

/// How a job goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Way {
    Resume,
    Undo,
}

/// Opens a folder.
pub(crate) fn open(folder: &Folder) -> Result<JobFolder, JobError> {
    JobFolder::open_in(Arc::new(folder.clone()), Path::new("job"))
}

/// Goes one way as the program does: the folder is opened, its disk recognised, the rest planned, trusted and written.
/// The names of used volumes, for which all of the disk is read, are planned on some kinds of disks only.
pub(crate) fn go(
    way: Way,
    folder: &Folder,
    disk: &dyn BlockDevice,
    plans_names: bool,
) -> Result<Finished, Box<RecoveryFailed>> {
    let before = |error: RecoverError| Box::new(RecoveryFailed::from(error));
    let job = open(folder).map_err(|error| before(error.into()))?;
    let is_over = matches!(job.state().state, JobState::Saving | JobState::Undone);
    if !is_over && !job.is_about(disk).map_err(before)? {
        panic!("the job's disk is not recognised");
    }
    let tracked = Tracked::new(disk);
    let recovery = Recovery::open(job, &tracked).map_err(before)?;
    let name = recovery.job().name();
    match way {
        Way::Resume => {
            let planned: PlannedResume<'_> = recovery.plan_resume().map_err(before)?;
            planned.trusted(Some(&name)).unwrap().write(&mut ())
        }
        Way::Undo => {
            let mut planned: PlannedUndo<'_> = recovery.plan_undo().map_err(before)?;
            if plans_names {
                RestoredNames::plan(&mut planned, STAMP.windows + 10_000_000).map_err(before)?;
            }
            planned.restored_table().map_err(before)?;
            planned.trusted(Some(&name)).unwrap().write(&mut ())
        }
    }
}

/// Why a conversion stopped.
#[derive(Debug)]
pub(crate) struct NotConverted {
    pub(crate) what: String,
    pub(crate) is_untouched: bool,
}

/// A disk that a job is drafted on once, to be carried out again and again: each time on a fresh medium, with other
/// faults.
#[derive(Debug)]
pub(crate) struct Rig<'a> {
    old: &'a Memory,
    now: Mutex<(Arc<Medium<'a>>, Faults)>,
}

impl<'a> Rig<'a> {
    pub(crate) fn new(old: &'a Memory) -> Self {
        let medium = Arc::new(Medium::new(old, Image::default()));
        Self {
            old,
            now: Mutex::new((medium, Faults::none())),
        }
    }

    fn now(&self) -> (Arc<Medium<'a>>, Faults) {
        self.now.lock().unwrap().clone()
    }

    fn with<T>(&self, work: impl FnOnce(&FaultyDisk<'_>) -> T) -> T {
        let (medium, faults) = self.now();
        work(&FaultyDisk::new(&*medium, &faults))
    }
}

impl ReadDevice for Rig<'_> {
    fn geometry(&self) -> Geometry {
        self.old.geometry()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.with(|disk| disk.read_at(offset, buffer))
    }
}

impl BlockDevice for Rig<'_> {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        self.with(|disk| disk.write_at(offset, bytes))
    }

    fn flush(&self) -> Result<(), DeviceError> {
        self.with(|disk| disk.flush())
    }
}

/// Carries out a drafted job on a fresh medium, which fails as well where `failure` says so; faults begin with the job
/// folder.
pub(crate) fn convert<'a>(
    small: &SmallJob,
    (disk, rehearsed): (&Unlocked<Rig<'a>>, &Rehearsed<'_>),
    folder: &Folder,
    faults: &Faults,
    failure: Option<usize>,
) -> (Arc<Medium<'a>>, Result<(), NotConverted>) {
    let medium = Medium::new(disk.disk().old, Image::default());
    let medium = Arc::new(match failure {
        Some(at) => medium.fail(Failure::Power, at),
        None => medium,
    });
    *disk.disk().now.lock().unwrap() = (medium.clone(), Faults::none());
    forget_hash(rehearsed.plan());
    *disk.disk().now.lock().unwrap() = (medium.clone(), faults.clone());
    let untouched = |error: JobError| NotConverted {
        what: error.to_string(),
        is_untouched: true,
    };
    let carried_out = || {
        faults.arm();
        let storage = Arc::new(folder.clone());
        let job = JobFolder::create_in(storage, Path::new("job"), (small.facts)(), "{}");
        let ready = rehearsed.ready().unwrap();
        let saved = ready
            .save(disk, job.map_err(untouched)?)
            .map_err(untouched)?;
        match saved.write(&mut ()) {
            Ok(_) => Ok(()),
            Err(failed) => Err(NotConverted {
                is_untouched: failed.error.is_untouched(),
                what: failed.to_string(),
            }),
        }
    };
    let done = carried_out();
    (medium, done)
}

/// Takes the hash of the last job's journal off the draft, which is made for one job alone.
fn forget_hash(plan: &Plan<'_>) {
    if let Some(at) = plan.relied_on.bound_at {
        let first = at / 512 * 512;
        let mut sector = plan.converted.read_vec(first, 512).unwrap();
        let begin = usize::try_from(at - first).unwrap();
        sector[begin..begin + 64].fill(b'0');
        plan.converted.write_at(first, &sector).unwrap();
    }
}

/// A moment of a job.
pub(crate) struct Moment {
    pub(crate) name: String,
    pub(crate) disk: Image,
    pub(crate) folder: Folder,
    /// The disk has been used since: it is only taken back.
    pub(crate) is_used: bool,
    /// What taking it back gives, if not the old disk.
    undone: Option<Image>,
}

impl Moment {
    /// The ways that lead on from here.
    pub(crate) fn ways(&self) -> Vec<Way> {
        match self.is_used {
            true => vec![Way::Undo],
            false => vec![Way::Resume, Way::Undo],
        }
    }
}

/// A kind of job at several moments.
pub(crate) struct Bench {
    pub(crate) name: &'static str,
    pub(crate) small: &'static SmallJob,
    pub(crate) old: Memory,
    pub(crate) finished: Image,
    pub(crate) moments: Vec<Moment>,
    /// One operation in so many fails, unless all are to: where so much is written that each case takes long, or where
    /// another kind has the same operations.
    pub(crate) step: usize,
    /// Taking it back plans the names of used volumes.
    pub(crate) plans_names: bool,
    /// Free clusters that took moved data.
    free_taken: Vec<Extent>,
}

impl Bench {
    pub(crate) fn of(small: &'static SmallJob) -> Self {
        let old = (small.disk)();
        let mut bench = Self {
            name: small.name,
            small,
            finished: Image::default(),
            moments: Vec::new(),
            step: match small.name {
                "the boot partition taken over" => 32,
                "shrink on a drive with larger physical sectors"
                | "shrink at a tight end"
                | "shrink that moves what is edited"
                | "shrink before logical partitions" => 4,
                _ => 1,
            },
            plans_names: ["gap", "shrink", "the way back to MBR"].contains(&small.name),
            free_taken: Vec::new(),
            old,
        };
        let moment = |name: String, disk, folder| Moment {
            name,
            disk,
            folder,
            is_used: false,
            undone: None,
        };
        let done = Folder::default();
        let mut moments = Vec::new();
        {
            let none = Faults::none();
            let disk = Unlocked::new(Rig::new(&bench.old), Vec::new());
            let rehearsed = Rehearsed::new((small.draft)(&disk));
            let drafted = (&disk, &rehearsed);
            let (whole, carried_out) = convert(small, drafted, &done, &none, None);
            carried_out.unwrap_or_else(|failed| panic!("{}: {}", small.name, failed.what));
            let operations = whole.operations();
            for quarter in 1..4 {
                let cut = operations * quarter / 4;
                let folder = Folder::default();
                let (medium, stopped) = convert(small, drafted, &folder, &none, Some(cut));
                assert!(stopped.is_err());
                let disk = medium.survivors(false).remove(0);
                let name = format!("stopped at {cut} of {operations}");
                moments.push(moment(name, disk, folder));
            }
            bench.finished = whole.survivors(false).remove(0);
        }
        bench.free_taken = free_taken(&done);
        if ["gap", "shrink"].contains(&small.name) {
            moments.push(used(&bench, &done));
        }
        moments.push(moment("done".to_owned(), bench.finished.clone(), done));
        bench.moments = moments;
        bench
    }

    /// Fails unless the image is what this way leads to from a moment.
    pub(crate) fn is_end(&self, way: Way, moment: &Moment, image: &Image, case: &str) {
        match (way, &moment.undone) {
            (Way::Resume, _) => assert!(*image == self.finished, "{case}: not the converted disk"),
            (Way::Undo, Some(undone)) => assert!(image == undone, "{case}: not the disk as it was"),
            (Way::Undo, None) => {
                let changed = image.changed();
                let stray = changed
                    .iter()
                    .find(|extent| !self.free_taken.iter().any(|moved| moved.contains(extent)));
                assert_eq!(stray, None, "{case}: not the old disk");
            }
        }
    }
}

/// Free clusters that take moved data in a job.
fn free_taken(done: &Folder) -> Vec<Extent> {
    let job = open(done).unwrap();
    let moves = &job.journal().unwrap().moves;
    let destination = |moved: &MovedExtent| {
        let first = Lba(moved.to_lba);
        Extent::new(first, moved.sectors).unwrap()
    };
    moves.iter().map(destination).collect()
}

/// The converted disk after a system has used its volume: a file was opened, which leaves the time in its record.
fn used(bench: &Bench, done: &Folder) -> Moment {
    let medium = Medium::new(&bench.old, bench.finished.clone());
    let windows = {
        let job = open(done).unwrap();
        let volumes = &job.journal().unwrap().volumes;
        let windows = volumes.iter().max_by_key(|volume| volume.sectors_after);
        windows
            .map(|volume| Extent::new(Lba(volume.first_lba), volume.sectors_after).unwrap())
            .unwrap()
    };
    let window = Window::new(&medium, windows).unwrap();
    let record = {
        let volume = NtfsVolume::open(&window).unwrap();
        let file = volume.find("\\Windows\\explorer.exe").unwrap();
        file.map_or(5, |file| file.record)
    };
    edit_record(&window, record, |record| {
        let content = usize::from(record[0x14]) + 0x18;
        record[content + 24] ^= 0x5A;
    })
    .unwrap();
    let disk = medium.into_image();
    let undone = Medium::new(&bench.old, disk.clone());
    go(Way::Undo, &done.copied(&Faults::none()), &undone, true).unwrap();
    Moment {
        name: "done and used".to_owned(),
        disk,
        folder: done.copied(&Faults::none()),
        is_used: true,
        undone: Some(undone.into_image()),
    }
}
