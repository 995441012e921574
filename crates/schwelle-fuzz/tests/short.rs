//! Each target on its seeds, and on damaged ones: the short run, on any toolchain. Nothing is asserted of the answers
//! but that there is one, and of job folders that nothing is written where it must not be. A longer run, of one target:
//! `SCHWELLE_CASES=20000 SCHWELLE_TARGET=ntfs cargo test --release -p schwelle-fuzz`; the long one, led by what code is reached:
//! `tools/fuzz.sh`.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::thread;
use std::time::{Duration, Instant};

use schwelle_fuzz::{TARGETS, Target};
use schwelle_testkit::Dice;

/// Damaged inputs for each target.
fn cases() -> usize {
    let shown = std::env::var("SCHWELLE_CASES").ok();
    shown.and_then(|text| text.parse().ok()).unwrap_or(250)
}

/// What is hostile, from a seeded source.
struct Seeded(Dice);

impl Seeded {
    fn next(&mut self) -> u64 {
        self.0.roll()
    }

    fn below(&mut self, limit: usize) -> usize {
        self.0.index(limit)
    }

    /// A value that is at the edge of what fits, or any.
    fn hostile(&mut self) -> ([u8; 8], usize) {
        let value = [0, u64::MAX, 0x7FFF_FFFF, 0x8000_0000, 1, self.next()][self.below(6)];
        (value.to_le_bytes(), [1, 2, 4, 8][self.below(4)])
    }

    /// An input with some of its bytes changed, or cut, or with a piece twice.
    fn damage(&mut self, input: &mut Vec<u8>) {
        for _ in 0..=self.below(3) {
            let at = self.below(input.len() + 1);
            match self.below(8) {
                0 => input.truncate(at),
                1 => {
                    let end = at + self.below(input.len() - at + 1).min(64);
                    let piece: Vec<u8> = input[at..end].into();
                    input.splice(at..at, piece);
                }
                _ => {
                    let (value, width) = self.hostile();
                    let width = width.min(input.len() - at);
                    input[at..at + width].copy_from_slice(&value[..width]);
                }
            }
        }
    }

    /// An input for a target that changes a sound disk: some changes, anywhere.
    fn changes(&mut self) -> Vec<u8> {
        let mut input = vec![self.next().to_le_bytes()[0]];
        for _ in 0..=self.below(3) {
            let (value, width) = self.hostile();
            input.extend(&self.next().to_le_bytes()[..4]);
            input.push(u8::try_from(width).unwrap());
            input.extend(&value[..width]);
        }
        input
    }
}

fn run(target: &Target, input: &[u8], case: usize) {
    let begun = Instant::now();
    (target.run)(input);
    // Not a measure of speed: a bound against loops, a thousand times what an input takes.
    assert!(
        begun.elapsed() < Duration::from_secs(20),
        "{} {case} takes too long",
        target.name
    );
}

#[test]
fn every_target_answers_to_whatever_it_is_given() {
    // Each has numbers of its own, so they go side by side.
    let only = std::env::var("SCHWELLE_TARGET").ok();
    let is_wanted = |target: &&Target| only.as_ref().is_none_or(|name| name == target.name);
    assert!(TARGETS.iter().any(|target| is_wanted(&target)));
    thread::scope(|scope| {
        for target in TARGETS.iter().filter(is_wanted) {
            scope.spawn(|| answers(target));
        }
    });
}

fn answers(target: &Target) {
    let mut dice = Seeded(Dice::new(0x5C4E_77E1_1E00_0001));
    let seeds = (target.seeds)();
    for (case, seed) in seeds.iter().enumerate() {
        run(target, seed, case);
    }
    let of_changes = ["ntfs", "fat", "check"].contains(&target.name);
    // A disk as a whole has the most places at which it can be damaged.
    let count = match target.name {
        "check" => cases() * 3,
        // Most are refused at once.
        "tampered" => cases() * 40,
        _ => cases(),
    };
    for case in 0..count {
        let mut input = match target.name {
            // Every byte of an input is a choice.
            "tampered" => dice.0.bytes(40),
            _ if of_changes => dice.changes(),
            _ => seeds[dice.below(seeds.len())].clone(),
        };
        if !of_changes && target.name != "tampered" {
            dice.damage(&mut input);
        }
        run(target, &input, case);
    }
}

#[test]
fn the_fuzzing_programs_are_the_targets() {
    let listed = include_str!("../../../fuzz/Cargo.toml");
    let programs = listed
        .lines()
        .filter_map(|line| line.strip_prefix("name = \""))
        .skip(1);
    let programs: Vec<&str> = programs.map(|name| name.trim_end_matches('"')).collect();
    assert_eq!(
        programs,
        TARGETS.iter().map(|target| target.name).collect::<Vec<_>>()
    );
}
