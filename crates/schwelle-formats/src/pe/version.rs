//! The version resource of an image: which build of its manufacturer's it is.
//!
//! Source: Microsoft's "PE Format" (the section .rsrc) and "VS_VERSIONINFO"; the tree of resources is read by the
//! crate `object`.

use std::fmt;

use object::LittleEndian as LE;
use object::read::pe::{ResourceDirectory, ResourceDirectoryEntryData, ResourceNameOrId};

use crate::bytes::u32_at;

/// Resources of an image are read up to this length; those of boot files are below a MiB.
pub(super) const MAX_RESOURCE_BYTES: u64 = 16 << 20;
/// The kind of resource that holds a version.
const RT_VERSION: u16 = 16;
/// The fixed part of a version resource lies after a header and the name "VS_VERSION_INFO".
const FIXED_AT: usize = 40;
const FIXED_MARK: u32 = 0xFEEF_04BD;

/// A file's version: four numbers, of which the third is the build.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct FileVersion(pub [u32; 4]);

impl FileVersion {
    /// Without the last number, which counts updates of the same build.
    pub fn build(self) -> [u32; 3] {
        let [major, minor, build, _] = self.0;
        [major, minor, build]
    }
}

impl fmt::Display for FileVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [major, minor, build, update] = self.0;
        write!(f, "{major}.{minor}.{build}.{update}")
    }
}

/// The version in the resources of an image, which lie at `address` in memory.
pub(super) fn find(resources: &[u8], address: u32) -> Option<FileVersion> {
    let directory = ResourceDirectory::new(resources);
    let mut table = directory.root().ok()?;
    // Three levels: kind, name, language. Of each but the first, the first entry.
    for level in 0..3 {
        let entry = table
            .entries
            .iter()
            .find(|entry| match entry.name_or_id() {
                ResourceNameOrId::Id(id) => level > 0 || id == RT_VERSION,
                ResourceNameOrId::Name(_) => level > 0,
            })?;
        match entry.data(directory).ok()? {
            ResourceDirectoryEntryData::Table(below) => table = below,
            ResourceDirectoryEntryData::Data(found) => {
                let from = found.offset_to_data.get(LE).checked_sub(address)?;
                let fixed = usize::try_from(from).ok()?.checked_add(FIXED_AT)?;
                let number = |at: usize| u32_at(resources, fixed.checked_add(at)?);
                let (high, low) = (number(8)?, number(12)?);
                let parts = [high >> 16, high & 0xFFFF, low >> 16, low & 0xFFFF];
                return (number(0)? == FIXED_MARK).then_some(FileVersion(parts));
            }
        }
    }
    None
}
