//! Every operation of a job fails once: reads, writes and flushes of the disk, and whatever is done to the files of the
//! job folder; once, from then on, or with a sector that stays unreadable.
//!
//! The operations of a clean run are counted, then the run is repeated once per operation with that one failing. No
//! run may end with another disk than a clean one, nor report another outcome than the disk has: success only for the
//! finished disk, "nothing was written" only for an unchanged one. With the fault gone, `resume` must give exactly the
//! converted disk and `undo` exactly the old one.
//!
//! Each kind of job starts from several moments: before the first write, three times half-way, and done; one disk has been
//! used since. `SCHWELLE_FAULTS=all` tries every fault at every operation of every moment; without it every operation
//! fails in one way, from one of the moments. `SCHWELLE_KIND=shrink` tries only the kinds with that in their name.

#![expect(
    clippy::unwrap_used,
    clippy::panic,
    reason = "a test that cannot go on fails"
)]

mod folder;
mod jobs;
mod reading;

use std::path::Path;
use std::sync::{Arc, Mutex};
use std::thread;

use schwelle_core::bitlocker::Unlocked;
use schwelle_core::device::{BlockDevice, Lba, MIB, ReadDevice};
use schwelle_core::job::{JobFolder, RecoverError};
use schwelle_core::pipeline::Rehearsed;
use schwelle_core::placement::EspRequest;
use schwelle_demo::{SMALL_JOBS, SmallJob, plan_of};
use schwelle_testkit::{Fault, Faults, FaultyDisk, Image, Medium};

use folder::Folder;
use jobs::{Bench, Moment, Rig, Way, convert, go, open};

const FAULTS: [Fault; 3] = [Fault::Once, Fault::BadSector, Fault::FromThenOn];

/// True if everything is to be tried.
fn tries_all() -> bool {
    std::env::var("SCHWELLE_FAULTS").is_ok_and(|what| what == "all")
}

/// One operation in so many fails.
fn step_of(bench: &Bench) -> usize {
    if tries_all() { 1 } else { bench.step }
}

/// The benches that were asked for, each worked on by a thread of its own; the sum of what they return.
fn each_bench(work: impl Fn(&Bench) -> usize + Sync) -> usize {
    let only = std::env::var("SCHWELLE_KIND").unwrap_or_default();
    let kinds = SMALL_JOBS.iter().filter(|small| small.name.contains(&only));
    let mut kinds: Vec<&SmallJob> = kinds.collect();
    // What takes longest is begun first: it is last in the vector.
    kinds.sort_by_key(|small| small.name.starts_with("shrink"));
    let queue = Mutex::new(kinds);
    let cores = thread::available_parallelism().map_or(2, usize::from);
    thread::scope(|scope| {
        let worker = || {
            let mut sum = 0;
            loop {
                let next = queue.lock().unwrap().pop();
                let Some(small) = next else { return sum };
                sum += work(&Bench::of(small));
            }
        };
        let workers: Vec<_> = (0..cores).map(|_| scope.spawn(worker)).collect();
        workers.into_iter().map(|each| each.join().unwrap()).sum()
    })
}

/// What a medium holds.
fn now(medium: &Medium<'_>) -> Image {
    medium.survivors(false).remove(0)
}

/// With the fault gone, both ways lead to the ends that a clean run leads to.
fn settles(bench: &Bench, moment: &Moment, folder: &Folder, image: &Image, case: &str) {
    for way in moment.ways() {
        let folder = folder.copied(&Faults::none());
        let medium = Medium::new(&bench.old, image.clone());
        let done = go(way, &folder, &medium, bench.plans_names);
        let left = medium.into_image();
        match done {
            Ok(_) => bench.is_end(way, moment, &left, &format!("{case}, then {way:?}")),
            // Nothing was begun, or all was taken back: the disk is as it was.
            Err(failed) => {
                let is_over = matches!(
                    failed.error,
                    RecoverError::TakenBack | RecoverError::NeverBegan
                );
                assert!(is_over, "{case}, then {way:?}: {failed}");
                bench.is_end(Way::Undo, moment, &left, &format!("{case}, then {way:?}"));
            }
        }
    }
}

