//! What an encrypted volume says of itself.

use uuid::Uuid;

use crate::bitlocker::{EncryptionState, Metadata, Method, ProtectorKind};
use crate::device::{Extent, Lba, ReadDevice, Window};

/// What an encrypted volume says of itself, and whether it is open here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Encryption {
    /// What it is doing.
    pub state: EncryptionState,
    /// How its sectors are encrypted; `None` where its metadata cannot be read.
    pub method: Option<Method>,
    /// Identifiers of its recovery passwords, as Windows shows them beside those.
    pub recovery_ids: Vec<Uuid>,
    /// What opened it here; `None` for one that is closed.
    pub opened_by: Option<ProtectorKind>,
}

impl Encryption {
    pub(super) fn of(metadata: &Metadata, opened_by: Option<ProtectorKind>) -> Self {
        let is_recovery = |kind| kind == ProtectorKind::RecoveryPassword;
        let protectors = metadata.protectors.iter();
        let recovery = protectors.filter(|protector| is_recovery(protector.kind));
        Self {
            state: metadata.state,
            method: Some(metadata.method),
            recovery_ids: recovery.map(|protector| protector.id).collect(),
            opened_by,
        }
    }

    /// Of a volume that is closed, in this state.
    pub(super) fn closed(device: &dyn ReadDevice, extent: Extent, state: EncryptionState) -> Self {
        match metadata(device, extent) {
            Some(metadata) => Self::of(&metadata, None),
            None => Self {
                state,
                method: None,
                recovery_ids: Vec::new(),
                opened_by: None,
            },
        }
    }

    /// Its key was protected when it was opened: Windows may ask for the recovery password when the PC starts in
    /// another way.
    pub fn is_protected(&self) -> bool {
        self.state != EncryptionState::Suspended
    }
}

/// The metadata of the encrypted volume in these sectors, where there is one.
pub(super) fn metadata(device: &dyn ReadDevice, extent: Extent) -> Option<Metadata> {
    let window = Window::new(device, extent)?;
    let first = window.read_sector(Lba(0)).ok()?;
    Metadata::read(&window, &first)?.ok()
}
