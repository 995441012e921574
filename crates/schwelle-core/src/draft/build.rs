//! Puts the draft together.

use std::sync::Arc;

use uuid::Uuid;

use crate::commit::{ChangeSet, Disorder, Drafts, Purpose, Region, StageKind, Undeclared};
use crate::crossing::{Crossing, Style};
use crate::device::{BlockDevice, DeviceError, Draft, Extent, Geometry, Lba, ReadDevice};
use crate::disk_use::DiskUse;
use crate::fat::{DosTime, FatError, FatWriteError};
use crate::gpt::{self, GptEntry, GptLayout, TypeTable, attributes, type_guid};
use crate::job::{EditedVolume, Watched};
use crate::mbr::{self, BiosStart, MbrLayout, protective_sector};
use crate::ntfs::NtfsError;
use crate::placement::{EspFrom, Placement, backup_region};
use crate::profile::{Origin, Partition, Profile, Role, SignedSet, Table};

use super::map::MapPart;
use super::settle::{self, EditedFile};
use super::start::{Content, NewStart};
use super::{esp, trim};

/// The time that new files and the new store carry; the caller has the clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// For FAT, local time.
    pub dos: DosTime,
    /// Windows time: 100 ns since 1601, UTC.
    pub windows: u64,
}

/// What the draft takes from outside: identities and the time.
pub(crate) struct Source<'a> {
    /// Gives a GUID that nobody else has.
    pub(crate) new_guid: &'a mut dyn FnMut() -> Uuid,
    /// The time.
    pub(crate) stamp: Stamp,
    /// Which of the system's signed sets of boot files is placed.
    pub(crate) set: SignedSet,
    /// Which partition types become which.
    pub(crate) types: &'a TypeTable,
}

