//! Hostile disks: thousands of damaged copies of the demo disk are read by everything that reads,
//! without a panic and in bounded time. Nothing is asserted of the answers but that there is one.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::time::{Duration, Instant};

use schwelle_core::confirm::confirm;
use schwelle_core::crossing::Style;
use schwelle_core::device::{
    BlockDevice, Draft, Extent, HostFacts, MIB, Memory, ReadDevice, Window,
};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::{Plan, Source};
use schwelle_core::firmware::{
    AttachedDisk, BootMode, Fact, Keys, Machine, Settings, choose, start,
};
use schwelle_core::fit;
use schwelle_core::gpt::TypeTable;
use schwelle_core::mend;
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::placement::{self, EspWish};
use schwelle_core::profile::{Profile, SignedSet};
use schwelle_core::rehearse::{walk, walk_to};
use schwelle_core::rules::{Facts, Room, check};
use schwelle_demo::{DiskBuilder, STAMP, Standard, counted_guids, plan_back, plan_of, plan_with};

const CASES: u64 = 1500;

/// More of them, for a long run: `SCHWELLE_CASES=100000 cargo test --release -p schwelle-demo
/// --test damaged`.
fn cases() -> u64 {
    std::env::var("SCHWELLE_CASES")
        .ok()
        .and_then(|text| text.parse().ok())
        .unwrap_or(CASES)
}

/// Numbers that are the same on every run (xorshift).
struct Seeded(u64);

impl Seeded {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn below(&mut self, limit: usize) -> usize {
        usize::try_from(self.next() % limit as u64).unwrap()
    }
}

/// Byte places with structures of their own: table, boot sectors, file records, hives, boot store,
/// programs.
fn targets(disk: &Memory, places: Standard) -> Vec<(u64, u64)> {
    let mut targets = vec![(0, 512), (512, 33 * 512)];
    for extent in [places.boot, places.windows] {
        let window = Window::new(disk, extent).unwrap();
        let base = extent.first.0 * 512;
        targets.push((base, 512));
        let volume = NtfsVolume::open(&window).unwrap();
        let records = [0, 2, 3, 5].into_iter().chain((64..140).step_by(3));
        targets.extend(
            records.filter_map(|number| Some((base + volume.record_offset(number)?, 1024))),
        );
        for path in [
            "\\Boot\\BCD",
            "\\Windows\\System32\\config\\SYSTEM",
            "\\Windows\\System32\\config\\SOFTWARE",
            "\\Windows\\System32\\ntoskrnl.exe",
            "\\Windows\\Boot\\EFI\\bootmgfw.efi",
            "\\Windows\\Boot\\Fonts\\slab_boot.ttf",
            "\\Windows\\System32\\Recovery\\ReAgent.xml",
        ] {
            let Some(entry) = volume.find(path).unwrap() else {
                continue;
            };
            let file = volume.open_file(entry.record).unwrap();
            targets.extend(
                file.runs()
                    .iter()
                    .filter_map(|run| Some((base + run.lcn?.0 * 4096, 4096))),
            );
        }
    }
    targets
}

/// Writes what a plan says; the places written.
fn write(disk: &Memory, plan: Plan<'_>) -> Vec<(u64, u64)> {
    let extents: Vec<Extent> = plan.changes.extents().collect();
    let bytes = |extent: &Extent| {
        let (at, len) = (extent.first.0 * 512, extent.sectors() * 512);
        (
            at,
            len,
            plan.draft
                .read_vec(at, usize::try_from(len).unwrap())
                .unwrap(),
        )
    };
    let written: Vec<_> = extents.iter().map(bytes).collect();
    written
        .into_iter()
        .map(|(at, len, bytes)| {
            disk.write_at(at, &bytes).unwrap();
            (at, len)
        })
        .collect()
}

