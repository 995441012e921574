//! GRUB for UEFI: the folder that an image looks for its configuration in, and the lines that lead on from there.

use uuid::Uuid;

use crate::bytes::{u32_at, u64_at};

use super::menu::{Menu, Place};

/// Before the modules of an image stands what they are ("mimg"), where the first one lies from there, and how many bytes
/// they are (`include/grub/kernel.h`, `grub_module_info64`).
const MODULES: &[u8] = b"mimg";
const MODULES_HEAD: usize = 24;
/// Each has a kind and its size, with that (`grub_module_header`); of this kind is the prefix.
const MODULE_HEAD: usize = 8;
const PREFIX: u32 = 3;
/// Modules of an image, at most.
const MAX_MODULES: usize = 1024;
/// Places with the bytes of that signature that are looked at, at most.
const MAX_PLACES: usize = 16;
/// A prefix is a path of some folders.
const MAX_PREFIX_BYTES: usize = 256;

/// The folder on the volume that an image was started from in which it looks for `grub.cfg`, as "/EFI/debian". `None`
/// where it has none, or one on a device that it names.
pub fn prefix_of(image: &[u8]) -> Option<String> {
    let mut places = image
        .windows(MODULES.len())
        .enumerate()
        .filter(|(_, bytes)| *bytes == MODULES)
        .map(|(at, _)| at)
        .take(MAX_PLACES);
    places.find_map(|at| prefix_in(image.get(at..)?))
}

/// The prefix among the modules that begin here.
fn prefix_in(modules: &[u8]) -> Option<String> {
    let offset = usize::try_from(u64_at(modules, 8)?).ok()?;
    let size = usize::try_from(u64_at(modules, 16)?).ok()?;
    let modules = modules.get(..size)?;
    let mut at = offset.max(MODULES_HEAD);
    for _ in 0..MAX_MODULES {
        let (kind, len) = (u32_at(modules, at)?, u32_at(modules, at.checked_add(4)?)?);
        let end = at.checked_add(usize::try_from(len).ok()?)?;
        if kind == PREFIX {
            let text = modules.get(at.checked_add(MODULE_HEAD)?..end)?;
            let text = text.split(|&byte| byte == 0).next()?;
            let text = std::str::from_utf8(text.get(..MAX_PREFIX_BYTES.min(text.len()))?).ok()?;
            return is_folder(text).then(|| text.to_owned());
        }
        if end <= at {
            return None;
        }
        at = end;
    }
    None
}

/// A path of plain names, from the root on.
fn is_folder(path: &str) -> bool {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "/-_.".contains(c);
    path.starts_with('/') && path.len() > 1 && path.chars().all(is_plain) && !path.contains("..")
}

/// A `grub.cfg` on the EFI system partition that leads to the one on a system's own volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lead {
    /// UUID of the file system, as written.
    pub uuid: String,
    /// The folder on it, as "/boot/grub".
    pub folder: String,
}

impl Lead {
    /// To this folder of the file system with this UUID.
    pub fn to(uuid: Uuid, folder: &str) -> Self {
        Self {
            uuid: uuid.to_string(),
            folder: folder.to_owned(),
        }
    }

    /// The lines, as the distributions write them.
    pub fn write(&self) -> String {
        let Self { uuid, folder } = self;
        format!(
            "search.fs_uuid {uuid} root\nset prefix=($root)'{folder}'\nconfigfile $prefix/grub.cfg\n"
        )
    }

    /// Reads such lines; `None` where they lead nowhere by a UUID.
    pub fn parse(text: &str) -> Option<Self> {
        let Place { uuid, .. } = Menu::parse(text).root;
        let mut folders = text.lines().filter_map(|line| {
            let (_, folder) = line.trim().strip_prefix("set prefix=")?.split_once(')')?;
            Some(folder.trim_matches(['\'', '"']).to_owned())
        });
        Some(Self {
            uuid: uuid?,
            folder: folders.next()?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn image(modules: &[(u32, &[u8])]) -> Vec<u8> {
        let mut body = Vec::new();
        for (kind, content) in modules {
            let len = u32::try_from(content.len() + MODULE_HEAD).unwrap();
            body.extend([kind.to_le_bytes(), len.to_le_bytes()].concat());
            body.extend(*content);
        }
        let size = (MODULES_HEAD + body.len()) as u64;
        let head = [MODULES, &[0; 4], &24_u64.to_le_bytes(), &size.to_le_bytes()].concat();
        [vec![0x90; 1000], head, body, vec![0; 64]].concat()
    }

    #[test]
    fn the_folder_is_that_of_the_prefix() {
        let found = image(&[
            (0, b"code"),
            (2, b"normal\0\0"),
            (PREFIX, b"/EFI/boje\0\0\0"),
        ]);
        assert_eq!(prefix_of(&found).as_deref(), Some("/EFI/boje"));
        for modules in [
            &[(0_u32, &b"code"[..])][..],
            &[(PREFIX, b"(hd0)/x\0")],
            &[(PREFIX, b"/EFI/../x\0")],
            &[(PREFIX, b"/\0")],
        ] {
            assert_eq!(prefix_of(&image(modules)), None);
        }
        let mut cut = found;
        cut.truncate(1040);
        assert_eq!(prefix_of(&cut), None);
    }

    #[test]
    fn lines_that_lead_on_are_read_as_they_are_written_by_either() {
        let lead = Lead::to(Uuid::from_u128(7), "/boot/grub");
        assert_eq!(Lead::parse(&lead.write()), Some(lead));
        let theirs = "search.fs_uuid aa-bb root hd0,gpt2 \nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n";
        let read = Lead::parse(theirs).unwrap();
        assert_eq!(
            (read.uuid.as_str(), read.folder.as_str()),
            ("aa-bb", "/boot/grub")
        );
        assert_eq!(Lead::parse("configfile /grub.cfg"), None);
    }
}
