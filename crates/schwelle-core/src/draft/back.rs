//! The way back: puts the draft of an MBR disk together.

use std::sync::Arc;

use crate::commit::{ChangeSet, Purpose, Region, StageKind};
use crate::crossing::{Crossing, Style};
use crate::device::{Draft, Extent, Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::make_startable;
use crate::fit::Fit;
use crate::mbr::{BiosStart, MbrLayout};
use crate::placement::{EspFrom, EspPlace, Placement};
use crate::profile::{Origin, Partition, Profile, Table};

use super::build::{DraftError, NewTable, Plan, SECTOR_0, Source, table_extents};
use super::map::MapPart;
use super::start::{Content, NewStart};
use super::{esp, patch, settle, trim};

/// Builds the draft of a GPT disk as an MBR disk with the table that fits.
pub(crate) fn build_back<'a>(
    disk: &'a dyn ReadDevice,
    profile: &Profile,
    fit: &Fit,
    mut source: Source<'_>,
) -> Result<Plan<'a>, DraftError> {
    let geometry = profile.geometry;
    let kept = |partition: &&Partition| !fit.dropped.contains(&partition.number);
    let kept: Vec<&Partition> = profile.partitions.iter().filter(kept).collect();
    let layout = MbrLayout {
        signature: new_signature(&mut source),
        ..fit.layout.clone()
    };
    let esp = match fit.esp {
        Some(number) => Some(profile.partition(number).ok_or(MISSING_ESP)?),
        None => None,
    };
    let crossing = crossing(profile, &kept, &layout, esp)?;
    let placement = Placement {
        cut: Vec::new(),
        disk_use: fit.disk_use,
        esp: esp.map(|esp| EspPlace {
            extent: esp.extent,
            from: EspFrom::Existing(esp.number),
        }),
        trims: Vec::new(),
        considered: Vec::new(),
    };

    let draft = Draft::new(disk);
    let mut regions = Vec::new();
    let mut start = None;
    if let Some(place) = placement.esp {
        let content = Content::back(profile, &crossing, &mut source)?;
        let filled = esp::fill(&draft, disk, place, Some(&content), (0, source.stamp))?;
        let window = Window::new(&draft, place.extent).ok_or(DraftError::Outside(place.extent))?;
        make_startable(&window, place.extent.first)?;
        regions.push(Region::new(
            StageKind::Fill,
            Purpose::ActivePartition,
            place.extent,
        ));
        start = Some(NewStart::of(content, filled));
    }
    let in_bios_mode = match fit.disk_use {
        DiskUse::System => BiosStart::ActivePartition,
        DiskUse::Data => BiosStart::PassOn,
    };
    layout.write(&draft, in_bios_mode)?;
    let [primary, backup] = table_extents(geometry);
    for extent in [primary, backup] {
        patch::untouched(&draft, extent)?;
        draft.fill(extent, 0)?;
    }
    let record = |at: Lba| {
        let extent = Extent {
            first: at,
            end: Lba(at.0.saturating_add(1)),
        };
        Region::new(StageKind::Prepare, Purpose::ExtendedBootRecord, extent)
    };
    regions.extend(layout.records().map(record));
    regions.extend([
        Region::new(StageKind::Commit, Purpose::Mbr, SECTOR_0),
        Region::new(StageKind::Clear, Purpose::PrimaryTable, primary),
        Region::new(StageKind::Clear, Purpose::BackupTable, backup),
    ]);

    let crossed = Arc::new(draft);
    let draft = Draft::over(crossed.clone());
    let mut volumes = Vec::new();
    let mut settled = settle::Settled::default();
    if fit.disk_use == DiskUse::System {
        let written = source.stamp.windows;
        settled = settle::settle(&draft, profile, &placement, &crossing, written)?;
        volumes = settled.watch(disk, profile, &[])?;
    }
    if let Some(esp) = esp {
        volumes.push(trim::watch(disk, Some(&*crossed), esp)?);
    }
    let changes = ChangeSet::of(&crossed, Purpose::MovedClusters, &regions)?;
    let changes = changes.and_then(&draft, &settled.regions)?.checked(true)?;
    Ok(Plan {
        before: MapPart::before(profile),
        after: MapPart::after_back(geometry, &kept, &layout),
        crossed,
        draft,
        table: NewTable::Mbr(layout),
        placement,
        start,
        files_edited: settled.files,
        changes,
        relied_on: (Vec::new(), volumes),
    })
}

const MISSING_ESP: DraftError = DraftError::Missing("EFI system partition");

/// A signature that no other disk has, as far as chance goes: a GUID, folded. Never zero, which means none.
fn new_signature(source: &mut Source<'_>) -> u32 {
    let id = (source.new_guid)().into_bytes();
    let words = id.as_chunks::<4>().0.iter();
    let folded = words.fold(0, |folded, word| folded ^ u32::from_le_bytes(*word));
    folded.max(1)
}

/// The names of the partitions that are kept, before and after.
fn crossing(
    profile: &Profile,
    kept: &[&Partition],
    layout: &MbrLayout,
    esp: Option<&Partition>,
) -> Result<Crossing, DraftError> {
    let id_of = |partition: &Partition| match &partition.origin {
        Origin::Gpt(entry) => Some(entry.id),
        _ => None,
    };
    let disk = match &profile.table {
        Table::Gpt { pair, .. } => pair.best().map(|copy| copy.header.disk_id),
        _ => None,
    };
    let named = |partition: &&Partition| {
        let offset = profile.geometry.byte_of(partition.extent.first)?;
        Some((offset, id_of(partition)?))
    };
    Ok(Crossing {
        to: Style::Mbr,
        signature: layout.signature,
        disk: disk.ok_or(DraftError::Missing("GPT"))?,
        esp: esp.and_then(id_of).unwrap_or_default(),
        partitions: kept
            .iter()
            .map(named)
            .collect::<Option<_>>()
            .ok_or(DraftError::Missing("partition within reach"))?,
    })
}
