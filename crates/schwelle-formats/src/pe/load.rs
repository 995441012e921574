//! Whether UEFI firmware loads an image: its sections brought into memory as the image loader of the open reference
//! firmware does it (EDK II, `BasePeCoffLib` and the core's image services), with what that loader refuses refused.
//!
//! Sources: the loader's published behaviour, and Microsoft's "PE Format" for the fields. Every refusal has a start
//! on that firmware among the tests of the command line.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bytes::{u16_at, u32_at};

/// No loader needs more memory.
const MAX_IMAGE_BYTES: u32 = 64 << 20;
/// Most sections of an image, as the format has it.
const MAX_SECTIONS: u16 = 96;
const MAX_DIRECTORIES: u32 = 16;

/// Bytes of the headers' parts.
const SIGNATURE_AND_FILE_HEADER: u32 = 24;
const OPTIONAL_WITHOUT_DIRECTORIES: u16 = 112;
const SECTION_HEADER: u32 = 40;
const DEBUG_ENTRY: u32 = 28;

/// Flags and numbers.
const RELOCATIONS_STRIPPED: u16 = 1;
const EXECUTED: u32 = 0x2000_0000;
const DIRECTORY_RESOURCES: usize = 2;
const DIRECTORY_CERTIFICATES: usize = 4;
const DIRECTORY_RELOCATIONS: usize = 5;
const DIRECTORY_DEBUG: usize = 6;
const PAGE: usize = 4096;

/// Why firmware does not load an image.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum LoadFault {
    /// The headers are cut off.
    #[error("its headers lie outside the file")]
    Headers,
    /// More data directories than the format has, or another number than the optional header's size.
    #[error("its optional header of {bytes} bytes names {directories} data directories")]
    Directories {
        /// Bytes of the optional header.
        bytes: u16,
        /// Directories that it names.
        directories: u32,
    },
    /// The section table does not fit into the headers, or these not into the image.
    #[error(
        "{sections} sections do not fit into headers of {headers} bytes of an image of {image} bytes"
    )]
    HeaderSizes {
        /// How many sections.
        sections: u16,
        /// Bytes of the headers.
        headers: u32,
        /// Bytes of the image in memory.
        image: u32,
    },
    /// The image is larger than any loader.
    #[error("it wants {image} bytes of memory")]
    TooLarge {
        /// Bytes of the image in memory.
        image: u32,
    },
    /// Sections cannot be aligned like this.
    #[error("its sections are to be aligned to {to} bytes")]
    Alignment {
        /// To what.
        to: u32,
    },
    /// A data directory leaves the file or the image.
    #[error("its {what} of {bytes} bytes at {at} lies outside")]
    Outside {
        /// Which.
        what: Part,
        /// Where it begins: a byte of the file, or of the image in memory.
        at: u32,
        /// Its length in bytes.
        bytes: u32,
    },
    /// The code begins in no section.
    #[error("its entry point {at} lies in no section")]
    EntryPoint {
        /// Where, in bytes of the image.
        at: u32,
    },
    /// It can be loaded at one address only.
    #[error("its relocations are missing: it can be loaded at one address only")]
    Stripped,
    /// A block of relocations, or one of them, cannot be.
    #[error("its relocations are damaged at {at}")]
    Relocations {
        /// Where, in bytes of the image.
        at: u32,
    },
    /// The table of resources contradicts itself.
    #[error("its table of resources is damaged")]
    Resources,
}

/// A part of an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", schemars(rename = "ProgramPart"))]
pub enum Part {
    /// A section, in the file.
    SectionInFile,
    /// A section, in memory.
    SectionInMemory,
    /// The certificate table.
    Certificates,
    /// The relocations.
    Relocations,
    /// The debug directory.
    Debug,
}

impl std::fmt::Display for Part {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::SectionInFile | Self::SectionInMemory => "section",
            Self::Certificates => "certificate table",
            Self::Relocations => "table of relocations",
            Self::Debug => "debug directory",
        })
    }
}

/// A section header, as far as loading goes.
#[derive(Debug, Clone, Copy)]
struct Section {
    memory_bytes: u32,
    address: u32,
    file_bytes: u32,
    at: u32,
    flags: u32,
}

