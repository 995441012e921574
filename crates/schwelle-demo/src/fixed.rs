//! Identities, a time and drafts that are the same on every run, for tests and benchmarks.

use anyhow::{Context, Result};
use schwelle_core::device::{BlockDevice, Extent, HostFacts, ReadDevice};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::{Plan, Source, Stamp, build, build_back};
use schwelle_core::fat::DosTime;
use schwelle_core::fit;
use schwelle_core::gpt::TypeTable;
use schwelle_core::placement::{self, EspWish, Placement};
use schwelle_core::profile::{Profile, SignedSet};
use uuid::Uuid;

/// A time like any other: 23 November 2025, 0:00.
pub const STAMP: Stamp = Stamp {
    dos: DosTime {
        date: 0x5B77,
        time: 0,
    },
    windows: 1,
};

/// GUIDs counted from one.
pub fn counted_guids() -> impl FnMut() -> Uuid {
    let mut number = 0;
    move || {
        number += 1;
        Uuid::from_u128(number)
    }
}

/// The draft of a disk's conversion, the same on every run: with the placement found for `wish`, the
/// common types, the first set of boot files.
pub fn plan_of<'a>(disk: &'a dyn ReadDevice, wish: EspWish) -> Result<Plan<'a>> {
    let profile = Profile::read(disk, HostFacts::default())?;
    let place = placement::find(disk, &profile, wish).ok();
    let place = place.context("there is no room for the EFI system partition")?;
    plan_with(disk, &profile, &place)
}

/// Writes a disk's conversion to it, without a job folder: what it is like afterwards.
pub fn convert(disk: &dyn BlockDevice) -> Result<()> {
    let writes = {
        let plan = plan_of(disk, EspWish::default())?;
        let geometry = plan.draft.geometry();
        let content = |extent: Extent| {
            let at = geometry.byte_of(extent.first).context("beyond any disk")?;
            let len = usize::try_from(geometry.bytes_in(&extent))?;
            Ok((at, plan.draft.read_vec(at, len)?))
        };
        let extents = plan.changes.extents();
        extents.map(content).collect::<Result<Vec<_>>>()?
    };
    for (at, bytes) in writes {
        disk.write_at(at, &bytes)?;
    }
    Ok(())
}

/// The draft of the way back, the same on every run.
pub fn plan_back(disk: &dyn ReadDevice, disk_use: DiskUse) -> Result<Plan<'_>> {
    let profile = Profile::read(disk, HostFacts::default())?;
    let types = TypeTable::default();
    let fit = fit::find(disk, &profile, disk_use, &types);
    let fit = fit.map_err(|misfits| anyhow::anyhow!("it does not fit: {misfits:?}"))?;
    let source = Source {
        new_guid: &mut counted_guids(),
        stamp: STAMP,
        set: SignedSet::First,
        types: &types,
    };
    Ok(build_back(disk, &profile, &fit, source)?)
}

/// The draft of a conversion, with the profile and the placement at hand.
pub fn plan_with<'a>(
    disk: &'a dyn ReadDevice,
    profile: &Profile,
    place: &Placement,
) -> Result<Plan<'a>> {
    let source = Source {
        new_guid: &mut counted_guids(),
        stamp: STAMP,
        set: SignedSet::First,
        types: &TypeTable::default(),
    };
    Ok(build(disk, profile, place, source)?)
}
