//! Where the room comes from: for the EFI system partition, and for the backup table where a
//! volume reaches to the end of the disk.
//!
//! [`find`] tries the unused stretches and the tails of the boot volume and the Windows volumes,
//! takes what moves least, and says of every other why not. It reads the disk, since what a volume
//! can give depends on what lies in its tail; the result is a value that rules can look at.

use std::sync::Arc;

use crate::device::{Extent, Geometry, Lba, MIB, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::gpt::place::{ESP_WANTED, esp_floor, in_gap};
use crate::gpt::{backup_sectors, first_usable};
use crate::ntfs::{LogState, NtfsVolume, TrimError, TrimPlan};
use crate::profile::{Partition, Profile, Role, Table};

/// Which means of making room the technician wants.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PlaceWish {
    /// Whichever moves least.
    #[default]
    Auto,
    /// Unused space only.
    Gap,
    /// The tail of the boot volume or of a Windows volume.
    Trim,
    /// The old boot partition's place. Not there yet.
    Takeover,
}

/// What the new EFI system partition should be like.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct EspWish {
    /// What the disk is for: a data disk gets an EFI system partition only when one is asked for.
    pub disk_use: DiskUse,
    /// Where the room comes from.
    pub place: PlaceWish,
    /// Size in bytes, when the technician named one.
    pub size: Option<u64>,
}

impl EspWish {
    /// There shall be an EFI system partition.
    fn is_for_one(&self) -> bool {
        self.disk_use == DiskUse::System || self.size.is_some() || self.place != PlaceWish::Auto
    }
}

/// A volume that becomes smaller.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trimming {
    /// Number of its partition.
    pub number: usize,
    /// The partition as it will be.
    pub after: Extent,
    /// How; shared, since it holds every byte that changes.
    pub plan: Arc<TrimPlan>,
}

impl Trimming {
    /// Bytes that must be copied.
    pub fn moved_bytes(&self, cluster_bytes: u32) -> u64 {
        let clusters: u64 = self.plan.moves.iter().map(|moved| moved.clusters).sum();
        clusters.saturating_mul(cluster_bytes.into())
    }
}

/// A place that was looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Considered {
    /// "unused space", "tail of partition 2".
    pub place: String,
    /// What came of it, in numbers.
    pub verdict: String,
    /// This is the one.
    pub chosen: bool,
}

/// Whose room the EFI system partition gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EspFrom {
    /// Unused space.
    Gap,
    /// The tail of this partition.
    Tail(usize),
}

impl EspFrom {
    /// The word in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gap => "gap",
            Self::Tail(_) => "trim",
        }
    }

    /// The partition that gives the room.
    pub fn partition(self) -> Option<usize> {
        match self {
            Self::Gap => None,
            Self::Tail(number) => Some(number),
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
    /// Volumes that become smaller: for the EFI system partition, for the backup table, or both.
    pub trims: Vec<Trimming>,
    /// All places that were looked at.
    pub considered: Vec<Considered>,
}

impl Placement {
    /// Sectors that a partition has afterwards.
    pub fn after(&self, partition: &Partition) -> Extent {
        let trimmed = self
            .trims
            .iter()
            .find(|trim| trim.number == partition.number);
        trimmed.map_or(partition.extent, |trim| trim.after)
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
        why: String,
    },
    /// The means asked for is not there yet.
    NotYet,
}

/// The sectors that the backup table takes.
pub fn backup_region(geometry: Geometry) -> Extent {
    let first = geometry
        .sectors
        .saturating_sub(backup_sectors(geometry.logical_sector));
    Extent {
        first: Lba(first),
        end: Lba(geometry.sectors),
    }
}

/// A place that would do, and what it costs.
struct Candidate {
    index: usize,
    esp: Extent,
    trim: Option<Trimming>,
    moved: u64,
}

struct Search<'a> {
    device: &'a dyn ReadDevice,
    profile: &'a Profile,
    wish: EspWish,
    considered: Vec<Considered>,
    candidates: Vec<Candidate>,
}

