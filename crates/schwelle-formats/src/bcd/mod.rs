//! The boot configuration store: a registry hive of objects and their elements.
//!
//! Numbers of objects and elements as the systems' own documentation of the boot configuration data
//! gives them; the layout of device elements as seen in stores and checked in the tests.
//! [`BcdStore`] gives a typed view of the tree; [`translate`] takes a store from BIOS to UEFI
//! form; [`BcdStore::fresh`] makes one where there is none.

#![warn(clippy::indexing_slicing)]

mod device;
mod fresh;
mod menu;
mod resolve;
mod store;
mod translate;

pub use device::{DeviceElement, Locator};
pub use fresh::NewEntry;
pub use menu::{Systems, is_bios_only};
pub use store::{BcdStore, BootObject, ObjectKind, StoreError, element, object};
pub use translate::{Translated, translate};
