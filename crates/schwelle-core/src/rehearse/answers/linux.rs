//! What the steps of a Linux start find.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::next::Next;
use crate::pe::ProgramFault;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepLinuxEvidence"))]
pub enum Evidence {
    /// The loaders in a folder of the EFI system partition.
    LinuxLoaders {
        /// The folder.
        folder: String,
        /// Their names, in the order in which they start each other.
        programs: Vec<String>,
    },
    /// One of them does not start.
    LinuxLoaderUnfit {
        /// Its path.
        path: String,
        /// Why not.
        why: ProgramFault,
    },
    /// The configuration there, and the menu on a volume that it leads to.
    GrubMenu {
        /// Path of the configuration.
        path: String,
        /// Number of the volume's partition.
        partition: usize,
        /// Path of the menu there.
        menu_path: String,
        /// Entries of the menu.
        count: usize,
    },
    /// The configuration leads nowhere by a UUID.
    NoLead {
        /// Its path.
        path: String,
    },
    /// The volume is not on this disk.
    NoSuchVolume {
        /// Path of what names it.
        path: String,
        /// As it is named there.
        volume_id: String,
    },
    /// The menu cannot be read.
    NoMenu {
        /// Number of the volume's partition.
        partition: usize,
        /// Its path there.
        menu_path: String,
        /// Why not; `None` where it is missing.
        fault: Option<Cause>,
    },
    /// No entry of the menu starts a Linux.
    NoLinuxEntry {
        /// Path of the menu.
        menu_path: String,
    },
    /// What the entry that is started without a key loads.
    LinuxKernel {
        /// Its title.
        title: String,
        /// Number of the partition.
        partition: usize,
        /// Path of the kernel.
        path: String,
        /// Paths of the initial RAM disks.
        ram_disks: Vec<String>,
    },
    /// Something that it loads is not there, or is not what it should be.
    LinuxFileUnfit {
        /// Number of the partition.
        partition: usize,
        /// Its path.
        path: String,
        /// Why not.
        why: ProgramFault,
    },
    /// The root on the kernel's command line is not on this disk, or is named by the partition table.
    RootElsewhere {
        /// As its command line has it.
        root: String,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "StepLinuxRemedy"))]
pub enum Remedy {
    /// Let the system put its own boot loader on the EFI system partition again.
    InstallLoader,
    /// Let the system make its menu again.
    MakeMenu,
    /// Repair the system from a rescue system of its own.
    RepairSystem,
}

impl Remedy {
    #[expect(clippy::unused_self, reason = "as every family")]
    pub(super) fn next(&self) -> Vec<Next> {
        Vec::new()
    }
}
