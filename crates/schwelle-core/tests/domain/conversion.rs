//! Whole conversions in memory: what is written, in which order, and what a power cut leaves.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::sync::Mutex;

use schwelle_core::commit::{ChangeSet, Purpose, Region, StageKind};
use schwelle_core::device::{
    BlockDevice, DeviceError, Draft, Extent, Geometry, Lba, MIB, Memory, Move, ReadDevice, Window,
};
use schwelle_core::draft::Plan;
use schwelle_core::host::HostFacts;
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::{Profile, Role, Table};
use schwelle_core::rehearse::walk;
use schwelle_demo::{DiskBuilder, plan_of, scatter};
use schwelle_disk::commit::{apply, verify};

fn disk(sector: u32) -> Memory {
    let disk = Memory::new(sector, 480 * MIB / u64::from(sector));
    DiskBuilder::new(&disk)
        .standard(0x1234_5678, "LANTERN-ONE")
        .unwrap();
    disk
}

fn plan(disk: &dyn ReadDevice) -> Plan<'_> {
    plan_of(disk, EspRequest::default()).unwrap()
}

/// Counts what is written to the disk below.
#[derive(Debug)]
struct Counting<'a> {
    disk: &'a Memory,
    written: Mutex<Vec<Option<Extent>>>,
}

impl<'a> Counting<'a> {
    fn new(disk: &'a Memory) -> Self {
        Self {
            disk,
            written: Mutex::default(),
        }
    }

    /// Writes as sectors, a flush as `None`.
    fn written(&self) -> Vec<Option<Extent>> {
        self.written.lock().unwrap().clone()
    }
}

impl ReadDevice for Counting<'_> {
    fn geometry(&self) -> Geometry {
        self.disk.geometry()
    }
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.disk.read_at(offset, buffer)
    }
}

impl BlockDevice for Counting<'_> {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<(), DeviceError> {
        let sector = u64::from(self.geometry().logical_sector);
        let extent = Extent::new(Lba(offset / sector), bytes.len() as u64 / sector).unwrap();
        self.written.lock().unwrap().push(Some(extent));
        self.disk.write_at(offset, bytes)
    }
    fn flush(&self) -> Result<(), DeviceError> {
        self.written.lock().unwrap().push(None);
        Ok(())
    }
}

#[test]
fn exactly_the_declared_extents_are_written_and_the_disk_starts() {
    for sector in [512, 4096] {
        let (before, after) = (disk(sector), disk(sector));
        let plan = plan(&before);
        let counting = Counting::new(&after);
        apply(plan.drafts(), &plan.changes, &counting, &mut (), &mut ()).unwrap();
        verify(plan.drafts(), &plan.changes, &after, &mut ()).unwrap();
        let written: Vec<Extent> = counting.written().into_iter().flatten().collect();
        assert_eq!(written, plan.changes.extents().collect::<Vec<_>>());
        let bytes: u64 = written
            .iter()
            .map(|extent| plan.changes.geometry.bytes_in(extent))
            .sum();
        assert_eq!(bytes, plan.changes.bytes());
        let rehearsal = walk(&after, None);
        assert!(rehearsal.starts(), "{sector}: {:?}", rehearsal.steps.last());
    }
}

/// The old disk is all there: table, and every sector of every partition.
fn is_old_disk(disk: &dyn ReadDevice, old: &Memory, written: &[Extent]) -> bool {
    let profile = Profile::read(old, HostFacts::default()).unwrap();
    let used = profile.used();
    let sector_0 = disk.read_sector(Lba(0)).unwrap() == old.read_sector(Lba(0)).unwrap();
    sector_0
        && written
            .iter()
            .all(|extent| used.iter().all(|used| !used.overlaps(extent)))
}

#[test]
fn a_power_cut_at_any_write_leaves_the_old_disk_or_the_new_one() {
    let old = disk(512);
    let plan = plan(&old);
    let recorder_disk = disk(512);
    let counting = Counting::new(&recorder_disk);
    apply(plan.drafts(), &plan.changes, &counting, &mut (), &mut ()).unwrap();
    let steps = counting.written();
    let copy = |to: &Draft<'_>, extent: &Extent| {
        let offset = extent.first.0 * 512;
        let bytes = plan
            .draft
            .read_vec(offset, usize::try_from(extent.sectors()).unwrap() * 512)
            .unwrap();
        to.write_at(offset, &bytes).unwrap();
    };
    let mut cases = 0;
    // Power goes after step n. What was flushed is on the medium; of the rest: all, none, or all
    // but one.
    for n in 0..=steps.len() {
        let done = &steps[..n];
        let flushed = done
            .iter()
            .rposition(Option::is_none)
            .map_or(0, |at| at + 1);
        let durable: Vec<Extent> = done[..flushed].iter().flatten().copied().collect();
        let volatile: Vec<Extent> = done[flushed..].iter().flatten().copied().collect();
        let without = |missing: usize| {
            let rest = volatile
                .iter()
                .enumerate()
                .filter(move |(index, _)| *index != missing);
            rest.map(|(_, extent)| *extent).collect::<Vec<_>>()
        };
        let mut survivors = vec![Vec::new(), volatile.clone()];
        survivors.extend((0..volatile.len()).map(without));
        for survivor in survivors {
            let medium = Draft::new(&old);
            let written: Vec<Extent> = durable.iter().chain(&survivor).copied().collect();
            written.iter().for_each(|extent| copy(&medium, extent));
            let sector_0_is_new = written.iter().any(|extent| extent.first == Lba(0));
            if sector_0_is_new {
                assert!(walk(&medium, None).starts(), "cut after step {n}");
            } else {
                assert!(is_old_disk(&medium, &old, &written), "cut after step {n}");
            }
            cases += 1;
        }
    }
    assert!(cases > 500, "{cases} cases");
}

