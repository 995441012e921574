//! A typed view of a BCD store's tree.

use super::device::{DeviceElement, Locator};
use crate::bytes::ReadBytes;
use crate::hive::{Hive, HiveError, Node, Value, value_kind};

/// Objects asked for an inherited element, at most.
const MAX_INHERITED: usize = 64;

/// Well-known objects.
pub mod object {
    /// The boot manager.
    pub const BOOT_MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
}

/// Numbers of elements.
pub mod element {
    /// Where a program lies.
    pub const DEVICE: u32 = 0x1100_0001;
    /// The program's path.
    pub const PATH: u32 = 0x1200_0002;
    /// The name in the menu.
    pub(crate) const DESCRIPTION: u32 = 0x1200_0004;
    /// The menu's language.
    pub(crate) const LOCALE: u32 = 0x1200_0005;
    /// Objects whose settings hold here too.
    pub(crate) const INHERIT: u32 = 0x1400_0006;
    /// Where the system lies.
    pub const OS_DEVICE: u32 = 0x2100_0001;
    /// The system's folder.
    pub const SYSTEM_ROOT: u32 = 0x2200_0002;
    /// In the boot manager: the entry to start. In a loader: the object that resumes it.
    pub(crate) const DEFAULT: u32 = 0x2300_0003;
    /// In the boot manager: the entries of the menu, in order.
    pub(crate) const DISPLAY_ORDER: u32 = 0x2400_0001;
    /// In the boot manager: entries for the next start only.
    pub(crate) const NEXT_START: u32 = 0x2400_0002;
    /// In the boot manager: the tools below the menu.
    pub(crate) const TOOLS: u32 = 0x2400_0010;
    /// In the boot manager: the object that resumes the default.
    pub(crate) const RESUME: u32 = 0x2300_0006;
    /// In the memory tester: known bad memory is used too.
    pub(crate) const BAD_MEMORY_ACCESS: u32 = 0x1600_000B;
    /// In the boot manager: seconds until the default is started.
    pub const TIMEOUT: u32 = 0x2500_0004;
}

/// What an object is, by its type number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ObjectKind {
    /// Boot manager (10100002h).
    BootManager,
    /// Loader of a system (10200003h).
    Loader,
    /// Resumes a hibernated system (10200004h).
    Resume,
    /// Memory tester (10200005h).
    MemoryTester,
    /// Loader of a system older than this kind of store (10300006h).
    OldLoader,
    /// A boot sector, which only a BIOS can run (10400008h).
    BootSector,
    /// Device options (3xxxxxxxh).
    DeviceOptions,
    /// Settings that others inherit (2xxxxxxxh).
    Inherited,
    /// Any other.
    Other(u32),
}

impl From<u32> for ObjectKind {
    fn from(number: u32) -> Self {
        match number {
            0x1010_0002 => Self::BootManager,
            0x1020_0003 => Self::Loader,
            0x1020_0004 => Self::Resume,
            0x1020_0005 => Self::MemoryTester,
            0x1030_0006 => Self::OldLoader,
            0x1040_0008 => Self::BootSector,
            0x2000_0000..=0x2FFF_FFFF => Self::Inherited,
            0x3000_0000..=0x3FFF_FFFF => Self::DeviceOptions,
            other => Self::Other(other),
        }
    }
}

/// Why a store could not be used.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The hive could not be read.
    #[error(transparent)]
    Hive(#[from] HiveError),
    /// The hive has no objects: not a BCD store.
    #[error("the hive is not a BCD store: it has no key \"Objects\"")]
    NotAStore,
    /// Changes are pending in its log, which has not been applied.
    #[error("the BCD store was not closed cleanly; changes may be pending in its log")]
    NotClosed,
}

/// One object, read from the tree.
#[derive(Debug, Clone, Copy)]
pub struct BootObject<'a> {
    node: &'a Node,
}

