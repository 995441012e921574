//! Every kind of job, each on a disk as small as it can be: what tests cut, and edit.

#![expect(
    clippy::unwrap_used,
    reason = "the disks are ours: where one cannot be made, nothing can be tried"
)]

use std::collections::BTreeMap;

use schwelle_core::device::{BlockDevice, Extent, Lba, MIB, Memory, ReadDevice, Window};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::Plan;
use schwelle_core::fat::{FatVolume, FatWriter};
use schwelle_core::gpt::{GptEntry, GptLayout, TypeTable, type_guid};
use schwelle_core::host::HostFacts;
use schwelle_core::identities::Style;
use schwelle_core::job::{JobFacts, JobKind};
use schwelle_core::mbr::{BiosStart, protective_sector};
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::pipeline::{Inputs, Mending};
use schwelle_core::placement::{EspRequest, PlaceRequest};
use schwelle_core::profile::Profile;
use uuid::Uuid;

use crate::fixed::leave_hash;
use crate::{
    Asset, DiskBuilder, MbrEntry, STAMP, convert, outside, plan_back, plan_of, replace_bytes,
    scatter,
};

/// A kind of job.
#[derive(Debug, Clone, Copy)]
pub struct SmallJob {
    /// What distinguishes it.
    pub name: &'static str,
    /// Makes its disk.
    pub disk: fn() -> Memory,
    /// Drafts what is done with it.
    pub draft: fn(&dyn ReadDevice) -> Plan<'_>,
    /// What the job is.
    pub facts: fn() -> JobFacts,
}

/// A system disk that becomes GPT.
fn to_gpt() -> JobFacts {
    JobFacts {
        kind: JobKind::Convert,
        to: Style::Gpt,
        disk_use: DiskUse::System,
        disk: "disk".into(),
        serial: None,
        computer: None,
    }
}

/// A GPT disk that is mended.
fn mend() -> JobFacts {
    JobFacts {
        kind: JobKind::Mend,
        ..to_gpt()
    }
}

fn drafted(disk: &dyn ReadDevice) -> Plan<'_> {
    plan_of(disk, EspRequest::default()).unwrap()
}

/// With an EFI system partition of so many MiB: it matters what that comes to lie on.
fn sized(disk: &dyn ReadDevice, mib: u64) -> Plan<'_> {
    let request = EspRequest {
        size: Some(mib * MIB),
        ..EspRequest::default()
    };
    plan_of(disk, request).unwrap()
}

/// All of them. The volumes end at 211 MiB. Where the room is taken from Windows, the EFI system partition begins at
/// 103 MiB: its files come to lie on the old place of clusters that have moved.
pub const SMALL_JOBS: &[SmallJob] = &[
    SmallJob {
        name: "gap",
        disk: || small_disk(330, |_, _| {}),
        draft: drafted,
        facts: to_gpt,
    },
    SmallJob {
        name: "shrink",
        disk: || small_disk(213, |_, _| {}),
        draft: |disk| sized(disk, 109),
        facts: to_gpt,
    },
    SmallJob {
        name: "gap on a drive with larger physical sectors",
        disk: || small_disk(330, |_, _| {}).with_physical(4096),
        draft: drafted,
        facts: to_gpt,
    },
    SmallJob {
        name: "shrink on a drive with larger physical sectors",
        disk: || small_disk(213, |_, _| {}).with_physical(4096),
        draft: |disk| sized(disk, 109),
        facts: to_gpt,
    },
    SmallJob {
        name: "shrink at a tight end",
        disk: || small_disk(211, |_, _| {}),
        draft: |disk| sized(disk, 107),
        facts: to_gpt,
    },
    SmallJob {
        name: "shrink that moves what is edited",
        disk: with_scattered_files,
        draft: |disk| sized(disk, 108),
        facts: to_gpt,
    },
    SmallJob {
        name: "gap with a tight end",
        disk: with_third_volume,
        draft: drafted,
        facts: to_gpt,
    },
    SmallJob {
        name: "files for an EFI system partition that is there",
        disk: with_esp,
        draft: drafted,
        facts: to_gpt,
    },
    SmallJob {
        name: "the boot partition taken over",
        disk: with_large_boot_partition,
        draft: |disk| {
            let request = EspRequest {
                place: PlaceRequest::Takeover,
                ..EspRequest::default()
            };
            plan_of(disk, request).unwrap()
        },
        facts: to_gpt,
    },
    SmallJob {
        name: "boot code in the gap",
        disk: || with_code_in_gap(330),
        draft: drafted,
        facts: to_gpt,
    },
    SmallJob {
        name: "boot code in the gap of a drive with larger physical sectors",
        disk: || with_code_in_gap(330).with_physical(4096),
        draft: drafted,
        facts: to_gpt,
    },
    SmallJob {
        name: "the end of a swap area",
        disk: with_swap,
        draft: drafted,
        facts: to_gpt,
    },
    SmallJob {
        name: "the way back to MBR",
        disk: to_go_back,
        draft: |disk| plan_back(disk, DiskUse::System).unwrap(),
        facts: || JobFacts {
            to: Style::Mbr,
            ..to_gpt()
        },
    },
    SmallJob {
        name: "a copy on a larger disk, mended",
        disk: copied,
        draft: mended,
        facts: mend,
    },
    SmallJob {
        name: "no EFI system partition, mended",
        disk: without_esp,
        draft: mended,
        facts: mend,
    },
    SmallJob {
        name: "shrink before logical partitions",
        disk: with_logical_partitions,
        draft: |disk| sized(disk, 108),
        facts: to_gpt,
    },
];

