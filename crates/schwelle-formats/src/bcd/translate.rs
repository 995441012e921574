//! Takes a store from BIOS to UEFI form, and back. Everything not named here stays: menu order, timeout,
//! languages, custom entries, debugging settings.

use super::device::DeviceElement;
use super::menu::{Systems, choose_default, drop_from_menu};
use super::store::{BcdStore, ObjectKind, element, object};
use crate::hive::value_kind;
use crate::identities::{Identities, PartitionName, Style};

/// The programs of a start in one of the modes.
pub(super) struct Programs {
    /// Path of the boot manager on its partition.
    pub(super) manager: &'static str,
    /// Path of the memory tester on the same one.
    pub(super) memory_tester: &'static str,
    /// Ending of a system's loader and of what resumes it.
    pub(super) ending: &'static str,
}

/// The programs of a start from a disk with this table.
pub(super) fn programs(style: Style) -> Programs {
    match style {
        Style::Gpt => Programs {
            manager: "\\EFI\\Microsoft\\Boot\\bootmgfw.efi",
            memory_tester: "\\EFI\\Microsoft\\Boot\\memtest.efi",
            ending: "efi",
        },
        Style::Mbr => Programs {
            manager: "\\bootmgr",
            memory_tester: "\\Boot\\memtest.exe",
            ending: "exe",
        },
    }
}

/// What was changed and what could not be.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Translated {
    /// Devices that have the new name of this disk.
    pub devices: usize,
    /// Programs with another path: title and new path.
    pub paths: Vec<(String, String)>,
    /// Entries with a device on another disk, or on a partition that is not there: kept as they were.
    pub foreign: Vec<String>,
    /// Entries that only a BIOS can start, on the way to GPT, and those of systems that do not start in the new mode:
    /// no longer in the menu, though still in the store.
    pub dropped: Vec<String>,
    /// The entry that is the default now, where the old default is missing or can no longer start.
    pub new_default: Option<String>,
}

/// The program that stands for the one at this path in the other mode: the systems' own by their names.
fn other_path(to: &Programs, kind: ObjectKind, path: &str) -> Option<String> {
    let name = match kind {
        ObjectKind::BootManager => return Some(to.manager.to_owned()),
        ObjectKind::MemoryTester => return Some(to.memory_tester.to_owned()),
        ObjectKind::Loader => "winload",
        ObjectKind::Resume => "winresume",
        _ => return None,
    };
    let (stem, ending) = path.rsplit_once('.')?;
    let is_own = stem.to_ascii_lowercase().ends_with(name);
    let is_program = ["exe", "efi"]
        .iter()
        .any(|known| ending.eq_ignore_ascii_case(known));
    (is_own && is_program && !ending.eq_ignore_ascii_case(to.ending))
        .then(|| format!("{stem}.{}", to.ending))
}