/// One run with a fault.
fn fails(bench: &Bench, moment: &Moment, way: Way, (fault, at): (Fault, usize)) {
    let faults = Faults::at(fault, at);
    let folder = moment.folder.copied(&faults);
    let medium = Medium::new(&bench.old, moment.disk.clone());
    let disk = FaultyDisk::new(&medium, &faults);
    faults.arm();
    let done = go(way, &folder, &disk, bench.plans_names);
    let case = format!(
        "{}, {}, {way:?}, {fault:?} at {at} ({})",
        bench.name,
        moment.name,
        faults.failed().unwrap_or_default()
    );
    match &done {
        Ok(finished) => {
            assert_eq!(finished.wrote, faults.wrote(), "{case}");
            bench.is_end(way, moment, &now(&medium), &case);
        }
        Err(failed) => {
            assert_eq!(failed.wrote, faults.wrote(), "{case}: {failed}");
            if !failed.wrote {
                assert!(now(&medium) == moment.disk, "{case}: {failed}");
            }
        }
    }
    // From an unchanged disk and folder, clean runs have been seen already.
    if now(&medium) != moment.disk || !folder.is_same(&moment.folder) {
        settles(bench, moment, &folder, &now(&medium), &case);
    }
}

#[test]
fn recovery_never_acts_on_what_it_could_not_read() {
    let cases = each_bench(|bench| {
        let mut cases = 0;
        for (number, moment) in bench.moments.iter().enumerate() {
            for way in moment.ways() {
                let faults = Faults::none();
                let medium = Medium::new(&bench.old, moment.disk.clone());
                let disk = FaultyDisk::new(&medium, &faults);
                faults.arm();
                let clean = moment.folder.copied(&faults);
                go(way, &clean, &disk, bench.plans_names).unwrap();
                let case = format!("{}, {}, {way:?}", bench.name, moment.name);
                bench.is_end(way, moment, &now(&medium), &case);
                println!("{case}: {} operations", faults.count());
                let operations = (0..faults.count()).step_by(step_of(bench));
                for (index, at) in operations.enumerate() {
                    for (which, fault) in FAULTS.into_iter().enumerate() {
                        let turn = index % (FAULTS.len() * bench.moments.len());
                        if tries_all() || turn == which * bench.moments.len() + number {
                            fails(bench, moment, way, (fault, at));
                            cases += 1;
                        }
                    }
                }
            }
        }
        println!("{}: {cases} cases", bench.name);
        cases
    });
    println!("{cases} cases of resume and undo");
    assert!(
        cases > 9000 || std::env::var("SCHWELLE_KIND").is_ok(),
        "{cases}"
    );
}

#[test]
fn a_conversion_that_fails_at_any_operation_is_reported_as_what_it_is() {
    let cases = each_bench(|bench| {
        let disk = Unlocked::new(Rig::new(&bench.old), Vec::new());
        let rehearsed = Rehearsed::new((bench.small.draft)(&disk));
        let drafted = (&disk, &rehearsed);
        let faults = Faults::none();
        let folder = Folder::default().copied(&faults);
        let (medium, done) = convert(bench.small, drafted, &folder, &faults, None);
        done.unwrap();
        assert!(now(&medium) == bench.finished, "{}", bench.name);
        let mut cases = 0;
        let operations = (0..faults.count()).step_by(step_of(bench));
        for (index, at) in operations.enumerate() {
            for (which, fault) in FAULTS.into_iter().enumerate() {
                if tries_all() || index % FAULTS.len() == which {
                    convert_fails(bench, drafted, (fault, at));
                    cases += 1;
                }
            }
        }
        println!(
            "{}: {cases} cases at {} operations",
            bench.name,
            faults.count()
        );
        cases
    });
    println!("{cases} cases of convert and mend");
    assert!(
        cases > 500 || std::env::var("SCHWELLE_KIND").is_ok(),
        "{cases}"
    );
}

/// One conversion with a fault.
fn convert_fails(
    bench: &Bench,
    drafted: (&Unlocked<Rig<'_>>, &Rehearsed<'_>),
    (fault, at): (Fault, usize),
) {
    let faults = Faults::at(fault, at);
    let folder = Folder::default().copied(&faults);
    let (medium, done) = convert(bench.small, drafted, &folder, &faults, None);
    let case = format!(
        "{}, convert, {fault:?} at {at} ({})",
        bench.name,
        faults.failed().unwrap_or_default()
    );
    let is_untouched = match &done {
        Ok(()) => {
            assert!(now(&medium) == bench.finished, "{case}");
            false
        }
        Err(failed) => {
            let what = &failed.what;
            assert_eq!(failed.is_untouched, !faults.wrote(), "{case}: {what}");
            failed.is_untouched
        }
    };
    if is_untouched {
        assert!(now(&medium) == Image::default(), "{case}");
        if open(&folder.copied(&Faults::none())).is_err() {
            return;
        }
    }
    settles(bench, &bench.moments[0], &folder, &now(&medium), &case);
}