fn entry(extent: Extent, active: bool) -> MbrEntry {
    MbrEntry {
        active,
        kind: 0x07,
        first: u32::try_from(extent.first.0).unwrap(),
        sectors: u32::try_from(extent.sectors()).unwrap(),
    }
}

/// A disk of `mib` MiB with the standard volumes, and what `more` adds.
fn small_disk(mib: u64, more: impl FnOnce(&DiskBuilder<'_>, [MbrEntry; 2])) -> Memory {
    let disk = Memory::new(512, mib * MIB / 512);
    let builder = DiskBuilder::new(&disk);
    let places = builder.standard(0x51C3_A7E5, "LANTERN-ONE").unwrap();
    more(
        &builder,
        [entry(places.boot, true), entry(places.windows, false)],
    );
    disk
}

fn extent(first_mib: u64, mib: u64) -> Extent {
    Extent::new(Lba(first_mib * 2048), mib * 2048).unwrap()
}

/// Where boot code lies between sector 0 and the first partition, as boot managers for a BIOS keep it.
pub const GAP_CODE: Extent = Extent::between(Lba(1), Lba(60));

/// A disk that starts through code in the gap.
fn with_code_in_gap(mib: u64) -> Memory {
    small_disk(mib, |builder, _| {
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
    small_disk(362, |builder, [boot, windows]| {
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
    let old = small_disk(330, |_, _| {});
    let plan = plan_of(&old, EspRequest::default()).unwrap();
    let larger = Memory::new(512, 340 * MIB / 512);
    let geometry = plan.converted.geometry();
    for lba in (0..geometry.sectors).step_by(2048) {
        let len = usize::try_from((geometry.sectors - lba).min(2048) * 512).unwrap();
        let bytes = plan.converted.read_vec(lba * 512, len).unwrap();
        larger.write_at(lba * 512, &bytes).unwrap();
    }
    leave_hash(&larger, plan.relied_on.bound_at.unwrap()).unwrap();
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
    small_disk(330, |builder, [boot, windows]| {
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
    small_disk(314, |builder, [front, windows]| {
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

fn mended(disk: &dyn ReadDevice) -> Plan<'_> {
    let profile = Profile::read(disk, HostFacts::default()).unwrap();
    let (types, severities) = (TypeTable::default(), BTreeMap::new());
    let known = Inputs::unknown(Style::Gpt, EspRequest::default(), &types, &severities);
    let mending = outside(|outside| Mending::new(disk, &profile, known, outside));
    let mended = mending.unwrap().unwrap().rehearse().unwrap();
    mended.rehearsed.into_plan()
}

/// A converted disk that is to go back, with partitions that must become logical ones.
fn to_go_back() -> Memory {
    let old = small_disk(345, |builder, [boot, windows]| {
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

/// A disk on which the files that are edited lie in the tail.
fn with_scattered_files() -> Memory {
    small_disk(212, |builder, _| {
        let windows = extent(51, 160);
        let window = Window::new(builder.device(), windows).unwrap();
        let edited = ["config\\SYSTEM", "Recovery\\ReAgent.xml"].map(|name| {
            let volume = NtfsVolume::open(&window).unwrap();
            let path = format!("\\Windows\\System32\\{name}");
            (volume.find(&path).unwrap().unwrap().record, 0x80)
        });
        scatter(&window, &[edited[0], edited[1], (0, 0x80)]).unwrap();
    })
}

/// A disk with a third volume, up to the last sector.
fn with_third_volume() -> Memory {
    small_disk(361, |builder, [boot, windows]| {
        // A third volume, up to the last sector.
        let last = extent(311, 50);
        builder.volume(Asset::Boot, last).unwrap();
        let entries = [boot, windows, entry(last, false)];
        builder.boot_record(Lba(0), 0x51C3_A7E5, &entries).unwrap();
    })
}

/// An MBR disk with an EFI system partition.
fn with_esp() -> Memory {
    small_disk(322, |builder, [boot, windows]| {
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
    })
}

/// A disk with logical partitions after Windows.
fn with_logical_partitions() -> Memory {
    small_disk(232, |builder, [boot, windows]| {
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
    })
}
