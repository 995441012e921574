//! The tails of NTFS volumes, and of swap areas.

use std::sync::Arc;

use crate::cause::Cause;
use crate::device::{Extent, Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::gpt::first_usable;
use crate::ntfs::NtfsVolume;
use crate::profile::{Partition, Role, VolumeKind, beyond_volume};
use crate::swap;

use super::{
    Candidate, CannotShrink, NoRoom, Place, PlaceRequest, PlaceVerdict, Search, Shrinking,
    backup_region, cluster_bytes,
};

impl Search<'_> {
    /// The boot volume first, then the Windows volumes: where both would move as little, the boot
    /// volume's room is the one that is not missed. On a data disk, any volume.
    pub(super) fn shrinks(&mut self, used: &[Extent]) {
        if self.request.place == PlaceRequest::Gap {
            return;
        }
        let profile = self.profile;
        let with = |role: Role| profile.partitions.iter().filter(move |p| p.role == role);
        let is_data = self.request.disk_use == DiskUse::Data;
        let of_data = with(Role::Data).filter(|_| is_data);
        let swap = with(Role::Data).filter(|part| !is_data && part.volume.kind == VolumeKind::Swap);
        let all = with(Role::Boot)
            .chain(with(Role::Windows))
            .chain(swap)
            .chain(of_data);
        for partition in all.collect::<Vec<_>>() {
            let place = Place::Tail {
                partition: partition.number,
            };
            match self.shrink_for_esp(partition, used) {
                Ok((esp, shrink, verdict)) => {
                    let index = self.consider(place, verdict);
                    let moved = shrink.moved_bytes(cluster_bytes(partition));
                    let between = self.is_before_recovery(&esp);
                    self.candidates.push(Candidate {
                        index,
                        esp,
                        shrink: Some(shrink),
                        cut: None,
                        costs: (partition.has_shadow_copies(), moved, between),
                    });
                }
                Err(verdict) => {
                    self.consider(place, verdict);
                }
            }
        }
    }

    fn shrink_for_esp(
        &self,
        partition: &Partition,
        used: &[Extent],
    ) -> Result<(Extent, Shrinking, PlaceVerdict), PlaceVerdict> {
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
        // Where the unused stretch after would do alone, it is left alone, and the tail itself is
        // taken.
        let own_end = partition.extent.end.0 / align * align;
        let mut refused = PlaceVerdict::LeavesDisk;
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
                refused = PlaceVerdict::PartitionTooSmall {
                    needed_mib: needed,
                    has_mib: Self::mib(geometry.bytes_in(&partition.extent)),
                };
                continue;
            }
            let esp = Extent::between(Lba(first), Lba(first.saturating_add(sectors)));
            match self.shrink(partition, Lba(first)) {
                Ok(shrink) => {
                    let verdict = PlaceVerdict::Shrinks {
                        mib: needed,
                        moved_bytes: shrink.moved_bytes(cluster_bytes(partition)),
                        free_bytes: shrink.plan.free_bytes,
                        loses_restore_points: partition.has_shadow_copies(),
                        before_recovery: self.is_before_recovery(&esp),
                    };
                    return Ok((esp, shrink, verdict));
                }
                Err(why) => {
                    refused = PlaceVerdict::CannotShrink {
                        needed_mib: needed,
                        why,
                    };
                }
            }
        }
        Err(refused)
    }

    /// Plans to let a partition end at `end`.
    fn shrink(&self, partition: &Partition, end: Lba) -> Result<Shrinking, CannotShrink> {
        if partition.is_opened() {
            return Err(CannotShrink::Encrypted);
        }
        if partition.volume.kind == VolumeKind::Swap {
            return self.shrink_swap(partition, end);
        }
        let Some(health) = &partition.volume.ntfs else {
            return Err(CannotShrink::NotNtfs {
                volume: partition.volume.kind,
            });
        };
        let sound = health.faults.is_empty()
            && health.audit.faults.iter().all(|fault| fault.is_harmless())
            && !health.dirty
            && !health.is_hibernated()
            && health.log_is_clean();
        if !sound {
            return Err(CannotShrink::NotSound);
        }
        if health.shape.sector_bytes != self.profile.geometry.logical_sector {
            return Err(CannotShrink::OtherSectorSize);
        }
        let after = Extent::between(partition.extent.first, end);
        let window = Window::new(self.device, partition.extent).ok_or(CannotShrink::LeavesDisk)?;
        let volume = NtfsVolume::open(&window).map_err(|error| CannotShrink::Other {
            fault: error.into(),
        })?;
        let plan = volume.plan_shrink(after.sectors())?;
        Ok(Shrinking {
            number: partition.number,
            after,
            plan: Arc::new(plan),
        })
    }

    /// The same of a swap area, of which nothing has to move.
    fn shrink_swap(&self, partition: &Partition, end: Lba) -> Result<Shrinking, CannotShrink> {
        let other = |fault: Cause| CannotShrink::Other { fault };
        let first = partition.extent.first;
        let after = Extent::between(first, end);
        let window = Window::new(self.device, partition.extent).ok_or(CannotShrink::LeavesDisk)?;
        let header = window.read_vec(0, usize::try_from(swap::HEADER_BYTES).unwrap_or_default());
        let header = header.map_err(|error| other(error.into()))?;
        let bytes = self.profile.geometry.bytes_in(&after);
        let plan = swap::plan_shrink(&header, bytes, after.sectors());
        Ok(Shrinking {
            number: partition.number,
            after,
            plan: Arc::new(plan.map_err(|error| other(error.into()))?),
        })
    }

    /// Where a volume reaches into the sectors of the backup table, it must be shrunk,
    /// wherever the EFI system partition goes.
    pub(super) fn tail_for_backup(&mut self) -> Result<Option<Shrinking>, NoRoom> {
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
        if let Some(beyond) = beyond_volume(partition, geometry.logical_sector)
            && beyond.first <= region.first
            && self.profile.mbr().is_some()
        {
            let first = partition.extent.first;
            let end = beyond.first;
            self.cut
                .push((partition.number, Extent::between(first, end)));
            return Ok(None);
        }
        let align = geometry.sectors_per_mib();
        let end = Lba(region.first.0 / align * align);
        let shrink = self
            .shrink(partition, end)
            .map_err(|why| NoRoom::BackupTable {
                number: partition.number,
                why,
            })?;
        Ok(Some(shrink))
    }
}
