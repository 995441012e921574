//! The conversions that are cut: a disk, its plan, and its job folder.

use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;

use schwelle_core::commit::{self, CommitError, Ledger, Observer, StageKind};
use schwelle_core::device::{BlockDevice, Extent, Lba, MIB, Memory, Move, ReadDevice, Window};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::Plan;
use schwelle_core::fat::{FatVolume, FatWriter};
use schwelle_core::gpt::{GptEntry, GptLayout, GptPair, TypeTable, type_guid};
use schwelle_core::host::HostFacts;
use schwelle_core::identities::Style;
use schwelle_core::job::{JobFacts, JobFolder, JobKind};
use schwelle_core::mbr::{BiosStart, protective_sector};
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::pipeline::{Inputs, Mending};
use schwelle_core::placement::{EspRequest, PlaceRequest};
use schwelle_core::profile::Profile;
use schwelle_demo::{
    Asset, DiskBuilder, MbrEntry, STAMP, convert, outside, plan_back, plan_of, replace_bytes,
    scatter,
};
use tempfile::TempDir;
use uuid::Uuid;

use schwelle_testkit::{Image, Medium};

/// What says how far a job has come.
const STATE_FILES: [&str; 3] = ["state-a.json", "state-b.json", "moved.json"];

/// Which way a conversion goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    /// From MBR to GPT.
    There,
    /// From GPT to MBR.
    Back,
    /// A GPT disk is mended.
    Mended,
    /// From MBR to GPT, on a disk that starts through code where the primary table goes.
    ThroughGap,
}

/// A conversion that can be begun again and again.
pub(crate) struct Bench {
    pub(crate) name: &'static str,
    pub(crate) old: Memory,
    folder: TempDir,
    /// The state at the moment when the disk may be written.
    ready: Vec<Option<Vec<u8>>>,
    /// What the converted disk differs in.
    pub(crate) finished: Image,
    /// Free clusters that took moved data.
    pub(crate) free_taken: Vec<Extent>,
    /// Later stages write where moved data has been.
    moved_is_overwritten: bool,
    /// Which way it goes.
    pub(crate) kind: Kind,
    /// What it edits at the end lies where something has moved to.
    edits_moved: bool,
    /// Single writes are left out only where a flush is next: so much is written that each case takes its
    /// time, or another kind writes the same in the same order.
    pub(crate) is_brief: bool,
}

impl Bench {
    /// `size`: MiB of the EFI system partition, where it matters what it comes to lie on.
    fn new(name: &'static str, size: Option<u64>, old: Memory) -> Self {
        let request = EspRequest {
            size: size.map(|mib| mib * MIB),
            ..EspRequest::default()
        };
        let bench = Self::of_plan(name, old, |disk| plan_of(disk, request).unwrap());
        assert!(bench.moved_is_overwritten || bench.free_taken.is_empty() || size.is_none());
        bench
    }

    /// With single writes left out only where a flush is next: another kind writes the same in the same order.
    fn brief(self) -> Self {
        Self {
            is_brief: true,
            ..self
        }
    }

    /// Fails where the primary table is not written after sector 0.
    fn through_gap(self) -> Self {
        use StageKind::{Commit, Edit, Prepare, Table};
        assert_eq!(self.stages(), [Prepare, Commit, Table, Edit]);
        Self {
            kind: Kind::ThroughGap,
            ..self
        }
    }

    /// Fails where a file system is shrunk.
    fn that_shrinks_only_a_header(self) -> Self {
        use StageKind::{Commit, Edit, Prepare, Shrink};
        assert_eq!(self.stages(), [Shrink, Prepare, Commit, Edit]);
        assert!(self.free_taken.is_empty());
        self
    }

    /// Fails where nothing is edited that has moved before.
    fn that_edits_what_moved(self) -> Self {
        assert!(self.edits_moved, "{}", self.name);
        self
    }

    /// A power cut tears a physical sector that holds several logical ones.
    pub(crate) fn has_large_sectors(&self) -> bool {
        let geometry = self.old.geometry();
        geometry.physical_sector > geometry.logical_sector
    }

