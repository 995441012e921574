//! A folder that is held by its handle: names in it are looked up from there (openat(2)), so that neither a renamed folder
//! nor a link in its path or its files leads elsewhere.

use std::fs::{self, DirBuilder, File};
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::Path;

use rustix::fs::{Dir, Mode, OFlags};
use rustix::io::Errno;

use super::HeldFolder;

/// Modes of what this user alone can read.
const PRIVATE_FOLDER: u32 = 0o700;
const PRIVATE_FILE: u32 = 0o600;

/// The folder's handle.
#[derive(Debug)]
pub(super) struct Held(File);

impl Held {
    /// Holds a folder. The path itself may have links in it: it was named by the user.
    pub(super) fn open(folder: &Path) -> io::Result<Self> {
        Self::open_with(folder, OFlags::empty())
    }

    fn open_with(folder: &Path, more: OFlags) -> io::Result<Self> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC | more;
        Ok(Self(rustix::fs::open(folder, flags, Mode::empty())?.into()))
    }

    /// Makes it, or takes one that is there, and makes it this user's alone.
    pub(super) fn make(folder: &Path) -> io::Result<Self> {
        let made = match DirBuilder::new().mode(PRIVATE_FOLDER).create(folder) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => false,
            made => made.map(|()| true)?,
        };
        // A link may lead to somebody else's folder.
        let held =
            Self::open_with(folder, OFlags::NOFOLLOW).map_err(
                |error| match fs::symlink_metadata(folder) {
                    Ok(found) if found.is_symlink() => io::Error::other("it is a link"),
                    _ => error,
                },
            )?;
        // A folder with content is refused by the caller, and left as it is.
        if !made && !held.is_empty()? {
            return Ok(held);
        }
        let us = rustix::process::geteuid();
        // Where the file system keeps neither owners nor modes, or this user may not change them, both are refused or of
        // no use; others_can_read says so.
        if held.0.metadata()?.uid() != us.as_raw() {
            let _changed = rustix::fs::fchown(&held.0, Some(us), None);
        }
        let _changed = rustix::fs::fchmod(&held.0, Mode::from_raw_mode(PRIVATE_FOLDER));
        Ok(held)
    }

    fn file(&self, name: &str, flags: OFlags) -> io::Result<File> {
        // A pipe would wait for its other end.
        let flags = flags | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
        let mode = Mode::from_raw_mode(PRIVATE_FILE);
        let file: File = match rustix::fs::openat(&self.0, name, flags, mode) {
            Err(Errno::LOOP) => return Err(io::Error::other("it is a link")),
            opened => opened?.into(),
        };
        let found = file.metadata()?;
        if !found.is_file() {
            return Err(io::Error::other("it is no regular file"));
        }
        // Under its other name it may be anybody's file, which is not written through this one.
        if flags.contains(OFlags::RDWR) && found.nlink() > 1 && counts_links_alone(&file)? {
            return Err(io::Error::other("it has more than one name"));
        }
        Ok(file)
    }
}

/// True if the number of names that the file system tells is that of links. NTFS counts the short names that Windows gives
/// as well.
fn counts_links_alone(file: &File) -> io::Result<bool> {
    // What fstatfs(2) says of ntfs-3g, which is a file system in user space, and of the kernel's two drivers.
    const NTFS: [i128; 3] = [0x6573_5546, 0x7366_746E, 0x5346_544E];
    let found = rustix::fs::fstatfs(file)?;
    Ok(!NTFS.contains(&i128::from(found.f_type)))
}

impl HeldFolder for Held {
    fn is_empty(&self) -> io::Result<bool> {
        for entry in Dir::read_from(&self.0)? {
            if !matches!(entry?.file_name().to_bytes(), b"." | b"..") {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn open(&self, name: &str, write: bool) -> io::Result<File> {
        let access = if write { OFlags::RDWR } else { OFlags::RDONLY };
        self.file(name, access)
    }

    fn create(&self, name: &str) -> io::Result<File> {
        let file = self.file(name, OFlags::RDWR | OFlags::CREATE)?;
        // Only now: what is refused keeps its content.
        file.set_len(0)?;
        Ok(file)
    }

    fn sync_names(&self) -> io::Result<()> {
        self.0.sync_all()
    }

    fn sync_medium(&self) -> io::Result<()> {
        Ok(rustix::fs::syncfs(&self.0)?)
    }

    fn is_at(&self, path: &Path) -> io::Result<bool> {
        let (held, found) = (self.0.metadata()?, fs::metadata(path)?);
        Ok((held.dev(), held.ino()) == (found.dev(), found.ino()))
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;
    use std::os::unix::fs::{PermissionsExt, symlink};

    use super::*;

    #[test]
    fn files_are_found_in_the_folder_whatever_becomes_of_its_path() {
        let dir = tempfile::tempdir().unwrap();
        let (job, moved, others) = (
            dir.path().join("job"),
            dir.path().join("moved"),
            dir.path().join("others"),
        );
        fs::create_dir(&others).unwrap();
        let held = Held::make(&job).unwrap();
        assert!(held.is_empty().unwrap());
        fs::rename(&job, &moved).unwrap();
        symlink(&others, &job).unwrap();
        let mut made = held.create("state").unwrap();
        made.write_all(b"whole").unwrap();
        held.sync_names().unwrap();
        assert!(!held.is_empty().unwrap());
        assert_eq!(fs::read(moved.join("state")).unwrap(), b"whole");
        assert!(!others.join("state").exists());
        assert_eq!(
            fs::metadata(moved.join("state")).unwrap().mode() & 0o777,
            PRIVATE_FILE
        );
    }

    #[test]
    fn what_is_no_regular_file_is_neither_followed_nor_emptied_nor_waited_for() {
        let dir = tempfile::tempdir().unwrap();
        let victim = dir.path().join("victim");
        fs::write(&victim, "precious").unwrap();
        let held = Held::make(&dir.path().join("job")).unwrap();
        let at = |name: &str| dir.path().join("job").join(name);
        symlink(&victim, at("link")).unwrap();
        symlink("nowhere", at("dangling")).unwrap();
        fs::create_dir(at("folder")).unwrap();
        rustix::fs::mkfifoat(rustix::fs::CWD, at("pipe"), Mode::RWXU).unwrap();
        fs::hard_link(&victim, at("second name")).unwrap();
        assert!(held.open("second name", true).is_err());
        assert!(held.create("second name").is_err());
        for name in ["link", "dangling", "folder", "pipe"] {
            for opened in [
                held.open(name, false),
                held.open(name, true),
                held.create(name),
            ] {
                let error = opened.unwrap_err();
                assert_ne!(error.kind(), io::ErrorKind::NotFound, "{name}: {error}");
            }
        }
        assert_eq!(fs::read(&victim).unwrap(), b"precious");
        assert!(!dir.path().join("job/nowhere").exists());
        let none = held.open("none", false).unwrap_err();
        assert_eq!(none.kind(), io::ErrorKind::NotFound);
    }

    #[test]
    fn a_folder_that_is_there_becomes_this_users_alone() {
        let dir = tempfile::tempdir().unwrap();
        let job = dir.path().join("job");
        fs::create_dir(&job).unwrap();
        fs::set_permissions(&job, fs::Permissions::from_mode(0o777)).unwrap();
        let held = Held::make(&job).unwrap();
        assert_eq!(held.0.metadata().unwrap().mode() & 0o777, PRIVATE_FOLDER);
    }
}