/// Finds the room on an MBR disk, or on a blank one that is to hold data.
pub fn find(
    device: &dyn ReadDevice,
    profile: &Profile,
    wish: EspWish,
) -> Result<Placement, NoRoom> {
    let geometry = profile.geometry;
    let floor = esp_floor(geometry.logical_sector);
    let is_blank = matches!(profile.table, Table::Blank) && wish.disk_use == DiskUse::Data;
    if profile.mbr().is_none() && !is_blank {
        // The rules about the table say so; nothing is looked for.
        return Err(NoRoom::NoPlace {
            needed: 0,
            considered: Vec::new(),
        });
    }
    if wish.place == PlaceWish::Takeover {
        return Err(NoRoom::NotYet);
    }
    if let Some(asked) = wish.size.filter(|&asked| asked < floor) {
        return Err(NoRoom::BelowFloor { asked, floor });
    }
    let mut search = Search {
        device,
        profile,
        wish,
        considered: Vec::new(),
        candidates: Vec::new(),
    };
    let tail = search.tail_for_backup()?;
    if !wish.is_for_one() {
        return Ok(Placement {
            disk_use: wish.disk_use,
            esp: None,
            trims: tail.into_iter().collect(),
            considered: Vec::new(),
        });
    }
    let mut used = profile.used();
    if let Some(trim) = &tail
        && let Some(partition) = profile.partition(trim.number)
    {
        let old = partition.extent;
        used.iter_mut()
            .filter(|extent| **extent == old)
            .for_each(|extent| *extent = trim.after);
    }
    search.gap(&used);
    // Nothing moves in a gap, so nothing else can be better.
    if search.candidates.is_empty() || wish.place == PlaceWish::Trim {
        search.trims(&used);
    }
    search.choose(tail)
}

