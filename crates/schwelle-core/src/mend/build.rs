//! The draft with the remedies on it.

use uuid::Uuid;

use crate::commit::{Purpose, Region, StageKind};
use crate::device::{BlockDevice, Lba, ReadDevice};
use crate::draft::{
    Assembly, Content, DraftError, Ending, MapPart, NewTable, Plan, SECTOR_0, Source, bcd_store,
    bios_start, table_extents,
};
use crate::gpt::{GptEntry, GptLayout, attributes, type_guid};
use crate::identities::Identities;
use crate::mbr::protect;
use crate::placement::{EspFrom, EspPlace, Placement};
use crate::profile::{ESP_STORE, Partition, Profile, REMOVABLE_X64};

use super::remedies::{Remedies, esp_of};
use super::{StoreFrom, names};

/// Builds the mended disk.
pub(super) fn build<'a>(
    disk: &'a dyn ReadDevice,
    profile: &Profile,
    remedies: &Remedies<'_>,
    source: &mut Source<'_>,
) -> Result<Plan<'a>, DraftError> {
    let geometry = disk.geometry();
    let copy = remedies
        .sound_copy()
        .ok_or(DraftError::Missing("sound copy of its table"))?;
    let mut layout = GptLayout::of(copy).ok_or(DraftError::Missing("table of the usual form"))?;
    let placement = remedies.new_esp.clone();
    let placement = placement.unwrap_or_else(|| Placement::without_esp(remedies.disk_use()));
    let chosen = choose_esp(profile, remedies, &placement, &mut layout)?;
    let id = chosen.map_or(Uuid::nil(), |(_, id)| id);

    let mut assembly = Assembly::new(disk, profile, placement, source.stamp);
    assembly.shrink(|partition, shrinking| {
        let mut entries = layout.entries.iter_mut();
        if let Some(entry) = entries.find(|entry| entry.extent == partition.extent) {
            entry.extent = shrinking.after;
        }
    })?;
    if let (Some(repair), Some((place, _))) = (&remedies.repair, chosen)
        && remedies.kept.is_none()
    {
        assembly.repair(place, repair)?;
    }
    if let Some(partition) = remedies
        .untyped
        .and_then(|number| profile.partition(number))
    {
        let mut entries = layout.entries.iter_mut();
        if let Some(entry) = entries.find(|entry| entry.extent == partition.extent) {
            entry.kind = type_guid::BASIC_DATA;
        }
    }
    let identities = names::identities(disk, &layout, remedies.signature, id);
    let mut from = None;
    if let Some((place, id)) = chosen
        && (remedies.fill.is_some() || !matches!(place.from, EspFrom::Existing(_)))
    {
        from = Some(place.from);
        let content = remedies
            .fill
            .map(|from| content(profile, remedies, from, &identities, source))
            .transpose()?;
        let region = assembly.fill(place, id, (content, remedies.kept.as_deref()), Purpose::Esp)?;
        assembly.write([region]);
    }
    let of_esp = remedies.retype.is_some() || remedies.show || remedies.new_guid;
    let entry_changes = of_esp || remedies.untyped.is_some();
    if remedies.table || entry_changes || remedies.new_esp.is_some() {
        layout.write(&assembly.draft)?;
    }
    if remedies.sector_0 || remedies.table {
        let in_bios_mode = bios_start(remedies.disk_use());
        let old = disk.read_sector(Lba(0))?;
        let protected = protect(&old, geometry, in_bios_mode);
        assembly.draft.write_at(0, &protected)?;
    }
    assembly.write(table_regions(disk, remedies.is_primary_sound()));
    let kept: Vec<&Partition> = profile.partitions.iter().collect();
    assembly.finish(Ending {
        after: MapPart::after(geometry, &kept, layout.used(), from),
        table: NewTable::Gpt(layout),
        changes_style: false,
        edits: remedies.edit_files.then_some(&identities),
    })
}

/// The disk's EFI system partition as it will be, with its GUID; its entry is put into the table.
fn choose_esp(
    profile: &Profile,
    remedies: &Remedies<'_>,
    placement: &Placement,
    layout: &mut GptLayout,
) -> Result<Option<(EspPlace, Uuid)>, DraftError> {
    if let Some(place) = placement.esp {
        let id = remedies.new_id;
        let entry = GptEntry {
            kind: type_guid::EFI_SYSTEM,
            id,
            extent: place.extent,
            attributes: attributes::NO_DRIVE_LETTER,
            name: "EFI system partition".to_owned(),
        };
        if !layout.add(entry) {
            return Err(DraftError::Missing("free entry in its table"));
        }
        return Ok(Some((place, id)));
    }
    let partition = match remedies.retype {
        Some(number) => profile.partition(number),
        None => esp_of(profile),
    };
    let Some(partition) = partition else {
        return Ok(None);
    };
    let mut entries = layout.entries.iter_mut();
    let Some(entry) = entries.find(|entry| entry.extent == partition.extent) else {
        return Ok(None);
    };
    if remedies.retype.is_some() {
        entry.kind = type_guid::EFI_SYSTEM;
        entry.attributes |= attributes::NO_DRIVE_LETTER;
    }
    if remedies.show {
        entry.attributes &= !attributes::NO_BLOCK_DEVICE;
    }
    if remedies.new_guid {
        entry.id = remedies.new_id;
    }
    let from = match remedies.format || remedies.kept.is_some() {
        true => EspFrom::Formatted(partition.number),
        false => EspFrom::Existing(partition.number),
    };
    let extent = partition.extent;
    Ok(Some((EspPlace { extent, from }, entry.id)))
}

/// What the partition is filled with.
fn content(
    profile: &Profile,
    remedies: &Remedies<'_>,
    from: StoreFrom,
    identities: &Identities,
    source: &mut Source<'_>,
) -> Result<Content, DraftError> {
    let old = remedies.store(from);
    let (store, translated) = bcd_store(profile, identities, old, source)?;
    let hive = store.to_hive(source.stamp.windows);
    let mut content = Content::of_store(profile, source.set, (store, translated))?;
    content.own.push((ESP_STORE.to_owned(), hive));
    if remedies.keep_removable {
        content.files.retain(|file| !file.is_for(REMOVABLE_X64));
    }
    Ok(content)
}

/// The sectors of the tables. One copy is written and flushed before the other, the one that was
/// not sound first: at any moment one of them is.
fn table_regions(disk: &dyn ReadDevice, is_primary_sound: bool) -> [Region; 3] {
    let [primary, backup] = table_extents(disk.geometry());
    let mut copies = [
        (Purpose::BackupTable, backup),
        (Purpose::PrimaryTable, primary),
    ];
    if !is_primary_sound {
        copies.reverse();
    }
    let [(first, first_at), (then, then_at)] = copies;
    [
        Region::new(StageKind::Prepare, first, first_at),
        Region::new(StageKind::Commit, then, then_at),
        Region::new(StageKind::Commit, Purpose::ProtectiveMbr, SECTOR_0),
    ]
}
