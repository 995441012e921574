//! The conversions that are cut: a disk, its plan, and its job folder.

use std::fs;
use std::path::PathBuf;

use schwelle_core::commit::{self, CommitError, Ledger, Observer, StageKind};
use schwelle_core::device::{Extent, HostFacts, Lba, MIB, Memory, Move};
use schwelle_core::draft::{Source, Stamp, build};
use schwelle_core::fat::DosTime;
use schwelle_core::job::JobFolder;
use schwelle_core::placement::{self, EspWish};
use schwelle_core::profile::Profile;
use schwelle_demo::{Asset, DiskBuilder, MbrEntry};
use tempfile::TempDir;
use uuid::Uuid;

use crate::medium::{Image, Medium};

/// A seeded number (xorshift).
pub(crate) fn roll(dice: &mut u64) -> u64 {
    *dice ^= *dice << 13;
    *dice ^= *dice >> 7;
    *dice ^= *dice << 17;
    *dice >> 3
}

/// A conversion that can be begun again and again.
pub(crate) struct Bench {
    pub(crate) name: &'static str,
    pub(crate) old: Memory,
    folder: TempDir,
    /// The state at the moment when the disk may be written.
    ready: Vec<u8>,
    /// What the converted disk differs in.
    pub(crate) finished: Image,
    /// Free clusters that took moved data.
    pub(crate) free_taken: Vec<Extent>,
}

impl Bench {
    fn new(name: &'static str, old: Memory) -> Self {
        // In memory where there is such a place: thousands of jobs are flushed.
        let in_memory = PathBuf::from("/dev/shm");
        let folder = if in_memory.is_dir() {
            TempDir::new_in(in_memory)
        } else {
            TempDir::new()
        };
        let mut bench = Self {
            name,
            old,
            folder: folder.unwrap(),
            ready: Vec::new(),
            finished: Image::default(),
            free_taken: Vec::new(),
        };
        let mut job = JobFolder::create(&bench.path(), "{}").unwrap();
        let medium = Medium::new(&bench.old, Image::default());
        bench.free_taken = {
            let profile = Profile::read(&bench.old, HostFacts::default()).unwrap();
            let place = placement::find(&bench.old, &profile, EspWish::default()).unwrap();
            let mut number = 0;
            let mut new_guid = || {
                number += 1;
                Uuid::from_u128(number)
            };
            let stamp = Stamp {
                dos: DosTime {
                    date: 0x5B77,
                    time: 0,
                },
                windows: 1,
            };
            let source = Source {
                new_guid: &mut new_guid,
                stamp,
            };
            let plan = build(&bench.old, &profile, &place, source).unwrap();
            job.save(
                &bench.old,
                &plan.draft,
                &plan.changes,
                plan.relied_on.clone(),
            )
            .unwrap();
            bench.ready = bench.state();
            commit::apply(&plan.draft, &plan.changes, &medium, &mut (), &mut ()).unwrap();
            commit::verify(&plan.draft, &plan.changes, &medium, &mut ()).unwrap();
            plan.changes.moves.iter().map(Move::destination).collect()
        };
        bench.finished = medium.into_image();
        bench
    }

    fn path(&self) -> PathBuf {
        self.folder.path().join("job")
    }

    pub(crate) fn open(&self) -> JobFolder {
        JobFolder::open(&self.path()).unwrap()
    }

    /// The record of how far the job has come.
    pub(crate) fn state(&self) -> Vec<u8> {
        fs::read(self.path().join("state.json")).unwrap()
    }

    pub(crate) fn set_state(&self, state: &[u8]) {
        fs::write(self.path().join("state.json"), state).unwrap();
    }

    /// Puts the record back to the moment when the disk may be written.
    pub(crate) fn begin(&self) {
        self.set_state(&self.ready);
    }

