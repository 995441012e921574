//! Power is cut at every write of whole conversions, and at those of finishing and undoing them.
//!
//! Each cut leaves a medium on which all that was flushed is there, and of the rest: nothing, all,
//! all but one, or a random choice of single sectors; each beginning is what an earlier cut leaves. From each of these, `resume`
//! must give exactly the converted disk, and `undo` exactly the old one, but for free clusters
//! that took moved data. The same goes for errors that hit once. How many cases were tried is
//! printed; `SCHWELLE_CASES=100` tries a hundred random choices at each cut in place of one, and `SCHWELLE_KIND=shrink`
//! only the kinds of jobs with that in their name.

#![expect(
    clippy::unwrap_used,
    clippy::panic,
    reason = "a test that cannot go on fails"
)]

mod bench;
mod used;

use std::cell::Cell;
use std::thread;

use schwelle_core::commit::{CommitError, Event, Observer, StageKind, hash_of};
use schwelle_core::device::{Extent, Lba, ReadDevice, Tracked};
use schwelle_core::gpt::GptPair;
use schwelle_core::job::{
    FolderProof, JobFolder, PlannedResume, PlannedUndo, RecoverError, Recovery, RecoveryFailed,
    Trusted,
};
use schwelle_core::mbr::{BootRecord, MbrTable};
use schwelle_core::rehearse::{self, StepOutcome};

use schwelle_testkit::Dice;

use bench::{Bench, Kind, scenarios};
use schwelle_demo::GAP_CODE;
use schwelle_testkit::{Failure, Image, Medium};

/// How a half-written disk is ended.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Way {
    Resume,
    Undo,
}

impl Way {
    fn other(self) -> Self {
        match self {
            Self::Resume => Self::Undo,
            Self::Undo => Self::Resume,
        }
    }
}