/// Takes `store` across.
pub fn translate(
    store: &mut BcdStore,
    identities: &Identities,
    systems: Systems<'_>,
) -> Translated {
    let mut done = Translated::default();
    let to = programs(identities.to);
    choose_default(store, identities, systems, &mut done);
    if identities.to == Style::Gpt {
        drop_from_menu(store, identities, systems, &mut done);
    }
    let esp = identities.name_after(identities.esp);
    struct Change {
        id: String,
        number: u32,
        to: Element,
    }
    enum Element {
        Device(DeviceElement),
        Path(String),
    }
    let mut changes = Vec::new();
    for entry in store.objects() {
        let Some(kind) = entry.kind() else { continue };
        let path = entry.text(element::PATH);
        if let Some(new) = path
            .as_deref()
            .and_then(|path| other_path(&to, kind, path))
            .filter(|new| Some(new) != path.as_ref())
        {
            done.paths.push((entry.title(), new.clone()));
            changes.push(Change {
                id: entry.id().to_owned(),
                number: element::PATH,
                to: Element::Path(new),
            });
        } else if kind == ObjectKind::BootManager && path.is_none() {
            // A BIOS store may leave the boot manager's path out.
            changes.push(Change {
                id: entry.id().to_owned(),
                number: element::PATH,
                to: Element::Path(to.manager.to_owned()),
            });
        }
        let mut foreign = false;
        for (number, mut device) in entry.devices() {
            // Boot manager and memory tester are files on the EFI system partition, or what was it.
            let on_esp = number == element::DEVICE
                && matches!(kind, ObjectKind::BootManager | ObjectKind::MemoryTester);
            if on_esp {
                device = DeviceElement::partition(esp);
                done.devices += 1;
            } else {
                let replaced = device.replace(|locator| identities.converted(locator));
                let is_old = |name: &PartitionName| match name {
                    PartitionName::Mbr { .. } => identities.to == Style::Gpt,
                    PartitionName::Gpt { .. } => identities.to == Style::Mbr,
                };
                foreign |= device.locators().iter().any(is_old);
                if replaced == 0 {
                    continue;
                }
                done.devices += replaced;
            }
            changes.push(Change {
                id: entry.id().to_owned(),
                number,
                to: Element::Device(device),
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
        let to = Element::Device(DeviceElement::partition(esp));
        changes.push(Change {
            id: object::BOOT_MANAGER.to_owned(),
            number: element::DEVICE,
            to,
        });
        done.devices += 1;
    }
    for Change { id, number, to } in changes {
        match to {
            Element::Device(DeviceElement(bytes)) => {
                store.set(&id, number, value_kind::BINARY, bytes)
            }
            Element::Path(path) => store.set_text(&id, number, &path),
        };
    }
    done
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;
    use crate::bcd::Locator;
    use crate::bytes::utf16_bytes;
    use crate::hive::{Node, Value};

    const SIGNATURE: u32 = 0x51C3_A7E5;
    const WINDOWS: [u64; 1] = [51 << 20];
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

    fn starting(start: &[u64]) -> Systems<'_> {
        Systems { start, left: &[] }
    }

    type Element = (u32, u32, Vec<u8>);

    /// A store of objects: GUID, type, elements.
    fn store(objects: &[(&str, u32, Vec<Element>)]) -> BcdStore {
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
        BcdStore::read(&tree.to_hive(1, 1)[..]).unwrap()
    }

    fn identities() -> Identities {
        let (disk, esp) = (Uuid::from_u128(0xD15C), Uuid::from_u128(0xE5B));
        Identities {
            to: Style::Gpt,
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
        let done = translate(&mut store, &identities(), starting(&WINDOWS));
        assert_eq!(done.foreign, ["another disk", "old, and on no partition"]);
        assert_eq!(
            done.devices, 2,
            "the first entry's, and the boot manager's, which had none"
        );
        let store = BcdStore::read(&store.to_hive(2)[..]).unwrap();
        let text = |id: &str, number| store.object(id).unwrap().text(number).unwrap();
        assert_eq!(
            text("{A}", element::PATH),
            "\\WINDOWS\\system32\\WinLoad.efi"
        );
        assert_eq!(text("{A}", 0x1200_0030), "/debug /custom");
        assert_eq!(text("{C}", element::PATH), "\\ntldr");
        assert_eq!(
            text(object::BOOT_MANAGER, element::PATH),
            programs(Style::Gpt).manager
        );
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
            (Some(9), vec!["{A}".to_owned(), "{B}".to_owned()])
        );
        assert_eq!(done.dropped, ["old, and on no partition"]);
        assert_eq!(store.default_entry().unwrap().id(), "{A}");
    }

    #[test]
    fn a_default_that_cannot_start_gives_way_to_the_first_windows_of_the_menu() {
        let order = |ids: &[&str]| {
            let data = utf16_bytes(&format!("{}\0\0", ids.join("\0")));
            (element::DISPLAY_ORDER, value_kind::MULTI_SZ, data)
        };
        let loader = |signature: u32, offset: u64| {
            let place = device(element::OS_DEVICE, signature, offset);
            (0x1020_0003, vec![place])
        };
        let old = (
            0x1040_0008,
            vec![device(element::DEVICE, SIGNATURE, 1 << 20)],
        );
        let none = [text(element::DEFAULT, "{gone}")];
        for (default, entries, expected) in [
            (
                &none[..],
                vec![loader(7, 51 << 20), loader(SIGNATURE, 51 << 20)],
                Some("{1}"),
            ),
            (
                &none,
                vec![loader(SIGNATURE, 1 << 20), loader(7, 51 << 20)],
                None,
            ),
            (
                &[text(element::DEFAULT, "{0}")],
                vec![old, loader(SIGNATURE, 51 << 20)],
                Some("{1}"),
            ),
            (&[], vec![loader(7, 1), loader(SIGNATURE, 51 << 20)], None),
        ] {
            let ids = ["{0}", "{1}"];
            let mut manager = default.to_vec();
            manager.push(order(&ids));
            let mut all = vec![(object::BOOT_MANAGER, 0x1010_0002, manager)];
            all.extend(
                ids.iter()
                    .zip(entries)
                    .map(|(id, (kind, elements))| (*id, kind, elements)),
            );
            let mut store = store(&all);
            let done = translate(&mut store, &identities(), starting(&WINDOWS));
            assert_eq!(done.new_default.as_deref(), expected);
            let now = store.manager().unwrap().text(element::DEFAULT);
            assert_eq!(now.as_deref().filter(|id| *id != "{gone}"), expected);
        }
    }

    #[test]
    fn the_way_back_gives_the_old_names_and_keeps_what_only_a_bios_starts() {
        let back = Identities {
            to: Style::Mbr,
            partitions: vec![
                (51 << 20, Uuid::from_u128(2)),
                (211 << 20, Uuid::from_u128(0xE5B)),
            ],
            ..identities()
        };
        let gpt = |number, disk: u128, partition: u128| {
            let (disk, partition) = (Uuid::from_u128(disk), Uuid::from_u128(partition));
            let DeviceElement(bytes) = DeviceElement::partition(Locator::Gpt { disk, partition });
            (number, value_kind::BINARY, bytes)
        };
        let order = utf16_bytes(&format!("{}\0\0", MENU.join("\0")));
        let mut store = store(&[
            (
                object::BOOT_MANAGER,
                0x1010_0002,
                vec![
                    text(element::DEFAULT, "{gone}"),
                    text(element::PATH, programs(Style::Gpt).manager),
                    gpt(element::DEVICE, 0xD15C, 0xE5B),
                    (element::DISPLAY_ORDER, value_kind::MULTI_SZ, order),
                ],
            ),
            (
                "{A}",
                0x1040_0008,
                vec![
                    text(element::DESCRIPTION, "a boot sector"),
                    gpt(element::DEVICE, 0xBAD, 2),
                ],
            ),
            (
                "{B}",
                0x1020_0003,
                vec![
                    text(element::PATH, "\\WINDOWS\\system32\\WinLoad.EFI"),
                    gpt(element::OS_DEVICE, 0xD15C, 2),
                ],
            ),
            (
                "{C}",
                0x1020_0003,
                vec![
                    text(element::PATH, "\\another\\loader.efi"),
                    gpt(element::OS_DEVICE, 0xD15C, 9),
                ],
            ),
        ]);
        let done = translate(&mut store, &back, starting(&WINDOWS));
        assert_eq!(done.new_default.as_deref(), Some("{B}"));
        assert_eq!((done.devices, done.dropped.len()), (2, 0));
        assert_eq!(done.foreign, ["a boot sector", "{C}"]);
        let path = |id: &str| store.object(id).unwrap().text(element::PATH).unwrap();
        assert_eq!(path(object::BOOT_MANAGER), "\\bootmgr");
        assert_eq!(path("{B}"), "\\WINDOWS\\system32\\WinLoad.exe");
        assert_eq!(path("{C}"), "\\another\\loader.efi");
        let locators =
            |id: &str, number| store.object(id).unwrap().device(number).unwrap().locators();
        let mbr = |offset: u64| Locator::Mbr {
            signature: SIGNATURE,
            offset,
        };
        assert_eq!(
            locators(object::BOOT_MANAGER, element::DEVICE),
            [mbr(211 << 20)]
        );
        assert_eq!(locators("{B}", element::OS_DEVICE), [mbr(51 << 20)]);
        let manager = store.manager().unwrap();
        assert_eq!(manager.objects(element::DISPLAY_ORDER), MENU);
        // A second time gives the same.
        let before = store.clone();
        translate(&mut store, &back, starting(&WINDOWS));
        assert_eq!(store, before);
    }

    #[test]
    fn inheritance_in_a_circle_ends_and_two_hundred_entries_cross() {
        let ids: Vec<String> = (0..200).map(|n| format!("{{{n:03}}}")).collect();
        let inherit = |id: &str| {
            let data = utf16_bytes(&format!("{id}\0\0"));
            (element::INHERIT, value_kind::MULTI_SZ, data)
        };
        let objects: Vec<_> = (0..200)
            .map(|n| {
                let mut elements = vec![inherit(&ids[(n + 1) % 200])];
                // The last one of a row has what the others inherit.
                if n % 50 == 49 {
                    elements.push(device(element::OS_DEVICE, SIGNATURE, 51 << 20));
                    elements.push((element::PATH, value_kind::SZ, vec![0x41]));
                }
                (&ids[n][..], 0x1020_0003, elements)
            })
            .collect();
        let mut store = store(&objects);
        assert_eq!(
            translate(&mut store, &identities(), starting(&WINDOWS)).devices,
            4
        );
        let store = BcdStore::read(&store.to_hive(3)[..]).unwrap();
        let first = store.object("{010}").unwrap();
        assert!(first.device(element::OS_DEVICE).is_none());
        let found = store.effective(&first, |object| object.device(element::OS_DEVICE));
        assert_eq!(found.unwrap().locators().len(), 1);
        assert!(
            store
                .effective(&first, |object| object.text(0x1200_00FF))
                .is_none()
        );
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
        translate(&mut once, &identities(), starting(&WINDOWS));
        let mut twice = once.clone();
        assert_eq!(
            translate(&mut twice, &identities(), starting(&WINDOWS)),
            Translated::default()
        );
        assert_eq!(twice, once);
    }
}
