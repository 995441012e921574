//! Where the space comes from: for the EFI system partition, and for the backup table if a volume reaches to the
//! end of the disk.
//!
//! [`find`] uses an EFI system partition that is there already. Otherwise it tries unused space and the tails of
//! the System Reserved and Windows volumes, takes the one for which least has to move, and says of every other
//! why not. The System Reserved partition is only replaced if that is asked for. This room reads the disk, since
//! what a volume can give up depends on what lies in its tail; the result is a value that rules can look at.

mod considered;
mod existing;
mod shrinks;
mod takeover;

pub use considered::{CannotShrink, Considered, ExistingUnfit, Place, PlaceVerdict};
pub(crate) use existing::room_for_files;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use std::sync::Arc;

use crate::device::{Extent, Geometry, Lba, MIB, ReadDevice};
use crate::disk_use::DiskUse;
use crate::gaps::{ESP_WANTED, esp_floor, in_gap};
use crate::gpt::backup_sectors;
use crate::ntfs::ShrinkPlan;
use crate::profile::{Partition, Profile, Role, Table, beyond_volume};

/// Which means of making room the technician wants.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PlaceRequest {
    /// Whichever moves least.
    #[default]
    Auto,
    /// Unused space only.
    Gap,
    /// The tail of the boot volume or of a Windows volume.
    Shrink,
    /// The place of the System Reserved partition, after its content is saved.
    Takeover,
}

/// What the new EFI system partition should be like.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct EspRequest {
    /// What the disk is for: a data disk gets an EFI system partition only when one is asked for.
    pub disk_use: DiskUse,
    /// Where the room comes from.
    pub place: PlaceRequest,
    /// Size in bytes, when the technician named one.
    pub size: Option<u64>,
    /// An EFI system partition with unrecognised content may be formatted: the technician has typed the disk's name for
    /// that.
    pub format_unknown: bool,
}

impl EspRequest {
    /// There shall be an EFI system partition.
    fn is_for_one(&self) -> bool {
        self.disk_use == DiskUse::System || self.size.is_some() || self.place != PlaceRequest::Auto
    }
}

/// A volume that is shrunk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shrinking {
    /// Number of its partition.
    pub number: usize,
    /// The partition as it will be.
    pub after: Extent,
    /// How; shared, since it holds every byte that changes.
    pub plan: Arc<ShrinkPlan>,
}

impl Shrinking {
    /// Bytes that must be copied.
    pub fn moved_bytes(&self, cluster_bytes: u32) -> u64 {
        let clusters: u64 = self.plan.moves.iter().map(|moved| moved.clusters).sum();
        clusters.saturating_mul(cluster_bytes.into())
    }
}

/// Whose room the EFI system partition gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EspFrom {
    /// Unused space.
    Gap,
    /// The tail of this partition.
    Tail(usize),
    /// This partition's place; it is no more.
    Takeover(usize),
    /// It is there already, as this partition, and gets more files.
    Existing(usize),
    /// It is there already, as this partition, and gets a new file system.
    Formatted(usize),
}

/// The means by which an EFI system partition gets its room.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum EspKind {
    /// Unused space.
    Gap,
    /// The tail of a partition.
    Shrink,
    /// A partition's place; it is no more.
    Takeover,
    /// It is there already, and gets more files.
    Existing,
    /// It is there already, and gets a new file system.
    Formatted,
}

impl EspFrom {
    /// The means.
    pub fn kind(self) -> EspKind {
        match self {
            Self::Gap => EspKind::Gap,
            Self::Tail(_) => EspKind::Shrink,
            Self::Takeover(_) => EspKind::Takeover,
            Self::Existing(_) => EspKind::Existing,
            Self::Formatted(_) => EspKind::Formatted,
        }
    }

    /// The partition that gives the room.
    pub fn partition(self) -> Option<usize> {
        match self {
            Self::Gap => None,
            Self::Tail(number)
            | Self::Takeover(number)
            | Self::Existing(number)
            | Self::Formatted(number) => Some(number),
        }
    }
}

/// Where the EFI system partition goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct EspPlace {
    /// Its sectors.
    pub extent: Extent,
    /// Whose room they were.
    pub from: EspFrom,
}