impl Search<'_> {
    /// The sizes to try, the wanted one first.
    fn sizes(&self) -> Vec<u64> {
        let floor = esp_floor(self.profile.geometry.logical_sector);
        match self.wish.size {
            Some(asked) => vec![asked],
            None if floor < ESP_WANTED => vec![ESP_WANTED, floor],
            None => vec![ESP_WANTED.max(floor)],
        }
    }

    fn consider(&mut self, place: String, verdict: String) -> usize {
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
        let place = "unused space".to_owned();
        if self.wish.place == PlaceWish::Trim {
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
                let size = Self::mib(geometry.bytes_in(&esp));
                let index = self.consider(place, format!("{size} MiB; nothing has to move"));
                self.candidates.push(Candidate {
                    index,
                    esp,
                    trim: None,
                    moved: 0,
                });
            }
            Err(largest) => {
                let (needed, largest) = (Self::mib(floor), Self::mib(largest));
                self.consider(
                    place,
                    format!("needs {needed} MiB; the largest stretch has {largest} MiB"),
                );
            }
        }
    }

    /// The boot volume first, then the Windows volumes: where both would move as little, the boot
    /// volume's room is the one nobody misses. On a data disk, any volume.
    fn trims(&mut self, used: &[Extent]) {
        if self.wish.place == PlaceWish::Gap {
            return;
        }
        let profile = self.profile;
        let with = |role: Role| profile.partitions.iter().filter(move |p| p.role == role);
        let of_data = with(Role::Data).filter(|_| self.wish.disk_use == DiskUse::Data);
        let all = with(Role::Boot).chain(with(Role::Windows)).chain(of_data);
        for partition in all.collect::<Vec<_>>() {
            let place = format!("tail of partition {}", partition.number);
            match self.trim_for_esp(partition, used) {
                Ok((esp, trim, verdict)) => {
                    let index = self.consider(place, verdict);
                    let moved = trim.moved_bytes(cluster_bytes(partition));
                    self.candidates.push(Candidate {
                        index,
                        esp,
                        trim: Some(trim),
                        moved,
                    });
                }
                Err(verdict) => {
                    self.consider(place, verdict);
                }
            }
        }
    }

    fn trim_for_esp(
        &self,
        partition: &Partition,
        used: &[Extent],
    ) -> Result<(Extent, Trimming, String), String> {
        let geometry = self.profile.geometry;
        let align = geometry.sectors_per_mib();
        let limit = backup_region(geometry).first;
        // The room ends where the next partition, or the backup table, begins.
        let behind = used
            .iter()
            .map(|extent| extent.first)
            .filter(|first| *first > partition.extent.first)
            .chain([limit])
            .min()
            .unwrap_or(limit);
        let room_end = behind.0 / align * align;
        // Where the unused stretch behind would do alone, it is left alone, and the tail itself is
        // taken.
        let own_end = partition.extent.end.0 / align * align;
        let mut why = String::new();
        for size in self.sizes() {
            let sectors = size.div_ceil(geometry.logical_sector.into());
            let before = |end: u64| {
                let first = end.checked_sub(sectors);
                first.map_or(0, |first| first / align * align)
            };
            let mut first = before(room_end);
            if first >= partition.extent.end.0 {
                first = before(own_end);
            }
            let needed = Self::mib(size);
            if first
                <= partition
                    .extent
                    .first
                    .0
                    .max(first_usable(geometry.logical_sector))
            {
                let has = Self::mib(geometry.bytes_in(&partition.extent));
                why = format!("needs {needed} MiB; the whole partition has {has} MiB");
                continue;
            }
            let esp = Extent {
                first: Lba(first),
                end: Lba(first.saturating_add(sectors)),
            };
            match self.trim(partition, Lba(first)) {
                Ok(trim) => {
                    let moved = trim.moved_bytes(cluster_bytes(partition));
                    let verdict = format!(
                        "{needed} MiB; {} must move, {} are free for it",
                        in_words(moved),
                        in_words(trim.plan.free_bytes)
                    );
                    return Ok((esp, trim, verdict));
                }
                Err(reason) => why = format!("needs {needed} MiB; {reason}"),
            }
        }
        Err(why)
    }

    /// Plans to let a partition end at `end`.
    fn trim(&self, partition: &Partition, end: Lba) -> Result<Trimming, String> {
        let Some(health) = &partition.volume.ntfs else {
            let kind = partition.volume.kind.name();
            return Err(format!("holds {kind}; only sound NTFS volumes are trimmed"));
        };
        let sound = health.faults.is_empty()
            && health.audit.faults.iter().all(|fault| fault.is_harmless())
            && !health.dirty
            && !health.hibernated
            && matches!(health.log, LogState::Clean | LogState::Empty);
        if !sound {
            return Err("the volume must be sound and closed cleanly first".to_owned());
        }
        if health.shape.sector_bytes != self.profile.geometry.logical_sector {
            return Err("the volume was made for another sector size".to_owned());
        }
        let after = Extent {
            first: partition.extent.first,
            end,
        };
        let window = Window::new(self.device, partition.extent)
            .ok_or_else(|| "the partition leaves the disk".to_owned())?;
        let volume = NtfsVolume::open(&window).map_err(|error| error.to_string())?;
        let plan = volume
            .plan_trim(after.sectors())
            .map_err(|error| match error {
                TrimError::Full { needed, free } => format!(
                    "{} in use would have to move, but only {} are free in front of it",
                    in_words(needed),
                    in_words(free)
                ),
                other => other.to_string(),
            })?;
        Ok(Trimming {
            number: partition.number,
            after,
            plan: Arc::new(plan),
        })
    }

    /// Where a volume reaches into the sectors of the backup table, it must become smaller,
    /// wherever the EFI system partition goes.
    fn tail_for_backup(&mut self) -> Result<Option<Trimming>, NoRoom> {
        let geometry = self.profile.geometry;
        let region = backup_region(geometry);
        let reaching = self
            .profile
            .partitions
            .iter()
            .find(|partition| partition.extent.overlaps(&region));
        let Some(partition) = reaching else {
            return Ok(None);
        };
        let align = geometry.sectors_per_mib();
        let end = Lba(region.first.0 / align * align);
        let trim = self
            .trim(partition, end)
            .map_err(|why| NoRoom::BackupTable {
                number: partition.number,
                why,
            })?;
        Ok(Some(trim))
    }

    fn choose(mut self, tail: Option<Trimming>) -> Result<Placement, NoRoom> {
        // The first of the least: the order of looking is the order of preference.
        let best = self
            .candidates
            .into_iter()
            .min_by_key(|candidate| candidate.moved);
        let Some(best) = best else {
            return Err(NoRoom::NoPlace {
                needed: self
                    .wish
                    .size
                    .unwrap_or(esp_floor(self.profile.geometry.logical_sector)),
                considered: self.considered,
            });
        };
        if let Some(chosen) = self.considered.get_mut(best.index) {
            chosen.chosen = true;
        }
        let from = best
            .trim
            .as_ref()
            .map_or(EspFrom::Gap, |trim| EspFrom::Tail(trim.number));
        // The one trim that makes room for both ends in front of the other's new end.
        let tail = tail.filter(|tail| Some(tail.number) != from.partition());
        Ok(Placement {
            disk_use: self.wish.disk_use,
            esp: Some(EspPlace {
                extent: best.esp,
                from,
            }),
            trims: best.trim.into_iter().chain(tail).collect(),
            considered: self.considered,
        })
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
