//! The steps at the loader: is it there, is it one that firmware loads, and is it what Windows brings.

use std::cell::OnceCell;

use crate::device::{Extent, ReadDevice, Window};
use crate::fat::FatVolume;
use crate::ntfs::NtfsVolume;
use crate::pe::{EFI_APPLICATION, FileVersion, PeImage, ProgramFault};
use crate::profile::{BOOTMGFW, REMOVABLE_X64};

use super::answers::start::{Evidence as Start, Origin, Remedy as StartRemedy};
use super::step::{Fault, Found, Rehearsal, StepId, depends, holds, program};

/// A loader is read up to this length.
const MAX_LOADER_BYTES: u64 = 64 << 20;
/// Partitions looked at for an installed Windows that brings its loader.
const MAX_SOURCES: usize = 128;
/// Where Windows keeps the boot managers that it puts on an EFI system partition.
const SOURCES: [&str; 2] = [
    "\\Windows\\Boot\\EFI\\bootmgfw.efi",
    "\\Windows\\Boot\\EFI_EX\\bootmgfw_EX.efi",
];

/// The steps at the loader, on the removable-media path or at the path that a boot entry names; which build it is,
/// where it says so.
pub(super) fn walk_loader(
    walk: &mut Rehearsal,
    loaders: &Loaders<'_>,
    named: Option<&str>,
) -> Option<Option<FileVersion>> {
    let path = named.unwrap_or(REMOVABLE_X64);
    let loader = loaders.read(path);
    // Without an entry in the firmware, the other one is of no use; with one, it may be all that is needed.
    let by_entry = match named {
        None => loaders.read(BOOTMGFW).ok(),
        Some(_) => None,
    };
    let only_by_entry = |why: &ProgramFault| {
        let bytes = by_entry.as_ref()?;
        let image = loaders.judge(bytes).ok()?;
        let evidence = Start::OnlyByEntry {
            path: BOOTMGFW.to_owned(),
            why: why.clone(),
        };
        Some((evidence, image.0.version))
    };
    let bytes = match loader {
        Ok(bytes) => bytes,
        Err(why) => {
            let missing = |path: &str| StartRemedy::CopyLoader {
                path: path.to_owned(),
            };
            let found = match (only_by_entry(&why), why) {
                (Some((evidence, version)), _) => depends(evidence, missing(path), version),
                (None, ProgramFault::Unreadable { fault }) => {
                    let path = path.to_owned();
                    let evidence = Start::FileUnusable { path, fault };
                    Err(Fault::new(evidence, StartRemedy::CheckEsp))
                }
                (None, _) => {
                    let evidence = Start::FileMissing {
                        path: path.to_owned(),
                    };
                    Err(Fault::new(evidence, missing(path)))
                }
            };
            return walk.step(StepId::Loader, found);
        }
    };
    let there = Start::File {
        path: path.to_owned(),
        bytes: bytes.len() as u64,
    };
    walk.step(StepId::Loader, holds(there, ()))?;
    let again = |path: &str| StartRemedy::CopyLoaderAgain {
        path: path.to_owned(),
    };
    let judged = loaders.judge(&bytes);
    let is_fit = judged.is_ok();
    let found: Found<Option<FileVersion>> = match judged {
        Ok((image, origin)) => {
            let version = image.version;
            holds(program(path.to_owned(), &image, Some(origin)), version)
        }
        Err(why) => match only_by_entry(&why) {
            Some((evidence, version)) => depends(evidence, again(path), version),
            None => {
                let path = path.to_owned();
                let remedy = again(&path);
                Err(Fault::new(Start::ProgramUnfit { path, why }, remedy))
            }
        },
    };
    let version = walk.step(StepId::LoaderImage, found)?;
    if let Some(other) = by_entry.filter(|_| is_fit) {
        let path = BOOTMGFW.to_owned();
        let found = match (other == bytes, loaders.judge(&other)) {
            (true, _) => holds(Start::SameLoader { path }, ()),
            (false, Ok((image, origin))) => holds(program(path, &image, Some(origin)), ()),
            (false, Err(why)) => {
                let remedy = again(&path);
                depends(Start::ProgramUnfit { path, why }, remedy, ())
            }
        };
        walk.step(StepId::EntryLoader, found)?;
    }
    Some(version)
}

/// The loaders on the EFI system partition, and what Windows volumes of the same disk bring.
pub(super) struct Loaders<'a> {
    fat: &'a FatVolume<'a>,
    disk: &'a dyn ReadDevice,
    /// The partitions on which an installed Windows may lie.
    partitions: Vec<Extent>,
    sources: OnceCell<Vec<Vec<u8>>>,
}

impl<'a> Loaders<'a> {
    pub(super) fn new(
        fat: &'a FatVolume<'a>,
        disk: &'a dyn ReadDevice,
        partitions: impl Iterator<Item = Extent>,
    ) -> Self {
        Self {
            fat,
            disk,
            partitions: partitions.take(MAX_SOURCES).collect(),
            sources: OnceCell::new(),
        }
    }

    fn read(&self, path: &str) -> Result<Vec<u8>, ProgramFault> {
        let found = self.fat.find(path).map_err(ProgramFault::unreadable)?;
        let file = found.filter(|entry| !entry.is_directory);
        let file = file.ok_or(ProgramFault::Missing)?;
        let read = self.fat.read_file(&file, MAX_LOADER_BYTES);
        read.map_err(ProgramFault::unreadable)
    }

    /// The image, where firmware loads it and nothing speaks against its content. A signed one is judged by its
    /// signature; one without must not be a damaged copy of what an installed Windows on this disk brings.
    fn judge(&self, bytes: &[u8]) -> Result<(PeImage, Origin), ProgramFault> {
        let image = PeImage::read(bytes).map_err(ProgramFault::unreadable)?;
        let image = image.fitting(Some(EFI_APPLICATION))?;
        if image.is_signed {
            return Ok((image, Origin::Signed));
        }
        let sources = self.sources.get_or_init(|| self.read_sources());
        if sources.iter().any(|source| source == bytes) {
            return Ok((image, Origin::AsOnWindows));
        }
        if sources.iter().any(|source| source.len() == bytes.len()) {
            return Err(ProgramFault::NotItsSource);
        }
        Ok((image, Origin::Unknown))
    }

    fn read_sources(&self) -> Vec<Vec<u8>> {
        let mut sources = Vec::new();
        for extent in &self.partitions {
            let Some(window) = Window::new(self.disk, *extent) else {
                continue;
            };
            let Ok(volume) = NtfsVolume::open(&window) else {
                continue;
            };
            // What cannot be read is nothing to compare with.
            let read = |path: &str| {
                let entry = volume.find(path).ok()??;
                let file = volume.open_file(entry.record).ok()?;
                file.read_all(MAX_LOADER_BYTES).ok()
            };
            sources.extend(SOURCES.iter().filter_map(|path| read(path)));
        }
        sources
    }
}
