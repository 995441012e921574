//! The marker: a small file on the new EFI system partition that says when and from what the disk
//! was converted. `confirm` needs it to tell what happened before the conversion and what since;
//! nothing that starts the disk reads it.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Its place on the EFI system partition.
pub(crate) const MARKER: &str = "\\EFI\\Schwelle\\identities.json";
/// Longer than any marker.
pub(crate) const MAX_MARKER_BYTES: u64 = 64 << 10;
const FORM: u32 = 1;

/// What the marker says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Marker {
    /// Version of this form: 1.
    pub form: u32,
    /// GUID of the disk.
    pub disk: Uuid,
    /// GUID of the EFI system partition.
    pub esp: Uuid,
    /// When the disk was converted: Windows time, 100 ns since 1601. The new BCD store and the
    /// registries that were edited carry it too.
    pub converted: u64,
    /// The systems on the disk.
    pub systems: Vec<SystemMarker>,
}

/// What a system's registry said before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SystemMarker {
    /// GUID of its partition.
    pub partition: Uuid,
    /// The partition that its firmware last started from, as an ARC name.
    pub firmware_boot_device: Option<String>,
}

impl Marker {
    /// A marker of this form.
    pub fn new(disk: Uuid, esp: Uuid, converted: u64, systems: Vec<SystemMarker>) -> Self {
        Self {
            form: FORM,
            disk,
            esp,
            converted,
            systems,
        }
    }

    /// Its bytes.
    pub fn write(&self) -> Vec<u8> {
        serde_json::to_vec_pretty(self).unwrap_or_default()
    }

    /// Reads one; `None` for anything else.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let marker: Self = serde_json::from_slice(bytes).ok()?;
        (marker.form == FORM).then_some(marker)
    }
}