/// The room that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placement {
    /// What the room is for.
    pub disk_use: DiskUse,
    /// The EFI system partition; `None` for a data disk that gets none.
    pub esp: Option<EspPlace>,
    /// Volumes that are shrunk: for the EFI system partition, for the backup table, or both.
    pub shrinks: Vec<Shrinking>,
    /// Partitions that end where their volumes end already, with their sectors afterwards.
    pub cut: Vec<(usize, Extent)>,
    /// All places that were looked at.
    pub considered: Vec<Considered>,
}

impl Placement {
    /// Nothing is moved, and no EFI system partition is placed.
    pub(crate) fn without_esp(disk_use: DiskUse) -> Self {
        Self {
            disk_use,
            esp: None,
            shrinks: Vec::new(),
            cut: Vec::new(),
            considered: Vec::new(),
        }
    }

    /// Sectors that a partition has afterwards.
    pub fn after(&self, partition: &Partition) -> Extent {
        let shrunk = self
            .shrinks
            .iter()
            .find(|shrink| shrink.number == partition.number);
        let cut = self
            .cut
            .iter()
            .find(|(number, _)| *number == partition.number);
        shrunk
            .map(|shrink| shrink.after)
            .or(cut.map(|(_, after)| *after))
            .unwrap_or(partition.extent)
    }

    /// Whose room the EFI system partition gets.
    pub(crate) fn esp_from(&self) -> Option<EspFrom> {
        self.esp.map(|esp| esp.from)
    }

    /// Partitions of `profile` whose volumes are shrunk, and lose their shadow copies by that: what moves
    /// goes to clusters that are free today, and may belong to the past that a copy shows.
    pub fn loses_shadow_copies<'a>(
        &'a self,
        profile: &'a Profile,
    ) -> impl Iterator<Item = &'a Partition> {
        let shrunk = self.shrinks.iter().map(|shrink| shrink.number);
        shrunk
            .filter_map(|number| profile.partition(number))
            .filter(|partition| partition.has_shadow_copies())
    }

    /// False for a partition whose place is taken over.
    pub fn keeps(&self, partition: &Partition) -> bool {
        self.esp_from() != Some(EspFrom::Takeover(partition.number))
    }
}

/// Why there is no room.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NoRoom {
    /// No place serves; each says why.
    NoPlace {
        /// Bytes needed.
        needed: u64,
        /// All places that were looked at.
        considered: Vec<Considered>,
    },
    /// The size asked for is below what FAT32 and firmware need.
    BelowFloor {
        /// Bytes asked for.
        asked: u64,
        /// Bytes needed.
        floor: u64,
    },
    /// A partition reaches into the sectors of the backup table and cannot be made smaller.
    BackupTable {
        /// Number of the partition.
        number: usize,
        /// Why it cannot.
        why: CannotShrink,
    },
    /// The EFI system partition that is there cannot be used.
    Existing {
        /// Number of the partition.
        number: usize,
        /// Why it cannot.
        why: ExistingUnfit,
    },
}

/// The sectors that the backup table takes.
pub(crate) fn backup_region(geometry: Geometry) -> Extent {
    let first = geometry
        .sectors
        .saturating_sub(backup_sectors(geometry.logical_sector));
    Extent::between(Lba(first), Lba(geometry.sectors))
}

/// A place that would do, and what it costs.
struct Candidate {
    index: usize,
    esp: Extent,
    shrink: Option<Shrinking>,
    /// A partition that gives what lies beyond its volume, with its sectors afterwards.
    cut: Option<(usize, Extent)>,
    /// Restore points are lost; bytes that must move; the recovery partition cannot be enlarged.
    costs: (bool, u64, bool),
}

struct Search<'a> {
    device: &'a dyn ReadDevice,
    profile: &'a Profile,
    request: EspRequest,
    considered: Vec<Considered>,
    candidates: Vec<Candidate>,
    /// Partitions that end where their volumes end already, for the backup table.
    cut: Vec<(usize, Extent)>,
}

fn replace(used: &mut [Extent], old: Extent, new: Extent) {
    let same = used.iter_mut().filter(|extent| **extent == old);
    same.for_each(|extent| *extent = new);
}

