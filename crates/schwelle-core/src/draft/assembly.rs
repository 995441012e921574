//! What all drafts have in common: volumes are shrunk, the EFI system partition is filled, tables are written;
//! above that converted disk the files that name the disk are edited. The result is the change set.

use std::collections::BTreeSet;
use std::sync::Arc;

use uuid::Uuid;

use crate::commit::{ChangeSet, Purpose, Region, StageKind};
use crate::device::{DeviceError, Draft, Extent, Lba, ReadDevice, Window};
use crate::fat::Repair;
use crate::gpt::type_guid;
use crate::identities::Identities;
use crate::job::{EditedVolume, ReliedOn, Watched};
use crate::placement::{EspFrom, EspPlace, Placement, Shrinking};
use crate::profile::{Origin, Partition, Profile, Role, Table};

use super::basis::{DraftError, SECTOR_0, Stamp, table_extents};
use super::esp::KeptFile;
use super::map::MapPart;
use super::plan::{NewTable, Plan};
use super::start::{Content, NewStart};
use super::{edit, esp, shrink};

/// A draft that is being put together.
pub(crate) struct Assembly<'a, 'p> {
    disk: &'a dyn ReadDevice,
    profile: &'p Profile,
    placement: Placement,
    stamp: Stamp,
    /// The disk when it is converted.
    pub(crate) draft: Draft<'a>,
    regions: Vec<Region>,
    volumes: Vec<EditedVolume>,
    start: Option<NewStart>,
}

/// How a draft ends.
pub(crate) struct Ending<'c> {
    /// The table that has been laid.
    pub(crate) table: NewTable,
    /// The disk as it will be.
    pub(crate) after: Vec<MapPart>,
    /// The table's style becomes another.
    pub(crate) changes_style: bool,
    /// The names that files on kept volumes get; `None` where they stay as they are.
    pub(crate) edits: Option<&'c Identities>,
}

impl<'a, 'p> Assembly<'a, 'p> {
    pub(crate) fn new(
        disk: &'a dyn ReadDevice,
        profile: &'p Profile,
        placement: Placement,
        stamp: Stamp,
    ) -> Self {
        Self {
            disk,
            profile,
            placement,
            stamp,
            draft: Draft::new(disk),
            regions: Vec::new(),
            volumes: Vec::new(),
            start: None,
        }
    }

    /// What else is written.
    pub(crate) fn write(&mut self, regions: impl IntoIterator<Item = Region>) {
        self.regions.extend(regions);
    }

    /// The volumes of the placement are shrunk; `entry` is called for each.
    pub(crate) fn shrink(
        &mut self,
        mut entry: impl FnMut(&Partition, &Shrinking),
    ) -> Result<(), DraftError> {
        for shrinking in &self.placement.shrinks {
            let partition = self
                .profile
                .partition(shrinking.number)
                .ok_or(DraftError::Missing("partition to be shrunk"))?;
            let (written, volume) = shrink::apply(&self.draft, partition, shrinking)?;
            self.regions.extend(written);
            self.volumes.push(volume);
            entry(partition, shrinking);
        }
        Ok(())
    }

    /// The EFI system partition with the GUID `id`, with its files where there are any, is made or filled. It is
    /// returned as what it will be written. One that is made anew keeps the files in `kept`.
    pub(crate) fn fill(
        &mut self,
        place: EspPlace,
        id: Uuid,
        (content, kept): (Option<Content>, Option<&[KeptFile]>),
        what: Purpose,
    ) -> Result<Region, DraftError> {
        self.placement.esp = Some(place);
        // The volume's number comes from the partition's GUID: as unique, and nothing else to ask for.
        let [a, b, c, d, ..] = id.to_bytes_le();
        let identity = (u32::from_le_bytes([a, b, c, d]), self.stamp);
        let filled = esp::fill(
            &self.draft,
            self.disk,
            place,
            (content.as_ref(), kept),
            identity,
        )?;
        self.start = content.map(|content| NewStart::of(content, filled));
        Ok(match place.from {
            // What is beside the new files has been another file's, and may become one's again.
            EspFrom::Formatted(_) if kept.is_some() => {
                Region::whole(StageKind::Prepare, what, place.extent)
            }
            EspFrom::Gap | EspFrom::Tail(_) | EspFrom::Formatted(_) => {
                Region::new(StageKind::Prepare, what, place.extent)
            }
            EspFrom::Existing(_) => Region::new(StageKind::Fill, what, place.extent),
            EspFrom::Takeover(number) => {
                let old = self.profile.partition(number).map(|part| part.extent);
                let old = old.ok_or(DraftError::Missing("boot partition"))?;
                Region::whole(StageKind::Takeover, what, old)
            }
        })
    }