#[test]
fn a_draft_that_would_touch_a_partition_is_not_made() {
    let disk = disk(512);
    let profile = Profile::read(&disk, HostFacts::default()).unwrap();
    let plan = plan(&disk);
    // The same draft, but as if the place of the EFI system partition had not been declared.
    let sector_0 = Extent::between(Lba(0), Lba(1));
    let regions = [Region::new(StageKind::Commit, Purpose::Sector0, sector_0)];
    assert!(ChangeSet::of(&plan.draft, Purpose::MovedClusters, &regions).is_err());
    // Only what is edited afterwards lies in partitions.
    for stage in &plan.changes.stages {
        let used = profile.used();
        let inside = |extent: Extent| used.iter().any(|used| used.overlaps(&extent));
        let edits = stage.kind == StageKind::Edit;
        assert!(stage.extents().all(|extent| inside(extent) == edits));
    }
}

/// The files that are edited lie where a shrink moves them: the disk that is converted holds them as
/// they were, and only the finished one has the edits.
#[test]
fn edits_are_seen_on_the_finished_disk_only() {
    let disk = Memory::new(512, 212 * MIB / 512);
    let places = DiskBuilder::new(&disk)
        .standard(0x1234_5678, "LANTERN-ONE")
        .unwrap();
    let paths = ["config\\SYSTEM", "Recovery\\ReAgent.xml"];
    let paths = paths.map(|name| format!("\\Windows\\System32\\{name}"));
    let read = |device: &dyn ReadDevice, extent: Extent, path: &str| {
        let window = Window::new(device, extent).unwrap();
        let volume = NtfsVolume::open(&window).unwrap();
        let record = volume.find(path).unwrap().unwrap().record;
        (
            record,
            volume.open_file(record).unwrap().read_all(1 << 20).unwrap(),
        )
    };
    let records = paths
        .each_ref()
        .map(|path| (read(&disk, places.windows, path).0, 0x80));
    scatter(&Window::new(&disk, places.windows).unwrap(), &records).unwrap();
    let plan = plan(&disk);
    let windows = plan
        .after
        .iter()
        .find(|part| part.role == Some(Role::Windows))
        .unwrap();
    assert!(windows.extent.sectors() < places.windows.sectors());
    let destinations: Vec<Extent> = plan.changes.moves.iter().map(Move::destination).collect();
    let edit = plan.changes.stages.last().unwrap();
    assert!(
        edit.extents()
            .all(|e| destinations.iter().any(|d| d.overlaps(&e)))
    );
    for path in &paths {
        let before = read(&disk, places.windows, path).1;
        assert!(
            read(&*plan.converted, windows.extent, path).1 == before,
            "{path}"
        );
        let after = read(&plan.draft, windows.extent, path).1;
        assert!(after.len() == before.len() && after != before, "{path}");
    }
}

#[test]
fn logical_partitions_cross_with_their_places_and_types() {
    let disk = Memory::new(512, 480 * MIB / 512);
    let builder = DiskBuilder::new(&disk);
    let places = builder.standard_places();
    builder
        .volume(schwelle_demo::Asset::Boot, places.boot)
        .unwrap();
    builder
        .volume(schwelle_demo::Asset::Windows, places.windows)
        .unwrap();
    let entry = |active, kind, first, sectors| schwelle_demo::MbrEntry {
        active,
        kind,
        first,
        sectors,
    };
    let (boot, windows) = (places.boot, places.windows);
    let start = |extent: Extent| u32::try_from(extent.first.0).unwrap();
    let len = |extent: Extent| u32::try_from(extent.sectors()).unwrap();
    // An extended partition after Windows with two logical partitions: Linux, and a hidden FAT32.
    let extended = start(windows) + len(windows);
    let first = [
        entry(true, 0x07, start(boot), len(boot)),
        entry(false, 0x07, start(windows), len(windows)),
        entry(false, 0x0F, extended, 60_000),
    ];
    builder.boot_record(Lba(0), 0x51C3_A7E5, &first).unwrap();
    let chain = [
        entry(false, 0x83, 2048, 20_000),
        entry(false, 0x05, 30_000, 30_000),
    ];
    builder
        .boot_record(Lba(extended.into()), 0, &chain)
        .unwrap();
    let last = [entry(false, 0x1C, 2048, 10_000)];
    builder
        .boot_record(Lba(u64::from(extended) + 30_000), 0, &last)
        .unwrap();

    let plan = plan(&disk);
    let Table::Gpt { pair, .. } = Profile::read(&plan.draft, HostFacts::default())
        .unwrap()
        .table
    else {
        panic!("the draft is no GPT disk")
    };
    let hidden = 1 << 62 | 1 << 63;
    let extended = u64::from(extended);
    let esp = plan.placement.esp.unwrap().extent;
    let expected = [
        (boot.first.0, boot.end.0, "basic data", 1 << 63),
        (windows.first.0, windows.end.0, "basic data", 0),
        (extended + 2048, extended + 22_048, "Linux", 0),
        (extended + 32_048, extended + 42_048, "basic data", hidden),
        (esp.first.0, esp.end.0, "EFI system", 1 << 63),
    ];
    let of = |(_, entry): &(usize, schwelle_core::gpt::GptEntry)| {
        (
            entry.extent.first.0,
            entry.extent.end.0,
            schwelle_core::gpt::type_name(entry.kind),
            entry.attributes,
        )
    };
    let found: Vec<_> = pair.best().unwrap().entries.iter().map(of).collect();
    assert_eq!(found, expected);
    assert!(esp.first.0 > extended + 42_048);
    assert!(walk(&plan.draft, None).starts());
}