/// An image in memory.
#[derive(Debug)]
pub(super) struct Loaded {
    memory: Vec<u8>,
    sections: Vec<Section>,
    entry_point: u32,
}

/// The header fields of a 64-bit image. Every offset is taken from the file as it is; reading outside it is a fault.
struct Head<'f> {
    file: &'f [u8],
    optional_at: usize,
    sections_at: u32,
    section_count: u16,
    image_bytes: u32,
    header_bytes: u32,
    directories: u32,
}

impl<'f> Head<'f> {
    fn read(file: &'f [u8]) -> Result<Self, LoadFault> {
        let u32_of = |at: usize| u32_at(file, at).ok_or(LoadFault::Headers);
        let u16_of = |at: usize| u16_at(file, at).ok_or(LoadFault::Headers);
        let head_at = u32_of(60)?;
        let at = usize::try_from(head_at).map_err(|_too_large| LoadFault::Headers)?;
        let within = |offset: usize| at.checked_add(offset).ok_or(LoadFault::Headers);
        let section_count = u16_of(within(6)?)?;
        let optional_bytes = u16_of(within(20)?)?;
        let characteristics = u16_of(within(22)?)?;
        let optional_at = within(24)?;
        let optional = |offset: usize| optional_at.checked_add(offset).ok_or(LoadFault::Headers);
        let alignment = u32_of(optional(32)?)?;
        let (image_bytes, header_bytes) = (u32_of(optional(56)?)?, u32_of(optional(60)?)?);
        let directories = u32_of(optional(108)?)?;
        let of_directories = optional_bytes.checked_sub(OPTIONAL_WITHOUT_DIRECTORIES);
        if directories > MAX_DIRECTORIES
            || of_directories.map(u32::from) != directories.checked_mul(8)
        {
            return Err(LoadFault::Directories {
                bytes: optional_bytes,
                directories,
            });
        }
        let sections_at = head_at
            .checked_add(SIGNATURE_AND_FILE_HEADER)
            .and_then(|at| at.checked_add(optional_bytes.into()))
            .ok_or(LoadFault::Headers)?;
        // How many section headers would fit up to there.
        let room = |end: u32| Some(end.checked_sub(sections_at)? / SECTION_HEADER);
        let count = u32::from(section_count);
        let fits = section_count <= MAX_SECTIONS
            && room(image_bytes).is_some_and(|room| room > count)
            && room(header_bytes).is_some_and(|room| room >= count)
            && header_bytes > sections_at
            && header_bytes < image_bytes;
        if !fits {
            return Err(LoadFault::HeaderSizes {
                sections: section_count,
                headers: header_bytes,
                image: image_bytes,
            });
        }
        if image_bytes > MAX_IMAGE_BYTES {
            let image = image_bytes;
            return Err(LoadFault::TooLarge { image });
        }
        if !alignment.is_power_of_two() {
            return Err(LoadFault::Alignment { to: alignment });
        }
        if characteristics & RELOCATIONS_STRIPPED != 0 {
            return Err(LoadFault::Stripped);
        }
        Ok(Self {
            file,
            optional_at,
            sections_at,
            section_count,
            image_bytes,
            header_bytes,
            directories,
        })
    }

    /// Begin and length of a data directory that is named and not empty.
    fn directory(&self, index: usize) -> Option<(u32, u32)> {
        if index as u64 >= u64::from(self.directories) {
            return None;
        }
        let at = index
            .checked_mul(8)?
            .checked_add(112)?
            .checked_add(self.optional_at)?;
        let bytes = u32_at(self.file, at.checked_add(4)?)?;
        Some((u32_at(self.file, at)?, bytes)).filter(|_| bytes > 0)
    }

    fn sections(&self) -> Result<Vec<Section>, LoadFault> {
        let read = |index: u16| {
            let at = u32::from(index)
                .checked_mul(SECTION_HEADER)?
                .checked_add(self.sections_at)?;
            let field = |offset: u32| {
                let at = at.checked_add(offset)?;
                u32_at(self.file, usize::try_from(at).ok()?)
            };
            Some(Section {
                memory_bytes: field(8)?,
                address: field(12)?,
                file_bytes: field(16)?,
                at: field(20)?,
                flags: field(36)?,
            })
        };
        let sections = (0..self.section_count).map(|index| read(index).ok_or(LoadFault::Headers));
        sections.collect()
    }
}

