//! A BCD store from nothing, for the systems found on a disk whose own store is lost.
//!
//! Only what a start needs: the boot manager, a loader and a resume object for each system, the
//! memory tester, and the settings that these share. Numbers as in stores of such systems.

use uuid::Uuid;

use super::device::DeviceElement;
use super::store::{BcdStore, element, object};
use super::translate::programs;
use crate::bytes::utf16_bytes;
use crate::hive::{Node, Value, value_kind};
use crate::identities::Identities;

const MEMORY_TESTER: &str = "{b2721d73-1db4-4c62-bf78-c548a880142d}";
const GLOBAL_SETTINGS: &str = "{7ea2e1ac-2e61-4728-aaa3-896d9d0a9f0e}";
const LOADER_SETTINGS: &str = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}";
const RESUME_SETTINGS: &str = "{1afa9c49-16ab-4a5c-901b-212802da9460}";
const TIMEOUT_SECONDS: u64 = 30;
/// Flags of a root key: it is one, and may not be deleted.
const ROOT_FLAGS: u16 = 0x0C;

/// A system for the menu.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewEntry {
    /// Its name in the menu.
    pub title: String,
    /// GUID of its partition.
    pub partition: Uuid,
}

type Element = (u32, u32, Vec<u8>);

fn text(number: u32, text: &str) -> Element {
    (number, value_kind::SZ, utf16_bytes(&format!("{text}\0")))
}

fn objects(number: u32, ids: &[String]) -> Element {
    let list: String = ids.iter().map(|id| format!("{id}\0")).collect();
    (
        number,
        value_kind::MULTI_SZ,
        utf16_bytes(&format!("{list}\0")),
    )
}

impl BcdStore {
    /// A store for these systems, the first one the default. `locale` is the menu's language;
    /// `written` a time for its keys (Windows time).
    pub fn fresh(
        systems: &[NewEntry],
        identities: &Identities,
        locale: &str,
        new_guid: &mut dyn FnMut() -> Uuid,
        written: u64,
    ) -> Self {
        let to = programs(identities.to);
        let device = |partition: Uuid| {
            let DeviceElement(bytes) = DeviceElement::partition(identities.name_after(partition));
            bytes
        };
        let path = |name: &str| text(element::PATH, &format!("{name}.{}", to.ending));
        let on = |number: u32, partition: Uuid| (number, value_kind::BINARY, device(partition));
        let flag = |number: u32| (number, value_kind::BINARY, vec![1]);
        let inherits = |id: &str| objects(element::INHERIT, &[id.to_owned()]);
        let language = || text(element::LOCALE, locale);

        let mut all: Vec<(String, u32, Vec<Element>)> = Vec::new();
        let mut menu = Vec::new();
        let mut resumes = Vec::new();
        for system in systems {
            let (loader, resume) = (braced(new_guid()), braced(new_guid()));
            all.push((
                loader.clone(),
                0x1020_0003,
                vec![
                    on(element::DEVICE, system.partition),
                    path("\\Windows\\system32\\winload"),
                    text(element::DESCRIPTION, &system.title),
                    language(),
                    inherits(LOADER_SETTINGS),
                    on(element::OS_DEVICE, system.partition),
                    text(element::SYSTEM_ROOT, "\\Windows"),
                    text(element::DEFAULT, &resume),
                ],
            ));
            all.push((
                resume.clone(),
                0x1020_0004,
                vec![
                    on(element::DEVICE, system.partition),
                    path("\\Windows\\system32\\winresume"),
                    text(element::DESCRIPTION, "Windows Resume Application"),
                    language(),
                    inherits(RESUME_SETTINGS),
                    on(element::OS_DEVICE, system.partition),
                    text(element::SYSTEM_ROOT, "\\hiberfil.sys"),
                ],
            ));
            menu.push(loader);
            resumes.push(resume);
        }
        let mut manager = vec![
            on(element::DEVICE, identities.esp),
            text(element::PATH, to.manager),
            text(element::DESCRIPTION, "Windows Boot Manager"),
            language(),
            inherits(GLOBAL_SETTINGS),
            objects(element::DISPLAY_ORDER, &menu),
            objects(element::TOOLS, &[MEMORY_TESTER.to_owned()]),
            (
                element::TIMEOUT,
                value_kind::BINARY,
                TIMEOUT_SECONDS.to_le_bytes().to_vec(),
            ),
        ];
        manager.extend(menu.first().map(|id| text(element::DEFAULT, id)));
        manager.extend(resumes.first().map(|id| text(element::RESUME, id)));
        all.push((object::BOOT_MANAGER.to_owned(), 0x1010_0002, manager));
        all.push((
            MEMORY_TESTER.to_owned(),
            0x1020_0005,
            vec![
                on(element::DEVICE, identities.esp),
                text(element::PATH, to.memory_tester),
                text(element::DESCRIPTION, "Windows Memory Diagnostic"),
                language(),
                inherits(GLOBAL_SETTINGS),
                flag(element::BAD_MEMORY_ACCESS),
            ],
        ));
        all.push((GLOBAL_SETTINGS.to_owned(), 0x2010_0000, Vec::new()));
        let shared = || vec![inherits(GLOBAL_SETTINGS)];
        all.push((LOADER_SETTINGS.to_owned(), 0x2020_0003, shared()));
        all.push((RESUME_SETTINGS.to_owned(), 0x2020_0004, shared()));
        Self {
            tree: tree(&all, written),
            sequence: 0,
            minor: 5,
        }
    }
}