    fn of_plan(name: &'static str, old: Memory, plan: impl FnOnce(&Memory) -> Plan<'_>) -> Self {
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
            moved_is_overwritten: false,
            kind: Kind::There,
            edits_moved: false,
            is_brief: false,
        };
        let mut job = JobFolder::create(&bench.path(), job_facts(), "{}").unwrap();
        let medium = Medium::new(&bench.old, Image::default());
        bench.free_taken = {
            let plan = plan(&bench.old);
            job.save(
                &bench.old,
                plan.drafts(),
                &plan.changes,
                plan.relied_on.clone(),
            )
            .unwrap();
            bench.ready = bench.state();
            commit::apply(plan.drafts(), &plan.changes, &medium, &mut (), &mut ()).unwrap();
            commit::verify(plan.drafts(), &plan.changes, &medium, &mut ()).unwrap();
            let moves = &plan.changes.moves;
            let overwritten = |moved: &Move| {
                let extents = plan.changes.extents();
                extents
                    .into_iter()
                    .any(|extent| extent.overlaps(&moved.source()))
            };
            bench.moved_is_overwritten = moves.iter().any(overwritten);
            let edits = plan.changes.stages.last().unwrap();
            bench.kind = match plan.table.style() {
                Style::Mbr => Kind::Back,
                Style::Gpt if GptPair::read(&bench.old).best().is_some() => Kind::Mended,
                Style::Gpt => Kind::There,
            };
            assert!(edits.kind == StageKind::Edit || bench.kind == Kind::Mended);
            let on_moved = |extent: Extent| moves.iter().any(|m| m.destination().overlaps(&extent));
            bench.edits_moved = edits.extents().any(on_moved);
            bench.is_brief = plan.changes.bytes() > 16 * MIB || bench.has_large_sectors();
            moves.iter().map(Move::destination).collect()
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

    /// The record of how far the job has come: the files that hold it.
    pub(crate) fn state(&self) -> Vec<Option<Vec<u8>>> {
        STATE_FILES
            .map(|name| fs::read(self.path().join(name)).ok())
            .into()
    }

    pub(crate) fn set_state(&self, state: &[Option<Vec<u8>>]) {
        for (name, content) in STATE_FILES.iter().zip(state) {
            let path = self.path().join(name);
            match content {
                Some(content) => fs::write(path, content).unwrap(),
                None => drop(fs::remove_file(path)),
            }
        }
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

    /// Writes and flushes of the whole conversion: how many, and which are flushes.
    pub(crate) fn operations(&self) -> (usize, Vec<usize>) {
        self.begin();
        let medium = Medium::new(&self.old, Image::default());
        self.convert(&mut (), &medium).unwrap();
        (medium.operations(), medium.flushes())
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
pub(crate) fn disk(mib: u64, more: impl FnOnce(&DiskBuilder<'_>, [MbrEntry; 2])) -> Memory {
    let disk = Memory::new(512, mib * MIB / 512);
    let builder = DiskBuilder::new(&disk);
    let places = builder.standard(0x51C3_A7E5, "LANTERN-ONE").unwrap();
    more(
        &builder,
        [entry(places.boot, true), entry(places.windows, false)],
    );
    disk
}

pub(crate) fn extent(first_mib: u64, mib: u64) -> Extent {
    Extent::new(Lba(first_mib * 2048), mib * 2048).unwrap()
}

/// Where boot code lies between sector 0 and the first partition, as boot managers for a BIOS keep it.
pub(crate) const GAP_CODE: Extent = Extent {
    first: Lba(1),
    end: Lba(60),
};

/// A disk that starts through code in the gap.
fn with_code_in_gap(mib: u64) -> Memory {
    disk(mib, |builder, _| {
        let mut sector = builder.device().read_sector(Lba(0)).unwrap();
        // No code that goes straight to the active partition.
        sector[..6].copy_from_slice(&[0xFA, 0xFC, 0x31, 0xC0, 0x8E, 0xD8]);
        builder.bytes(Lba(0), &sector).unwrap();
        let code = vec![0x90; usize::try_from(GAP_CODE.sectors() * 512).unwrap()];
        builder.bytes(GAP_CODE.first, &code).unwrap();
    })
}

/// A full disk with a swap area at its end.
fn with_swap() -> Memory {
    disk(362, |builder, [boot, windows]| {
        let swap = extent(211, 150);
        // The kernel's header: version, last page, no bad pages, signature at the end of the page.
        let mut header = vec![0; 4096];
        header[1024] = 1;
        let last = u32::try_from(swap.sectors() / 8 - 1).unwrap();
        header[1028..1032].copy_from_slice(&last.to_le_bytes());
        header[4086..].copy_from_slice(b"SWAPSPACE2");
        builder.bytes(swap.first, &header).unwrap();
        let swap = MbrEntry {
            kind: 0x82,
            ..entry(swap, false)
        };
        let entries = [boot, windows, swap];
        builder.boot_record(Lba(0), 0x51C3_A7E5, &entries).unwrap();
    })
}

/// A converted disk on a larger medium: its backup table is not at the end, its registry names the
/// old disk, its loader is damaged.
fn copied() -> Memory {
    let old = disk(330, |_, _| {});
    let plan = plan_of(&old, EspRequest::default()).unwrap();
    let larger = Memory::new(512, 340 * MIB / 512);
    let geometry = plan.converted.geometry();
    for lba in (0..geometry.sectors).step_by(2048) {
        let len = usize::try_from((geometry.sectors - lba).min(2048) * 512).unwrap();
        let bytes = plan.converted.read_vec(lba * 512, len).unwrap();
        larger.write_at(lba * 512, &bytes).unwrap();
    }
    let esp = plan.placement.esp.unwrap().extent;
    let window = Window::new(&larger, esp).unwrap();
    let volume = FatVolume::open(&window).unwrap();
    let loader = volume.find("\\EFI\\BOOT\\BOOTX64.EFI").unwrap().unwrap();
    let place = volume.extents_of(&loader).unwrap()[0];
    window.write_at(place.first.0 * 512, &[0xEE; 512]).unwrap();
    larger
}

/// A disk that another program made GPT, without an EFI system partition.
fn without_esp() -> Memory {
    disk(330, |builder, [boot, windows]| {
        let device = builder.device();
        let sector_0 = protective_sector(device.geometry(), BiosStart::PassOn);
        device.write_at(0, &sector_0).unwrap();
        let entry = |entry: MbrEntry| GptEntry {
            kind: type_guid::BASIC_DATA,
            id: Uuid::from_u128(entry.first.into()),
            extent: Extent::new(Lba(entry.first.into()), entry.sectors.into()).unwrap(),
            attributes: 0,
            name: String::new(),
        };
        let entries = vec![entry(boot), entry(windows)];
        let disk_id = Uuid::from_u128(1);
        GptLayout { disk_id, entries }.write(device).unwrap();
    })
}

/// A full disk whose boot partition is as large as an EFI system partition, after Windows.
fn with_large_boot_partition() -> Memory {
    disk(314, |builder, [front, windows]| {
        let boot = extent(211, 102);
        builder.volume(Asset::Boot, boot).unwrap();
        // The store named the boot partition at 1 MiB.
        let (old, new) = (MIB.to_le_bytes(), (211 * MIB).to_le_bytes());
        replace_bytes(builder.device(), boot, "\\Boot\\BCD", &old, &new).unwrap();
        without_recovery_image(builder.device(), boot);
        let front = MbrEntry {
            kind: 0x83,
            active: false,
            ..front
        };
        builder
            .bytes(Lba(front.first.into()), b"another system's")
            .unwrap();
        let entries = [front, windows, entry(boot, true)];
        builder.boot_record(Lba(0), 0x51C3_A7E5, &entries).unwrap();
    })
}

/// Gives the recovery image another name, which sorts at the same place: it would be in the way.
fn without_recovery_image(disk: &dyn BlockDevice, volume: Extent) {
    let name = |text: &str| -> Vec<u8> { text.encode_utf16().flat_map(u16::to_le_bytes).collect() };
    let (old, new) = (name("Winre.wim"), name("Winrf.wim"));
    let mut found = 0;
    for lba in volume.first.0..volume.end.0 {
        let mut sector = disk.read_sector(Lba(lba)).unwrap();
        // Names lie at even bytes; the first one decides most of the time.
        let is_there = |at: &usize| sector[*at] == old[0] && sector[*at..].starts_with(&old);
        if let Some(at) = (0..sector.len()).step_by(2).find(is_there) {
            sector[at..at + new.len()].copy_from_slice(&new);
            disk.write_at(lba * 512, &sector).unwrap();
            found += 1;
        }
    }
    assert!(found >= 2, "a record and a directory name it");
}

fn mended(disk: &Memory) -> Plan<'_> {
    let profile = Profile::read(disk, HostFacts::default()).unwrap();
    let (types, severities) = (TypeTable::default(), BTreeMap::new());
    let known = Inputs::unknown(Style::Gpt, EspRequest::default(), &types, &severities);
    let mending = outside(|outside| Mending::new(disk, &profile, known, outside));
    let mended = mending.unwrap().unwrap().rehearse().unwrap();
    mended.rehearsed.into_plan()
}

/// A converted disk that is to go back, with partitions that must become logical ones.
fn to_go_back() -> Memory {
    let old = disk(345, |builder, [boot, windows]| {
        let extended = extent(211, 20);
        let entries = [
            boot,
            windows,
            MbrEntry {
                kind: 0x0F,
                ..entry(extended, false)
            },
        ];
        builder.boot_record(Lba(0), 0x51C3_A7E5, &entries).unwrap();
        let logical = |kind, first, sectors| MbrEntry {
            active: false,
            kind,
            first,
            sectors,
        };
        let (here, next) = (logical(0x83, 2048, 18_000), logical(0x05, 20_480, 20_480));
        builder
            .boot_record(extended.first, 0, &[here, next])
            .unwrap();
        let second = Lba(extended.first.0 + 20_480);
        builder.boot_record(second, 0, &[here]).unwrap();
    });
    convert(&old).unwrap();
    old
}

/// The kinds of conversions there are.
pub(crate) fn scenarios() -> Vec<Bench> {
    // The volumes end at 211 MiB. Where the room is taken from Windows, the EFI system partition
    // begins at 103 MiB: its files come to lie on the old place of clusters that have moved.
    vec![
        Bench::new("gap", None, disk(330, |_, _| {})),
        Bench::new("shrink", Some(109), disk(213, |_, _| {})),
        Bench::new(
            "gap on a drive with larger physical sectors",
            None,
            disk(330, |_, _| {}).with_physical(4096),
        ),
        Bench::new(
            "shrink on a drive with larger physical sectors",
            Some(109),
            disk(213, |_, _| {}).with_physical(4096),
        ),
        Bench::new("shrink at a tight end", Some(107), disk(211, |_, _| {})).brief(),
        Bench::new(
            "shrink that moves what is edited",
            Some(108),
            disk(212, |builder, _| {
                let windows = extent(51, 160);
                let window = Window::new(builder.device(), windows).unwrap();
                let edited = ["config\\SYSTEM", "Recovery\\ReAgent.xml"].map(|name| {
                    let volume = NtfsVolume::open(&window).unwrap();
                    let path = format!("\\Windows\\System32\\{name}");
                    (volume.find(&path).unwrap().unwrap().record, 0x80)
                });
                scatter(&window, &[edited[0], edited[1], (0, 0x80)]).unwrap();
            }),
        )
        .that_edits_what_moved(),
        Bench::new(
            "gap with a tight end",
            None,
            disk(361, |builder, [boot, windows]| {
                // A third volume, up to the last sector.
                let last = extent(311, 50);
                builder.volume(Asset::Boot, last).unwrap();
                let entries = [boot, windows, entry(last, false)];
                builder.boot_record(Lba(0), 0x51C3_A7E5, &entries).unwrap();
            }),
        )
        .brief(),
        Bench::new(
            "files for an EFI system partition that is there",
            None,
            disk(322, |builder, [boot, windows]| {
                let esp = extent(211, 110);
                let window = Window::new(builder.device(), esp).unwrap();
                let time = STAMP.dos;
                let mut volume = FatWriter::new(&window, esp, 7, *b"OLD        ", time).unwrap();
                for name in ["KEEPER.EFI", "BOOTX64.EFI"] {
                    volume
                        .write_file(&["EFI", "BOOT", name], &[0x4B; 50_000])
                        .unwrap();
                }
                volume.finish().unwrap();
                let esp = MbrEntry {
                    kind: 0xEF,
                    ..entry(esp, false)
                };
                builder
                    .boot_record(Lba(0), 0x51C3_A7E5, &[boot, windows, esp])
                    .unwrap();
            }),
        ),
        Bench::of_plan(
            "the boot partition taken over",
            with_large_boot_partition(),
            |disk| {
                let request = EspRequest {
                    place: PlaceRequest::Takeover,
                    ..EspRequest::default()
                };
                plan_of(disk, request).unwrap()
            },
        ),
        Bench::new("boot code in the gap", None, with_code_in_gap(330)).through_gap(),
        Bench::new(
            "boot code in the gap of a drive with larger physical sectors",
            None,
            with_code_in_gap(330).with_physical(4096),
        )
        .through_gap(),
        Bench::new("the end of a swap area", None, with_swap()).that_shrinks_only_a_header(),
        Bench::of_plan("the way back to MBR", to_go_back(), |disk| {
            let plan = plan_back(disk, DiskUse::System).unwrap();
            let stages: Vec<StageKind> =
                plan.changes.stages.iter().map(|stage| stage.kind).collect();
            use StageKind::{Clear, Commit, Edit, Fill, Prepare};
            assert_eq!(stages, [Fill, Prepare, Commit, Clear, Edit]);
            plan
        }),
        Bench::of_plan("a copy on a larger disk, mended", copied(), mended),
        Bench::of_plan("no EFI system partition, mended", without_esp(), mended),
        Bench::new(
            "shrink before logical partitions",
            Some(108),
            disk(232, |builder, [boot, windows]| {
                let extended = MbrEntry {
                    kind: 0x0F,
                    ..entry(extent(211, 20), false)
                };
                let entries = [boot, windows, extended];
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
        )
        .brief(),
    ]
}

/// What the job is, for a test that does not ask.
pub(crate) fn job_facts() -> JobFacts {
    JobFacts {
        kind: JobKind::Convert,
        to: Style::Gpt,
        disk_use: DiskUse::System,
        disk: "disk".into(),
        serial: None,
    }
}
