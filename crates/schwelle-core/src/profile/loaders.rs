//! The UEFI boot loaders of a Linux: GRUB as a signed program, what firmware with Secure Boot starts before it (shim), and
//! what enrols keys for that. They come from the system's own volume, or are given.

use std::fmt;
use std::sync::Arc;

use crate::ext::ExtVolume;
use crate::grub::prefix_of;
use crate::pe::{EFI_APPLICATION, PeImage, ProgramFault};

/// A loader is read up to this length; the largest have some MiB.
const MAX_LOADER_BYTES: usize = 16 << 20;

/// Which of the loaders.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Grub,
    Shim,
    Keys,
}

/// Where distributions keep them on a system's volume, the signed ones first. `{}` is the system's short name: some
/// keep what lies on an EFI system partition as files of a package, there where that would be mounted.
const PLACES: [(Kind, &str); 12] = [
    (
        Kind::Grub,
        "/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed",
    ),
    (Kind::Grub, "/usr/share/efi/x86_64/grub.efi"),
    (Kind::Grub, "/boot/efi/EFI/{}/grubx64.efi"),
    (
        Kind::Grub,
        "/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi",
    ),
    (Kind::Shim, "/usr/lib/shim/shimx64.efi.signed.latest"),
    (Kind::Shim, "/usr/lib/shim/shimx64.efi.signed"),
    (Kind::Shim, "/usr/share/efi/x86_64/shim.efi"),
    (Kind::Shim, "/boot/efi/EFI/{}/shimx64.efi"),
    (Kind::Keys, "/usr/lib/shim/mmx64.efi.signed"),
    (Kind::Keys, "/usr/lib/shim/mmx64.efi"),
    (Kind::Keys, "/usr/share/efi/x86_64/MokManager.efi"),
    (Kind::Keys, "/boot/efi/EFI/{}/mmx64.efi"),
];
/// What they are called in a folder that is given.
const GIVEN: [(Kind, &str); 6] = [
    (Kind::Grub, "grubx64.efi.signed"),
    (Kind::Grub, "grubx64.efi"),
    (Kind::Shim, "shimx64.efi.signed"),
    (Kind::Shim, "shimx64.efi"),
    (Kind::Keys, "mmx64.efi.signed"),
    (Kind::Keys, "mmx64.efi"),
];

/// A program, and where it comes from.
#[derive(Clone, PartialEq, Eq)]
pub struct LoaderFile {
    /// Its path there.
    pub source: String,
    /// It carries a signature.
    pub is_signed: bool,
    /// What it holds.
    pub content: Arc<[u8]>,
}

impl fmt::Debug for LoaderFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({} bytes)", self.source, self.content.len())
    }
}

/// The loaders of a Linux.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UefiLoaders {
    /// The folder on an EFI system partition in which its GRUB looks for its configuration, as "/EFI/debian".
    pub folder: String,
    /// GRUB.
    pub grub: LoaderFile,
    /// What firmware with Secure Boot starts before it.
    pub shim: Option<LoaderFile>,
    /// What enrols keys.
    pub keys: Option<LoaderFile>,
}

/// Why there are none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoLoaders {
    /// There is no GRUB for UEFI.
    #[error("there is no grubx64.efi")]
    Missing,
    /// It does not start here.
    #[error("{path}: {why}")]
    Unfit {
        /// Its path.
        path: String,
        /// Why not.
        why: ProgramFault,
    },
    /// It names no folder.
    #[error("{path}: does not say in which folder it looks for its configuration")]
    NoFolder {
        /// Its path.
        path: String,
    },
}

impl UefiLoaders {
    /// Those of the Linux with this short name on `volume`. What cannot be read counts as missing: it is looked for
    /// in the next place.
    pub(super) fn on_volume(volume: &ExtVolume, id: &str) -> Result<Self, NoLoaders> {
        let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
        let id = if id.chars().all(is_plain) { id } else { "" };
        let places = PLACES.map(|(kind, path)| (kind, path.replace("{}", id)));
        Self::find(&places, |path| {
            volume.read_file(path, MAX_LOADER_BYTES).ok()?
        })
    }

    /// Those in a folder, of which `read` gives the content of a file by its name; `None` where there is none.
    ///
    /// # Errors
    ///
    /// There is no GRUB among them that starts here.
    pub fn given(read: impl FnMut(&str) -> Option<Vec<u8>>) -> Result<Self, NoLoaders> {
        Self::find(&GIVEN.map(|(kind, name)| (kind, name.to_owned())), read)
    }

    fn find(
        places: &[(Kind, String)],
        mut read: impl FnMut(&str) -> Option<Vec<u8>>,
    ) -> Result<Self, NoLoaders> {
        let mut fault = NoLoaders::Missing;
        let mut first = |wanted: Kind| {
            let mut places = places.iter().filter(|(kind, _)| *kind == wanted);
            places.find_map(|(_, path)| {
                let content = read(path).filter(|content| !content.is_empty())?;
                let image = PeImage::read(&content[..]).map_err(ProgramFault::unreadable);
                match image.and_then(|image| image.fitting(Some(EFI_APPLICATION))) {
                    Ok(image) => Some(LoaderFile {
                        source: path.clone(),
                        is_signed: image.is_signed,
                        content: content.into(),
                    }),
                    Err(why) => {
                        if wanted == Kind::Grub && fault == NoLoaders::Missing {
                            let path = path.clone();
                            fault = NoLoaders::Unfit { path, why };
                        }
                        None
                    }
                }
            })
        };
        let (grub, shim, keys) = (first(Kind::Grub), first(Kind::Shim), first(Kind::Keys));
        let grub = grub.ok_or(fault)?;
        let folder = prefix_of(&grub.content).ok_or_else(|| NoLoaders::NoFolder {
            path: grub.source.clone(),
        })?;
        Ok(Self {
            folder,
            grub,
            shim,
            keys,
        })
    }

    /// The folder's own name, as "debian".
    pub fn name(&self) -> &str {
        self.folder.rsplit('/').next().unwrap_or_default()
    }

    /// What firmware starts first of them, by the name that it gets in a folder.
    pub fn first(&self) -> &'static str {
        match self.shim {
            Some(_) => SHIM,
            None => GRUB,
        }
    }

    /// Bytes of all of them.
    pub fn len_bytes(&self) -> u64 {
        self.files()
            .map(|(_, file)| file.content.len() as u64)
            .sum()
    }

    /// The programs, by the names that they look for each other by.
    pub fn files(&self) -> impl Iterator<Item = (&'static str, &LoaderFile)> {
        let shim = self.shim.iter().map(|file| (SHIM, file));
        let keys = self.keys.iter().map(|file| (KEYS, file));
        shim.chain([(GRUB, &self.grub)]).chain(keys)
    }
}

/// The names on an EFI system partition.
pub(crate) const SHIM: &str = "shimx64.efi";
pub(crate) const GRUB: &str = "grubx64.efi";
const KEYS: &str = "mmx64.efi";