/// Reads of a draft between two that fail, unless all are to fail.
const EVERY: usize = 7;

#[test]
fn nothing_is_drafted_from_what_could_not_be_read() {
    let drafted = |disk: FaultyDisk<'_>, mib| {
        let request = EspRequest {
            size: Some(mib * MIB),
            ..EspRequest::default()
        };
        let disk = Unlocked::new(disk, Vec::new());
        let rehearsed = Rehearsed::new(plan_of(&disk, request).ok()?);
        let facts = (SMALL_JOBS[0].facts)();
        let storage = Arc::new(Folder::default());
        let job = JobFolder::create_in(storage, Path::new("job"), facts, "{}").unwrap();
        rehearsed.ready()?.save(&disk, job).ok()?;
        Some(rehearsed.plan().changes.clone())
    };
    let mut cases = 0;
    for (name, mib) in [("gap", 100), ("shrink", 109)] {
        let small = SMALL_JOBS.iter().find(|small| small.name == name).unwrap();
        let old = (small.disk)();
        let faults = Faults::none();
        faults.arm();
        let clean = drafted(FaultyDisk::new(&old, &faults), mib).unwrap();
        let step = if tries_all() { 1 } else { EVERY };
        for at in (0..faults.count()).step_by(step) {
            for fault in [Fault::Once, Fault::BadSector] {
                let faults = Faults::at(fault, at);
                faults.arm();
                let changes = drafted(FaultyDisk::new(&old, &faults), mib);
                let is_safe = changes.is_none_or(|changes| changes == clean);
                assert!(is_safe, "{name}, {fault:?} at {at}: {:?}", faults.failed());
                cases += 1;
            }
        }
        println!("{name}: drafts with {} operations", faults.count());
    }
    println!("{cases} cases of drafts");
}

#[test]
fn a_change_between_draft_and_write_stops_the_job() {
    let small = SMALL_JOBS.iter().find(|small| small.name == "gap").unwrap();
    // The disk's signature; a record of the Windows volume's MFT; a sector in free space, which matters to nothing.
    for (lba, stops) in [
        (Lba(0), true),
        (Lba(51 * 2048), true),
        (Lba(660_000), false),
    ] {
        let disk = Unlocked::new((small.disk)(), Vec::new());
        let rehearsed = Rehearsed::new((small.draft)(&disk));
        let mut sector = disk.read_sector(lba).unwrap();
        sector[440] ^= 1;
        disk.disk().write_at(lba.0 * 512, &sector).unwrap();
        let folder = Folder::default();
        let storage = Arc::new(folder.copied(&Faults::none()));
        let job = JobFolder::create_in(storage, Path::new("job"), (small.facts)(), "{}").unwrap();
        match rehearsed.ready().unwrap().save(&disk, job) {
            Ok(_) => assert!(!stops, "{lba}"),
            Err(error) => assert_eq!(
                error.to_string(),
                format!(
                    "what is at {lba} has been changed by another program since the disk was looked at"
                )
            ),
        }
    }
}

/// Files of a folder without which a job can still be finished and taken back.
const NOT_NEEDED: [&str; 4] = ["job.json", "log.txt", "state-a.json", "state-b.json"];

#[test]
fn a_folder_without_one_of_its_files_is_enough_or_refused() {
    each_bench(|bench| {
        for moment in bench.moments.iter().filter(|moment| !moment.is_used) {
            for name in moment.folder.names() {
                let case = format!("{}, {}, without {name}", bench.name, moment.name);
                let folder = moment.folder.without(&name);
                if NOT_NEEDED.contains(&&*name) {
                    settles(bench, moment, &folder, &moment.disk, &case);
                } else {
                    let opened = JobFolder::open_in(Arc::new(folder), Path::new("job"));
                    assert!(opened.is_err(), "{case}");
                }
            }
        }
        0
    });
}
