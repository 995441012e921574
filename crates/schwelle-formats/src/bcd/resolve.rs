//! Devices that a store leaves open: "the one that I was started from", and "wherever this file is". Systems that were put
//! onto their disks as images have them; after a conversion they would lead elsewhere.

use super::device::{DeviceElement, Locator};
use super::store::{BcdStore, ObjectKind};
use crate::hive::value_kind;

impl BcdStore {
    /// Names the partitions that loaders leave open: `boot` is the one on which the store lies; what is searched
    /// for is found on the first of `systems`, which are those with an installed Windows in the order of the table. Returns how
    /// many devices have got a name.
    pub fn resolve(&mut self, boot: Option<Locator>, systems: &[Locator]) -> usize {
        let mut changes = Vec::new();
        for entry in self.objects() {
            if !matches!(entry.kind(), Some(ObjectKind::Loader | ObjectKind::Resume)) {
                continue;
            }
            for (number, device) in entry.devices() {
                let meant = match () {
                    () if device.is_boot_device() => boot,
                    () if device.is_searched_for() => systems.first().copied(),
                    () => None,
                };
                let named = meant.map(DeviceElement::partition);
                changes.extend(named.map(|named| (entry.id().to_owned(), number, named)));
            }
        }
        let count = changes.len();
        for (id, number, DeviceElement(bytes)) in changes {
            self.set(&id, number, value_kind::BINARY, bytes);
        }
        count
    }
}