/// The technician vouches for the folder.
pub(crate) fn vouched_resume(plan: PlannedResume<'_>) -> Trusted<PlannedResume<'_>> {
    let name = plan.recovery().job().name();
    plan.trusted(Some(&name)).unwrap()
}

/// The same of a job that is taken back.
pub(crate) fn vouched_undo(plan: PlannedUndo<'_>) -> Trusted<PlannedUndo<'_>> {
    let name = plan.recovery().job().name();
    plan.trusted(Some(&name)).unwrap()
}

/// Goes one way on a medium; `Err` when the medium failed under it.
fn go(way: Way, job: JobFolder, medium: &Medium<'_>) -> Result<(), Box<RecoveryFailed>> {
    go_watched(way, job, medium, &mut ())
}

/// The same, with an observer.
fn go_watched(
    way: Way,
    job: JobFolder,
    medium: &Medium<'_>,
    observer: &mut dyn Observer,
) -> Result<(), Box<RecoveryFailed>> {
    let before = |error: RecoverError| Box::new(RecoveryFailed::from(error));
    assert!(!job.state().state.is_unfinished() || job.is_about(medium).unwrap());
    let tracked = Tracked::new(medium);
    let recovery = Recovery::open(job, &tracked).map_err(before)?;
    let finished = match way {
        Way::Resume => {
            let plan = recovery.plan_resume().map_err(before)?;
            vouched_resume(plan).write(observer)?
        }
        Way::Undo => {
            let plan = recovery.plan_undo().map_err(before)?;
            vouched_undo(plan).write(observer)?
        }
    };
    assert!(finished.not_recorded.is_none());
    Ok(())
}

/// What the medium must hold in the end.
fn check(bench: &Bench, way: Way, image: &Image, case: &str) {
    match way {
        Way::Resume => {
            assert!(*image == bench.finished, "{case}: not the converted disk");
            let medium = Medium::new(&bench.old, image.clone());
            let tracked = Tracked::new(&medium);
            let recovery = Recovery::open(bench.open(), &tracked).unwrap();
            let is_proven = recovery.proof() == FolderProof::Proven;
            let gets_a_hash = bench.open().journal().unwrap().bound_at.is_some();
            assert_eq!(
                is_proven, gets_a_hash,
                "{case}: what the disk says of the folder"
            );
        }
        Way::Undo => {
            let changed = image.changed();
            let stray = changed.iter().find(|extent| {
                let free = |moved: &Extent| moved.contains(extent);
                !bench.free_taken.iter().any(free)
            });
            assert_eq!(stray, None, "{case}: not the old disk");
        }
    }
}

/// From one image to both ends; with a second cut on the way, every so often.
fn both_ways(bench: &Bench, image: &Image, dice: &mut Dice, case: &str) -> u64 {
    let state = bench.state();
    for way in [Way::Resume, Way::Undo] {
        let case = format!("{case}, {way:?}");
        bench.set_state(&state);
        let mut medium = Medium::new(&bench.old, image.clone());
        if dice.once_in(3) {
            // Power goes again: on this way, or on the other one first.
            let first = if dice.once_in(2) { way } else { way.other() };
            let cut = dice.index(40);
            let cut_again = Medium::new(&bench.old, image.clone()).fail(Failure::Power, cut);
            if go(first, bench.open(), &cut_again).is_err() {
                let left = cut_again.survivors_at_random(dice);
                if bench.kind == Kind::ThroughGap && !bench.has_large_sectors() {
                    starts_either_way(bench, &left, &case);
                }
                medium = Medium::new(&bench.old, left);
            } else {
                bench.set_state(&state);
            }
        }
        go(way, bench.open(), &medium).unwrap_or_else(|error| panic!("{case}: {error}"));
        let end = medium.into_image();
        check(bench, way, &end, &case);
        // A second time changes nothing.
        let again = Medium::new(&bench.old, end.clone());
        match go(way, bench.open(), &again) {
            Ok(()) => assert_eq!(way, Way::Resume, "{case}"),
            Err(failed) => {
                let is_taken_back = matches!(failed.error, RecoverError::TakenBack);
                assert!(is_taken_back && way == Way::Undo, "{case}, again: {failed}");
            }
        }
        assert_eq!(again.operations(), 0, "{case}: the second time writes");
    }
    2
}

#[test]
fn power_cuts_at_every_write_are_survived() {
    let torn: u64 = std::env::var("SCHWELLE_CASES").map_or(1, |text| text.parse().unwrap());
    // Each kind has a folder and a medium of its own, so they go side by side.
    let total: u64 = thread::scope(|scope| {
        let only = std::env::var("SCHWELLE_KIND").unwrap_or_default();
        let kinds: Vec<_> = scenarios()
            .into_iter()
            .filter(|bench| bench.name.contains(&only))
            .map(|bench| scope.spawn(move || cut_everywhere(&bench, torn)))
            .collect();
        kinds.into_iter().map(|kind| kind.join().unwrap()).sum()
    });
    println!("{total} cases in all");
    assert!(
        total > 4000 || std::env::var("SCHWELLE_KIND").is_ok(),
        "{total}"
    );
}

/// As long as sector 0 protects the GPT, both copies of it are sound; from then on the MBR is.
fn sound_on_the_way_back(medium: &Medium<'_>, case: &str) {
    let record = BootRecord::parse(&medium.read_sector(Lba(0)).unwrap()).unwrap();
    if record.is_protective() {
        let pair = GptPair::read(medium);
        assert!(pair.primary.is_ok() && pair.backup.is_ok(), "{case}");
    } else {
        let table = MbrTable::read(medium, record).unwrap();
        assert_eq!(
            (table.partitions.len(), &table.damage[..]),
            (5, &[][..]),
            "{case}"
        );
    }
}

/// A disk that starts through code in its gap: with the old sector 0 all of that code is there, and with the new one
/// a copy of the GPT, from which the way to the kernel holds.
fn starts_either_way(bench: &Bench, image: &Image, case: &str) {
    let medium = Medium::new(&bench.old, image.clone());
    let record = BootRecord::parse(&medium.read_sector(Lba(0)).unwrap()).unwrap();
    if record.is_protective() {
        let rehearsal = rehearse::walk(&medium, None);
        let is_whole = rehearsal
            .first_fault()
            .is_none_or(|step| step.outcome != StepOutcome::Fail);
        assert!(is_whole, "{case}: {:?}", rehearsal.first_fault());
    } else {
        let code = |disk: &dyn ReadDevice| hash_of(disk, GAP_CODE).unwrap();
        assert_eq!(code(&medium), code(&bench.old), "{case}");
    }
}

/// Cuts one kind of conversion at every operation; the number of cases.
fn cut_everywhere(bench: &Bench, torn: u64) -> u64 {
    let (mut cases, mut dice) = (0, Dice::new(0x5EED));
    let (operations, flushes) = bench.operations();
    for cut in 0..=operations {
        bench.begin();
        let medium = Medium::new(&bench.old, bench.start.clone()).fail(Failure::Power, cut);
        let done = bench.convert(&medium);
        assert_eq!(done.is_ok(), cut == operations, "{}", bench.name);
        let state = bench.state();
        let is_flush = flushes.contains(&cut);
        let mut survivors = medium.survivors(!bench.is_brief || is_flush);
        survivors.extend((0..torn).map(|_| medium.survivors_at_random(&mut dice)));
        if bench.has_large_sectors() {
            let torn = [true, false].map(|is_readable| medium.torn(is_readable, &mut dice));
            survivors.extend(torn.into_iter().flatten());
        }
        for (index, image) in survivors.iter().enumerate() {
            bench.set_state(&state);
            let case = format!("{}, cut at {cut}, survivor {index}", bench.name);
            if bench.kind == Kind::Mended {
                // A GPT disk stays one: a copy of the table is sound at any moment.
                let medium = Medium::new(&bench.old, image.clone());
                assert!(GptPair::read(&medium).best().is_some(), "{case}");
            }
            if bench.kind == Kind::ThroughGap && !bench.has_large_sectors() {
                starts_either_way(bench, image, &case);
            }
            if bench.kind == Kind::Back {
                sound_on_the_way_back(&Medium::new(&bench.old, image.clone()), &case);
            }
            cases += both_ways(bench, image, &mut dice, &case);
        }
    }
    println!("{}: {cases} cases at {operations} operations", bench.name);
    cases
}

#[test]
fn an_error_at_any_write_or_flush_is_survived() {
    thread::scope(|scope| {
        for bench in scenarios() {
            scope.spawn(move || fail_everywhere(&bench));
        }
    });
}

/// Lets every operation of one kind of conversion fail; of a brief one, each flush and what is before it.
fn fail_everywhere(bench: &Bench) {
    let mut dice = Dice::new(1);
    let (operations, flushes) = bench.operations();
    let is_asked = |at: &usize| {
        !bench.is_brief || flushes.contains(at) || flushes.contains(&at.saturating_add(1))
    };
    for at in (0..operations).filter(is_asked) {
        for failure in [Failure::Once, Failure::Short] {
            bench.begin();
            let medium = Medium::new(&bench.old, bench.start.clone()).fail(failure, at);
            let failed = bench.convert(&medium).unwrap_err();
            // A write that failed may have written something.
            assert!(
                failed.wrote || at == 0,
                "{}: {failure:?} at {at}",
                bench.name
            );
            assert!(
                matches!(
                    failed.error,
                    RecoverError::Commit(CommitError::Untouched(_) | CommitError::Stopped { .. })
                ),
                "{failed}"
            );
            let image = medium.into_image();
            let case = format!("{}: {failure:?} at {at}", bench.name);
            both_ways(bench, &image, &mut dice, &case);
        }
    }
}

/// Asks to stop at the nth time that it is asked.
struct Stopper {
    at: Cell<usize>,
}

impl Observer for Stopper {
    fn event(&mut self, _: Event) {}

    fn wants_to_stop(&self) -> bool {
        let left = self.at.get();
        self.at.set(left.saturating_sub(1));
        left == 0
    }
}

#[test]
fn a_request_to_stop_is_heeded_where_it_is_clean_and_nowhere_else() {
    let mut dice = Dice::new(5);
    for bench in scenarios() {
        for at in 0.. {
            bench.begin();
            let medium = Medium::new(&bench.old, bench.start.clone());
            let mut stopper = Stopper { at: Cell::new(at) };
            let Err(failed) = go_watched(Way::Resume, bench.open(), &medium, &mut stopper) else {
                assert!(at >= bench.stages().len(), "{}", bench.name);
                break;
            };
            let RecoverError::Commit(CommitError::Interrupted { stage, wrote }) = failed.error
            else {
                panic!("{failed}");
            };
            let has_changed = medium.survivors(false).remove(0) != bench.start;
            assert_eq!(wrote, has_changed, "{}: {at}", bench.name);
            assert_eq!(failed.wrote, wrote, "{}: {at}", bench.name);
            // Between stages all is on the medium; only moved clusters may be under way.
            let pending = medium.pending();
            assert!(
                pending == 0 || stage == StageKind::Move,
                "{}: {at}",
                bench.name
            );
            let case = format!("{}: stopped at {at}", bench.name);
            both_ways(&bench, &medium.into_image(), &mut dice, &case);
        }
    }
}