    /// An EFI system partition that is there is repaired.
    pub(crate) fn repair(&mut self, place: EspPlace, repair: &Repair) -> Result<(), DraftError> {
        let extent = place.extent;
        let esp = Window::new(&self.draft, extent).ok_or(DraftError::Outside(extent))?;
        repair.apply(&esp)?;
        self.placement.esp = Some(place);
        let region = Region::new(StageKind::Fill, Purpose::Esp, extent);
        self.regions.push(region);
        Ok(())
    }

    /// Makes room for the hash of the job's journal in the marker that the finished disk has. One that is there already
    /// is written first of all, so that the disk proves this job's folder from the first write to the last. Returns
    /// the byte offset of the hash on the disk; `None` if there is no marker.
    fn claim(&mut self, table: &NewTable) -> Result<Option<u64>, DraftError> {
        let made = self.placement.esp.map(|place| place.extent);
        let in_table: Vec<Extent> = match table {
            NewTable::Gpt(layout) => {
                let esps = layout
                    .used()
                    .filter(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM);
                esps.map(|(_, entry)| entry.extent).collect()
            }
            NewTable::Mbr(_) => Vec::new(),
        };
        let there = self.profile.partitions.iter();
        let there = there.filter(|partition| partition.role == Role::Esp);
        let there = there.map(|partition| partition.extent);
        let mut seen = BTreeSet::new();
        for partition in made.into_iter().chain(in_table).chain(there) {
            if !seen.insert(partition) {
                continue;
            }
            // One on a partition that was only repaired may be damaged, and is then as good as none.
            let is_own = Some(partition) == made && self.start.is_some();
            let found = esp::claim(&self.draft, partition, is_own)?;
            let Some(place) = found else {
                continue;
            };
            // A marker that was made just now is written with the rest of its partition.
            if place.is_taken {
                let first = place.sector;
                let end = Lba(first.0.saturating_add(1));
                let claim = Region::new(
                    StageKind::Claim,
                    Purpose::Marker,
                    Extent::between(first, end),
                );
                self.regions.insert(0, claim);
            }
            return Ok(Some(place.hash_at));
        }
        Ok(None)
    }