/// Finds the room on an MBR disk, or on a blank one that is to hold data.
pub fn find(
    device: &dyn ReadDevice,
    profile: &Profile,
    request: EspRequest,
) -> Result<Placement, NoRoom> {
    let is_blank = matches!(profile.table, Table::Blank) && request.disk_use == DiskUse::Data;
    if profile.mbr().is_none() && !is_blank {
        // The rules about the table say so; nothing is looked for.
        return Err(NoRoom::NoPlace {
            needed: 0,
            considered: Vec::new(),
        });
    }
    search(device, profile, request)
}

/// Finds the room on a GPT disk without an EFI system partition.
pub(crate) fn find_on_gpt(
    device: &dyn ReadDevice,
    profile: &Profile,
    request: EspRequest,
) -> Result<Placement, NoRoom> {
    search(device, profile, request)
}

fn search(
    device: &dyn ReadDevice,
    profile: &Profile,
    request: EspRequest,
) -> Result<Placement, NoRoom> {
    let floor = esp_floor(profile.geometry.logical_sector);
    if let Some(asked) = request.size.filter(|&asked| asked < floor) {
        return Err(NoRoom::BelowFloor { asked, floor });
    }
    let mut search = Search {
        device,
        profile,
        request,
        considered: Vec::new(),
        candidates: Vec::new(),
        cut: Vec::new(),
    };
    let existing = search.existing()?;
    if request.place == PlaceRequest::Takeover && existing.is_none() {
        return search.takeover();
    }
    let tail = search.tail_for_backup()?;
    if !request.is_for_one() {
        return Ok(Placement {
            disk_use: request.disk_use,
            esp: None,
            shrinks: tail.into_iter().collect(),
            cut: search.cut,
            considered: Vec::new(),
        });
    }
    if let Some(place) = existing {
        return Ok(search.placed(place, tail));
    }
    let mut used = profile.used();
    let shrunk = tail.iter().map(|shrink| (shrink.number, shrink.after));
    for (number, after) in shrunk.chain(search.cut.iter().copied()) {
        if let Some(partition) = profile.partition(number) {
            replace(&mut used, partition.extent, after);
        }
    }
    search.gap(&used);
    if search.candidates.is_empty() {
        search.beyond_volumes(&used);
    }
    // Nothing moves in a gap, so nothing else can be better.
    if search.candidates.is_empty() || request.place == PlaceRequest::Shrink {
        search.shrinks(&used);
    }
    search.choose(tail)
}

