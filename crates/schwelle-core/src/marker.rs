//! The marker: a small file on the new EFI system partition that says when and from what the disk
//! was converted, and which job folder can take it back. `confirm` needs it to tell what happened
//! before the conversion and what since, and `resume` and `undo` to tell the job folder from one that
//! has been edited or belongs to another job; nothing that starts the disk reads it.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Its place on the EFI system partition.
pub(crate) const MARKER: &str = "\\EFI\\Schwelle\\identities.json";
/// Longer than any marker.
pub(crate) const MAX_MARKER_BYTES: u64 = 64 << 10;
const FORM: u32 = 1;
/// Stands where the hash of the journal comes, which is known once all of it has been saved.
const NOT_KNOWN_YET: &str = "0000000000000000000000000000000000000000000000000000000000000000";

/// What the marker says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Marker {
    /// Version of this form: 1.
    pub form: u32,
    /// BLAKE3 hash of the journal in the job's folder, in hex. Markers of older programs have none. It stands
    /// within the first 512 bytes, and so in one sector.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub journal: Option<String>,
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
            journal: Some(NOT_KNOWN_YET.to_owned()),
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

    /// Where in the bytes of a new marker the hash of the journal comes.
    pub(crate) fn place_of_hash(bytes: &[u8]) -> Option<usize> {
        let wanted = NOT_KNOWN_YET.as_bytes();
        bytes.windows(wanted.len()).position(|text| text == wanted)
    }

    /// Reads one; `None` for anything else.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let marker: Self = serde_json::from_slice(bytes).ok()?;
        (marker.form == FORM).then_some(marker)
    }
}
