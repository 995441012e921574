//! What a folder lies on.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use rustix::fs::StatVfsMountFlags;

use super::super::facts::FolderFacts;
use super::super::nearest;
use super::mounts::{Mount, mounts};
use super::{number_of, text};

/// Loop devices and overlays below a folder that are followed, at most.
const MAX_DEPTH: u32 = 4;

/// The facts about a folder.
pub(super) fn folder_facts(root: &Path, folder: &Path) -> FolderFacts {
    let there = nearest(folder);
    let space = rustix::fs::statvfs(&there).ok();
    let mount = mount_of(root, &there);
    FolderFacts {
        in_memory: is_in_memory(root, &there, MAX_DEPTH),
        read_only: space
            .as_ref()
            .is_some_and(|space| space.f_flag.contains(StatVfsMountFlags::RDONLY)),
        free_bytes: space
            .as_ref()
            .map(|space| space.f_bavail.saturating_mul(space.f_frsize)),
        block_bytes: space.map_or(0, |space| space.f_frsize),
        may_need_repair: mount.is_some_and(|mount| is_without_journal(&mount.file_system)),
        disk: disk_of_path(root, &there),
    }
}

/// True for the drivers that write NTFS without its journal, by the names in the table of mounts: the one in user space
/// (ntfs-3g, as `fuseblk`) and the kernel's own. Seen of the first: cut off while a file is added, it leaves the two
/// copies of the MFT's first record different, and mounts no such volume.
fn is_without_journal(file_system: &str) -> bool {
    matches!(file_system, "fuseblk" | "ntfs3" | "ntfs")
}

/// The mount that a path lies in: of those with its device number, the one nearest to it.
fn mount_of(root: &Path, path: &Path) -> Option<Mount> {
    let device = fs::metadata(path).ok()?.dev();
    let number = number_of(device);
    let path = fs::canonicalize(path).ok()?;
    let all = mounts(root).ok()?.into_iter();
    all.filter(|mount| mount.number == number && path.starts_with(&mount.at))
        .max_by_key(|mount| mount.at.as_os_str().len())
}

/// True when what is written below `path` is lost with the power: a file system in memory (magic numbers
/// of statfs(2)), or one on a device in memory.
fn is_in_memory(root: &Path, path: &Path, depth: u32) -> Option<bool> {
    const TMPFS: u64 = 0x0102_1994;
    const RAMFS: u64 = 0x8584_58F6;
    const OVERLAY: u64 = 0x794C_7630;
    let depth = depth.checked_sub(1)?;
    let found = rustix::fs::statfs(path).ok()?;
    match u64::try_from(found.f_type).ok()? {
        TMPFS | RAMFS => Some(true),
        // A live system's root: where its upper folder lies counts, if that can be seen from here.
        OVERLAY => {
            let upper = mount_of(root, path)?.option("upperdir")?;
            let upper = Path::new(&upper).exists().then_some(upper)?;
            is_in_memory(root, Path::new(&upper), depth)
        }
        _ => {
            let Some(disk) = disk_of_path(root, path) else {
                return Some(false);
            };
            let name = disk.file_name()?.to_str()?;
            if name.starts_with("ram") || name.starts_with("zram") {
                return Some(true);
            }
            let sys = root.join("sys/class/block").join(name);
            match text(sys.join("loop/backing_file")) {
                Some(file) => is_in_memory(root, &nearest(Path::new(&file)), depth),
                None => Some(false),
            }
        }
    }
}

/// True when two folders have the same device number.
pub(super) fn is_one_medium(a: &Path, b: &Path) -> bool {
    let device = |path: &Path| fs::metadata(path).map(|found| found.dev()).ok();
    device(a) == device(b)
}

/// The device path of the disk a folder lies on, where the kernel tells.
fn disk_of_path(root: &Path, folder: &Path) -> Option<PathBuf> {
    let device = fs::metadata(folder).ok()?.dev();
    let sys = root.join("sys/dev/block").join(number_of(device));
    let sys = fs::canonicalize(sys).ok()?;
    let disk = if sys.join("partition").exists() {
        sys.parent()?
    } else {
        &sys
    };
    Some(Path::new("/dev").join(disk.file_name()?))
}

#[cfg(test)]
mod tests {
    use super::super::tests::put;
    use super::*;

    #[test]
    fn the_disk_below_a_folder_is_found_by_its_number() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        assert_eq!(disk_of_path(root, root), None, "not reported");
        put(
            root,
            &[
                ("sys/devices/block/sdx/sdx1/partition", "1\n"),
                ("sys/devices/block/sdy/size", "9\n"),
            ],
        );
        let device = fs::metadata(root).unwrap().dev();
        let number = number_of(device);
        let link = root.join("sys/dev/block").join(number);
        fs::create_dir_all(link.parent().unwrap()).unwrap();
        for (target, disk) in [("sdx/sdx1", "/dev/sdx"), ("sdy", "/dev/sdy")] {
            std::os::unix::fs::symlink(root.join("sys/devices/block").join(target), &link).unwrap();
            assert_eq!(disk_of_path(root, root), Some(PathBuf::from(disk)));
            fs::remove_file(&link).unwrap();
        }
    }

    #[test]
    fn ntfs_may_need_a_repair() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        let number = number_of(fs::metadata(root).unwrap().dev());
        for (file_system, expected) in [
            ("fuseblk", true),
            ("ntfs3", true),
            ("ext4", false),
            ("vfat", false),
        ] {
            let line = format!("9 1 {number} / / rw - {file_system} /dev/sdx1 rw\n");
            put(root, &[("proc/self/mountinfo", &line)]);
            assert_eq!(
                folder_facts(root, root).may_need_repair,
                expected,
                "{file_system}"
            );
        }
    }

    #[test]
    fn a_folder_on_a_device_in_memory_is_in_memory() {
        // This folder as one on a compressed device in memory, and on a loop device over a file there.
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        let device = fs::metadata(root).unwrap().dev();
        let number = number_of(device);
        let link = root.join("sys/dev/block").join(number);
        fs::create_dir_all(link.parent().unwrap()).unwrap();
        put(
            root,
            &[
                ("sys/class/block/zram0/size", "9"),
                ("sys/class/block/sdx/size", "9"),
                ("sys/class/block/loop5/loop/backing_file", "/dev/shm/none\n"),
            ],
        );
        let in_shared_memory = is_in_memory(Path::new("/"), Path::new("/dev/shm"), 1);
        for (name, expected) in [
            ("zram0", Some(true)),
            ("sdx", Some(false)),
            ("loop5", in_shared_memory),
        ] {
            std::os::unix::fs::symlink(root.join("sys/class/block").join(name), &link).unwrap();
            assert_eq!(folder_facts(root, root).in_memory, expected, "{name}");
            fs::remove_file(&link).unwrap();
        }
    }
}