    /// Writes the change set to a medium, from its beginning. The draft is made from the journal
    /// and lies over the medium itself, as it does over a real disk.
    pub(crate) fn convert(
        &self,
        ledger: &mut dyn Ledger,
        medium: &Medium<'_>,
    ) -> Result<(), CommitError> {
        self.convert_watched(ledger, medium, &mut ())
    }

    /// The same, with somebody looking on.
    pub(crate) fn convert_watched(
        &self,
        ledger: &mut dyn Ledger,
        medium: &Medium<'_>,
        observer: &mut dyn Observer,
    ) -> Result<(), CommitError> {
        let plan = schwelle_core::job::recover::plan_resume(&self.open(), medium);
        let plan = plan.unwrap().unwrap();
        plan.write(medium, ledger, observer)
    }

    /// Writes and flushes of the whole conversion.
    pub(crate) fn operations(&self) -> usize {
        self.begin();
        let medium = Medium::new(&self.old, Image::default());
        self.convert(&mut (), &medium).unwrap();
        medium.operations()
    }

    /// Stages of the conversion.
    pub(crate) fn stages(&self) -> Vec<StageKind> {
        self.begin();
        let medium = Medium::new(&self.old, Image::default());
        let job = self.open();
        let plan = schwelle_core::job::recover::plan_resume(&job, &medium);
        let plan = plan.unwrap().unwrap();
        plan.changes.stages.iter().map(|stage| stage.kind).collect()
    }
}

fn entry(extent: Extent, active: bool) -> MbrEntry {
    MbrEntry {
        active,
        kind: 0x07,
        first: u32::try_from(extent.first.0).unwrap(),
        sectors: u32::try_from(extent.sectors()).unwrap(),
    }
}

/// A disk of `mib` MiB with the standard volumes, and what `more` adds.
fn disk(mib: u64, more: impl FnOnce(&DiskBuilder<'_>, [MbrEntry; 2])) -> Memory {
    let disk = Memory::new(512, mib * MIB / 512);
    let builder = DiskBuilder::new(&disk);
    let places = builder.standard(0x51C3_A7E5, "LANTERN-ONE").unwrap();
    more(
        &builder,
        [entry(places.boot, true), entry(places.windows, false)],
    );
    disk
}

fn extent(first_mib: u64, mib: u64) -> Extent {
    Extent::new(Lba(first_mib * 2048), mib * 2048).unwrap()
}

/// The kinds of conversions there are.
pub(crate) fn scenarios() -> Vec<Bench> {
    // The volumes end at 211 MiB.
    vec![
        Bench::new("gap", disk(330, |_, _| {})),
        Bench::new("trim", disk(213, |_, _| {})),
        Bench::new("trim at a tight end", disk(211, |_, _| {})),
        Bench::new(
            "gap with a tight end",
            disk(361, |builder, [boot, windows]| {
                // A third volume, up to the last sector.
                let last = extent(311, 50);
                builder.volume(Asset::Boot, last).unwrap();
                let entries = [boot, windows, entry(last, false)];
                builder.boot_record(Lba(0), 0x51C3_A7E5, &entries).unwrap();
            }),
        ),
        Bench::new(
            "trim in front of logical partitions",
            disk(232, |builder, [boot, windows]| {
                let container = MbrEntry {
                    kind: 0x0F,
                    ..entry(extent(211, 20), false)
                };
                let entries = [boot, windows, container];
                builder.boot_record(Lba(0), 0x51C3_A7E5, &entries).unwrap();
                let logical = |first, sectors| MbrEntry {
                    active: false,
                    kind: 0x83,
                    first,
                    sectors,
                };
                let next = MbrEntry {
                    kind: 0x05,
                    ..logical(20_480, 20_480)
                };
                let first = extent(211, 20).first;
                builder
                    .boot_record(first, 0, &[logical(2048, 18_000), next])
                    .unwrap();
                builder
                    .boot_record(Lba(first.0 + 20_480), 0, &[logical(2048, 18_000)])
                    .unwrap();
            }),
        ),
    ]
}