/// `bytes` bytes from `at` on, where all of them are inside; an error that names them where not.
fn part(of: &[u8], what: Part, at: u32, bytes: u32) -> Result<&[u8], LoadFault> {
    let found = usize::try_from(at).ok().zip(usize::try_from(bytes).ok());
    let found = found.and_then(|(from, len)| of.get(from..from.checked_add(len)?));
    found.ok_or(LoadFault::Outside { what, at, bytes })
}

impl Loaded {
    /// Loads the 64-bit image in `file`.
    pub(super) fn load(file: &[u8]) -> Result<Self, LoadFault> {
        let head = Head::read(file)?;
        let header_bytes = usize::try_from(head.header_bytes).unwrap_or(usize::MAX);
        let headers = file.get(..header_bytes).ok_or(LoadFault::Headers)?;
        if let Some((at, bytes)) = head.directory(DIRECTORY_CERTIFICATES) {
            part(file, Part::Certificates, at, bytes)?;
        }
        let sections = head.sections()?;
        let mut memory = vec![0; usize::try_from(head.image_bytes).unwrap_or(0)];
        if let Some(to) = memory.get_mut(..header_bytes) {
            to.copy_from_slice(headers);
        }
        for section in &sections {
            section.bring_into(&mut memory, file)?;
        }
        check_debug_directory(&head, &sections)?;
        let optional_entry = head.optional_at.checked_add(16);
        let entry_point = optional_entry.and_then(|at| u32_at(file, at));
        let loaded = Self {
            memory,
            sections,
            entry_point: entry_point.ok_or(LoadFault::Headers)?,
        };
        let at = loaded.entry_point;
        if !loaded.sections.iter().any(|section| section.holds(at)) {
            return Err(LoadFault::EntryPoint { at });
        }
        if let Some((at, bytes)) = head.directory(DIRECTORY_RESOURCES) {
            loaded.check_resources(at, bytes)?;
        }
        if let Some((at, bytes)) = head.directory(DIRECTORY_RELOCATIONS) {
            loaded.check_relocations(at, bytes)?;
        }
        Ok(loaded)
    }

    /// True where a page of its code, or the place where that begins, is all zeros: a hole that was never code.
    pub(super) fn has_hollow_code(&self) -> bool {
        let begin = usize::try_from(self.entry_point).unwrap_or(usize::MAX);
        let begin = self.memory.get(begin..).unwrap_or_default();
        let is_zero = |bytes: &[u8]| bytes.iter().all(|&byte| byte == 0);
        if is_zero(begin.get(..16).unwrap_or(begin)) {
            return true;
        }
        let code = self.sections.iter().filter(|one| one.flags & EXECUTED != 0);
        let mut pages = code.flat_map(|section| {
            let filled = section.filled();
            let bytes = part(&self.memory, Part::SectionInMemory, section.address, filled);
            bytes.unwrap_or_default().chunks_exact(PAGE)
        });
        pages.any(is_zero)
    }

    /// The head of the table, and names in it: what the reference firmware looks at to find its own resources.
    fn check_resources(&self, at: u32, bytes: u32) -> Result<(), LoadFault> {
        // A table that begins outside is not looked at.
        let begin = usize::try_from(at).unwrap_or(usize::MAX);
        let Some(table) = self.memory.get(begin..).filter(|table| !table.is_empty()) else {
            return Ok(());
        };
        let count = |at: usize| u16_at(table, at).map_or(0, usize::from);
        let (named, others) = (count(12), count(14));
        let entries = named.saturating_add(others);
        let end = entries.saturating_mul(8).saturating_add(16);
        if end as u64 > u64::from(bytes) {
            return Err(LoadFault::Resources);
        }
        const IS_NAME: u32 = 1 << 31;
        for index in 0..named {
            let name = u32_at(table, index.saturating_mul(8).saturating_add(16)).unwrap_or(0);
            if name & IS_NAME != 0 && name & !IS_NAME >= bytes {
                return Err(LoadFault::Resources);
            }
        }
        Ok(())
    }

