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

use schwelle_core::commit::{CommitError, Event, Ledger, Observer, StageKind, hash_of};
use schwelle_core::device::{Extent, Lba, ReadDevice};
use schwelle_core::gpt::GptPair;
use schwelle_core::job::recover::{self, RecoverError};
use schwelle_core::job::{Bond, JobFolder, JobState, Repaired, Trust, Unproven, bond};
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

/// The technician says yes to a folder that the disk does not prove.
pub(crate) fn vouched(job: &JobFolder, bond: Bond) -> Trust {
    match bond {
        Bond::Proven(trust) => trust,
        Bond::Unproven(why) => why.vouched(job, &job.name()).unwrap(),
    }
}

/// Goes one way on a medium; `Err` when the medium failed under it.
fn go(way: Way, job: &mut JobFolder, medium: &Medium<'_>) -> Result<(), RecoverError> {
    assert!(!job.state().state.is_unfinished() || job.is_about(medium));
    let bond = bond(job, medium)?;
    let repaired = Repaired::look(job, medium)?;
    match way {
        Way::Resume => {
            if let Some(plan) = recover::plan_resume(job, &repaired)? {
                let trust = vouched(job, bond);
                repaired.write(medium, &trust)?;
                recover::resume(job, &plan, &trust, medium, &mut ())?;
            }
        }
        Way::Undo => {
            let plan = recover::plan_undo(job, &repaired, &bond)?;
            let trust = vouched(job, bond);
            repaired.write(medium, &trust)?;
            match plan {
                Some(plan) => recover::undo(job, &plan, &trust, None, medium, &mut ())?,
                None => job.set_state(JobState::Undone)?,
            }
        }
    }
    Ok(())
}

/// What the medium must hold in the end.
fn check(bench: &Bench, way: Way, image: &Image, case: &str) {
    match way {
        Way::Resume => {
            assert!(*image == bench.finished, "{case}: not the converted disk");
            let medium = Medium::new(&bench.old, image.clone());
            let is_proven = matches!(bond(&bench.open(), &medium), Ok(Bond::Proven(_)));
            let gets_a_hash = matches!(bench.kind, Kind::There | Kind::ThroughGap);
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
            if go(first, &mut bench.open(), &cut_again).is_err() {
                let left = cut_again.survivors_at_random(dice);
                if bench.kind == Kind::ThroughGap && !bench.has_large_sectors() {
                    starts_either_way(bench, &left, &case);
                }
                medium = Medium::new(&bench.old, left);
            } else {
                bench.set_state(&state);
            }
        }
        go(way, &mut bench.open(), &medium).unwrap_or_else(|error| panic!("{case}: {error}"));
        let end = medium.into_image();
        check(bench, way, &end, &case);
        // A second time changes nothing.
        let again = Medium::new(&bench.old, end.clone());
        match go(way, &mut bench.open(), &again) {
            Ok(()) => assert_eq!(way, Way::Resume, "{case}"),
            Err(RecoverError::TakenBack) => assert_eq!(way, Way::Undo, "{case}"),
            Err(error) => panic!("{case}, again: {error}"),
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
        let medium = Medium::new(&bench.old, Image::default()).fail(Failure::Power, cut);
        let done = bench.convert(&mut bench.open(), &medium);
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
            let medium = Medium::new(&bench.old, Image::default()).fail(failure, at);
            let error = bench.convert(&mut bench.open(), &medium).unwrap_err();
            let wrote = at > 0;
            let shown = match error {
                CommitError::Untouched(_) => false,
                CommitError::Stopped { .. } => true,
                other => panic!("{other}"),
            };
            // A write that failed may have written something.
            assert!(shown || !wrote, "{}: {failure:?} at {at}", bench.name);
            let image = medium.into_image();
            let case = format!("{}: {failure:?} at {at}", bench.name);
            both_ways(bench, &image, &mut dice, &case);
        }
    }
}

/// Fails to keep the record of a stage.
struct FullFolder<'a> {
    job: &'a mut JobFolder,
    at: StageKind,
}

impl Ledger for FullFolder<'_> {
    fn stage_done(&mut self, stage: StageKind, moved: &[blake3::Hash]) -> std::io::Result<()> {
        if stage == self.at {
            return Err(std::io::ErrorKind::StorageFull.into());
        }
        self.job.stage_done(stage, moved)
    }
}

#[test]
fn a_job_folder_that_fills_up_between_stages_is_survived() {
    let mut dice = Dice::new(3);
    for bench in scenarios() {
        for stage in bench.stages() {
            bench.begin();
            let medium = Medium::new(&bench.old, Image::default());
            let mut job = bench.open();
            let mut full = FullFolder {
                job: &mut job,
                at: stage,
            };
            let error = bench.convert(&mut full, &medium).unwrap_err();
            let shown = matches!(error, CommitError::NotRecorded { stage: at, .. } if at == stage);
            assert!(shown, "{error}");
            let case = format!("{}: full after {stage:?}", bench.name);
            both_ways(&bench, &medium.into_image(), &mut dice, &case);
        }
    }
}

#[test]
fn trust_in_one_folder_is_none_in_another() {
    let benches: Vec<_> = scenarios().into_iter().take(2).collect();
    let [one, other] = [&benches[0], &benches[1]].map(|bench| {
        bench.begin();
        let medium = Medium::new(&bench.old, Image::default()).fail(Failure::Power, 3);
        bench.convert(&mut bench.open(), &medium).unwrap_err();
        (bench.open(), medium.survivors(false).remove(0))
    });
    let mut job = one.0;
    let medium = Medium::new(&benches[0].old, one.1);
    let trusts = [&other.0, &job].map(|job| {
        let why = Unproven::NotThere;
        why.vouched(job, &job.name()).unwrap()
    });
    for (trust, is_its) in trusts.iter().zip([false, true]) {
        let bond = bond(&job, &medium).unwrap();
        let repaired = Repaired::look(&job, &medium).unwrap();
        let forward = recover::plan_resume(&job, &repaired).unwrap().unwrap();
        let back = recover::plan_undo(&job, &repaired, &bond).unwrap().unwrap();
        let done = [
            repaired.write(&medium, trust),
            recover::resume(&mut job, &forward, trust, &medium, &mut ()),
            recover::undo(&mut job, &back, trust, None, &medium, &mut ()),
        ];
        let is_refused =
            |done: &Result<(), RecoverError>| matches!(done, Err(RecoverError::OtherFolder));
        assert_eq!(done.each_ref().map(is_refused), [!is_its; 3]);
        assert_eq!(medium.operations() > 0, is_its);
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
            let medium = Medium::new(&bench.old, Image::default());
            let mut stopper = Stopper { at: Cell::new(at) };
            let done = bench.convert_watched(&mut bench.open(), &medium, &mut stopper);
            let Err(CommitError::Interrupted { stage, wrote }) = done else {
                assert!(done.is_ok() && at >= bench.stages().len(), "{}", bench.name);
                break;
            };
            assert_eq!(wrote, medium.operations() > 0, "{}: {at}", bench.name);
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
