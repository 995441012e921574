//! The boot configuration, and where its parts lie.

use crate::bootstore::{BootStore, StoreError};
use crate::device::{ReadDevice, Window};
use crate::ntfs::{NtfsError, NtfsVolume};
use crate::windows::{HiveFile, HiveFileError};

use super::layout::Partition;
use super::system::WindowsSystem;

/// The kernel, below the system's folder.
pub const KERNEL: &str = "System32\\ntoskrnl.exe";
/// The boot manager on an EFI system partition.
pub const BOOTMGFW: &str = "\\EFI\\Microsoft\\Boot\\bootmgfw.efi";
/// The boot store on an EFI system partition.
pub const ESP_STORE: &str = "\\EFI\\Microsoft\\Boot\\BCD";
/// What 64-bit x86 firmware starts from a medium without being told (UEFI 2.10 §3.5.1.1).
pub const REMOVABLE_X64: &str = "\\EFI\\BOOT\\BOOTX64.EFI";

const BIOS_STORE: &str = "\\Boot\\BCD";
/// A boot store is read up to this length; real ones have some ten KiB.
const MAX_STORE_BYTES: u64 = 16 << 20;

/// Boot configuration of the BIOS start.
#[derive(Debug, Clone, Default)]
pub struct BootProfile {
    /// Number of the partition marked active, where there is exactly one.
    pub partition: Option<usize>,
    /// The boot store; else why it could not be read. `None` when there is none.
    pub store: Option<Result<FoundStore, String>>,
}

/// A boot store on a volume.
#[derive(Debug, Clone)]
pub struct FoundStore {
    /// Number of the partition it lies on.
    pub partition: usize,
    /// The store, with its logs applied.
    pub store: BootStore,
    /// Logs, or entries of logs, that were applied.
    pub applied: usize,
}

impl BootProfile {
    /// Looks on the active partition first, then on those with a Windows: where nobody made a
    /// partition for it, the store lies there.
    pub(super) fn read(
        device: &dyn ReadDevice,
        partitions: &[Partition],
        systems: &[WindowsSystem],
    ) -> Self {
        let active: Vec<&Partition> = partitions
            .iter()
            .filter(|partition| partition.is_active())
            .collect();
        let [active] = active[..] else {
            return Self::default();
        };
        let of_system = |partition: &&Partition| {
            let number = partition.number;
            number != active.number && systems.iter().any(|system| system.partition == number)
        };
        let mut store = None;
        for place in std::iter::once(active).chain(partitions.iter().filter(of_system)) {
            match find_store(device, place) {
                Some(Ok(found)) => {
                    store = Some(Ok(found));
                    break;
                }
                // What is wrong with the first one is what the technician should know.
                Some(Err(fault)) => store = store.or(Some(Err(fault))),
                None => {}
            }
        }
        Self {
            partition: Some(active.number),
            store,
        }
    }

    /// The store that can be read.
    pub fn readable(&self) -> Option<&BootStore> {
        let found = self.store.as_ref()?.as_ref().ok()?;
        Some(&found.store)
    }
}

/// Every boot store of a BIOS start that can be read, whatever partition is active.
pub(crate) fn find_stores(device: &dyn ReadDevice, partitions: &[Partition]) -> Vec<FoundStore> {
    let stores = partitions
        .iter()
        .filter_map(|part| find_store(device, part));
    stores.filter_map(Result::ok).collect()
}

fn find_store(
    device: &dyn ReadDevice,
    partition: &Partition,
) -> Option<Result<FoundStore, String>> {
    let window = Window::new(device, partition.extent).filter(|_| partition.is_sound_ntfs())?;
    let volume = NtfsVolume::open(&window).ok()?;
    let read = || -> Result<Option<FoundStore>, ReadError> {
        let Some(hive) = HiveFile::find(&volume, BIOS_STORE)? else {
            return Ok(None);
        };
        if hive.len_bytes() > MAX_STORE_BYTES {
            return Err(ReadError::TooLong);
        }
        let recovered = hive.recovered().map_err(HiveFileError::from)?;
        Ok(Some(FoundStore {
            partition: partition.number,
            store: BootStore::read(&recovered)?,
            applied: recovered.applied(),
        }))
    };
    let found = read().transpose()?;
    Some(found.map_err(|error| format!("partition {}: {error}", partition.number)))
}

#[derive(Debug, thiserror::Error)]
enum ReadError {
    #[error("it is longer than any boot store")]
    TooLong,
    #[error(transparent)]
    File(#[from] HiveFileError),
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<NtfsError> for ReadError {
    fn from(error: NtfsError) -> Self {
        Self::File(error.into())
    }
}
