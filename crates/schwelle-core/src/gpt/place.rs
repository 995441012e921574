//! Where the new EFI system partition can go: the unused stretches of a disk, and the choice among
//! them.

use super::{backup_sectors, first_usable};
use crate::device::{Extent, Geometry, Lba, MIB};
use crate::fat;

/// Size of a new EFI system partition where there is room for it, in bytes: enough for boot files
/// of several systems and the floor at 4096-byte sectors.
pub const ESP_WANTED: u64 = 260 * MIB;
/// The smallest at 512-byte sectors; at 4096-byte sectors FAT32 itself asks for 260 MiB.
const ESP_FLOOR_512: u64 = 100 * MIB;

/// The smallest EFI system partition for a sector size, in bytes.
pub fn esp_floor(logical_sector: u32) -> u64 {
    if logical_sector == 512 {
        ESP_FLOOR_512
    } else {
        ESP_WANTED.max(fat::smallest_fat32(logical_sector))
    }
}

/// The stretches that no partition uses, in disk order, from the first sector behind sector 0 to
/// the last of the disk. Empty ones are left out.
pub fn gaps(geometry: Geometry, used: &[Extent]) -> Vec<Extent> {
    let mut used = used.to_vec();
    used.sort_unstable();
    let mut gaps = Vec::new();
    let mut from = Lba(1);
    for extent in used.iter().chain([&Extent {
        first: Lba(geometry.sectors),
        end: Lba(geometry.sectors),
    }]) {
        let first = extent.first.min(Lba(geometry.sectors));
        if from < first {
            gaps.push(Extent {
                first: from,
                end: first,
            });
        }
        from = from.max(extent.end);
    }
    gaps
}

/// The part of a gap that a partition may use: behind the primary table, before the backup, aligned
/// to 1 MiB.
pub fn usable_part(geometry: Geometry, gap: Extent) -> Option<Extent> {
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
    (first < end).then_some(Extent {
        first: Lba(first),
        end: Lba(end),
    })
}

/// Which means of making room the technician wants.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PlaceWish {
    /// Whichever serves.
    #[default]
    Auto,
    /// Unused space only.
    Gap,
    /// The tail of an NTFS volume. Not there yet.
    Trim,
    /// The old boot partition's place. Not there yet.
    Takeover,
}

/// What the new EFI system partition should be like.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct EspWish {
    /// Where the room comes from.
    pub place: PlaceWish,
    /// Size in bytes, when the technician named one.
    pub size: Option<u64>,
}

/// Why there is no place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NoRoom {
    /// No gap is large enough.
    GapsTooSmall {
        /// Bytes needed.
        needed: u64,
        /// Bytes in the largest usable gap.
        largest: u64,
    },
    /// The size asked for is below what FAT32 and firmware need.
    BelowFloor {
        /// Bytes asked for.
        asked: u64,
        /// Bytes needed.
        floor: u64,
    },
    /// The means asked for is not there yet.
    NotYet {
        /// The means.
        place: PlaceWish,
    },
}

/// Finds the place for a new EFI system partition. `used` are the sectors in use.
pub fn place_esp(geometry: Geometry, used: &[Extent], wish: EspWish) -> Result<Extent, NoRoom> {
    if matches!(wish.place, PlaceWish::Trim | PlaceWish::Takeover) {
        return Err(NoRoom::NotYet { place: wish.place });
    }
    let floor = esp_floor(geometry.logical_sector);
    match wish.size {
        Some(asked) if asked < floor => Err(NoRoom::BelowFloor { asked, floor }),
        Some(asked) => place_in_gap(geometry, used, asked, true),
        None => place_in_gap(geometry, used, ESP_WANTED, false),
    }
}

/// The place for an EFI system partition in a gap: the smallest gap that takes the wanted size,
/// else the largest one that takes at least the floor, used up to its whole MiB. `wanted` in bytes;
/// `exact` when the technician named it.
fn place_in_gap(
    geometry: Geometry,
    used: &[Extent],
    wanted: u64,
    exact: bool,
) -> Result<Extent, NoRoom> {
    let floor = if exact {
        wanted
    } else {
        esp_floor(geometry.logical_sector).min(wanted)
    };
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
            Ok(Extent {
                first: gap.first,
                end: Lba(gap.first.0.saturating_add(sectors)),
            })
        }
        None => Err(NoRoom::GapsTooSmall {
            needed: floor,
            largest: usable.iter().map(bytes).max().unwrap_or(0),
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn extent(first: u64, end: u64) -> Extent {
        Extent {
            first: Lba(first),
            end: Lba(end),
        }
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
            (&[extent(2048, 1_700_000)], Ok((1_701_888, 296_960))), // 145 MiB: below the wish, above the floor
            (&[extent(2048, 1_900_000)], Err(48)),
            (&[extent(63, 2_000_000)], Err(0)),
        ];
        for (used, expected) in cases {
            let place = place_esp(geometry, used, EspWish::default());
            let largest = |error| {
                if let NoRoom::GapsTooSmall { largest, .. } = error {
                    largest / MIB
                } else {
                    u64::MAX
                }
            };
            assert_eq!(
                place.map(|e| (e.first.0, e.sectors())).map_err(largest),
                expected
            );
        }
        let used = [extent(2048, 1_700_000)];
        let named = |size| {
            place_esp(
                geometry,
                &used,
                EspWish {
                    size: Some(size),
                    ..EspWish::default()
                },
            )
        };
        assert_eq!(
            named(ESP_WANTED),
            Err(NoRoom::GapsTooSmall {
                needed: ESP_WANTED,
                largest: 145 * MIB
            })
        );
        assert_eq!(
            named(120 * MIB).map(|place| geometry.bytes_in(&place)),
            Ok(120 * MIB)
        );
        assert_eq!(
            named(40 * MIB),
            Err(NoRoom::BelowFloor {
                asked: 40 * MIB,
                floor: 100 * MIB
            })
        );
        let trim = EspWish {
            place: PlaceWish::Trim,
            size: None,
        };
        assert_eq!(
            place_esp(geometry, &used, trim),
            Err(NoRoom::NotYet {
                place: PlaceWish::Trim
            })
        );
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
            if let Ok(place) = place_esp(geometry, &used, EspWish::default()) {
                prop_assert!(used.iter().all(|taken| !taken.overlaps(&place)));
                prop_assert_eq!(place.first.0 % geometry.sectors_per_mib(), 0);
                prop_assert!(place.first.0 >= first_usable(sector));
                prop_assert!(place.end.0 <= 1_000_000 - backup_sectors(sector));
                prop_assert!(geometry.bytes_in(&place) >= esp_floor(sector));
            }
        }
    }
}
