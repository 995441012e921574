//! Where the new EFI system partition can go: the unused stretches of a disk, and the choice among
//! them.

use crate::device::{Extent, Geometry, Lba, MIB};
use crate::fat;
use crate::gpt::{backup_sectors, first_usable};

/// Size of a new EFI system partition where there is room for it, in bytes: enough for boot files
/// of several systems and the floor at 4096-byte sectors.
pub(crate) const ESP_WANTED: u64 = 260 * MIB;
/// The smallest at 512-byte sectors; at 4096-byte sectors FAT32 itself asks for 260 MiB.
const ESP_FLOOR_512: u64 = 100 * MIB;

/// The smallest EFI system partition for a sector size, in bytes.
pub(crate) fn esp_floor(logical_sector: u32) -> u64 {
    if logical_sector == 512 {
        ESP_FLOOR_512
    } else {
        ESP_WANTED.max(fat::smallest_fat32(logical_sector))
    }
}

/// The stretches that no partition uses, in disk order, from the first sector after sector 0 to
/// the last of the disk. Empty ones are left out.
pub fn gaps(geometry: Geometry, used: &[Extent]) -> Vec<Extent> {
    let mut used = used.to_vec();
    used.sort_unstable();
    let mut gaps = Vec::new();
    let mut from = Lba(1);
    for extent in used.iter().chain([&Extent::between(
        Lba(geometry.sectors),
        Lba(geometry.sectors),
    )]) {
        let first = extent.first.min(Lba(geometry.sectors));
        if from < first {
            gaps.push(Extent::between(from, first));
        }
        from = from.max(extent.end);
    }
    gaps
}

/// The part of a gap that a partition may use: after the primary table, before the backup, aligned
/// to 1 MiB.
pub(crate) fn usable_part(geometry: Geometry, gap: Extent) -> Option<Extent> {
    let align = geometry.sectors_per_mib();
    let first = gap
        .first
        .0
        .max(first_usable(geometry.logical_sector))
        .checked_next_multiple_of(align)?;
    let limit = geometry
        .sectors
        .checked_sub(backup_sectors(geometry.logical_sector))?;
    let end = gap.end.0.min(limit) / align * align;
    (first < end).then_some(Extent::between(Lba(first), Lba(end)))
}

/// The place for an EFI system partition in a gap: the smallest gap that takes the wanted size,
/// else the largest one that takes at least the floor, used up to its whole MiB. Both in bytes. The
/// error is the size of the largest usable gap.
pub(crate) fn in_gap(
    geometry: Geometry,
    used: &[Extent],
    wanted: u64,
    floor: u64,
) -> Result<Extent, u64> {
    let sector = u64::from(geometry.logical_sector);
    let usable: Vec<Extent> = gaps(geometry, used)
        .into_iter()
        .filter_map(|gap| usable_part(geometry, gap))
        .collect();
    let bytes = |extent: &Extent| extent.sectors().saturating_mul(sector);
    let fitting = usable
        .iter()
        .filter(|extent| bytes(extent) >= wanted)
        .min_by_key(|extent| bytes(extent));
    let best = fitting.or_else(|| {
        usable
            .iter()
            .filter(|extent| bytes(extent) >= floor)
            .max_by_key(|extent| bytes(extent))
    });
    match best {
        Some(gap) => {
            let sectors = wanted.div_ceil(sector).min(gap.sectors());
            Ok(Extent::between(
                gap.first,
                Lba(gap.first.0.saturating_add(sectors)),
            ))
        }
        None => Err(usable.iter().map(bytes).max().unwrap_or(0)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn extent(first: u64, end: u64) -> Extent {
        Extent::between(Lba(first), Lba(end))
    }

    #[test]
    fn the_smallest_fitting_gap_is_taken_else_the_largest_above_the_floor() {
        let geometry = Geometry {
            logical_sector: 512,
            physical_sector: 512,
            sectors: 2_000_000,
        };
        // First and sectors of the place, or the largest usable gap in MiB.
        type Placed = Result<(u64, u64), u64>;
        let cases: [(&[Extent], Placed); 4] = [
            (
                &[extent(2048, 400_000), extent(1_000_000, 1_300_000)],
                Ok((401_408, 532_480)),
            ),
            (&[extent(2048, 1_700_000)], Ok((1_701_888, 296_960))), // 145 MiB: below the request, above the floor
            (&[extent(2048, 1_900_000)], Err(48)),
            (&[extent(63, 2_000_000)], Err(0)),
        ];
        for (used, expected) in cases {
            let place = in_gap(geometry, used, ESP_WANTED, ESP_FLOOR_512);
            assert_eq!(
                place
                    .map(|e| (e.first.0, e.sectors()))
                    .map_err(|largest| largest / MIB),
                expected
            );
        }
        let used = [extent(2048, 1_700_000)];
        for (size, expected) in [(ESP_WANTED, Err(145 * MIB)), (120 * MIB, Ok(120 * MIB))] {
            let place = in_gap(geometry, &used, size, size);
            assert_eq!(place.map(|place| geometry.bytes_in(&place)), expected);
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]
        #[test]
        fn a_place_is_free_aligned_and_between_the_tables(
            used in prop::collection::vec((0u64..1_000_000, 1u64..300_000), 0..6),
            large in any::<bool>(),
        ) {
            let sector = if large { 4096 } else { 512 };
            let geometry = Geometry { logical_sector: sector, physical_sector: sector, sectors: 1_000_000 };
            let used: Vec<Extent> = used.into_iter().map(|(first, len)| extent(first, first + len)).collect();
            let floor = esp_floor(sector);
            if let Ok(place) = in_gap(geometry, &used, ESP_WANTED, floor) {
                prop_assert!(used.iter().all(|taken| !taken.overlaps(&place)));
                prop_assert_eq!(place.first.0 % geometry.sectors_per_mib(), 0);
                prop_assert!(place.first.0 >= first_usable(sector));
                prop_assert!(place.end.0 <= 1_000_000 - backup_sectors(sector));
                prop_assert!(geometry.bytes_in(&place) >= floor);
            }
        }
    }
}
