//! Disks damaged along the boot path: what the rehearsal says of each, beside what real firmware does with it, and
//! what becomes of it when it is mended.
//!
//! The loader on these disks comes back at once, so that each start comes to its end.

mod bios;
mod fields;
mod file_systems;
mod named;
mod programs;
mod random;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::{DiskFile, Extent};
use schwelle_core::rehearse::{Answer, Rehearsal, StepOutcome, walk};
use serde_json::Value;

use crate::real_firmware::{Firmware, HANGS, device};

use crate::support::{Lab, lba, place};
use file_systems::FILE_SYSTEMS;
use named::{NAMED, Named, find_on_esp};
use schwelle_testkit::{copy_image, hash};

/// Of so many disks, one is started from power on as well.
const FROM_POWER_ON: usize = 64;
/// Starts beside each other.
const LANES: usize = 2;

/// The stand-in loader without its signature, whose code only says "not found" and comes back: MOV RAX,
/// EFI_NOT_FOUND; RET.
pub(crate) fn returning_loader() -> Vec<u8> {
    let mut program = fs::read(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../schwelle-demo/assets/boot/bootmgfw.efi"
    ))
    .unwrap();
    // The code section's content begins at byte 400h, and with it the code.
    let code = [0x48, 0xB8, 0x0E, 0, 0, 0, 0, 0, 0, 0x80, 0xC3];
    program[0x400..0x400 + code.len()].copy_from_slice(&code);
    program
}

/// A converted disk that is damaged again and again.
struct Base {
    lab: Lab,
    image: PathBuf,
    sector: u32,
    /// Byte and length of the EFI system partition, and of the Windows volume.
    esp: (u64, u64),
    windows: (u64, u64),
}

impl Base {
    fn new(sector: u32) -> Self {
        let lab = Lab::new();
        let (image, places) = lab.standard("base.img", sector);
        let device = DiskFile::open_write(&image, Some(sector)).unwrap();
        let source = "\\Windows\\Boot\\EFI\\bootmgfw.efi";
        let extent = places.windows;
        schwelle_demo::put_program(&device, extent, source, &returning_loader()).unwrap();
        drop(device);
        let job = lab.path("base.job");
        let run = lab.convert(&image, &job, &["--quiet"]);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        let record: Value =
            serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
        Self {
            esp: place(&record, "EFI system"),
            windows: place(&record, "Windows"),
            lab,
            image,
            sector,
        }
    }

    /// A copy of it, to be damaged.
    fn copy(&self, name: &str) -> PathBuf {
        let path = self.lab.path(name);
        copy_image(&self.image, &path);
        path
    }

    fn rehearse(&self, image: &Path) -> Rehearsal {
        let device = DiskFile::open_read(image, Some(self.sector)).unwrap();
        walk(&device, None)
    }

    /// Mends the disk; why not, where it is refused.
    fn mend(&self, image: &Path) -> Result<(), String> {
        let job = self.lab.path("mend.job");
        fs::remove_dir_all(&job).ok();
        let sector = self.sector.to_string();
        let (image, job) = (image.to_str().unwrap(), job.to_str().unwrap());
        let run = self.lab.run(&[
            "mend",
            image,
            "--job",
            job,
            "--yes",
            "--quiet",
            "--sector-size",
            &sector,
        ]);
        match run.code {
            0 => Ok(()),
            _ => Err(format!("{}{}", run.stdout, run.stderr)),
        }
    }

    /// Whether real firmware starts each of these disks. One in [`FROM_POWER_ON`] is also started without the saved
    /// state, which must make no difference.
    fn started(&self, images: &[PathBuf]) -> Vec<bool> {
        let started = |lane: &Lab, (index, image): (usize, &PathBuf)| {
            let firmware = Firmware::plain();
            let started = was_started(&firmware.start(lane, image, self.sector));
            if index.is_multiple_of(FROM_POWER_ON) {
                let said = firmware.start_from_power_on(lane, &[image], self.sector);
                assert_eq!(started, was_started(&said), "{said}");
            }
            started
        };
        std::thread::scope(|scope| {
            let lane = |first: usize| {
                let lane = Lab::new();
                let mine = images.iter().enumerate().skip(first).step_by(LANES);
                mine.map(|image| started(&lane, image))
                    .collect::<Vec<bool>>()
            };
            let lanes: Vec<_> = (0..LANES)
                .map(|first| scope.spawn(move || lane(first)))
                .collect();
            let lanes: Vec<_> = lanes.into_iter().map(|lane| lane.join().unwrap()).collect();
            (0..images.len())
                .map(|index| lanes[index % LANES][index / LANES])
                .collect()
        })
    }
}

/// What the console says of a disk.
fn was_started(console: &str) -> bool {
    if console.contains(HANGS) {
        return false;
    }
    let disk = device(0);
    let mut tried = console
        .lines()
        .filter(|line| line.contains("BdsDxe: ") && line.contains(&disk))
        .peekable();
    assert!(tried.peek().is_some(), "the disk was not tried: {console}");
    tried.any(|line| line.contains("BdsDxe: starting Boot"))
}

/// What the rehearsal says of the firmware's part; after it the loader, which on these disks does nothing, goes on.
fn of_firmwares_part(rehearsal: &Rehearsal) -> Answer {
    let faults = rehearsal.steps.iter();
    let faults = faults.filter(|step| step.id.is_firmwares() && step.outcome != StepOutcome::Pass);
    let outcomes: Vec<StepOutcome> = faults.map(|step| step.outcome).collect();
    match outcomes[..] {
        [] => Answer::Starts,
        _ if outcomes.contains(&StepOutcome::Fail) => Answer::DoesNotStart,
        _ => Answer::Depends,
    }
}

