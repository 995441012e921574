//! The conversions that are cut: a disk, its plan, and its job folder.

use std::fs;
use std::path::PathBuf;

use schwelle_core::commit::StageKind;
use schwelle_core::device::{BlockDevice, Extent, MIB, Memory, Move, ReadDevice, Tracked};
use schwelle_core::identities::Style;
use schwelle_core::job::{JobFolder, JobKind, Recovery, RecoveryFailed, Side};
use schwelle_demo::{SMALL_JOBS, SmallJob};
use schwelle_disk::commit;
use tempfile::TempDir;

use schwelle_testkit::{Image, Medium};

/// What says how far a job has come.
const STATE_FILES: [&str; 3] = ["state-a.json", "state-b.json", "moved.json"];

/// Which way a conversion goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    /// From MBR to GPT.
    There,
    /// From GPT to MBR.
    Back,
    /// A GPT disk is mended.
    Mended,
    /// From MBR to GPT, on a disk that starts through code where the primary table goes.
    ThroughGap,
}

/// A conversion that can be begun again and again.
pub(crate) struct Bench {
    pub(crate) name: &'static str,
    pub(crate) old: Memory,
    folder: TempDir,
    /// The state at the moment when the disk may be written.
    ready: Vec<Option<Vec<u8>>>,
    /// The disk when the rest of the job begins: the old one, with the marker claimed.
    pub(crate) start: Image,
    /// What the converted disk differs in.
    pub(crate) finished: Image,
    /// Free clusters that took moved data.
    pub(crate) free_taken: Vec<Extent>,
    /// Later stages write where moved data has been.
    moved_is_overwritten: bool,
    /// Which way it goes.
    pub(crate) kind: Kind,
    /// What it edits at the end lies where something has moved to.
    edits_moved: bool,
    /// Single writes are left out only where a flush is next: so much is written that each case takes its
    /// time, or another kind writes the same in the same order.
    pub(crate) is_brief: bool,
}

/// What must be true of some of the kinds, or they would not be what their names say.
fn is_as_named(bench: &Bench) -> bool {
    use StageKind::{Claim, Clear, Commit, Edit, Fill, Prepare, Shrink, Table};
    match bench.name {
        "gap" => bench.free_taken.is_empty(),
        "shrink"
        | "shrink on a drive with larger physical sectors"
        | "shrink at a tight end"
        | "shrink before logical partitions" => bench.moved_is_overwritten,
        "shrink that moves what is edited" => bench.moved_is_overwritten && bench.edits_moved,
        "boot code in the gap" | "boot code in the gap of a drive with larger physical sectors" => {
            bench.stages() == [Prepare, Commit, Table, Edit]
        }
        "the end of a swap area" => {
            bench.stages() == [Shrink, Prepare, Commit, Edit] && bench.free_taken.is_empty()
        }
        "the way back to MBR" => bench.stages() == [Claim, Fill, Prepare, Commit, Clear, Edit],
        _ => true,
    }
}

/// Kinds whose single writes are left out only where a flush is next, since another kind writes the same in the same
/// order.
const BRIEF: [&str; 3] = [
    "shrink at a tight end",
    "gap with a tight end",
    "shrink before logical partitions",
];

impl Bench {
    /// A power cut tears a physical sector that holds several logical ones.
    pub(crate) fn has_large_sectors(&self) -> bool {
        let geometry = self.old.geometry();
        geometry.physical_sector > geometry.logical_sector
    }

