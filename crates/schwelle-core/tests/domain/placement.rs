//! The choice of a place for the EFI system partition.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use schwelle_core::device::{Extent, Lba, MIB, Memory};
use schwelle_core::gpt::backup_sectors;
use schwelle_core::host::HostFacts;
use schwelle_core::placement::{self, EspRequest, NoRoom, PlaceRequest, Placement};
use schwelle_core::profile::{Profile, Role};
use schwelle_demo::{Asset, DiskBuilder, MbrEntry};

/// A disk of `mib` MiB with these volumes of 160 MiB, by first MiB.
fn disk(mib: u64, volumes: &[u64]) -> Memory {
    let disk = Memory::new(512, mib * MIB / 512);
    let builder = DiskBuilder::new(&disk);
    let mut entries = Vec::new();
    for &first in volumes {
        let extent = Extent::new(Lba(first * 2048), 160 * 2048).unwrap();
        builder.volume(Asset::Windows, extent).unwrap();
        entries.push(MbrEntry {
            active: entries.is_empty(),
            kind: 7,
            first: u32::try_from(extent.first.0).unwrap(),
            sectors: 160 * 2048,
        });
    }
    builder.boot_record(Lba(0), 7, &entries).unwrap();
    disk
}

fn find(disk: &Memory, request: EspRequest, boot: Option<usize>) -> Result<Placement, NoRoom> {
    let mut profile = Profile::read(disk, HostFacts::default()).unwrap();
    for partition in &mut profile.partitions {
        if Some(partition.number) == boot {
            partition.role = Role::Boot;
        }
    }
    placement::find(disk, &profile, request)
}

/// First MiB of the place, its MiB, and the partition that it is taken from.
fn chosen_place(found: &Placement) -> (u64, u64, Option<usize>) {
    let esp = found.esp.unwrap();
    let (first, size) = (esp.extent.first.0 / 2048, esp.extent.sectors() / 2048);
    (first, size, esp.from.partition())
}

#[test]
fn what_moves_least_is_taken_and_the_boot_volume_before_windows() {
    let request = |place, size: Option<u64>| EspRequest {
        place,
        size: size.map(|mib| mib * MIB),
        ..EspRequest::default()
    };
    use PlaceRequest::{Auto, Gap, Shrink};
    // Disk, volumes, which of them is the boot volume, the request; and the place.
    let cases = [
        (
            600,
            &[1][..],
            None,
            request(Auto, None),
            Ok((161, 260, None)),
        ),
        (300, &[1], None, request(Auto, None), Ok((161, 138, None))),
        // No gap: the tail, as much as there is room for.
        (162, &[1], None, request(Auto, None), Ok((61, 100, Some(1)))),
        // The gap beyond the volume counts.
        (
            262,
            &[1],
            None,
            request(Auto, Some(120)),
            Ok((141, 120, Some(1))),
        ),
        // Both would move the same: the boot volume's room is missed least.
        (
            322,
            &[1, 161],
            Some(1),
            request(Auto, None),
            Ok((61, 100, Some(1))),
        ),
        (
            322,
            &[1, 161],
            Some(2),
            request(Auto, None),
            Ok((221, 100, Some(2))),
        ),
        // Asked for, the tail is taken though there is a gap, and the gap is left alone.
        (
            600,
            &[1],
            None,
            request(Shrink, Some(110)),
            Ok((51, 110, Some(1))),
        ),
        (
            162,
            &[1],
            None,
            request(Gap, None),
            Err("StretchTooSmall { needed_mib: 100, largest_mib: 0 }"),
        ),
        (
            162,
            &[1],
            None,
            request(Shrink, Some(200)),
            Err("PartitionTooSmall { needed_mib: 200,"),
        ),
        (
            162,
            &[1],
            None,
            request(Shrink, Some(155)),
            Err("why: Full {"),
        ),
    ];
    for (mib, volumes, boot, request, expected) in cases {
        let found = find(&disk(mib, volumes), request, boot);
        match (&found, expected) {
            (Ok(place), Ok(expected)) => {
                assert_eq!(chosen_place(place), expected, "{mib}");
                let chosen = place.considered.iter().filter(|place| place.chosen);
                assert_eq!(chosen.count(), 1);
            }
            (Err(NoRoom::NoPlace { considered, .. }), Err(why)) => {
                let mut verdicts = considered
                    .iter()
                    .map(|place| format!("{:?}", place.verdict));
                assert!(
                    verdicts.any(|verdict| verdict.contains(why)),
                    "{considered:?}"
                );
            }
            _ => panic!("{mib}: {found:?}"),
        }
    }
}

#[test]
fn a_volume_at_the_very_end_makes_room_for_the_backup_table_wherever_the_partition_goes() {
    // One volume that ends with the disk; and a gap with such a volume after it.
    for (mib, volumes, shrunk) in [(161, &[1][..], 1), (421, &[1, 261], 2)] {
        let disk = disk(mib, volumes);
        let found = find(&disk, EspRequest::default(), None).unwrap();
        let profile = Profile::read(&disk, HostFacts::default()).unwrap();
        let last = profile.partition(shrunk).unwrap();
        let limit = mib * 2048 - backup_sectors(512);
        assert!(last.extent.end.0 > limit && found.after(last).end.0 <= limit);
        assert!(found.esp.unwrap().extent.end.0 <= limit);
        assert_eq!(found.shrinks.len(), 1);
    }
}
