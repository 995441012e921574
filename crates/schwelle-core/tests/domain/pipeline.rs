//! What the pipeline reads, and when.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};

use schwelle_core::device::{
    DeviceError, DiskFile, Extent, Geometry, Lba, MIB, Memory, ReadDevice,
};
use schwelle_core::gpt::TypeTable;
use schwelle_core::host::HostFacts;
use schwelle_core::identities::Style;
use schwelle_core::pipeline::{Inputs, Judged, NotDrafted};
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::Profile;
use schwelle_core::rules::{Outcome, RuleId, Severity};
use schwelle_demo::{DiskBuilder, MbrEntry, outside};

/// Counts what is read of the disk below.
#[derive(Debug)]
struct Counting {
    disk: Memory,
    reads: AtomicUsize,
}

impl Counting {
    fn reads(&self) -> usize {
        self.reads.load(Ordering::Relaxed)
    }
}

impl ReadDevice for Counting {
    fn geometry(&self) -> Geometry {
        self.disk.geometry()
    }
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DeviceError> {
        self.reads.fetch_add(1, Ordering::Relaxed);
        self.disk.read_at(offset, buffer)
    }
}

fn standard(change: impl FnOnce(&DiskBuilder<'_>, Extent, Extent)) -> Counting {
    let disk = Memory::new(512, 480 * MIB / 512);
    let builder = DiskBuilder::new(&disk);
    let places = builder.standard(0x1234_5678, "LANTERN-ONE").unwrap();
    change(&builder, places.boot, places.windows);
    Counting {
        disk,
        reads: AtomicUsize::new(0),
    }
}

fn judged<T>(disk: &Counting, then: impl FnOnce(Judged<'_, '_>) -> T) -> T {
    let profile = Profile::read(disk, HostFacts::default()).unwrap();
    let types = TypeTable::default();
    let severities: BTreeMap<RuleId, Severity> = BTreeMap::new();
    let request = EspRequest::default();
    let known = Inputs::unknown(Style::Gpt, request, &types, &severities);
    then(Judged::new(disk, &profile, known))
}

#[test]
fn a_confirmed_backup_asks_the_rules_again_and_reads_nothing() {
    let disk = standard(|_, _, _| ());
    judged(&disk, |judged| {
        let backup = |judged: &Judged<'_, '_>| {
            let mut of_backup = judged.with(Outcome::Unknown);
            of_backup.any(|finding| finding.rule == RuleId::BackupMade)
        };
        assert!(disk.reads() > 0 && backup(&judged));
        let before = disk.reads();
        let confirmed = judged.confirmed();
        assert_eq!(disk.reads(), before);
        assert!(!backup(&confirmed));
    });
}

#[test]
fn a_blocked_disk_is_not_even_read_for_a_draft() {
    let disk = standard(|builder, boot, windows| {
        let number = |value: u64| u32::try_from(value).unwrap();
        let entry = |extent: Extent| MbrEntry {
            active: true,
            kind: 7,
            first: number(extent.first.0),
            sectors: number(extent.sectors()),
        };
        let entries = [entry(boot), entry(windows)];
        builder.boot_record(Lba(0), 0x1234_5678, &entries).unwrap();
    });
    judged(&disk, |judged| {
        assert!(judged.is_blocked());
        let before = disk.reads();
        let drafted = outside(|outside| judged.draft(outside));
        assert!(matches!(drafted, Err(NotDrafted::Blocked)));
        assert_eq!(disk.reads(), before);
    });
}

#[test]
fn an_image_that_grows_or_shrinks_is_noticed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("disk.img");
    std::fs::write(&path, vec![0; 1 << 20]).unwrap();
    let disk = DiskFile::open_write(&path, Some(512)).unwrap();
    for (len, has_changed) in [(1 << 20, false), (2 << 20, true), (512, true)] {
        let file = std::fs::File::options().write(true).open(&path).unwrap();
        file.set_len(len).unwrap();
        assert_eq!(disk.has_other_length().unwrap(), has_changed, "{len}");
    }
}
