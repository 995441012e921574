//! What the running Linux says about a disk: whether it is a whole disk, who uses it, what it is
//! called.
//!
//! Read from sysfs and procfs (`Documentation/ABI/stable/sysfs-block`, proc(5)). Every function
//! takes the root of the file tree, "/" in life, so that tests can show it machines that are not
//! there.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use super::super::facts::{HostFacts, PowerSource};
use super::{identity, mounts, names_in, text, users};

/// The facts about `path`, a block device or an image.
pub(super) fn host_facts(root: &Path, path: &Path, is_block_device: bool) -> HostFacts {
    let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    if !is_block_device {
        return HostFacts {
            users: users::loops_on(root, &path),
            ..HostFacts::default()
        };
    }
    let Some(name) = path.file_name().and_then(|name| name.to_str()) else {
        return HostFacts {
            is_block_device,
            ..HostFacts::default()
        };
    };
    let sys = root.join("sys/class/block").join(name);
    let partition_of = sys.join("partition").exists().then(|| {
        fs::canonicalize(&sys)
            .ok()
            .and_then(|real| Some(real.parent()?.file_name()?.to_str()?.to_owned()))
            .unwrap_or_else(|| "another disk".to_owned())
    });
    let parts = names_in(&sys)
        .into_iter()
        .filter(|part| sys.join(part).join("partition").exists());
    let devices: Vec<String> = std::iter::once(name.to_owned()).chain(parts).collect();
    let identity = identity::identity(root, name);
    HostFacts {
        is_block_device,
        partition_of,
        bus: identity.bus,
        model: identity.model,
        serial: identity.serial,
        stable_names: identity.stable,
        read_only: text(sys.join("ro")).is_some_and(|ro| ro == "1"),
        users: users::users_of(root, &devices),
        mounted: Vec::new(),
        changed_meanwhile: false,
    }
}

/// Where local file systems are mounted that may hold a job folder: those on block devices, in user space,
/// and in memory.
///
/// # Errors
///
/// The kernel's list of mounts cannot be read.
pub(super) fn mounted_folders(root: &Path) -> io::Result<Vec<PathBuf>> {
    const READ_ONLY: [&str; 4] = ["squashfs", "iso9660", "udf", "erofs"];
    let holds_files = |mount: &mounts::Mount| {
        let kind = mount.file_system.as_str();
        let in_memory = matches!(kind, "tmpfs" | "rootfs" | "overlay");
        let on_device = mount.source.starts_with("/dev/") || kind.starts_with("fuse");
        (in_memory || on_device) && !READ_ONLY.contains(&kind)
    };
    let mut folders: Vec<PathBuf> = mounts::mounts(root)?
        .into_iter()
        .filter(holds_files)
        .map(|mount| mount.at)
        .collect();
    folders.dedup();
    Ok(folders)
}

/// The whole disks of this PC: their device paths. Loop, RAM and optical devices, and those put
/// together from others, are left out.
pub(super) fn disk_names(root: &Path) -> Vec<PathBuf> {
    const NOT_DISKS: [&str; 8] = ["loop", "ram", "zram", "sr", "fd", "dm-", "md", "nbd"];
    names_in(root.join("sys/block"))
        .into_iter()
        .filter(|name| !NOT_DISKS.iter().any(|prefix| name.starts_with(prefix)))
        .filter(|name| {
            text(root.join("sys/block").join(name).join("size")).is_some_and(|size| size != "0")
        })
        .map(|name| Path::new("/dev").join(name))
        .collect()
}

/// What the PC runs on.
pub(super) fn power_source(root: &Path) -> PowerSource {
    let supplies = root.join("sys/class/power_supply");
    let (mut battery, mut mains) = (false, false);
    for name in names_in(&supplies) {
        match text(supplies.join(&name).join("type")).as_deref() {
            Some("Battery") => battery = true,
            Some(_) => {
                mains |=
                    text(supplies.join(&name).join("online")).is_some_and(|online| online != "0");
            }
            None => {}
        }
    }
    match (mains, battery) {
        (true, _) => PowerSource::Mains,
        (false, true) => PowerSource::Battery,
        // A PC without any supply listed is a desktop, or a machine that does not say.
        (false, false) => PowerSource::Unknown,
    }
}

#[cfg(test)]
mod tests {
    use super::super::super::facts::User;
    use super::super::tests::put;
    use super::*;

    #[test]
    fn a_disk_is_told_from_a_partition() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        put(
            root,
            &[
                ("sys/class/block/sdx/ro", "1\n"),
                ("sys/class/block/sdx/sdx1/partition", "1\n"),
            ],
        );
        let facts = host_facts(root, Path::new("/dev/sdx"), true);
        assert_eq!((facts.read_only, &facts.partition_of), (true, &None));
        put(root, &[("sys/class/block/sdx1/partition", "1\n")]);
        let facts = host_facts(root, Path::new("/dev/sdx1"), true);
        assert!(facts.partition_of.is_some());
    }

    #[test]
    fn only_whole_disks_of_some_size_are_listed() {
        let dir = tempfile::tempdir().unwrap();
        for (name, size) in [
            ("sda", "100"),
            ("nvme0n1", "100"),
            ("sdb", "0"),
            ("loop0", "8"),
            ("dm-0", "8"),
            ("zram0", "8"),
        ] {
            put(dir.path(), &[(&format!("sys/block/{name}/size"), size)]);
        }
        assert_eq!(
            disk_names(dir.path()),
            [Path::new("/dev/nvme0n1"), Path::new("/dev/sda")]
        );
    }

    #[test]
    fn an_image_attached_to_a_loop_device_is_in_use() {
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("disk.img");
        fs::write(&image, "x").unwrap();
        let image = fs::canonicalize(&image).unwrap();
        assert!(host_facts(dir.path(), &image, false).users.is_empty());
        put(
            dir.path(),
            &[(
                "sys/class/block/loop3/loop/backing_file",
                &format!("{}\n", image.display()),
            )],
        );
        assert_eq!(
            host_facts(dir.path(), &image, false).users,
            [User::Attached {
                device: None,
                as_device: "loop3".to_owned(),
            }]
        );
    }

    #[test]
    fn power_is_told_from_the_supplies() {
        for (files, expected) in [
            (vec![], PowerSource::Unknown),
            (
                vec![("sys/class/power_supply/BAT0/type", "Battery")],
                PowerSource::Battery,
            ),
            (
                vec![
                    ("sys/class/power_supply/BAT0/type", "Battery"),
                    ("sys/class/power_supply/AC/type", "Mains"),
                    ("sys/class/power_supply/AC/online", "1"),
                ],
                PowerSource::Mains,
            ),
        ] {
            let dir = tempfile::tempdir().unwrap();
            put(dir.path(), &files);
            assert_eq!(power_source(dir.path()), expected);
        }
    }
}
