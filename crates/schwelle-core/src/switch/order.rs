//! What a PC's boot order starts from a disk.

use crate::device::ReadDevice;
use crate::firmware::{AttachedDisk, Machine, Target};
use crate::rehearse::{Rehearsal, walk};

/// The first entry in a PC's boot order that leads to a disk, and the walk from the loader that it names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ByBootOrder {
    /// Number of the entry.
    pub number: u16,
    /// Its name.
    pub name: String,
    /// Path of the loader.
    pub path: String,
    /// The walk.
    pub rehearsal: Rehearsal,
}

impl ByBootOrder {
    /// Looks through the boot order of `machine`, as far as it is known; `None` where no active entry in it leads to
    /// `disk`.
    pub fn of(machine: &Machine, disk: &dyn ReadDevice) -> Option<Self> {
        let attached = [AttachedDisk {
            name: "",
            device: disk,
        }];
        let mut entries = machine.entries.value()?.iter();
        entries.find_map(|entry| {
            let option = entry.option.as_ref().ok()?;
            if entry.place.is_none() || !option.is_active() {
                return None;
            }
            let (Target::File { path, .. } | Target::NoFile { path, .. }) =
                Target::of(option, &attached)
            else {
                return None;
            };
            Some(Self {
                number: entry.number,
                name: option.description.clone(),
                rehearsal: walk(disk, Some(&path)),
                path,
            })
        })
    }
}