impl<'a> BootObject<'a> {
    /// Its system lies in a file on a partition, as a RAM disk or a virtual disk, and not on the partition itself.
    pub fn is_in_file(&self) -> bool {
        let device = self.device(element::OS_DEVICE);
        device.is_some_and(|device| device.is_in_file())
    }

    /// Its GUID as text, with braces.
    pub fn id(&self) -> &'a str {
        &self.node.name
    }

    /// What it is; `None` when its description is missing.
    pub fn kind(&self) -> Option<ObjectKind> {
        self.node
            .find("Description")?
            .value("Type")?
            .dword()
            .map(ObjectKind::from)
    }

    fn element(&self, number: u32) -> Option<&'a Value> {
        self.node
            .find(&format!("Elements\\{number:08x}"))?
            .value("Element")
    }

    /// A text element, or the GUID of an object element.
    pub fn text(&self, number: u32) -> Option<String> {
        self.element(number).map(Value::text)
    }

    /// A list of object GUIDs.
    pub fn objects(&self, number: u32) -> Vec<String> {
        self.element(number).map(Value::texts).unwrap_or_default()
    }

    /// A device element.
    pub fn device(&self, number: u32) -> Option<DeviceElement> {
        self.element(number)
            .map(|value| DeviceElement(value.data.clone()))
    }

    /// A number element.
    pub fn integer(&self, number: u32) -> Option<u64> {
        crate::bytes::u64_at(&self.element(number)?.data, 0)
    }

    /// All device elements, with their numbers.
    pub fn devices(&self) -> Vec<(u32, DeviceElement)> {
        let elements = self
            .node
            .find("Elements")
            .map(|node| &node.subkeys[..])
            .unwrap_or_default();
        let numbered = elements.iter().filter_map(|node| {
            let number = u32::from_str_radix(&node.name, 16).ok()?;
            // The second hex digit is the kind of element: 1 for devices.
            let is_device = number >> 24 & 0xF == 1;
            is_device.then_some((number, DeviceElement(node.value("Element")?.data.clone())))
        });
        numbered.collect()
    }

    /// What to call it on the screen.
    pub fn title(&self) -> String {
        self.text(element::DESCRIPTION)
            .unwrap_or_else(|| self.id().to_owned())
    }
}

/// A BCD store: the tree of its hive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BcdStore {
    pub(super) tree: Node,
    /// Sequence number of the hive it was read from.
    pub(super) sequence: u32,
    /// Minor version of its form.
    pub(super) minor: u32,
}

impl BcdStore {
    /// Reads a store from the bytes of its hive.
    pub fn read<S: ReadBytes + ?Sized>(source: &S) -> Result<Self, StoreError> {
        let hive = Hive::open(source)?;
        if !hive.is_cleanly_closed() {
            return Err(StoreError::NotClosed);
        }
        let tree = Node::read(&hive)?;
        if tree.find("Objects").is_none() {
            return Err(StoreError::NotAStore);
        }
        Ok(Self {
            tree,
            sequence: hive.written().1,
            minor: hive.minor(),
        })
    }

    /// The store as a hive, in the form in which it was read; `written` is the time for its base block (Windows time).
    pub fn to_hive(&self, written: u64) -> Vec<u8> {
        let sequence = self.sequence.wrapping_add(1);
        self.tree.to_hive_as(written, sequence, self.minor)
    }

