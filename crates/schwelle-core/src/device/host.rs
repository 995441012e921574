//! What the running Linux says about a disk: whether it is a whole disk, who uses it, what it is
//! called.
//!
//! Read from sysfs and procfs (`Documentation/ABI/stable/sysfs-block`, proc(5)). Every function
//! takes the root of the file tree, "/" in life, so that tests can show it machines that are not
//! there.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// What kind of thing a path names, and who uses it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HostFacts {
    /// Real disk (or partition of one), not an image.
    pub is_block_device: bool,
    /// The disk that this device is a partition of.
    pub partition_of: Option<String>,
    /// Model as the disk says it.
    pub model: Option<String>,
    /// Serial number as the disk says it.
    pub serial: Option<String>,
    /// The kernel will not let anybody write it.
    pub read_only: bool,
    /// Who uses it: one plain phrase each, such as "sda1 is mounted at /mnt".
    pub users: Vec<String>,
}

/// What the PC runs on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PowerSource {
    /// Mains, or a PC without a battery.
    Mains,
    /// A battery, and no mains.
    Battery,
    /// Not told.
    Unknown,
}

fn text(path: impl AsRef<Path>) -> Option<String> {
    let text = fs::read_to_string(path).ok()?;
    let text = text.trim();
    (!text.is_empty()).then(|| text.to_owned())
}

fn names_in(folder: impl AsRef<Path>) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(folder)
        .into_iter()
        .flatten()
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .collect();
    names.sort();
    names
}