/// Everything that reads, on one disk.
fn read_everything(disk: &dyn ReadDevice) {
    let _steps = walk(disk, None);
    let Ok(profile) = Profile::read(disk, HostFacts::default()) else {
        return;
    };
    let mut machine = Machine::unknown("an image");
    let _answer = confirm(disk, &profile, &machine);
    // With keys known, loaders are taken apart and judged; with Secure Boot on, before a start too.
    machine.keys = Fact::Known {
        value: Keys::default(),
        source: String::new(),
    };
    let loader = choose(disk, &profile, &machine);
    let name = "a disk";
    let attached = [AttachedDisk { name, device: disk }];
    let settings = Settings {
        uefi: true,
        bits: 64,
        mode: BootMode::Both,
        compatibility: true,
        secure_boot: false,
        has_platform_key: false,
        setup_password: false,
        needs_password: false,
    };
    let _start = start(&settings, &machine, &attached);
    let types = TypeTable::default();
    let there = Room::Gpt(placement::find(disk, &profile, EspWish::default()));
    let back = Room::Mbr(fit::find(disk, &profile, DiskUse::System, &types));
    for room in [&there, &back] {
        let facts = Facts {
            profile: &profile,
            disk_use: DiskUse::System,
            room,
            job: None,
            machine: machine.clone(),
            loader: &loader,
            types: &types,
            backup_confirmed: false,
        };
        for finding in check(&facts) {
            let passed = finding.outcome == schwelle_core::rules::Outcome::Pass;
            assert_eq!(passed, finding.remedy.is_none(), "{finding:?}");
        }
    }
    if let Room::Gpt(Ok(place)) = &there {
        let _draft = plan_with(disk, &profile, place);
    }
    let _back = plan_back(disk, DiskUse::System);
    let _started = walk_to(disk, Style::Mbr, DiskUse::System);
    // The same disk, taken for one that holds data; and as one that is to be mended.
    let data = EspWish {
        disk_use: DiskUse::Data,
        ..EspWish::default()
    };
    let _volumes = walk_to(disk, Style::Gpt, DiskUse::Data);
    if let Ok(place) = placement::find(disk, &profile, data) {
        let _draft = plan_with(disk, &profile, &place);
    }
    let source = Source {
        new_guid: &mut counted_guids(),
        stamp: STAMP,
        set: SignedSet::First,
        types: &TypeTable::default(),
    };
    let _mended = mend::plan(disk, &profile, EspWish::default(), source);
    // Nor must a trim, though a volume that does not prove sound is never offered to it.
    for partition in &profile.partitions {
        let Some(window) = Window::new(disk, partition.extent) else {
            continue;
        };
        if let Ok(volume) = NtfsVolume::open(&window) {
            for share in [2, 10] {
                let _plan = volume.plan_trim(partition.extent.sectors() / share);
            }
        }
    }
}

#[test]
fn damaged_disks_are_answered() {
    // With a gap, full to the last sector, converted, and taken back.
    let kinds = [(480, 0), (211, 0), (480, 1), (480, 2)];
    let disks = kinds.map(|(mib, crossings)| {
        let disk = Memory::new(512, mib * MIB / 512);
        let builder = DiskBuilder::new(&disk);
        let places = builder.standard(0x1234_5678, "LANTERN-ONE").unwrap();
        let mut targets = targets(&disk, places);
        if crossings > 0 {
            targets.extend(write(&disk, plan_of(&disk, EspWish::default()).unwrap()));
        }
        if crossings > 1 {
            targets.extend(write(&disk, plan_back(&disk, DiskUse::System).unwrap()));
        }
        (disk, targets)
    });
    let mut seed = Seeded(0x5C4E_77E1_1E00_0001);
    for case in 0..cases() {
        let (disk, targets) = &disks[seed.below(disks.len())];
        let damaged = Draft::new(disk);
        for _ in 0..=seed.below(3) {
            let (at, len) = targets[seed.below(targets.len())];
            let mut bytes = damaged.read_vec(at, usize::try_from(len).unwrap()).unwrap();
            let place = seed.below(bytes.len() - 8);
            let hostile = [0, u64::MAX, 0x7FFF_FFFF, 0x8000_0000, 1, seed.next()][seed.below(6)];
            let width = [1, 2, 4, 8][seed.below(4)];
            bytes[place..place + width].copy_from_slice(&hostile.to_le_bytes()[..width]);
            damaged.write_at(at, &bytes).unwrap();
        }
        let begun = Instant::now();
        read_everything(&damaged);
        // Not a measure of speed: a bound against loops, a thousand times what a disk takes.
        assert!(
            begun.elapsed() < Duration::from_secs(20),
            "case {case} takes too long"
        );
    }
}