/// Why there is no draft. Most of these are found by a rule first; they are errors here because a
/// draft is not built on trust.
#[derive(Debug, thiserror::Error)]
pub enum DraftError {
    /// Something that the draft needs is missing from the profile.
    #[error("the disk has no {0}")]
    Missing(&'static str),
    /// A partition type that is not carried over.
    #[error("partition {number} has the type {kind:02X}h, which has no GPT form")]
    Type {
        /// The partition.
        number: usize,
        /// Its type byte.
        kind: u8,
    },
    /// An extent that leaves the disk.
    #[error("LBA {} to {} leave the disk", .0.first.0, .0.last().0)]
    Outside(Extent),
    /// A volume that did not prove sound after it was trimmed on the draft.
    #[error("partition {number}, trimmed, would not be sound: {fault}")]
    Trimmed {
        /// The partition.
        number: usize,
        /// What is wrong.
        fault: String,
    },
    /// A file that names the disk and cannot be edited.
    #[error("{path} on partition {number} cannot be edited: {fault}")]
    Settled {
        /// The partition.
        number: usize,
        /// The file.
        path: String,
        /// Why not.
        fault: String,
    },
    /// A partition where a table must lie.
    #[error("partition {number} lies where the GPT must be written")]
    TableRoom {
        /// The partition.
        number: usize,
    },
    /// The boot files could not be read.
    #[error(transparent)]
    Ntfs(#[from] NtfsError),
    /// The EFI system partition could not be made.
    #[error(transparent)]
    FatWriter(#[from] FatWriteError),
    /// The EFI system partition just made cannot be read.
    #[error(transparent)]
    Fat(#[from] FatError),
    /// A copied file is not what its source is.
    #[error("{path} on the new EFI system partition is not what was copied")]
    Copy {
        /// The file.
        path: String,
    },
    /// The draft changes what it should not.
    #[error(transparent)]
    Undeclared(#[from] Undeclared),
    /// The change set breaks an invariant.
    #[error(transparent)]
    Disorder(#[from] Disorder),
    /// Two parts of the draft want the same sectors.
    #[error("the draft would lay something over {at} twice")]
    LaidTwice {
        /// The first of them.
        at: Lba,
    },
    /// The device failed.
    #[error(transparent)]
    Device(#[from] DeviceError),
}

/// The table of a finished disk.
#[derive(Debug)]
pub enum NewTable {
    /// GPT.
    Gpt(GptLayout),
    /// MBR.
    Mbr(MbrLayout),
}

impl NewTable {
    /// Its style.
    pub fn style(&self) -> Style {
        match self {
            Self::Gpt(_) => Style::Gpt,
            Self::Mbr(_) => Style::Mbr,
        }
    }
}

/// The finished disk, and what it takes to get there.
#[derive(Debug)]
#[non_exhaustive]
pub struct Plan<'a> {
    /// The disk when it has crossed; nothing is settled yet.
    pub crossed: Arc<Draft<'a>>,
    /// The finished disk.
    pub draft: Draft<'a>,
    /// The table it gets.
    pub table: NewTable,
    /// Where the room comes from.
    pub placement: Placement,
    /// The disk as it is.
    pub before: Vec<MapPart>,
    /// The disk as it will be.
    pub after: Vec<MapPart>,
    /// What a PC starts from it; `None` for a data disk.
    pub start: Option<NewStart>,
    /// Files on kept volumes that the job edits.
    pub files_edited: Vec<EditedFile>,
    /// Everything that will be written.
    pub changes: ChangeSet,
    /// Sectors that the new disk relies on and that are not written, and the volumes that become
    /// smaller: for the journal.
    pub relied_on: (Vec<Watched>, Vec<EditedVolume>),
}

impl Plan<'_> {
    /// Bytes behind the reach of an MBR, which partitions can take from now on.
    pub fn newly_usable_bytes(&self) -> u64 {
        if self.table.style() == Style::Mbr {
            return 0;
        }
        let geometry = self.draft.geometry();
        let table = gpt::backup_sectors(geometry.logical_sector);
        let sectors = geometry
            .sectors
            .saturating_sub(mbr::REACH.saturating_add(table));
        sectors.saturating_mul(geometry.logical_sector.into())
    }

    /// The drafts, for the commit.
    pub fn drafts(&self) -> Drafts<'_> {
        Drafts {
            crossed: &*self.crossed,
            finished: &self.draft,
        }
    }
}

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
    let crossing = Crossing {
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
        id: crossing.esp,
        extent: place.extent,
        attributes: attributes::NO_DRIVE_LETTER,
        name: "EFI system partition".to_owned(),
    }));

    let draft = Draft::new(disk);
    let (mut regions, mut volumes) = (Vec::new(), Vec::new());
    for trimming in &placement.trims {
        let partition = profile
            .partition(trimming.number)
            .ok_or(DraftError::Missing("partition to be trimmed"))?;
        let (written, volume) = trim::apply(&draft, partition, trimming)?;
        regions.extend(written);
        volumes.push(volume);
    }
    let written = source.stamp.windows;
    // The volume's number comes from the partition's GUID: as unique, and nothing else to ask for.
    let [a, b, c, d, ..] = crossing.esp.to_bytes_le();
    let identity = (u32::from_le_bytes([a, b, c, d]), source.stamp);
    let content = match placement.disk_use {
        DiskUse::System => Some(Content::of(profile, &crossing, &mut source)?),
        DiskUse::Data => None,
    };
    let mut filled = esp::Filled::default();
    let mut esp_region = None;
    if let Some(place) = placement.esp {
        filled = esp::fill(&draft, disk, place, content.as_ref(), identity)?;
        let what = Purpose::Esp;
        esp_region = Some(match place.from {
            EspFrom::Gap | EspFrom::Tail(_) | EspFrom::Formatted(_) => {
                Region::new(StageKind::Prepare, what, place.extent)
            }
            EspFrom::Existing(_) => Region::new(StageKind::Fill, what, place.extent),
            EspFrom::Takeover(number) => {
                let old = profile.partition(number).map(|part| part.extent);
                let old = old.ok_or(DraftError::Missing("boot partition"))?;
                Region::whole(StageKind::Takeover, what, old)
            }
        });
    }
    let start = content.map(|content| NewStart::of(content, filled));
    let layout = GptLayout {
        disk_id: crossing.disk,
        entries,
    };
    layout.write(&draft)?;
    let in_bios_mode = bios_start(placement.disk_use);
    draft.write_at(0, &protective_sector(geometry, in_bios_mode))?;

    let [primary, backup] = tables;
    use StageKind::{Commit, Prepare};
    let is_late = |region: &Region| region.stage == StageKind::Takeover;
    let (late, early): (Vec<Region>, Vec<Region>) = esp_region.into_iter().partition(is_late);
    regions.extend(early);
    regions.extend([
        Region::new(Prepare, Purpose::BackupTable, backup),
        Region::new(Prepare, Purpose::PrimaryTable, primary),
        Region::new(Commit, Purpose::ProtectiveMbr, SECTOR_0),
    ]);
    regions.extend(late);
    let crossed = Arc::new(draft);
    let draft = Draft::over(crossed.clone());
    let settled = settle::settle(&draft, profile, placement, &crossing, written)?;
    volumes.extend(settled.watch(disk, profile, &volumes)?);
    if let Some(EspFrom::Existing(number)) = placement.esp_from()
        && let Some(partition) = profile.partition(number)
    {
        volumes.push(trim::watch(disk, Some(&*crossed), partition)?);
    }
    let changes = ChangeSet::of(&crossed, Purpose::MovedClusters, &regions)?;
    let changes = changes.and_then(&draft, &settled.regions)?.checked(true)?;
    Ok(Plan {
        before: MapPart::before(profile),
        after: MapPart::after(profile.geometry, &kept, layout.used(), placement.esp_from()),
        crossed,
        draft,
        table: NewTable::Gpt(layout),
        placement: placement.clone(),
        start,
        files_edited: settled.files,
        changes,
        relied_on: (boot_records(disk, profile)?, volumes),
    })
}

/// Sector 0.
pub(crate) const SECTOR_0: Extent = Extent {
    first: Lba(0),
    end: Lba(1),
};

/// The sectors of both copies of the table, the primary one first.
pub(crate) fn table_extents(geometry: Geometry) -> [Extent; 2] {
    let primary = Extent {
        first: Lba(1),
        end: Lba(gpt::first_usable(geometry.logical_sector)),
    };
    [primary, backup_region(geometry)]
}

/// What a BIOS does with the finished disk.
pub(crate) fn bios_start(disk_use: DiskUse) -> BiosStart {
    match disk_use {
        DiskUse::System => BiosStart::Signpost,
        DiskUse::Data => BiosStart::PassOn,
    }
}

/// The extended boot records: with one of them changed, the layout is another than the one drafted.
fn boot_records(disk: &dyn ReadDevice, profile: &Profile) -> Result<Vec<Watched>, DeviceError> {
    let records = profile.partitions.iter().filter_map(|partition| {
        let Origin::Mbr { named_at, .. } = partition.origin else {
            return None;
        };
        (named_at != Lba(0)).then_some(named_at)
    });
    let watch = |at: Lba| {
        let extent = Extent {
            first: at,
            end: Lba(at.0.saturating_add(1)),
        };
        Watched::on(disk, Purpose::ExtendedBootRecord, extent)
    };
    records.map(watch).collect()
}

/// The new entry of a partition that is kept; `has_letter` where a Windows gives it a drive letter.
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
        // What a workshop has settled counts more than what a look at the volume suggests.
        _ if types.settled(kind).is_some() => (mapped.guid, 0),
        // An old boot partition without a drive letter should not show up as a drive now.
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
