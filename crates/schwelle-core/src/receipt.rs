//! The receipt: a small file on the new EFI system partition that says when and from what the disk
//! was converted. `confirm` needs it to tell what happened before the conversion and what since;
//! nothing that starts the disk reads it.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Its place on the EFI system partition.
pub(crate) const RECEIPT: &str = "\\EFI\\Schwelle\\crossing.json";
/// Longer than any receipt.
pub(crate) const MAX_RECEIPT_BYTES: u64 = 64 << 10;
const FORM: u32 = 1;

/// What the receipt says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Receipt {
    /// Version of this form: 1.
    pub form: u32,
    /// GUID of the disk.
    pub disk: Uuid,
    /// GUID of the EFI system partition.
    pub esp: Uuid,
    /// When the disk was converted: Windows time, 100 ns since 1601. The new boot store and the
    /// registries that were edited carry it too.
    pub converted: u64,
    /// The systems on the disk.
    pub systems: Vec<SystemReceipt>,
}

/// What a system's registry said before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SystemReceipt {
    /// GUID of its partition.
    pub partition: Uuid,
    /// The partition that its firmware last started from, as an ARC name.
    pub firmware_boot_device: Option<String>,
}

impl Receipt {
    /// A receipt of this form.
    pub fn new(disk: Uuid, esp: Uuid, converted: u64, systems: Vec<SystemReceipt>) -> Self {
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
        let receipt: Self = serde_json::from_slice(bytes).ok()?;
        (receipt.form == FORM).then_some(receipt)
    }
}
