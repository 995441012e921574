//! What is mended, and why something is not, as values.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::device::Extent;
use crate::placement::Place;
use crate::profile::{Titled, VolumeKind};

/// What is done about a step that does not hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum FixKind {
    /// Sector 0 gets one protective entry over the whole disk.
    ProtectiveEntry,
    /// The places in both copies of the table are set right.
    TablePlaces,
    /// The backup table is written anew from the primary one.
    BackupTable,
    /// The primary table is written anew from the backup one.
    PrimaryTable,
    /// A partition with boot files becomes the EFI system partition.
    Retyped {
        /// Which.
        partition: Titled,
    },
    /// An EFI system partition is made.
    NewEsp {
        /// Where its room comes from.
        place: Option<Place>,
    },
    /// The EFI system partition's entry loses the attribute that hides it from firmware.
    Shown {
        /// Which.
        partition: Titled,
    },
    /// A partition that holds something else loses the type of an EFI system partition.
    TypeTaken {
        /// Which.
        partition: Titled,
    },
    /// The EFI system partition gets a GUID of its own.
    NewGuid {
        /// Which.
        partition: Titled,
    },
    /// The boot sector and the FATs of the EFI system partition are brought to agree with their copies.
    Repaired {
        /// Which.
        partition: Titled,
    },
    /// The EFI system partition gets a new file system, with the files of the old one.
    Remade {
        /// Which.
        partition: Titled,
        /// Paths of the files that it keeps.
        files: Vec<String>,
        /// Paths of the files and folders that could not be read, or not to their end.
        lost: Vec<String>,
    },
    /// The EFI system partition gets a file system.
    Formatted {
        /// Which.
        partition: Titled,
    },
    /// The EFI system partition gets boot files.
    Filled {
        /// Where the BCD store comes from.
        store: StoreFrom,
    },
    /// Drive letters that name the old MBR disk are edited.
    Letters,
    /// A recovery configuration that names the old MBR disk is edited.
    Recovery,
}

/// Where the BCD store comes from, in the order of trying.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StoreFrom {
    /// The one on the EFI system partition, its names taken across.
    Esp,
    /// The one that the disk was started with in BIOS mode.
    Bios,
    /// Made anew for the systems found.
    Nothing,
}

/// Why a step that does not hold is not mended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum NotMended {
    /// The system's own files are damaged or missing.
    SystemFiles,
    /// A volume is damaged.
    Volume,
    /// It is about an MBR disk.
    MbrDisk,
    /// There is no remedy for the step.
    NoRemedy,
    /// What was drafted does not help.
    DraftDoesNotHelp,
    /// Neither copy of the table is sound.
    NoSoundCopy,
    /// Another partition holds a loader that firmware may start first.
    LoaderInFront {
        /// Which.
        partition: Titled,
    },
    /// The EFI system partition overlaps another one.
    Overlap,
    /// Sector 0 names sectors that lie in no partition of the GPT.
    OnlyInSector0 {
        /// Which.
        sectors: Extent,
    },
    /// The table has another form.
    OtherForm,
    /// Several partitions hold boot files.
    SeveralWithBootFiles {
        /// Which.
        partitions: Vec<Titled>,
    },
    /// What the EFI system partition holds is not thrown away.
    HoldsSomething {
        /// Which partition.
        partition: Titled,
        /// What it holds.
        volume: VolumeKind,
    },
    /// The EFI system partition holds something that is not recognised.
    UnknownContent {
        /// Which partition.
        partition: Titled,
    },
    /// The two copies of the table disagree about where a partition begins, and no volume tells which is right.
    TablesDisagree {
        /// Number of the partition.
        partition: usize,
    },
    /// The partition is too small for FAT32.
    TooSmall,
    /// No Windows with UEFI boot files is on this disk.
    NoBootFiles,
    /// None of the BCD stores that could be made helps.
    NoStoreHelps,
}