    fn of(small: &SmallJob) -> Self {
        // In memory where there is such a place: thousands of jobs are flushed.
        let in_memory = PathBuf::from("/dev/shm");
        let folder = if in_memory.is_dir() {
            TempDir::new_in(in_memory)
        } else {
            TempDir::new()
        };
        let mut bench = Self {
            name: small.name,
            old: (small.disk)(),
            folder: folder.unwrap(),
            ready: Vec::new(),
            start: Image::default(),
            finished: Image::default(),
            free_taken: Vec::new(),
            moved_is_overwritten: false,
            kind: Kind::There,
            edits_moved: false,
            is_brief: false,
        };
        let medium = Medium::new(&bench.old, Image::default());
        bench.free_taken = {
            let plan = (small.draft)(&bench.old);
            let facts = (small.facts)();
            bench.kind = match (facts.kind, facts.to) {
                (JobKind::Mend, _) => Kind::Mended,
                (_, Style::Mbr) => Kind::Back,
                (_, Style::Gpt) if small.name.contains("boot code") => Kind::ThroughGap,
                (_, Style::Gpt) => Kind::There,
            };
            let mut job = JobFolder::create(&bench.path(), facts, "{}").unwrap();
            job.save(
                &bench.old,
                plan.drafts(),
                &plan.changes,
                plan.relied_on.clone(),
            )
            .unwrap();
            plan.bind(&job).unwrap();
            bench.ready = bench.state();
            bench.start = claimed(&bench.old, &bench.open());
            commit::apply(plan.drafts(), &plan.changes, &medium, &mut (), &mut ()).unwrap();
            commit::verify(plan.drafts(), &plan.changes, &medium, &mut ()).unwrap();
            let moves = &plan.changes.moves;
            let overwritten = |moved: &Move| {
                let extents = plan.changes.extents();
                extents
                    .into_iter()
                    .any(|extent| extent.overlaps(&moved.source()))
            };
            bench.moved_is_overwritten = moves.iter().any(overwritten);
            let edits = plan.changes.stages.last().unwrap();
            assert!(edits.kind == StageKind::Edit || bench.kind == Kind::Mended);
            let on_moved = |extent: Extent| moves.iter().any(|m| m.destination().overlaps(&extent));
            bench.edits_moved = edits.extents().any(on_moved);
            bench.is_brief = plan.changes.bytes() > 16 * MIB
                || bench.has_large_sectors()
                || BRIEF.contains(&small.name);
            moves.iter().map(Move::destination).collect()
        };
        bench.finished = medium.into_image();
        assert!(is_as_named(&bench), "{}", bench.name);
        bench
    }

    fn path(&self) -> PathBuf {
        self.folder.path().join("job")
    }

    pub(crate) fn open(&self) -> JobFolder {
        JobFolder::open(&self.path()).unwrap()
    }

    /// The record of how far the job has come: the files that hold it.
    pub(crate) fn state(&self) -> Vec<Option<Vec<u8>>> {
        STATE_FILES
            .map(|name| fs::read(self.path().join(name)).ok())
            .into()
    }

    pub(crate) fn set_state(&self, state: &[Option<Vec<u8>>]) {
        for (name, content) in STATE_FILES.iter().zip(state) {
            let path = self.path().join(name);
            match content {
                Some(content) => fs::write(path, content).unwrap(),
                None => drop(fs::remove_file(path)),
            }
        }
    }

    /// Puts the record back to the moment when the disk may be written.
    pub(crate) fn begin(&self) {
        self.set_state(&self.ready);
    }

    /// Writes the change set to a medium, from its beginning: by finishing a job that has written nothing yet, whose draft
    /// is made from the journal and lies over the medium itself, as it does over a real disk.
    pub(crate) fn convert(&self, medium: &Medium<'_>) -> Result<(), Box<RecoveryFailed>> {
        crate::go(crate::Way::Resume, self.open(), medium)
    }

    /// Writes and flushes of the whole conversion: how many, and which are flushes.
    pub(crate) fn operations(&self) -> (usize, Vec<usize>) {
        self.begin();
        let medium = Medium::new(&self.old, self.start.clone());
        self.convert(&medium).unwrap();
        (medium.operations(), medium.flushes())
    }

    /// Stages of the conversion.
    pub(crate) fn stages(&self) -> Vec<StageKind> {
        self.begin();
        let medium = Medium::new(&self.old, self.start.clone());
        let tracked = Tracked::new(&medium);
        let recovery = Recovery::open(self.open(), &tracked).unwrap();
        let planned = recovery.plan_resume().unwrap();
        let stages = &planned.plan().unwrap().changes.stages;
        stages.iter().map(|stage| stage.kind).collect()
    }
}

/// The disk once the job has claimed its marker, where there is one. Before that it proves another folder, so nothing but
/// the job itself begins it.
fn claimed(old: &Memory, job: &JobFolder) -> Image {
    let medium = Medium::new(old, Image::default());
    let extents = job.journal().unwrap().extents.iter();
    for entry in extents.filter(|entry| entry.stage == StageKind::Claim) {
        let bytes = job.bytes(entry, Side::New).unwrap();
        medium.write_at(entry.first_lba * 512, &bytes).unwrap();
    }
    medium.into_image()
}

/// The kinds of jobs there are.
pub(crate) fn scenarios() -> Vec<Bench> {
    SMALL_JOBS.iter().map(Bench::of).collect()
}
