//! Answers about room for the two copies of the table and for the EFI system partition.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::device::{Extent, Lba};
use crate::gpt::TableCopy;
use crate::next::Next;
use crate::placement::{CannotShrink, Considered, ExistingUnfit};

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleRoomEvidence"))]
pub enum Evidence {
    /// A partition lies where a copy of the table is written.
    PartitionInTheWay {
        /// Its sectors.
        partition: Extent,
        /// The copy.
        copy: TableCopy,
        /// The sectors that it takes.
        region: Extent,
    },
    /// An extended boot record lies where a copy of the table is written.
    RecordInTheWay {
        /// Its sector.
        at: Lba,
        /// The copy.
        copy: TableCopy,
    },
    /// Sectors that no partition has.
    Free {
        /// Which.
        region: Extent,
    },
    /// Content before the first partition.
    CodeInGap {
        /// Where.
        sectors: Extent,
        /// Sector 0 has boot code that is not Windows' own.
        foreign_boot_code: bool,
    },
    /// A partition reaches into the sectors of the backup table, and is shrunk.
    ShrunkForBackup {
        /// The sectors of the table.
        region: Extent,
        /// The partition's last sector afterwards.
        last_lba: Lba,
    },
    /// How small a volume can become.
    Smallest {
        /// What is in use, in MiB.
        used_mib: u64,
        /// What it has, in MiB.
        size_mib: u64,
        /// What it needs about, in MiB.
        smallest_mib: u64,
    },
    /// A place for the EFI system partition.
    EspPlaced {
        /// Its sectors.
        sectors: Extent,
        /// All places that were looked at.
        considered: Vec<Considered>,
    },
    /// No place for it.
    NoPlace {
        /// All places that were looked at.
        considered: Vec<Considered>,
    },
    /// A partition reaches into the sectors of the backup table, and cannot be shrunk.
    BackupTableBlocked {
        /// Why not.
        why: CannotShrink,
    },
    /// The size asked for is too small.
    BelowFloor {
        /// MiB asked for.
        asked_mib: u64,
        /// Size of the sectors in bytes.
        sector_bytes: u32,
        /// MiB needed.
        floor_mib: u64,
    },
    /// The EFI system partition that is there cannot be used.
    ExistingUnfit {
        /// Why not.
        why: ExistingUnfit,
    },
}

/// What to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "RuleRoomRemedy"))]
pub enum Remedy {
    /// Move the partition, on a copy of the disk.
    MovePartition,
    /// What lies there is overwritten, and saved.
    OverwrittenAndSaved,
    /// It is overwritten after sector 0, and saved; what starts through it starts no more.
    OverwrittenAfterSector0,
    /// Make the volume smaller with its own system.
    ShrinkForBackup {
        /// Why it is not shrunk here.
        why: CannotShrink,
    },
    /// Fix its other findings.
    OthersFirst,
    /// The disk starts in neither mode while the place is written.
    NeitherModeMeanwhile,
    /// Make room on the Windows volume.
    MakeRoom {
        /// MiB needed.
        needed_mib: u64,
    },
    /// See the rule about the backup table.
    SeeBackupTable,
    /// Name no size, or a larger one.
    NameLargerSize {
        /// MiB needed.
        floor_mib: u64,
    },
    /// Mend the partition that is there, or delete it.
    MendOrDeleteExisting,
}

impl Remedy {
    pub(super) fn next(&self) -> Vec<Next> {
        match self {
            Self::NeitherModeMeanwhile => {
                vec![Next::Resume { job: None }, Next::Undo { job: None }]
            }
            _ => Vec::new(),
        }
    }
}
