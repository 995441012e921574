//! Takes a store from BIOS to UEFI form. Everything not named here stays: menu order, timeout, languages, custom entries,
//! debugging settings.

use uuid::Uuid;

use super::device::{DeviceElement, Locator};
use super::store::{BootStore, ObjectKind, element, object};
use crate::hive::value_kind;

const MANAGER_PATH: &str = "\\EFI\\Microsoft\\Boot\\bootmgfw.efi";
const MEMORY_TESTER_PATH: &str = "\\EFI\\Microsoft\\Boot\\memtest.efi";

/// The identities before and after.
#[derive(Debug, Clone)]
pub struct Crossing {
    /// Signature of the MBR disk.
    pub signature: u32,
    /// GUID of the GPT disk.
    pub disk: Uuid,
    /// GUID of the EFI system partition.
    pub esp: Uuid,
    /// Byte offset and GUID of each partition that crosses.
    pub partitions: Vec<(u64, Uuid)>,
}

impl Crossing {
    fn locator(&self, locator: Locator) -> Option<Locator> {
        let Locator::Mbr { signature, offset } = locator else {
            return None;
        };
        let known = self.partitions.iter().find(|(place, _)| *place == offset);
        let &(_, partition) = known.filter(|_| signature == self.signature)?;
        Some(Locator::Gpt {
            disk: self.disk,
            partition,
        })
    }
}

/// What was changed and what could not be.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Translated {
    /// Devices that now name this disk by GUID.
    pub devices: usize,
    /// Programs whose path is now the UEFI one: title and new path.
    pub paths: Vec<(String, String)>,
    /// Entries with a device on another MBR disk, or on a partition that is not there: kept as they were.
    pub foreign: Vec<String>,
}

/// The UEFI program that stands for a BIOS one of the same name, by the ending of its path.
fn uefi_path(kind: ObjectKind, path: &str) -> Option<String> {
    let lower = path.to_ascii_lowercase();
    match kind {
        ObjectKind::BootManager => Some(MANAGER_PATH.to_owned()),
        ObjectKind::MemoryTester => Some(MEMORY_TESTER_PATH.to_owned()),
        ObjectKind::Loader if lower.ends_with("winload.exe") => {
            Some(format!("{}efi", path.get(..path.len() - 3)?))
        }
        ObjectKind::Resume if lower.ends_with("winresume.exe") => {
            Some(format!("{}efi", path.get(..path.len() - 3)?))
        }
        _ => None,
    }
}

/// Takes `store` across.
pub fn translate(store: &mut BootStore, crossing: &Crossing) -> Translated {
    let mut done = Translated::default();
    let esp = Locator::Gpt {
        disk: crossing.disk,
        partition: crossing.esp,
    };
    struct Change {
        id: String,
        number: u32,
        to: Result<DeviceElement, String>,
    }
    let mut changes = Vec::new();
    for entry in store.objects() {
        let Some(kind) = entry.kind() else { continue };
        let path = entry.text(element::PATH);
        if let Some(new) = path
            .as_deref()
            .and_then(|path| uefi_path(kind, path))
            .filter(|new| Some(new) != path.as_ref())
        {
            done.paths.push((entry.title(), new.clone()));
            changes.push(Change {
                id: entry.id().to_owned(),
                number: element::PATH,
                to: Err(new),
            });
        } else if kind == ObjectKind::BootManager && path.is_none() {
            // A BIOS store may leave the boot manager's path out.
            changes.push(Change {
                id: entry.id().to_owned(),
                number: element::PATH,
                to: Err(MANAGER_PATH.to_owned()),
            });
        }
        let mut foreign = false;
        for (number, mut device) in entry.devices() {
            // Boot manager and memory tester are files on the EFI system partition now.
            let on_esp = number == element::DEVICE
                && matches!(kind, ObjectKind::BootManager | ObjectKind::MemoryTester);
            if on_esp {
                device = DeviceElement::partition(esp);
                done.devices += 1;
            } else {
                let replaced = device.replace(|locator| crossing.locator(locator));
                foreign |= device
                    .locators()
                    .iter()
                    .any(|locator| matches!(locator, Locator::Mbr { .. }));
                if replaced == 0 {
                    continue;
                }
                done.devices += replaced;
            }
            changes.push(Change {
                id: entry.id().to_owned(),
                number,
                to: Ok(device),
            });
        }
        if foreign {
            done.foreign.push(entry.title());
        }
    }
    if store
        .manager()
        .is_some_and(|manager| manager.device(element::DEVICE).is_none())
    {
        let to = Ok(DeviceElement::partition(esp));
        changes.push(Change {
            id: object::BOOT_MANAGER.to_owned(),
            number: element::DEVICE,
            to,
        });
        done.devices += 1;
    }
    for Change { id, number, to } in changes {
        match to {
            Ok(DeviceElement(bytes)) => store.set(&id, number, value_kind::BINARY, bytes),
            Err(path) => store.set_text(&id, number, &path),
        };
    }
    done
}
