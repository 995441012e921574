//! What a data disk is for: its volumes.

use crate::device::{HostFacts, ReadDevice};
use crate::profile::{Partition, Profile};

use super::walk::{Fault, Found};

const REMEDY: &str = "Compare the partitions with what was planned, and let the volume's own system \
    check it before anything is written to this disk.";

/// Looks into every partition, of which the table has `count`. A volume that cannot be read, as one that is longer than its partition,
/// fails the step.
pub(super) fn all(disk: &dyn ReadDevice, count: usize) -> Found<()> {
    let profile = Profile::read(disk, HostFacts::default())
        .map_err(|error| Fault::new(error, "The disk cannot be read: check cable and health."))?;
    if profile.partitions.len() != count {
        let evidence = format!(
            "{} of {} partitions could be looked into",
            profile.partitions.len(),
            count
        );
        return Err(Fault::new(evidence, REMEDY));
    }
    let faulty = |part: &Partition| {
        let fault = part.volume.fault.as_ref()?;
        Some(format!("{}: {fault}", part.title()))
    };
    let faults: Vec<String> = profile.partitions.iter().filter_map(faulty).collect();
    if !faults.is_empty() {
        return Err(Fault::new(faults.join("; "), REMEDY));
    }
    let kinds = profile.partitions.iter().map(|part| {
        let kind = part.volume.kind.name();
        format!("partition {}: {kind}", part.number)
    });
    let kinds: Vec<String> = kinds.collect();
    let evidence = match &kinds[..] {
        [] => "no partition yet: the table is empty".to_owned(),
        all => all.join(", "),
    };
    Ok((evidence, ()))
}
