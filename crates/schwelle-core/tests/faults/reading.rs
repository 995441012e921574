//! What only reads: the check, the rehearsal and the confirmation of a disk that fails to be read.

use std::collections::BTreeMap;

use schwelle_core::confirm::{self, Answer};
use schwelle_core::device::ReadDevice;
use schwelle_core::firmware::{Ground, Machine};
use schwelle_core::gpt::{GptPair, TypeTable, type_guid};
use schwelle_core::host::HostFacts;
use schwelle_core::identities::Style;
use schwelle_core::pipeline::{Inputs, Judged};
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::Profile;
use schwelle_core::rehearse;
use schwelle_demo::{STAMP, windows_was_started};
use schwelle_testkit::{Fault, Faults, FaultyDisk, Image, Medium};

use crate::jobs::Bench;
use crate::{each_bench, now, tries_all};

/// Reads between two that fail, unless all are to fail.
const EVERY: usize = 5;

/// What a run says of a disk: true if it says that all is well.
type Says = fn(&dyn ReadDevice) -> bool;

/// A clean run says that all is well; none in which a read fails does.
fn each_read(bench: &Bench, image: &Image, says: Says) -> usize {
    let medium = Medium::new(&bench.old, image.clone());
    let run = |faults: &Faults| {
        faults.arm();
        says(&FaultyDisk::new(&medium, faults))
    };
    let clean = Faults::none();
    assert!(run(&clean), "{}", bench.name);
    let step = if tries_all() { 1 } else { EVERY };
    let mut cases = 0;
    for at in (0..clean.count()).step_by(step) {
        for fault in [Fault::Once, Fault::BadSector] {
            let faults = Faults::at(fault, at);
            let says = run(&faults);
            let name = bench.name;
            assert!(!says, "{name}, {fault:?} at {at}: {:?}", faults.failed());
            cases += 1;
        }
    }
    cases
}

/// Nothing blocks its conversion.
fn is_free(disk: &dyn ReadDevice, to: Style) -> bool {
    let (types, severities) = (TypeTable::default(), BTreeMap::new());
    let Ok(profile) = Profile::read(disk, HostFacts::default()) else {
        return false;
    };
    let inputs = Inputs::unknown(to, EspRequest::default(), &types, &severities);
    let inputs = Inputs {
        backup_confirmed: true,
        ..inputs
    };
    !Judged::new(disk, &profile, inputs).is_blocked()
}

#[test]
fn a_check_passes_only_a_disk_that_it_could_read() {
    let cases = each_bench(|bench| {
        let old = Image::default();
        match bench.name {
            "gap" | "shrink before logical partitions" => {
                each_read(bench, &old, |disk| is_free(disk, Style::Gpt))
            }
            "the way back to MBR" => each_read(bench, &old, |disk| is_free(disk, Style::Mbr)),
            _ => 0,
        }
    });
    println!("{cases} cases of check");
}

#[test]
fn a_rehearsal_passes_only_a_disk_that_it_could_read() {
    let cases = each_bench(|bench| match bench.name {
        "gap" | "shrink before logical partitions" => each_read(bench, &bench.finished, |disk| {
            let rehearsal = rehearse::walk(disk, None);
            rehearsal.answer() == rehearse::Answer::Starts && rehearsal.cautions() == 0
        }),
        "the way back to MBR" => each_read(bench, &bench.finished, |disk| {
            let rehearsal = rehearse::walk_to(disk, Style::Mbr, Default::default());
            rehearsal.answer() == rehearse::Answer::Starts && rehearsal.cautions() == 0
        }),
        _ => 0,
    });
    println!("{cases} cases of rehearse");
}

/// What the disk in a PC of which nothing is known says of its last start.
fn confirmed(disk: &dyn ReadDevice) -> Option<Answer> {
    let profile = Profile::read(disk, HostFacts::default()).ok()?;
    let machine = Machine::unknown(Ground::Image);
    Some(confirm::confirm(disk, &profile, &machine).answer)
}

#[test]
fn a_confirmation_answers_only_from_all_of_the_evidence() {
    let cases = each_bench(|bench| match bench.name {
        "gap" => {
            let medium = Medium::new(&bench.old, bench.finished.clone());
            let pair = GptPair::read(&medium);
            let entries = &pair.best().unwrap().entries;
            let esp = entries
                .iter()
                .find(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM);
            let windows = entries
                .iter()
                .filter(|(_, entry)| entry.kind == type_guid::BASIC_DATA);
            let windows = windows.max_by_key(|(_, entry)| entry.extent.sectors());
            let later = STAMP.windows + 10_000_000;
            windows_was_started(&medium, windows.unwrap().1.extent, esp.unwrap().0, later).unwrap();
            let started = now(&medium);
            let is_told = |disk: &dyn ReadDevice| {
                confirmed(disk).is_some_and(|answer| answer != Answer::Unknown)
            };
            each_read(bench, &bench.finished, is_told) + each_read(bench, &started, is_told)
        }
        _ => 0,
    });
    println!("{cases} cases of confirm");
}
