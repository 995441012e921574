//! The systems on a disk, in the documents of `check` and `plan`.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::draft;
use schwelle_core::pipeline::Judged;
use schwelle_core::starts::{Afterwards, SectorZero, SystemStart, Today};
use serde::{Deserialize, Serialize};

use super::worded::Worded;
use crate::words;

/// A system on the disk, or boot code that starts none that is known.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct SystemStartDoc {
    /// What it is called; `convert --drop` takes this name
    pub(crate) system: String,
    /// Number of its partition; null for boot code
    pub(crate) partition: Option<usize>,
    /// Whether it starts in BIOS mode today
    pub(crate) today: Worded<Today>,
    /// Whether it starts in UEFI mode, once the disk is converted
    pub(crate) afterwards: Worded<Afterwards>,
    /// It starts today, or may, and does not afterwards: it must be given up by name
    pub(crate) is_lost: bool,
}

impl SystemStartDoc {
    fn of(system: SystemStart) -> Self {
        Self {
            is_lost: system.is_lost(),
            system: system.name,
            partition: system.on.map(|on| on.number),
            today: Worded::of(system.today, words::starts::today),
            afterwards: Worded::of(system.afterwards, words::starts::afterwards),
        }
    }
}

/// The boot code of an MBR disk that is to start in UEFI mode.
pub(super) fn boot_code(judged: &Judged<'_, '_>) -> Option<Worded<SectorZero>> {
    let code = judged.sector_zero();
    code.map(|code| Worded::of(code, words::starts::sector_zero))
}

/// The systems on such a disk.
pub(super) fn starts(judged: &Judged<'_, '_>) -> Vec<SystemStartDoc> {
    let starts = judged.starts().into_iter();
    starts.map(SystemStartDoc::of).collect()
}

/// A Linux that gets boot loaders on the EFI system partition.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct LinuxDoc {
    /// What it is called
    pub(crate) system: String,
    /// Number of its partition
    pub(crate) partition: usize,
    /// Path of what firmware starts of it, on the EFI system partition
    pub(crate) loader: String,
    /// Firmware without a boot entry starts it, by the path for removable media
    pub(crate) is_first: bool,
}

impl LinuxDoc {
    pub(super) fn of(start: &draft::NewStart) -> Vec<Self> {
        let linux = start.linux.iter();
        linux
            .map(|linux| Self {
                system: linux.name.clone(),
                partition: linux.partition,
                loader: format!("{}\\{}", linux.folder, linux.loader),
                is_first: linux.is_first,
            })
            .collect()
    }
}