impl Search<'_> {
    /// The sizes to try, the wanted one first.
    fn sizes(&self) -> Vec<u64> {
        let floor = esp_floor(self.profile.geometry.logical_sector);
        match self.request.size {
            Some(asked) => vec![asked],
            None if floor < ESP_WANTED => vec![ESP_WANTED, floor],
            None => vec![ESP_WANTED.max(floor)],
        }
    }

    fn consider(&mut self, place: Place, verdict: PlaceVerdict) -> usize {
        self.considered.push(Considered {
            place,
            verdict,
            chosen: false,
        });
        self.considered.len() - 1
    }

    fn mib(bytes: u64) -> u64 {
        bytes / MIB
    }

    fn gap(&mut self, used: &[Extent]) {
        if self.request.place == PlaceRequest::Shrink {
            return;
        }
        let geometry = self.profile.geometry;
        let sizes = self.sizes();
        let (wanted, floor) = (
            sizes.first().copied().unwrap_or(ESP_WANTED),
            sizes.last().copied().unwrap_or(ESP_WANTED),
        );
        match in_gap(geometry, used, wanted, floor) {
            Ok(esp) => {
                let between = self.is_before_recovery(&esp);
                let verdict = PlaceVerdict::Free {
                    mib: Self::mib(geometry.bytes_in(&esp)),
                    before_recovery: between,
                };
                let index = self.consider(Place::Gap, verdict);
                self.candidates.push(Candidate {
                    index,
                    esp,
                    shrink: None,
                    cut: None,
                    costs: (false, 0, between),
                });
            }
            Err(largest) => {
                let verdict = PlaceVerdict::StretchTooSmall {
                    needed_mib: Self::mib(floor),
                    largest_mib: Self::mib(largest),
                };
                self.consider(Place::Gap, verdict);
            }
        }
    }

    /// The sectors of partitions beyond their volumes: an earlier job has left them, or a copy to a larger
    /// partition. Nothing moves, and the partition ends with its volume afterwards.
    fn beyond_volumes(&mut self, used: &[Extent]) {
        if self.request.place == PlaceRequest::Shrink || self.profile.mbr().is_none() {
            return;
        }
        let geometry = self.profile.geometry;
        let sizes = self.sizes();
        let (Some(&wanted), Some(&floor)) = (sizes.first(), sizes.last()) else {
            return;
        };
        for partition in &self.profile.partitions {
            let Some(beyond) = beyond_volume(partition, geometry.logical_sector) else {
                continue;
            };
            let after = Extent::between(partition.extent.first, beyond.first);
            let mut with_hole = used.to_vec();
            replace(&mut with_hole, partition.extent, after);
            let place = Place::BeyondVolume {
                partition: partition.number,
            };
            match in_gap(geometry, &with_hole, wanted, floor) {
                Ok(esp) => {
                    let verdict = PlaceVerdict::Free {
                        mib: Self::mib(geometry.bytes_in(&esp)),
                        before_recovery: false,
                    };
                    let index = self.consider(place, verdict);
                    self.candidates.push(Candidate {
                        index,
                        esp,
                        shrink: None,
                        cut: Some((partition.number, after)),
                        costs: (false, 0, false),
                    });
                }
                Err(largest) => {
                    let verdict = PlaceVerdict::BeyondTooSmall {
                        needed_mib: Self::mib(floor),
                        has_mib: Self::mib(largest),
                    };
                    self.consider(place, verdict);
                }
            }
        }
    }

    /// True where the new partition would lie between an installed Windows and its recovery partition: Windows makes room
    /// for a larger recovery partition at the end of its own, right before it.
    fn is_before_recovery(&self, esp: &Extent) -> bool {
        let partitions = self.profile.partitions.iter();
        let behind = partitions
            .clone()
            .filter(|part| part.extent.first >= esp.end);
        let next = behind.min_by_key(|part| part.extent.first);
        let before = partitions.filter(|part| part.extent.first < esp.first);
        let last = before.max_by_key(|part| part.extent.first);
        last.is_some_and(|part| part.role == Role::Windows)
            && next.is_some_and(|part| part.role == Role::Recovery)
    }

    /// Marks the place that was chosen.
    fn choose_place(&mut self, index: usize) {
        if let Some(chosen) = self.considered.get_mut(index) {
            chosen.chosen = true;
        }
    }

    fn placed(self, esp: EspPlace, shrinks: impl IntoIterator<Item = Shrinking>) -> Placement {
        Placement {
            disk_use: self.request.disk_use,
            esp: Some(esp),
            shrinks: shrinks.into_iter().collect(),
            cut: self.cut,
            considered: self.considered,
        }
    }

    fn choose(mut self, tail: Option<Shrinking>) -> Result<Placement, NoRoom> {
        // The first of the least: the order of looking is the order of preference.
        let candidates = std::mem::take(&mut self.candidates).into_iter();
        let Some(best) = candidates.min_by_key(|candidate| candidate.costs) else {
            let floor = esp_floor(self.profile.geometry.logical_sector);
            return Err(NoRoom::NoPlace {
                needed: self.request.size.unwrap_or(floor),
                considered: self.considered,
            });
        };
        self.choose_place(best.index);
        let from = best
            .shrink
            .as_ref()
            .map_or(EspFrom::Gap, |shrink| EspFrom::Tail(shrink.number));
        // The one shrink that makes room for both ends before the other's new end.
        let tail = tail.filter(|tail| Some(tail.number) != from.partition());
        let extent = best.esp;
        let other = best.cut.filter(|cut| !self.cut.contains(cut));
        self.cut.extend(other);
        Ok(self.placed(
            EspPlace { extent, from },
            best.shrink.into_iter().chain(tail),
        ))
    }
}

/// A number of bytes as a person reads it.
fn in_words(bytes: u64) -> String {
    if bytes < MIB {
        format!("{} KiB", bytes.div_ceil(1024))
    } else {
        // Tenths cut off, as sizes are shown everywhere.
        let tenths = bytes.saturating_mul(10) / MIB;
        format!("{}.{} MiB", tenths / 10, tenths % 10)
    }
}

fn cluster_bytes(partition: &Partition) -> u32 {
    let ntfs = partition.volume.ntfs.as_ref();
    ntfs.map_or(0, |health| health.shape.cluster_bytes)
}