    /// The files that name the disk are edited, and the change set is made and checked.
    pub(crate) fn finish(mut self, ending: Ending<'_>) -> Result<Plan<'a>, DraftError> {
        let bound_at = self.claim(&ending.table)?;
        let (disk, profile, placement) = (self.disk, self.profile, self.placement);
        let converted = Arc::new(self.draft);
        let draft = Draft::over(converted.clone());
        let edits = match ending.edits {
            Some(identities) => {
                edit::edit_files(&draft, profile, &placement, identities, self.stamp.windows)?
            }
            None => edit::Edits::default(),
        };
        let mut edited = edits.watch(disk, profile, &self.volumes)?;
        for volume in &mut edited {
            // One that ends before its partition does loses what is beyond.
            let mut partitions = profile.partitions.iter();
            if let Some(partition) =
                partitions.find(|partition| partition.extent.first.0 == volume.first_lba)
            {
                volume.sectors_after = placement.after(partition).sectors();
            }
        }
        self.volumes.extend(edited);
        if let Some(EspFrom::Existing(number)) = placement.esp_from()
            && let Some(partition) = profile.partition(number)
        {
            self.volumes
                .push(shrink::watch(disk, Some(&*converted), partition)?);
        }
        let changes = ChangeSet::of(&converted, Purpose::MovedClusters, &self.regions)?;
        let changes = changes.and_then(&draft, &edits.regions)?;
        let changes = changes.checked(ending.changes_style)?;
        let new_id = match &ending.table {
            NewTable::Gpt(layout) => Some(layout.disk_id),
            NewTable::Mbr(_) => None,
        };
        let disk_ids: BTreeSet<Uuid> = profile.table.disk_ids().chain(new_id).collect();
        Ok(Plan {
            before: MapPart::before(profile),
            after: ending.after,
            relied_on: ReliedOn {
                watched: watched(disk, profile, &changes)?,
                volumes: self.volumes,
                bound_at,
                disk_ids: disk_ids.into_iter().collect(),
                table: drafted_on(disk, profile)?,
            },
            converted,
            draft,
            table: ending.table,
            placement,
            start: self.start,
            files_edited: edits.files,
            changes,
        })
    }
}

/// The table that is drafted on: sector 0, and the copies of a GPT.
fn drafted_on(disk: &dyn ReadDevice, profile: &Profile) -> Result<Vec<Watched>, DeviceError> {
    let [primary, backup] = table_extents(disk.geometry());
    let copies = [
        (Purpose::PrimaryTable, primary),
        (Purpose::BackupTable, backup),
    ];
    let copies = copies.into_iter();
    let copies = copies.filter(|_| matches!(profile.table, Table::Gpt { .. }));
    std::iter::once((Purpose::Sector0, SECTOR_0))
        .chain(copies)
        .map(|(what, extent)| Watched::on(disk, what, extent))
        .collect()
}

/// Sectors that tell the job's disk from others, and are not written: sector 0, and extended boot records. With one
/// of these changed, the layout is another than the one drafted.
fn watched(
    disk: &dyn ReadDevice,
    profile: &Profile,
    changes: &ChangeSet,
) -> Result<Vec<Watched>, DeviceError> {
    let is_written = changes.extents().any(|extent| extent.contains(&SECTOR_0));
    let sector_0 = (!is_written).then_some((Purpose::Sector0, SECTOR_0));
    let records = profile.partitions.iter().filter_map(|partition| {
        let Origin::Mbr { named_at, .. } = partition.origin else {
            return None;
        };
        let extent = Extent::between(named_at, Lba(named_at.0.saturating_add(1)));
        (extent != SECTOR_0).then_some((Purpose::ExtendedBootRecord, extent))
    });
    let watched = sector_0.into_iter().chain(records);
    watched
        .map(|(what, extent)| Watched::on(disk, what, extent))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commit::Disorder;
    use crate::device::{BlockDevice, Memory};
    use crate::disk_use::DiskUse;
    use crate::fat::DosTime;
    use crate::gpt::GptLayout;
    use crate::host::HostFacts;

    #[test]
    fn no_draft_comes_out_of_it_unchecked() {
        let disk = Memory::new(512, 10_000);
        let profile = Profile::read(&disk, HostFacts::default()).unwrap();
        let stamp = Stamp {
            dos: DosTime::EPOCH,
            windows: 1,
        };
        let region = |stage, at| Region::new(stage, Purpose::Esp, Extent::new(Lba(at), 1).unwrap());
        let finish = |regions: [Region; 2], changes_style: bool| {
            let placement = Placement::without_esp(DiskUse::Data);
            let mut assembly = Assembly::new(&disk, &profile, placement, stamp);
            for region in &regions {
                let at = region.extent.first.0 * 512;
                assembly.draft.write_at(at, &[1; 512]).unwrap();
            }
            assembly.write(regions);
            let layout = GptLayout {
                disk_id: Uuid::nil(),
                entries: Vec::new(),
            };
            let table = NewTable::Gpt(layout);
            assembly.finish(Ending {
                table,
                after: Vec::new(),
                changes_style,
                edits: None,
            })
        };
        use StageKind::{Commit, Prepare};
        assert!(finish([region(Prepare, 9), region(Commit, 0)], true).is_ok());
        for (regions, changes_style) in [
            ([region(Commit, 0), region(Prepare, 9)], true),
            ([region(Prepare, 0), region(Commit, 9)], false),
            ([region(Commit, 0), region(Commit, 9)], true),
        ] {
            let error = finish(regions.clone(), changes_style);
            let refused = matches!(
                error,
                Err(DraftError::Disorder(
                    Disorder::Order { .. } | Disorder::Sector0 { .. } | Disorder::NotAlone { .. }
                ))
            );
            assert!(refused, "{regions:?}");
        }
    }
}