/// The facts about `path`, a block device or an image.
pub fn host_facts(root: &Path, path: &Path, is_block_device: bool) -> HostFacts {
    let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    if !is_block_device {
        return HostFacts {
            users: loops_on(root, &path),
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
    let mut users = Vec::new();
    let parts = names_in(&sys)
        .into_iter()
        .filter(|part| sys.join(part).join("partition").exists());
    for device in std::iter::once(name.to_owned()).chain(parts) {
        users_of(root, &device, &mut users);
    }
    users.extend(loops_on(root, &path));
    HostFacts {
        is_block_device,
        partition_of,
        model: text(sys.join("device/model")),
        serial: text(sys.join("device/serial")),
        read_only: text(sys.join("ro")).is_some_and(|ro| ro == "1"),
        users,
    }
}

fn users_of(root: &Path, device: &str, users: &mut Vec<String>) {
    let sys = root.join("sys/class/block").join(device);
    for holder in names_in(sys.join("holders")) {
        users.push(format!("{device} is held by {holder}"));
    }
    if let Some(number) = text(sys.join("dev")) {
        let mounts = fs::read_to_string(root.join("proc/self/mountinfo")).unwrap_or_default();
        for line in mounts.lines() {
            let mut fields = line.split(' ').skip(2);
            if fields.next() == Some(&number) {
                users.push(format!(
                    "{device} is mounted at {}",
                    fields.nth(1).unwrap_or("?")
                ));
            }
        }
    }
    let swaps = fs::read_to_string(root.join("proc/swaps")).unwrap_or_default();
    if swaps
        .lines()
        .any(|line| line.split_whitespace().next() == Some(&format!("/dev/{device}")))
    {
        users.push(format!("{device} is used as swap"));
    }
}

fn loops_on(root: &Path, image: &Path) -> Vec<String> {
    let block = root.join("sys/class/block");
    let on_image = |name: &String| {
        text(block.join(name).join("loop/backing_file"))
            .is_some_and(|file| Path::new(&file) == image)
    };
    let attached = names_in(&block).into_iter().filter(on_image);
    attached
        .map(|name| format!("attached as /dev/{name}"))
        .collect()
}

/// The whole disks of this PC: their device paths. Loop, RAM and optical devices, and those put
/// together from others, are left out.
pub fn disk_names(root: &Path) -> Vec<PathBuf> {
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

/// The device path of the disk a folder lies on, where the kernel tells.
pub fn disk_of_path(root: &Path, folder: &Path) -> Option<PathBuf> {
    let device = fs::metadata(folder).ok()?.dev();
    let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
    let sys = fs::canonicalize(root.join(format!("sys/dev/block/{major}:{minor}"))).ok()?;
    let disk = if sys.join("partition").exists() {
        sys.parent()?
    } else {
        &sys
    };
    Some(Path::new("/dev").join(disk.file_name()?))
}

/// Who holds a lock on `path` (`/proc/locks`, proc(5)): the program's name and process.
pub(super) fn lock_holder(root: &Path, path: &Path) -> Option<String> {
    let file = fs::metadata(path).ok()?;
    let device = file.dev();
    let wanted = format!(
        "{:02x}:{:02x}:{}",
        rustix::fs::major(device),
        rustix::fs::minor(device),
        file.ino()
    );
    let locks = fs::read_to_string(root.join("proc/locks")).ok()?;
    let process = locks.lines().find_map(|line| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let at = fields.iter().position(|field| *field == wanted)?;
        fields.get(at.checked_sub(1)?).copied()
    })?;
    let name = text(root.join("proc").join(process).join("comm"));
    let name = name.unwrap_or_else(|| "another program".to_owned());
    Some(format!("{name} (process {process})"))
}

/// True when what is written below `folder` is lost with the power: a file system in memory
/// (magic numbers of statfs(2)). `None` where the nearest folder that is there does not tell.
pub fn is_in_memory(folder: &Path) -> Option<bool> {
    const TMPFS: u64 = 0x0102_1994;
    const RAMFS: u64 = 0x8584_58F6;
    // What is written to a live system's overlay is in memory as a rule, but not always.
    const OVERLAY: u64 = 0x794C_7630;
    let there = folder.ancestors().find(|path| path.exists());
    let there = there.filter(|path| !path.as_os_str().is_empty());
    let found = rustix::fs::statfs(there.unwrap_or(Path::new("."))).ok()?;
    match u64::try_from(found.f_type).ok()? {
        TMPFS | RAMFS => Some(true),
        OVERLAY => None,
        _ => Some(false),
    }
}

/// What the PC runs on.
pub fn power_source(root: &Path) -> PowerSource {
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
        // A PC without any supply listed is a desktop, or a machine that does not tell.
        (false, false) => PowerSource::Unknown,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn put(root: &Path, files: &[(&str, &str)]) {
        for (path, content) in files {
            let path = root.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
    }

    #[test]
    fn users_of_a_disk_and_its_partitions_are_named() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        put(
            root,
            &[
                ("sys/class/block/sdx/dev", "8:0\n"),
                ("sys/class/block/sdx/ro", "1\n"),
                ("sys/class/block/sdx/device/model", "MADE UP DISK \n"),
                ("sys/class/block/sdx/sdx1/partition", "1\n"),
                ("sys/class/block/sdx1/dev", "8:1\n"),
                ("sys/class/block/sdx1/holders/dm-0/x", ""),
                (
                    "proc/self/mountinfo",
                    "30 1 8:1 / /mnt/data rw - ntfs /dev/sdx1 rw\n31 1 8:17 / /x rw - a b c\n",
                ),
                ("proc/swaps", "Filename Type\n/dev/sdx partition 1\n"),
            ],
        );
        let facts = host_facts(root, Path::new("/dev/sdx"), true);
        assert_eq!(
            facts.users,
            [
                "sdx is used as swap",
                "sdx1 is held by dm-0",
                "sdx1 is mounted at /mnt/data"
            ]
        );
        assert_eq!(
            (facts.model.as_deref(), facts.read_only),
            (Some("MADE UP DISK"), true)
        );
        assert_eq!(facts.partition_of, None);
        put(root, &[("sys/class/block/sdx1/partition", "1\n")]);
        assert!(
            host_facts(root, Path::new("/dev/sdx1"), true)
                .partition_of
                .is_some()
        );
    }

    #[test]
    fn the_disk_below_a_folder_is_found_by_its_number() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        assert_eq!(disk_of_path(root, root), None, "not told");
        put(
            root,
            &[
                ("sys/devices/block/sdx/sdx1/partition", "1\n"),
                ("sys/devices/block/sdy/size", "9\n"),
            ],
        );
        let device = fs::metadata(root).unwrap().dev();
        let number = format!(
            "{}:{}",
            rustix::fs::major(device),
            rustix::fs::minor(device)
        );
        let link = root.join("sys/dev/block").join(number);
        fs::create_dir_all(link.parent().unwrap()).unwrap();
        for (target, disk) in [("sdx/sdx1", "/dev/sdx"), ("sdy", "/dev/sdy")] {
            std::os::unix::fs::symlink(root.join("sys/devices/block").join(target), &link).unwrap();
            assert_eq!(disk_of_path(root, root), Some(PathBuf::from(disk)));
            fs::remove_file(&link).unwrap();
        }
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
            ["attached as /dev/loop3"]
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
