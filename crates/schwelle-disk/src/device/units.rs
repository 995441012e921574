//! Units: sector numbers, ranges of sectors, and the geometry that turns them into bytes.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use std::fmt;

/// Bytes in a mebibyte.
pub const MIB: u64 = 1 << 20;

/// A logical block address: a sector number on a disk, in logical sectors.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Lba(pub u64);

impl fmt::Display for Lba {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "LBA {}", self.0)
    }
}

/// A half-open range of sectors, `first..end`. May be empty.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(from = "ExtentForm", into = "ExtentForm")]
#[cfg_attr(feature = "schema", schemars(with = "ExtentForm"))]
pub struct Extent {
    /// First sector.
    pub first: Lba,
    /// First sector after the range.
    pub end: Lba,
}

/// A range of sectors as documents have it, with its last sector.
#[derive(Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[cfg_attr(feature = "schema", schemars(rename = "Extent"))]
struct ExtentForm {
    first_lba: u64,
    last_lba: u64,
}

impl From<ExtentForm> for Extent {
    fn from(form: ExtentForm) -> Self {
        Self {
            first: Lba(form.first_lba),
            end: Lba(form.last_lba.saturating_add(1)),
        }
    }
}

impl From<Extent> for ExtentForm {
    fn from(extent: Extent) -> Self {
        Self {
            first_lba: extent.first.0,
            last_lba: extent.last().0,
        }
    }
}

impl Extent {
    /// The range from `first` on that ends before `end`.
    pub const fn between(first: Lba, end: Lba) -> Self {
        Self { first, end }
    }

    /// The range of `sectors` sectors from `first` on; `None` when its end is not a sector number.
    pub fn new(first: Lba, sectors: u64) -> Option<Self> {
        Some(Self {
            first,
            end: Lba(first.0.checked_add(sectors)?),
        })
    }

    /// Number of sectors.
    pub fn sectors(&self) -> u64 {
        self.end.0.saturating_sub(self.first.0)
    }

    /// Last sector, as the tables name it. For an empty range: the first.
    pub fn last(&self) -> Lba {
        Lba(self.end.0.saturating_sub(1).max(self.first.0))
    }

    /// True when the two ranges share a sector.
    pub fn overlaps(&self, other: &Self) -> bool {
        self.first < other.end && other.first < self.end
    }

    /// True when `other` lies wholly inside this range.
    pub fn contains(&self, other: &Self) -> bool {
        self.first <= other.first && other.end <= self.end
    }
}

/// Sector sizes and size of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Geometry {
    /// Logical sector, in bytes: what an LBA counts. 512 or 4096.
    pub logical_sector: u32,
    /// Physical sector, in bytes: what the medium writes at once.
    pub physical_sector: u32,
    /// Size in logical sectors.
    pub sectors: u64,
}

impl Geometry {
    /// Size in bytes.
    pub fn len_bytes(&self) -> u64 {
        self.sectors.saturating_mul(u64::from(self.logical_sector))
    }

    /// Byte offset of a sector; `None` when it is beyond any disk.
    pub fn byte_of(&self, lba: Lba) -> Option<u64> {
        lba.0.checked_mul(u64::from(self.logical_sector))
    }

    /// Sectors in one MiB: the alignment of new partitions.
    pub fn sectors_per_mib(&self) -> u64 {
        MIB / u64::from(self.logical_sector)
    }

    /// The whole device as a range.
    pub fn whole(&self) -> Extent {
        Extent::between(Lba(0), Lba(self.sectors))
    }

    /// Bytes in a range of sectors.
    pub fn bytes_in(&self, extent: &Extent) -> u64 {
        extent
            .sectors()
            .saturating_mul(u64::from(self.logical_sector))
    }
}
