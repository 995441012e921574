//! What becomes of the menu in the other mode: what starts nothing there leaves it, and the default is one that starts.

use super::store::{BcdStore, BootObject, ObjectKind, element, object};
use super::translate::Translated;
use crate::identities::{Identities, PartitionName, Style};

/// Where the installed Windows lie, as byte offsets of their partitions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Systems<'s> {
    /// Those that start in the new mode.
    pub start: &'s [u64],
    /// Those that do not.
    pub left: &'s [u64],
}

impl Systems<'_> {
    /// The entry leads to a system that does not start in the new mode.
    fn is_left(&self, entry: &BootObject<'_>, identities: &Identities) -> bool {
        let device = entry.device(element::OS_DEVICE);
        let locators = device.map(|device| device.locators()).unwrap_or_default();
        let mut left = self
            .left
            .iter()
            .filter_map(|&at| identities.name_before(at));
        left.any(|name| locators.contains(&name))
    }
}

impl BcdStore {
    /// The default entry, where it can be started in the other mode, and is a system on a partition.
    pub fn default_for(&self, to: Style) -> Option<BootObject<'_>> {
        let is_carried_over = |kind| to == Style::Mbr || !is_bios_only(kind);
        let default = self.default_entry();
        default.filter(|entry| is_carried_over(entry.kind()) && !entry.is_in_file())
    }
}

/// True for an entry that runs in BIOS mode only.
pub fn is_bios_only(kind: Option<ObjectKind>) -> bool {
    matches!(kind, Some(ObjectKind::OldLoader | ObjectKind::BootSector))
}

/// Gives the boot manager another default where its own cannot be started any more.
pub(super) fn choose_default(
    store: &mut BcdStore,
    identities: &Identities,
    systems: Systems<'_>,
    done: &mut Translated,
) {
    let default = store.default_for(identities.to);
    if default.is_some_and(|default| !systems.is_left(&default, identities)) {
        return;
    }
    let places = systems
        .start
        .iter()
        .filter_map(|&at| identities.name_before(at));
    let places: Vec<PartitionName> = places.collect();
    let Some(entry) = store.first_of(&places) else {
        return;
    };
    let (id, title) = (entry.id().to_owned(), entry.title());
    store.set_text(object::BOOT_MANAGER, element::DEFAULT, &id);
    done.new_default = Some(title);
}

/// Takes the entries that start nothing in UEFI mode out of the menu's lists.
pub(super) fn drop_from_menu(
    store: &mut BcdStore,
    identities: &Identities,
    systems: Systems<'_>,
    done: &mut Translated,
) {
    let Some(manager) = store.manager() else {
        return;
    };
    let old = |id: &String| {
        let object = store.object(id);
        object.filter(|object| is_bios_only(object.kind()) || systems.is_left(object, identities))
    };
    let mut changes = Vec::new();
    for list in [element::DISPLAY_ORDER, element::NEXT_START, element::TOOLS] {
        let all = manager.objects(list);
        let kept: Vec<String> = all.iter().filter(|id| old(id).is_none()).cloned().collect();
        if kept.len() < all.len() {
            let dropped = all.iter().filter_map(&old).map(|object| object.title());
            done.dropped.extend(dropped);
            changes.push((list, kept));
        }
    }
    done.dropped.sort();
    done.dropped.dedup();
    for (list, kept) in changes {
        store.set_objects(object::BOOT_MANAGER, list, &kept);
    }
}
