//! Takes a store from BIOS to UEFI form. Everything not named here stays: menu order, timeout,
//! languages, custom entries, debugging settings.

use super::device::{DeviceElement, Locator};
use super::store::{BootStore, ObjectKind, element, object};
use crate::crossing::Crossing;
use crate::hive::value_kind;

const MANAGER_PATH: &str = "\\EFI\\Microsoft\\Boot\\bootmgfw.efi";
const MEMORY_TESTER_PATH: &str = "\\EFI\\Microsoft\\Boot\\memtest.efi";

/// The GPT form of a locator that names a partition which crosses.
fn crossed(crossing: &Crossing, locator: Locator) -> Option<Locator> {
    let Locator::Mbr { signature, offset } = locator else {
        return None;
    };
    Some(Locator::Gpt {
        disk: crossing.disk,
        partition: crossing.partition(signature, offset)?,
    })
}

/// What was changed and what could not be.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Translated {
    /// Devices that now name this disk by GUID.
    pub devices: usize,
    /// Programs whose path is now the UEFI one: title and new path.
    pub paths: Vec<(String, String)>,
    /// Entries with a device on another MBR disk, or on a partition that is not there: kept as they
    /// were.
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
                let replaced = device.replace(|locator| crossed(crossing, locator));
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

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;
    use crate::bytes::utf16_bytes;
    use crate::hive::{Node, Value};

    const SIGNATURE: u32 = 0x51C3_A7E5;
    const MENU: [&str; 3] = ["{A}", "{B}", "{C}"];

    fn text(number: u32, text: &str) -> (u32, u32, Vec<u8>) {
        (number, value_kind::SZ, utf16_bytes(&format!("{text}\0")))
    }

    fn device(number: u32, signature: u32, offset: u64) -> (u32, u32, Vec<u8>) {
        (
            number,
            value_kind::BINARY,
            DeviceElement::partition(Locator::Mbr { signature, offset }).0,
        )
    }

    type Element = (u32, u32, Vec<u8>);

    /// A store of objects: GUID, type, elements.
    fn store(objects: &[(&str, u32, Vec<Element>)]) -> BootStore {
        let node = |name: &str, values, subkeys| Node {
            name: name.into(),
            values,
            subkeys,
            ..Node::default()
        };
        let value = |name: &str, kind, data| Value {
            name: name.into(),
            kind,
            data,
        };
        let object = |(id, kind, elements): &(&str, u32, Vec<Element>)| {
            let elements = elements.iter().map(|(number, kind, data)| {
                node(
                    &format!("{number:08x}"),
                    vec![value("Element", *kind, data.clone())],
                    vec![],
                )
            });
            let kind = value("Type", value_kind::DWORD, kind.to_le_bytes().to_vec());
            let parts = vec![
                node("Description", vec![kind], vec![]),
                node("Elements", vec![], elements.collect()),
            ];
            node(id, vec![], parts)
        };
        let objects = node("Objects", vec![], objects.iter().map(object).collect());
        let tree = Node {
            flags: 0x0C,
            ..node("root", vec![], vec![objects])
        };
        BootStore::read(&tree.to_hive(1, 1)[..]).unwrap()
    }

    fn crossing() -> Crossing {
        let (disk, esp) = (Uuid::from_u128(0xD15C), Uuid::from_u128(0xE5B));
        Crossing {
            signature: SIGNATURE,
            disk,
            esp,
            partitions: vec![
                (1 << 20, Uuid::from_u128(1)),
                (51 << 20, Uuid::from_u128(2)),
            ],
        }
    }

    #[test]
    fn what_is_on_this_disk_crosses_and_all_else_stays() {
        let order = utf16_bytes(&format!("{}\0\0", MENU.join("\0")));
        let mut store = store(&[
            (
                object::BOOT_MANAGER,
                0x1010_0002,
                vec![
                    text(element::DEFAULT, "{A}"),
                    (element::DISPLAY_ORDER, value_kind::MULTI_SZ, order.clone()),
                    (
                        element::TIMEOUT,
                        value_kind::BINARY,
                        9u64.to_le_bytes().to_vec(),
                    ),
                ],
            ),
            (
                "{A}",
                0x1020_0003,
                vec![
                    text(element::PATH, "\\WINDOWS\\system32\\WinLoad.exe"),
                    device(element::OS_DEVICE, SIGNATURE, 51 << 20),
                    text(element::DESCRIPTION, "first"),
                    text(0x1200_0030, "/debug /custom"),
                ],
            ),
            (
                "{B}",
                0x1020_0003,
                vec![
                    text(element::PATH, "\\Windows\\system32\\winload.exe"),
                    device(element::OS_DEVICE, 0x0BAD_CAFE, 51 << 20),
                    text(element::DESCRIPTION, "another disk"),
                ],
            ),
            (
                "{C}",
                0x1030_0006,
                vec![
                    text(element::PATH, "\\ntldr"),
                    device(element::DEVICE, SIGNATURE, 7 << 20),
                    text(element::DESCRIPTION, "old, and on no partition"),
                ],
            ),
        ]);
        let done = translate(&mut store, &crossing());
        assert_eq!(done.foreign, ["another disk", "old, and on no partition"]);
        assert_eq!(
            done.devices, 2,
            "the first entry's, and the boot manager's, which had none"
        );
        let store = BootStore::read(&store.to_hive(2)[..]).unwrap();
        let text = |id: &str, number| store.object(id).unwrap().text(number).unwrap();
        assert_eq!(
            text("{A}", element::PATH),
            "\\WINDOWS\\system32\\WinLoad.efi"
        );
        assert_eq!(text("{A}", 0x1200_0030), "/debug /custom");
        assert_eq!(text("{C}", element::PATH), "\\ntldr");
        assert_eq!(text(object::BOOT_MANAGER, element::PATH), MANAGER_PATH);
        let locators =
            |id: &str, number| store.object(id).unwrap().device(number).unwrap().locators();
        let gpt = |partition| {
            vec![Locator::Gpt {
                disk: Uuid::from_u128(0xD15C),
                partition: Uuid::from_u128(partition),
            }]
        };
        assert_eq!(locators("{A}", element::OS_DEVICE), gpt(2));
        assert_eq!(locators(object::BOOT_MANAGER, element::DEVICE), gpt(0xE5B));
        assert_eq!(
            locators("{B}", element::OS_DEVICE),
            [Locator::Mbr {
                signature: 0x0BAD_CAFE,
                offset: 51 << 20
            }]
        );
        let manager = store.manager().unwrap();
        assert_eq!(
            (
                manager.integer(element::TIMEOUT),
                manager.objects(element::DISPLAY_ORDER)
            ),
            (Some(9), MENU.map(str::to_owned).to_vec())
        );
        assert_eq!(store.default_entry().unwrap().id(), "{A}");
    }

    #[test]
    fn a_second_crossing_changes_nothing() {
        let mut once = store(&[(
            "{A}",
            0x1020_0003,
            vec![
                text(element::PATH, "\\w\\winload.exe"),
                device(element::DEVICE, SIGNATURE, 1 << 20),
            ],
        )]);
        translate(&mut once, &crossing());
        let mut twice = once.clone();
        assert_eq!(translate(&mut twice, &crossing()), Translated::default());
        assert_eq!(twice, once);
    }
}
