//! The volumes of the running Windows, and the disks that they lie on.

use std::fs::{File, OpenOptions};
use std::io;
use std::os::windows::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use super::super::facts::Mounted;
use super::{SHARE_READ_AND_WRITE, ask, text_of};

/// A volume: a file system, or the place of one.
#[derive(Debug, Clone)]
pub(super) struct Volume {
    /// `\\?\Volume{…}\`.
    name: String,
    /// Where it is mounted: drive letters and folders, with a backslash at their ends.
    pub(super) paths: Vec<String>,
    /// The number of its disk; `None` where it lies on none, or on several.
    pub(super) disk: Option<u32>,
    /// Numbers of all disks with a part of it, and where on each.
    extents: Vec<(u32, u64)>,
    /// The running system lies on it.
    pub(super) is_system: bool,
}

impl Volume {
    fn named(name: String) -> Self {
        let device = PathBuf::from(name.trim_end_matches('\\'));
        let extents = ask(&device).and_then(|volume| schwelle_kernel::volume_extents(&volume));
        let extents: Vec<(u32, u64)> = extents
            .unwrap_or_default()
            .into_iter()
            .map(|(disk, first, _)| (disk, first))
            .collect();
        let system = system_volume();
        Self {
            paths: schwelle_kernel::paths_of_volume(&name),
            disk: match extents[..] {
                [(disk, _)] => Some(disk),
                _ => None,
            },
            extents,
            is_system: system.as_ref() == Some(&name),
            name,
        }
    }

    /// The volume that a folder lies on.
    pub(super) fn of_folder(folder: &Path) -> Option<Self> {
        let root = schwelle_kernel::root_of(&text_of(folder)?)?;
        schwelle_kernel::volume_at(&root).map(Self::named)
    }

    /// Its path as a device.
    pub(super) fn device(&self) -> PathBuf {
        PathBuf::from(self.name.trim_end_matches('\\'))
    }

    /// A drive letter where it has one, else its name.
    pub(super) fn shown(&self) -> String {
        self.paths.first().unwrap_or(&self.name).clone()
    }

    /// Locks it and takes its file system off, as long as the handle is open.
    pub(super) fn lock(&self) -> io::Result<File> {
        let opened = OpenOptions::new()
            .read(true)
            .write(true)
            .share_mode(SHARE_READ_AND_WRITE)
            .open(self.device())?;
        schwelle_kernel::lock_and_dismount(&opened)?;
        Ok(opened)
    }

    /// In the terms of all systems.
    pub(super) fn mounted(&self) -> Mounted {
        Mounted {
            at: self.shown(),
            is_shown: !self.paths.is_empty(),
            first_bytes: self.extents.iter().map(|(_, first)| *first).collect(),
        }
    }
}

/// The name of the volume with the running system.
fn system_volume() -> Option<String> {
    let folder = schwelle_kernel::windows_folder()?;
    schwelle_kernel::volume_at(&schwelle_kernel::root_of(&folder)?)
}

/// All volumes.
pub(super) fn all() -> Vec<Volume> {
    let names = schwelle_kernel::volumes().into_iter();
    names.map(Volume::named).collect()
}

/// The volumes with a part on the disk of this number.
pub(super) fn volumes_on(disk: u32) -> Vec<Volume> {
    let is_on = |volume: &Volume| volume.extents.iter().any(|(number, _)| *number == disk);
    all().into_iter().filter(is_on).collect()
}

/// The number of the disk that an opened volume lies on.
pub(super) fn disk_of(volume: &File) -> Option<u32> {
    let extents = schwelle_kernel::volume_extents(volume).ok()?;
    let number = schwelle_kernel::device_number(volume).ok();
    extents
        .first()
        .map(|extent| extent.0)
        .or(number.map(|(disk, _)| disk))
}

/// Takes these volumes off by `lock`, all or none; they stay so as long as what it gives is held.
/// `ResourceBusy` where one has the running system on it, or a program holds a file on it.
pub(super) fn take_off<H>(
    volumes: &[Volume],
    lock: impl Fn(&Volume) -> io::Result<H>,
) -> io::Result<Vec<H>> {
    let busy = |what: String| io::Error::new(io::ErrorKind::ResourceBusy, what);
    if let Some(system) = volumes.iter().find(|volume| volume.is_system) {
        return Err(busy(format!(
            "the running Windows lies on {}",
            system.shown()
        )));
    }
    let mut held = Vec::new();
    for volume in volumes {
        let taken =
            lock(volume).map_err(|error| busy(format!("{} is in use: {error}", volume.shown())));
        held.push(taken?);
    }
    Ok(held)
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;
    use std::collections::BTreeSet;

    use super::*;

    fn volume(letter: char) -> Volume {
        Volume {
            name: format!(r"\\?\Volume{{made-up-{letter}}}\"),
            paths: vec![format!(r"{letter}:\")],
            disk: Some(7),
            extents: vec![(7, 1 << 20)],
            is_system: letter == 'C',
        }
    }

    /// A lock that is given back when it is dropped.
    struct Lock<'a>(&'a RefCell<BTreeSet<String>>, String);

    impl Drop for Lock<'_> {
        fn drop(&mut self) {
            self.0.borrow_mut().remove(&self.1);
        }
    }

    #[test]
    fn volumes_are_taken_off_all_or_none() {
        for (letters, in_use, locked, told) in [
            ("DE", None, "D:\\E:\\", ""),
            ("DE", Some('E'), "", r"E:\ is in use"),
            ("DC", None, "", r"the running Windows lies on C:\"),
        ] {
            let volumes: Vec<Volume> = letters.chars().map(volume).collect();
            let (now, ever) = (RefCell::new(BTreeSet::new()), RefCell::new(0));
            let held = take_off(&volumes, |volume| {
                if in_use.is_some_and(|letter| volume.shown().starts_with(letter)) {
                    return Err(io::Error::from_raw_os_error(5));
                }
                now.borrow_mut().insert(volume.shown());
                *ever.borrow_mut() += 1;
                Ok(Lock(&now, volume.shown()))
            });
            let names: String = now.borrow().iter().map(String::as_str).collect();
            assert_eq!(names, locked, "{letters}, {in_use:?}");
            match &held {
                Ok(held) => assert_eq!(held.len(), letters.len()),
                Err(error) => {
                    assert_eq!(error.kind(), io::ErrorKind::ResourceBusy);
                    assert!(error.to_string().contains(told), "{error}");
                }
            }
            // Where the running system is among them, none is locked even for a moment.
            let with_system = letters.contains('C');
            assert_eq!(*ever.borrow() == 0, with_system, "{letters}");
            drop(held);
            assert!(now.borrow().is_empty(), "{letters}: still locked");
        }
    }
}