    fn check_relocations(&self, at: u32, bytes: u32) -> Result<(), LoadFault> {
        /// Types that x64 has: none, high and low halves, 32 bits, 64 bits.
        const KNOWN: [u16; 5] = [0, 1, 2, 3, 10];
        let table = part(&self.memory, Part::Relocations, at, bytes)?;
        let image_bytes = self.memory.len() as u64;
        let mut left = table;
        // The last byte alone is no block.
        while left.len() > 1 {
            let done = u32::try_from(table.len().saturating_sub(left.len())).unwrap_or(u32::MAX);
            let fault = || LoadFault::Relocations {
                at: at.saturating_add(done),
            };
            let base = u32_at(left, 0).ok_or_else(fault)?;
            let block_bytes = u32_at(left, 4).ok_or_else(fault)?;
            let block_bytes = usize::try_from(block_bytes).unwrap_or(usize::MAX);
            let block = left.get(8..block_bytes).ok_or_else(fault)?;
            let is_inside = |address: u64| address < image_bytes;
            if !is_inside(base.into()) {
                return Err(fault());
            }
            let fixups = block.as_chunks::<2>().0.iter();
            let sound = |fixup: &[u8; 2]| {
                let fixup = u16::from_le_bytes(*fixup);
                let address = u64::from(base).saturating_add(u64::from(fixup & 0xFFF));
                KNOWN.contains(&(fixup >> 12)) && is_inside(address)
            };
            if !fixups.into_iter().all(sound) {
                return Err(fault());
            }
            left = left.get(block_bytes..).unwrap_or_default();
        }
        Ok(())
    }
}

impl Section {
    /// Bytes of it that come from the file.
    fn filled(&self) -> u32 {
        match self.memory_bytes {
            0 => self.file_bytes,
            bytes => bytes.min(self.file_bytes),
        }
    }

    /// The address lies in what comes from the file.
    fn holds(&self, address: u32) -> bool {
        let behind = address.checked_sub(self.address);
        behind.is_some_and(|behind| behind < self.filled())
    }

    fn bring_into(&self, memory: &mut [u8], file: &[u8]) -> Result<(), LoadFault> {
        // All of it must be in the file, also what is not loaded.
        let raw = match self.file_bytes {
            0 => &[],
            bytes => part(file, Part::SectionInFile, self.at, bytes)?,
        };
        let outside = || LoadFault::Outside {
            what: Part::SectionInMemory,
            at: self.address,
            bytes: self.memory_bytes.max(self.filled()),
        };
        let from = usize::try_from(self.address).map_err(|_too_large| outside())?;
        let in_memory = usize::try_from(self.memory_bytes.max(self.filled()));
        let end = in_memory.ok().and_then(|bytes| from.checked_add(bytes));
        let to = end.and_then(|end| memory.get_mut(from..end));
        let to = to.ok_or_else(outside)?;
        let filled = usize::try_from(self.filled()).unwrap_or(0);
        for (to, byte) in to.iter_mut().zip(raw.iter().take(filled)) {
            *to = *byte;
        }
        Ok(())
    }
}

/// The debug directory's entries are read from the file, up to the one that names symbols.
fn check_debug_directory(head: &Head<'_>, sections: &[Section]) -> Result<(), LoadFault> {
    const SYMBOLS: u32 = 2;
    let Some((address, bytes)) = head.directory(DIRECTORY_DEBUG) else {
        return Ok(());
    };
    let outside = LoadFault::Outside {
        what: Part::Debug,
        at: address,
        bytes,
    };
    // Where no section holds it, it is not looked for.
    let holding = sections.iter().find(|section| {
        let behind = address.checked_sub(section.address);
        behind.is_some_and(|behind| behind < section.memory_bytes)
    });
    let Some(at) = holding.and_then(|section| {
        let behind = address.checked_sub(section.address)?;
        section.at.checked_add(behind)
    }) else {
        return Ok(());
    };
    let count = bytes.div_ceil(DEBUG_ENTRY);
    for index in 0..count {
        let entry_at = index
            .checked_mul(DEBUG_ENTRY)
            .and_then(|behind| at.checked_add(behind));
        let entry = entry_at.and_then(|at| part(head.file, Part::Debug, at, DEBUG_ENTRY).ok());
        let Some(entry) = entry else {
            return Err(outside);
        };
        if u32_at(entry, 12) == Some(SYMBOLS) {
            break;
        }
    }
    Ok(())
}
