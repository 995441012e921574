//! The way back: puts the draft of an MBR disk together.

use crate::commit::{Purpose, Region, StageKind};
use crate::device::{Extent, Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::fat::make_startable;
use crate::fit::Fit;
use crate::identities::{Identities, Style};
use crate::mbr::{BiosStart, MbrLayout};
use crate::placement::{EspFrom, EspPlace, Placement};
use crate::profile::{Origin, Partition, Profile, Table};

use super::assembly::{Assembly, Ending};
use super::basis::{DraftError, SECTOR_0, Source, table_extents};
use super::map::MapPart;
use super::patch;
use super::plan::{NewTable, Plan};
use super::start::Content;

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
    let identities = identities(profile, &kept, &layout, esp)?;
    let placement = Placement::without_esp(fit.disk_use);
    let mut assembly = Assembly::new(disk, profile, placement, source.stamp);
    if let Some(esp) = esp {
        let place = EspPlace {
            extent: esp.extent,
            from: EspFrom::Existing(esp.number),
        };
        let content = Content::back(profile, &identities, &mut source)?;
        let what = Purpose::ActivePartition;
        let region = assembly.fill(place, identities.esp, (Some(content), None), what)?;
        let window = Window::new(&assembly.draft, place.extent);
        let window = window.ok_or(DraftError::Outside(place.extent))?;
        make_startable(&window, place.extent.first)?;
        assembly.write([region]);
    }
    let in_bios_mode = match fit.disk_use {
        DiskUse::System => BiosStart::ActivePartition,
        DiskUse::Data => BiosStart::PassOn,
    };
    layout.write(&assembly.draft, in_bios_mode)?;
    let [primary, backup] = table_extents(geometry);
    for extent in [primary, backup] {
        patch::untouched(&assembly.draft, extent)?;
        assembly.draft.fill(extent, 0)?;
    }
    let record = |at: Lba| {
        let extent = Extent::between(at, Lba(at.0.saturating_add(1)));
        Region::new(StageKind::Prepare, Purpose::ExtendedBootRecord, extent)
    };
    assembly.write(layout.records().map(record));
    assembly.write([
        Region::new(StageKind::Commit, Purpose::Mbr, SECTOR_0),
        Region::new(StageKind::Clear, Purpose::PrimaryTable, primary),
        Region::new(StageKind::Clear, Purpose::BackupTable, backup),
    ]);
    assembly.finish(Ending {
        after: MapPart::after_back(geometry, &kept, &layout),
        table: NewTable::Mbr(layout),
        changes_style: true,
        edits: (fit.disk_use == DiskUse::System).then_some(&identities),
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
fn identities(
    profile: &Profile,
    kept: &[&Partition],
    layout: &MbrLayout,
    esp: Option<&Partition>,
) -> Result<Identities, DraftError> {
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
    Ok(Identities {
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