fn braced(id: Uuid) -> String {
    format!("{{{id}}}")
}

fn tree(all: &[(String, u32, Vec<Element>)], written: u64) -> Node {
    let node = |name: &str, values: Vec<Value>, subkeys: Vec<Node>| Node {
        name: name.to_owned(),
        written,
        security: Some(descriptor()),
        values,
        subkeys,
        ..Node::default()
    };
    let value = |name: &str, kind: u32, data: Vec<u8>| Value {
        name: name.to_owned(),
        kind,
        data,
    };
    let dword =
        |name: &str, number: u32| value(name, value_kind::DWORD, number.to_le_bytes().to_vec());
    let object = |(id, kind, elements): &(String, u32, Vec<Element>)| {
        let elements = elements.iter().map(|(number, kind, data)| {
            let element = value("Element", *kind, data.clone());
            node(&format!("{number:08x}"), vec![element], Vec::new())
        });
        let description = node("Description", vec![dword("Type", *kind)], Vec::new());
        let elements = node("Elements", Vec::new(), elements.collect());
        node(id, Vec::new(), vec![description, elements])
    };
    let (_, kind, name) = text(0, "BCD00000000");
    let marks = vec![
        value("KeyName", kind, name),
        dword("System", 1),
        dword("TreatAsSystem", 1),
    ];
    Node {
        flags: ROOT_FLAGS,
        ..node(
            "NewStoreRoot",
            Vec::new(),
            vec![
                node("Description", marks, Vec::new()),
                node("Objects", Vec::new(), all.iter().map(object).collect()),
            ],
        )
    }
}

/// A security descriptor: owned by the administrators, full access for them and for the system,
/// handed down to keys below (\[MS-DTYP\] §2.4.6, self-relative).
fn descriptor() -> Vec<u8> {
    const ADMINISTRATORS: [u8; 16] = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0];
    const SYSTEM: [u8; 12] = [1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0];
    // Allowed, handed down, its length, all rights on a key.
    let allowed = |len: u8| [0, 2, len, 0, 0x3F, 0, 0x0F, 0];
    [
        // Revision 1, self-relative with a list of rights; where owner, group and list lie.
        &[
            1, 0, 4, 0x80, 72, 0, 0, 0, 88, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0,
        ][..],
        // The list: revision 2, 52 bytes, two entries.
        &[2, 0, 52, 0, 2, 0, 0, 0],
        &allowed(24),
        &ADMINISTRATORS,
        &allowed(20),
        &SYSTEM,
        // Owner and group.
        &ADMINISTRATORS,
        &SYSTEM,
    ]
    .concat()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bcd::Locator;
    use crate::identities::Style;

    #[test]
    fn a_fresh_store_has_a_menu_of_the_systems_found() {
        let identities = Identities {
            to: Style::Gpt,
            signature: 1,
            disk: Uuid::from_u128(0xD15C),
            esp: Uuid::from_u128(0xE5B),
            partitions: Vec::new(),
        };
        let systems = [("Bridge", 5), ("Engine room", 6)].map(|(title, id)| NewEntry {
            title: title.into(),
            partition: Uuid::from_u128(id),
        });
        let mut count = 0;
        let mut new_guid = || {
            count += 1;
            Uuid::from_u128(count)
        };
        let store = BcdStore::fresh(&systems, &identities, "de-DE", &mut new_guid, 7);
        let store = BcdStore::read(&store.to_hive(8)[..]).unwrap();
        let titles: Vec<_> = store.menu().iter().map(|entry| entry.title()).collect();
        assert_eq!(titles, ["Bridge", "Engine room"]);
        let default = store.default_entry().unwrap();
        assert_eq!(default.id(), store.menu()[0].id());
        let partition = Uuid::from_u128(5);
        let here = Locator::Gpt {
            disk: identities.disk,
            partition,
        };
        assert_eq!(
            default.device(element::OS_DEVICE).unwrap().locators(),
            [here]
        );
        let resume = store
            .object(&default.text(element::DEFAULT).unwrap())
            .unwrap();
        assert_eq!(
            resume.text(element::PATH).unwrap(),
            "\\Windows\\system32\\winresume.efi"
        );
        assert_eq!(
            store.manager().unwrap().text(element::PATH).unwrap(),
            programs(Style::Gpt).manager
        );
    }
}
