//! To GPT: puts the draft of a GPT disk together.

use uuid::Uuid;

use crate::commit::{Purpose, Region, StageKind};
use crate::device::{BlockDevice, Extent, ReadDevice};
use crate::disk_use::DiskUse;
use crate::gpt::{GptEntry, GptLayout, TypeTable, attributes, type_guid};
use crate::identities::{Identities, Style};
use crate::mbr::{BiosStart, protective_sector};
use crate::placement::{EspFrom, Placement};
use crate::profile::{Origin, Partition, Profile, Role, Table};

use super::assembly::{Assembly, Ending};
use super::basis::{DraftError, SECTOR_0, Source, table_extents};
use super::map::MapPart;
use super::plan::{NewTable, Plan};
use super::start::Content;

/// Builds the draft for an MBR disk, or a blank one, with the placement found.
pub(crate) fn build<'a>(
    disk: &'a dyn ReadDevice,
    profile: &Profile,
    placement: &Placement,
    mut source: Source<'_>,
) -> Result<Plan<'a>, DraftError> {
    let signature = match &profile.table {
        Table::Mbr { table, .. } => table.record.disk_signature,
        Table::Blank if placement.disk_use == DiskUse::Data => 0,
        _ => return Err(DraftError::Missing("MBR table")),
    };
    let geometry = profile.geometry;
    let tables = table_extents(geometry);
    let in_the_way = |extent: &Extent| {
        extent.overlaps(&SECTOR_0) || tables.iter().any(|table| table.overlaps(extent))
    };
    let kept = profile.partitions.iter();
    let kept: Vec<&Partition> = kept.filter(|part| placement.keeps(part)).collect();
    for partition in &kept {
        if in_the_way(&placement.after(partition)) {
            return Err(DraftError::TableRoom {
                number: partition.number,
            });
        }
    }

    let mut entries = kept
        .iter()
        .map(|partition| {
            let id = (source.new_guid)();
            let (after, has_letter) = (placement.after(partition), profile.has_letter(partition));
            kept_entry(partition, after, id, (source.types, has_letter))
        })
        .collect::<Result<Vec<_>, _>>()?;
    let mut existing = None;
    for (partition, entry) in kept.iter().zip(&mut entries) {
        if placement.esp_from() == Some(EspFrom::Existing(partition.number)) {
            entry.kind = type_guid::EFI_SYSTEM;
            entry.attributes = attributes::NO_DRIVE_LETTER;
            existing = Some(entry.id);
        }
    }
    let identities = Identities {
        to: Style::Gpt,
        signature,
        disk: (source.new_guid)(),
        esp: existing.unwrap_or_else(&mut *source.new_guid),
        partitions: entries
            .iter()
            .map(|entry| Some((geometry.byte_of(entry.extent.first)?, entry.id)))
            .collect::<Option<_>>()
            .ok_or(DraftError::Missing("partition within reach"))?,
    };
    let new_esp = placement.esp.filter(|_| existing.is_none());
    entries.extend(new_esp.map(|place| GptEntry {
        kind: type_guid::EFI_SYSTEM,
        id: identities.esp,
        extent: place.extent,
        attributes: attributes::NO_DRIVE_LETTER,
        name: "EFI system partition".to_owned(),
    }));

    let mut assembly = Assembly::new(disk, profile, placement.clone(), source.stamp);
    assembly.shrink(|_, _| ())?;
    let content = match placement.disk_use {
        DiskUse::System => Some(Content::of(profile, &identities, &mut source)?),
        DiskUse::Data => None,
    };
    let esp = match placement.esp {
        Some(place) => Some(assembly.fill(place, identities.esp, (content, None), Purpose::Esp)?),
        None => None,
    };
    let layout = GptLayout {
        disk_id: identities.disk,
        entries,
    };
    layout.write(&assembly.draft)?;
    let in_bios_mode = bios_start(placement.disk_use);
    let protective = protective_sector(geometry, in_bios_mode);
    assembly.draft.write_at(0, &protective)?;

    let [primary, backup] = tables;
    use StageKind::{Commit, Prepare};
    let is_late = |region: &Region| region.stage == StageKind::Takeover;
    let (late, early): (Vec<Region>, Vec<Region>) = esp.into_iter().partition(is_late);
    assembly.write(early);
    let backup = Region::new(Prepare, Purpose::BackupTable, backup);
    let sector_0 = Region::new(Commit, Purpose::ProtectiveMbr, SECTOR_0);
    let primary = |stage| Region::new(stage, Purpose::PrimaryTable, primary);
    assembly.write(match profile.starts_through_gap() {
        false => [backup, primary(Prepare), sector_0],
        // The old disk starts through what lies there, so that stays until sector 0 has been replaced.
        true => [backup, sector_0, primary(StageKind::Table)],
    });
    assembly.write(late);
    assembly.finish(Ending {
        after: MapPart::after(geometry, &kept, layout.used(), placement.esp_from()),
        table: NewTable::Gpt(layout),
        changes_style: true,
        edits: Some(&identities),
    })
}

/// What a BIOS does with the finished disk.
pub(crate) fn bios_start(disk_use: DiskUse) -> BiosStart {
    match disk_use {
        DiskUse::System => BiosStart::Signpost,
        DiskUse::Data => BiosStart::PassOn,
    }
}

/// The new entry of a partition that is kept; `has_letter` where an installed Windows gives it a drive letter.
fn kept_entry(
    partition: &Partition,
    extent: Extent,
    id: Uuid,
    (types, has_letter): (&TypeTable, bool),
) -> Result<GptEntry, DraftError> {
    let Origin::Mbr { kind, .. } = partition.origin else {
        return Err(DraftError::Missing("MBR table"));
    };
    let mapped = types.map(kind).ok_or(DraftError::Type {
        number: partition.number,
        kind: kind.0,
    })?;
    let (guid, more) = match partition.role {
        // What a workshop has decided counts more than what a look at the volume suggests.
        _ if types.chosen(kind).is_some() => (mapped.guid, 0),
        // A System Reserved partition without a drive letter should not show up as a drive now.
        Role::Boot if !has_letter => (mapped.guid, attributes::NO_DRIVE_LETTER),
        Role::Recovery => {
            let hidden = attributes::REQUIRED | attributes::NO_DRIVE_LETTER;
            (type_guid::RECOVERY, hidden)
        }
        _ => (mapped.guid, 0),
    };
    let label = Some(&partition.volume.label).filter(|label| !label.is_empty());
    let name = mapped.name.as_ref().or(label).map(String::as_str);
    let name = name.unwrap_or(partition.role.name());
    Ok(GptEntry {
        kind: guid,
        id,
        extent,
        attributes: mapped.attributes | more,
        name: name.to_owned(),
    })
}