/// Firmware loads what it is given; the rehearsal looks at its content as well.
fn is_about_content(rehearsal: &Rehearsal) -> bool {
    let shown = rehearsal.steps.last().map(|step| {
        let evidence = serde_json::to_value(&step.evidence).unwrap();
        evidence["why"]["kind"]
            .as_str()
            .unwrap_or_default()
            .to_owned()
    });
    shown.is_some_and(|kind| ["altered", "not-its-source", "hollow"].contains(&&*kind))
}

/// Both verdicts side by side, and how often they came.
#[derive(Default)]
struct Compared {
    all: usize,
    /// "starts", and firmware does not start it: none may be.
    false_go: Vec<String>,
    /// "does not start", and this firmware starts it; by step and what was found.
    refused: BTreeMap<String, Vec<String>>,
    /// The same because of what the loader holds.
    content: usize,
    depends: usize,
}

impl Compared {
    fn add(&mut self, name: &str, rehearsal: &Rehearsal, started: bool) {
        self.all += 1;
        match (of_firmwares_part(rehearsal), started) {
            (Answer::Starts, false) => self.false_go.push(name.to_owned()),
            (Answer::DoesNotStart, true) if is_about_content(rehearsal) => self.content += 1,
            (Answer::DoesNotStart, true) => {
                let last = rehearsal.steps.last().unwrap();
                let found = serde_json::to_value(&last.evidence).unwrap();
                let why = format!("{}: {found}", last.id.name());
                self.refused.entry(why).or_default().push(name.to_owned());
            }
            (Answer::Depends, _) => self.depends += 1,
            _ => {}
        }
    }

    fn refused(&self) -> usize {
        self.refused.values().map(Vec::len).sum()
    }
}

impl std::fmt::Display for Compared {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        writeln!(
            f,
            "{} disks: {} depend, {} refused for what the loader holds, {} refused and started, {} false",
            self.all,
            self.depends,
            self.content,
            self.refused(),
            self.false_go.len()
        )?;
        for (why, names) in &self.refused {
            writeln!(f, "  refused and started: {why}: {}", names.join(", "))?;
        }
        for name in &self.false_go {
            writeln!(f, "  FALSE: {name}")?;
        }
        Ok(())
    }
}

#[test]
#[ignore = "needs outside programs"]
fn named_damages_are_judged_as_real_firmware_judges_them_and_mended() {
    let base = Base::new(512);
    let mut compared = Compared::default();
    let (mut images, mut rehearsals) = (Vec::new(), Vec::new());
    let named: Vec<&Named> = NAMED.iter().chain(FILE_SYSTEMS).collect();
    for (index, (name, answer, step, wanted, damage)) in named.iter().enumerate() {
        let image = base.copy(&format!("named-{index}.img"));
        damage(&image, base.esp, base.windows);
        let before = hash(&image);
        let run = base
            .lab
            .run(&["rehearse", image.to_str().unwrap(), "--json"]);
        assert_eq!(hash(&image), before, "{name}: rehearse only reads");
        let json = run.json();
        let expected = i32::from(*answer != "starts");
        assert_eq!(
            (run.code, &json["answer"], &json["starts"]),
            (expected, &(*answer).into(), &(*answer == "starts").into()),
            "{name}: {}",
            run.stdout
        );
        let steps = json["steps"].as_array().unwrap();
        let fault = steps.iter().find(|step| step["outcome"] != "pass");
        if *answer != "starts" {
            let fault = fault.unwrap();
            assert_eq!(fault["step"], *step, "{name}: {fault}");
            let text = fault["evidence"]["text"].as_str().unwrap();
            assert!(text.contains(wanted), "{name}: {text}");
            assert!(
                fault["remedy"]["text"].as_str().unwrap().len() > 20,
                "{name}"
            );
        }
        rehearsals.push(base.rehearse(&image));
        images.push(image);
    }
    let started = base.started(&images);
    for ((named, rehearsal), started) in named.iter().zip(&rehearsals).zip(&started) {
        compared.add(named.0, rehearsal, *started);
    }
    assert!(compared.false_go.is_empty(), "{compared}");
    assert_eq!(compared.refused(), 0, "{compared}");

    // Each is mended unless the reason is reported.
    let mut mended = Vec::new();
    for ((name, ..), image) in named.iter().zip(&images) {
        match base.mend(image) {
            Ok(()) => {
                let rehearsal = base.rehearse(image);
                assert!(rehearsal.starts(), "{name}: {:?}", rehearsal.first_fault());
                mended.push((*name, image.clone()));
            }
            Err(why) => {
                let is_known = NOT_MENDED
                    .iter()
                    .any(|(known, wanted)| known == name && why.contains(wanted));
                assert!(is_known, "{name}: {why}");
            }
        }
    }
    let images: Vec<PathBuf> = mended.iter().map(|(_, image)| image.clone()).collect();
    for ((name, _), started) in mended.iter().zip(base.started(&images)) {
        assert!(started, "{name}, mended");
    }
}

/// What is not mended, and the reason that is reported.
const NOT_MENDED: [(&str, &str); 5] = [
    (
        "a volume with FAT12 and a loader in front of the ESP",
        "rename it if nothing is started from there",
    ),
    (
        "the ESP overlapping its neighbour",
        "overlaps another partition",
    ),
    ("system loader missing", "the system's own files"),
    ("system loader overwritten", "the system's own files"),
    ("kernel for another architecture", "the system's own files"),
];

/// Sectors of the disk from a byte on.
fn extent(sector: u32, (at, len): (u64, u64)) -> Extent {
    let sector = u64::from(sector);
    Extent::between(lba(at / sector), lba((at + len) / sector))
}