    /// All objects.
    pub fn objects(&self) -> impl Iterator<Item = BootObject<'_>> {
        self.tree
            .find("Objects")
            .into_iter()
            .flat_map(|node| &node.subkeys)
            .map(|node| BootObject { node })
    }

    /// The object with this GUID.
    pub fn object(&self, id: &str) -> Option<BootObject<'_>> {
        self.objects()
            .find(|object| object.id().eq_ignore_ascii_case(id))
    }

    /// The boot manager.
    pub fn manager(&self) -> Option<BootObject<'_>> {
        self.object(object::BOOT_MANAGER)
    }

    /// The entry that the boot manager starts by default: the default, else the first of
    /// the menu.
    pub fn default_entry(&self) -> Option<BootObject<'_>> {
        let manager = self.manager()?;
        let id = manager
            .text(element::DEFAULT)
            .or_else(|| manager.objects(element::DISPLAY_ORDER).into_iter().next())?;
        self.object(&id)
    }

    /// An element of an object, or of those that it inherits from, in their order.
    pub fn effective<'a, T>(
        &'a self,
        object: &BootObject<'a>,
        get: impl Fn(&BootObject<'a>) -> Option<T>,
    ) -> Option<T> {
        let mut seen: Vec<String> = Vec::new();
        let mut next = vec![*object];
        // Stores may name objects in a circle; each is asked once.
        while let Some(object) = next.pop() {
            if let Some(found) = get(&object) {
                return Some(found);
            }
            seen.push(object.id().to_ascii_lowercase());
            let parents = object.objects(element::INHERIT).into_iter().rev();
            next.extend(
                parents
                    .filter(|id| !seen.contains(&id.to_ascii_lowercase()))
                    .filter_map(|id| self.object(&id)),
            );
            if seen.len() > MAX_INHERITED {
                return None;
            }
        }
        None
    }

    /// The first entry of the menu that starts a system from one of these partitions.
    pub fn first_of(&self, places: &[Locator]) -> Option<BootObject<'_>> {
        let mut menu = self.menu().into_iter();
        menu.find(|entry| {
            let device = entry.device(element::OS_DEVICE);
            let locators = device.map(|device| device.locators()).unwrap_or_default();
            let here = locators.first();
            here.is_some_and(|here| places.contains(here))
                && entry.kind() == Some(ObjectKind::Loader)
                && !entry.is_in_file()
        })
    }

    /// The objects that the boot manager's lists name: menu, tools, and entries for the next start.
    pub fn listed(&self) -> Vec<BootObject<'_>> {
        let lists = [element::DISPLAY_ORDER, element::NEXT_START, element::TOOLS];
        let manager = self.manager().into_iter();
        let ids = manager.flat_map(|manager| lists.map(|list| manager.objects(list)));
        ids.flatten().filter_map(|id| self.object(&id)).collect()
    }

    /// The entries of the menu in order; GUIDs without an object are left out.
    pub fn menu(&self) -> Vec<BootObject<'_>> {
        let order = self
            .manager()
            .map(|manager| manager.objects(element::DISPLAY_ORDER))
            .unwrap_or_default();
        order.iter().filter_map(|id| self.object(id)).collect()
    }

    /// Sets an element's value; `false` when the object is missing.
    pub(super) fn set(&mut self, id: &str, number: u32, kind: u32, data: Vec<u8>) -> bool {
        let Some(elements) = self.tree.find_mut(&format!("Objects\\{id}\\Elements")) else {
            return false;
        };
        let name = format!("{number:08x}");
        if elements.find(&name).is_none() {
            let node = Node {
                name: name.clone(),
                security: elements.security.clone(),
                written: elements.written,
                ..Node::default()
            };
            elements.subkeys.push(node);
        }
        if let Some(node) = elements.find_mut(&name) {
            node.set(Value {
                name: "Element".to_owned(),
                kind,
                data,
            });
        }
        true
    }

    pub(super) fn set_objects(&mut self, id: &str, number: u32, objects: &[String]) -> bool {
        let list: String = objects.iter().map(|id| format!("{id}\0")).collect();
        let data = crate::bytes::utf16_bytes(&format!("{list}\0"));
        self.set(id, number, value_kind::MULTI_SZ, data)
    }

    pub(super) fn set_text(&mut self, id: &str, number: u32, text: &str) -> bool {
        self.set(
            id,
            number,
            value_kind::SZ,
            crate::bytes::utf16_bytes(&format!("{text}\0")),
        )
    }
}
