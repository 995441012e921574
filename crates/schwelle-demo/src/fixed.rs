//! Identities, a time and drafts that are the same on every run, for tests and benchmarks.

use std::collections::BTreeMap;

use anyhow::{Context, Result};
use schwelle_core::device::{BlockDevice, Extent, Lba, ReadDevice};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::{Plan, Stamp};
use schwelle_core::fat::DosTime;
use schwelle_core::gpt::TypeTable;
use schwelle_core::host::HostFacts;
use schwelle_core::identities::Style;
use schwelle_core::pipeline::{Inputs, Judged, Outside};
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::Profile;
use schwelle_core::rules::Outcome;
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

/// Hands the fixed identities and time to what drafts.
pub fn outside<T>(draft: impl FnOnce(Outside<'_>) -> T) -> T {
    draft(Outside {
        new_guid: &mut counted_guids(),
        stamp: STAMP,
    })
}

/// The draft of a disk's conversion, the same on every run: in no known PC, with the common types.
pub fn plan_of<'a>(disk: &'a dyn ReadDevice, request: EspRequest) -> Result<Plan<'a>> {
    plan_to(disk, Style::Gpt, request)
}

/// Writes a disk's conversion to it, without a job folder: what it is like afterwards.
pub fn convert(disk: &dyn BlockDevice) -> Result<()> {
    let (writes, bound_at) = {
        let plan = plan_of(disk, EspRequest::default())?;
        let geometry = plan.draft.geometry();
        let content = |extent: Extent| {
            let at = geometry.byte_of(extent.first).context("beyond any disk")?;
            let len = usize::try_from(geometry.bytes_in(&extent))?;
            Ok((at, plan.draft.read_vec(at, len)?))
        };
        let extents = plan.changes.extents();
        let writes = extents.map(content).collect::<Result<Vec<_>>>()?;
        (writes, plan.relied_on.bound_at)
    };
    for (at, bytes) in writes {
        disk.write_at(at, &bytes)?;
    }
    match bound_at {
        Some(at) => leave_hash(disk, at),
        None => Ok(()),
    }
}

/// Leaves the hash of a job folder that nobody has at a byte offset.
pub(crate) fn leave_hash(disk: &dyn BlockDevice, at: u64) -> Result<()> {
    let sector_bytes = u64::from(disk.geometry().logical_sector);
    let begin = usize::try_from(at % sector_bytes)?;
    let mut sector = disk.read_sector(Lba(at / sector_bytes))?;
    let place = sector.get_mut(begin..begin + 64);
    place.context("not in one sector")?.fill(b'c');
    disk.write_at(at - at % sector_bytes, &sector)?;
    Ok(())
}

/// The draft of the way back, the same on every run.
pub fn plan_back(disk: &dyn ReadDevice, disk_use: DiskUse) -> Result<Plan<'_>> {
    let request = EspRequest {
        disk_use,
        ..EspRequest::default()
    };
    plan_to(disk, Style::Mbr, request)
}

fn plan_to<'a>(disk: &'a dyn ReadDevice, to: Style, request: EspRequest) -> Result<Plan<'a>> {
    let profile = Profile::read(disk, HostFacts::default())?;
    let (types, severities) = (TypeTable::default(), BTreeMap::new());
    let known = Inputs::unknown(to, request, &types, &severities);
    let judged = Judged::new(disk, &profile, known);
    outside(|outside| judged.draft(outside)).with_context(|| {
        let blocks = judged.with(Outcome::Block);
        let blocks: Vec<_> = blocks.map(|finding| &finding.evidence).collect();
        format!("{blocks:?}")
    })
}
