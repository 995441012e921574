//! The boot configuration, and where its parts lie.

use crate::bcd::{BcdStore, Locator, StoreError};
use crate::cause::Cause;
use crate::device::{Geometry, ReadDevice, Window};
use crate::fat::{FatError, FatKind, FatVolume};
use crate::gpt::type_guid;
use crate::hive::{MAX_LOG_BYTES, Recovered};
use crate::identities::Identities;
use crate::ntfs::{NtfsError, NtfsVolume};
use crate::windows::{HIVE_LOGS, HiveFile, HiveFileError};

use super::known::{BIOS_STORE, ESP_STORE};
use super::partition::Partition;
use super::system::WindowsSystem;
use super::volume::VolumeKind;

/// A BCD store is read up to this length; real ones have some ten KiB.
const MAX_STORE_BYTES: u64 = 16 << 20;

/// Boot configuration: of the BIOS start on an MBR disk, of the UEFI start on a GPT disk.
#[derive(Debug, Clone, Default)]
pub struct BootProfile {
    /// Number of the partition that Windows starts from: the EFI system partition, or in BIOS mode the one marked
    /// active, where there is exactly one, or the one that GRUB's menu goes to.
    pub partition: Option<usize>,
    /// The BCD store; else why it could not be read. `None` when there is none.
    pub store: Option<Result<FoundStore, StoreFault>>,
}

/// A BCD store that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("partition {partition}: {why}")]
pub struct StoreFault {
    /// Number of the partition it lies on.
    pub partition: usize,
    /// Why not.
    pub why: Cause,
}

/// A BCD store on a volume.
#[derive(Debug, Clone)]
pub struct FoundStore {
    /// Number of the partition it lies on.
    pub partition: usize,
    /// The store, with its logs applied.
    pub store: BcdStore,
    /// Logs, or entries of logs, that were applied.
    pub applied: usize,
}

impl BootProfile {
    /// Looks on the EFI system partition; else on the active partition first, then on those with an installed Windows:
    /// where it has no partition of its own, the store lies there.
    pub(super) fn read(
        device: &dyn ReadDevice,
        partitions: &[Partition],
        systems: &[WindowsSystem],
        through_grub: Option<usize>,
    ) -> Self {
        let is_esp = |part: &&Partition| part.gpt_kind() == Some(type_guid::EFI_SYSTEM);
        let esps: Vec<&Partition> = partitions.iter().filter(is_esp).collect();
        if let [esp] = esps[..] {
            return Self {
                partition: Some(esp.number),
                store: find_store(device, esp, ESP_STORE),
            };
        }
        let active: Vec<&Partition> = partitions
            .iter()
            .filter(|partition| match through_grub {
                Some(number) => partition.number == number,
                None => partition.is_active(),
            })
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
            match find_store(device, place, BIOS_STORE) {
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

    /// Names the partitions that the store leaves open, as they are called now.
    pub(super) fn resolve(
        &mut self,
        identities: Option<&Identities>,
        partitions: &[Partition],
        systems: &[WindowsSystem],
        geometry: Geometry,
    ) {
        let name = |number: usize| {
            let mut partitions = partitions.iter();
            let partition = partitions.find(|part| part.number == number)?;
            identities?.name_before(geometry.byte_of(partition.extent.first)?)
        };
        let systems = systems.iter().map(|system| name(system.partition));
        let systems: Vec<Locator> = systems.flatten().collect();
        if let Some(Ok(found)) = &mut self.store {
            found.store.resolve(name(found.partition), &systems);
        }
    }

    /// The store that can be read.
    pub fn readable(&self) -> Option<&BcdStore> {
        let found = self.store.as_ref()?.as_ref().ok()?;
        Some(&found.store)
    }
}

/// Every BCD store of a BIOS start that can be read, whatever partition is active.
pub(crate) fn find_stores(device: &dyn ReadDevice, partitions: &[Partition]) -> Vec<FoundStore> {
    let stores = partitions
        .iter()
        .filter_map(|part| find_store(device, part, BIOS_STORE));
    stores.filter_map(Result::ok).collect()
}

fn find_store(
    device: &dyn ReadDevice,
    partition: &Partition,
    path: &str,
) -> Option<Result<FoundStore, StoreFault>> {
    let window = Window::new(device, partition.extent)?;
    let store = match partition.volume.kind {
        VolumeKind::Ntfs if partition.is_sound_ntfs() => store_on_ntfs(&window, path),
        VolumeKind::Fat(FatKind::Fat32) => store_on_fat(&window, path),
        _ => Ok(None),
    };
    let found = store.map(|found| {
        found.map(|(store, applied)| FoundStore {
            partition: partition.number,
            store,
            applied,
        })
    });
    let found = found.transpose()?;
    Some(found.map_err(|error| StoreFault {
        partition: partition.number,
        why: error.into(),
    }))
}

/// The store on a volume, and how many logs or entries of logs were applied.
type Store = Result<Option<(BcdStore, usize)>, ReadError>;

fn store_on_ntfs(window: &dyn ReadDevice, path: &str) -> Store {
    let Ok(volume) = NtfsVolume::open(window) else {
        return Ok(None);
    };
    let Some(hive) = HiveFile::find(&volume, path)? else {
        return Ok(None);
    };
    if hive.len_bytes() > MAX_STORE_BYTES {
        return Err(ReadError::TooLong);
    }
    let recovered = hive.recovered().map_err(HiveFileError::from)?;
    Ok(Some((BcdStore::read(&recovered)?, recovered.applied())))
}

/// The store at `path` on the FAT32 volume on `window`, with its logs applied; `None` where none is there.
fn store_on_fat(window: &dyn ReadDevice, path: &str) -> Store {
    let Ok(volume) = FatVolume::open(window) else {
        return Ok(None);
    };
    let read = |path: &str, limit: u64| -> Result<Option<Vec<u8>>, FatError> {
        let entry = volume.find(path)?.filter(|entry| !entry.is_directory);
        let content = entry.map(|entry| volume.read_file(&entry, limit));
        content.transpose()
    };
    let Some(hive) = read(path, MAX_STORE_BYTES)? else {
        return Ok(None);
    };
    // A log that cannot be read counts as one that is not there, as on NTFS.
    let logs = HIVE_LOGS.iter().filter_map(|ending| {
        let content = read(&format!("{path}{ending}"), MAX_LOG_BYTES).ok()??;
        (!content.is_empty()).then(|| (ending[1..].to_owned(), content))
    });
    let logs: Vec<(String, Vec<u8>)> = logs.collect();
    let recovered = Recovered::open(&hive[..], &logs).map_err(HiveFileError::from)?;
    Ok(Some((BcdStore::read(&recovered)?, recovered.applied())))
}

/// Why a store cannot be used.
#[derive(Debug, thiserror::Error)]
enum ReadError {
    #[error("it is longer than any BCD store")]
    TooLong,
    #[error(transparent)]
    File(#[from] HiveFileError),
    #[error(transparent)]
    Fat(#[from] FatError),
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<NtfsError> for ReadError {
    fn from(error: NtfsError) -> Self {
        Self::File(error.into())
    }
}
