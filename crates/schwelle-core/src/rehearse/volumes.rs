//! What a data disk is for: its volumes.

use crate::device::ReadDevice;
use crate::host::HostFacts;
use crate::profile::{Partition, Profile};

use super::answers::table::{Evidence, FaultOn, Remedy, VolumeOn};
use super::step::{Fault, Found, holds};

/// Looks into every partition, of which the table has `named`. A volume that cannot be read, as one that is
/// longer than its partition, fails the step.
pub(super) fn all(disk: &dyn ReadDevice, named: usize) -> Found<()> {
    let profile = Profile::read(disk, HostFacts::default()).map_err(Fault::unreadable)?;
    let partitions = &profile.partitions;
    let seen = partitions.len();
    if seen != named {
        let evidence = Evidence::VolumesMissing { seen, named };
        return Err(Fault::new(evidence, Remedy::ComparePartitions));
    }
    let faulty = |part: &Partition| {
        Some(FaultOn {
            partition: part.titled(),
            fault: part.volume.fault.clone()?,
        })
    };
    let faults: Vec<FaultOn> = partitions.iter().filter_map(faulty).collect();
    if !faults.is_empty() {
        let evidence = Evidence::VolumesFaulty { faults };
        return Err(Fault::new(evidence, Remedy::ComparePartitions));
    }
    let volumes = partitions.iter().map(|part| VolumeOn {
        partition: part.number,
        volume: part.volume.kind,
    });
    let volumes = volumes.collect();
    holds(Evidence::Volumes { volumes }, ())
}
