//! Who uses a disk or a partition of it.

use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::super::facts::{Process, User};
use super::mounts::{all_mounts, list_of_mounts};
use super::{names_in, number_of, text};

/// Open files of a process that are looked at, at most.
const MAX_FILES: usize = 65_536;

/// Who uses one of these devices (names in sysfs). A place that would tell and cannot be read is a user as well: it is
/// unknown then whether something uses the disk.
pub(super) fn users_of(root: &Path, devices: &[String]) -> Vec<User> {
    let block = root.join("sys/class/block");
    let path_of = |device: &String| format!("/dev/{device}");
    let mut users = Vec::new();
    let mut numbers: Vec<(String, &String)> = Vec::new();
    for device in devices {
        let place = block.join(device).join("dev");
        match or_absent(fs::read_to_string(&place)) {
            Ok(number) => numbers.extend(number.map(|number| (number.trim().to_owned(), device))),
            Err(error) => users.push(unknown(place, error)),
        }
    }
    for device in devices {
        let place = block.join(device).join("holders");
        match or_absent(names_listed(&place)) {
            Ok(holders) => users.extend(holders.into_iter().flatten().map(|by| User::Held {
                device: device.clone(),
                by,
            })),
            Err(error) => users.push(unknown(place, error)),
        }
    }
    let mounts = all_mounts(root).unwrap_or_else(|error| {
        users.push(unknown(list_of_mounts(root), error));
        Vec::new()
    });
    for mount in mounts {
        // A file system in user space may have a number of its own, and the device as its source.
        let by_number = numbers.iter().find(|(number, _)| *number == mount.number);
        let by_source = || {
            devices
                .iter()
                .find(|device| path_of(device) == mount.source)
        };
        let Some(device) = by_number.map(|(_, device)| *device).or_else(by_source) else {
            continue;
        };
        users.push(User::Mounted {
            device: device.clone(),
            at: mount.at,
            seen_by: mount.process.map(|process| named(root, &process)),
        });
    }
    // A kernel without swap has no such list.
    let place = root.join("proc/swaps");
    let swaps = or_absent(fs::read_to_string(&place)).unwrap_or_else(|error| {
        users.push(unknown(place, error));
        None
    });
    for line in swaps.unwrap_or_default().lines() {
        let name = line.split_whitespace().next().unwrap_or_default();
        let device = devices.iter().find(|device| path_of(device) == name);
        users.extend(device.map(|device| User::Swap {
            device: device.clone(),
        }));
    }
    for device in devices {
        users.extend(loops_on(root, Path::new(&path_of(device))));
    }
    match open_handles(root, &numbers) {
        Ok(handles) => users.extend(handles),
        Err(error) => users.push(unknown(root.join("proc"), error)),
    }
    users
}

fn unknown(place: PathBuf, error: io::Error) -> User {
    let fault = error.into();
    User::Unknown { place, fault }
}

/// What a place holds; `None` if it is not there.
fn or_absent<T>(found: io::Result<T>) -> io::Result<Option<T>> {
    match found {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        found => found.map(Some),
    }
}

/// The names in a folder.
fn names_listed(folder: &Path) -> io::Result<Vec<String>> {
    let mut names = Vec::new();
    for entry in fs::read_dir(folder)? {
        names.extend(entry?.file_name().into_string());
    }
    names.sort();
    Ok(names)
}

/// Loop devices on an image, or on a block device.
pub(super) fn loops_on(root: &Path, image: &Path) -> Vec<User> {
    let block = root.join("sys/class/block");
    let on_image = |name: &String| {
        text(block.join(name).join("loop/backing_file"))
            .is_some_and(|file| Path::new(&file) == image)
    };
    let attached = names_in(&block).into_iter().filter(on_image);
    attached
        .map(|as_device| {
            let is_device = image.parent() == Some(Path::new("/dev"));
            let device = image.file_name().filter(|_| is_device);
            User::Attached {
                device: device.map(|name| name.to_string_lossy().into_owned()),
                as_device,
            }
        })
        .collect()
}

/// Programs that have one of the devices open. Programs of other users are shown to root only.
///
/// # Errors
///
/// The list of processes cannot be read.
fn open_handles(root: &Path, numbers: &[(String, &String)]) -> io::Result<Vec<User>> {
    let mut users = Vec::new();
    let own = std::process::id().to_string();
    for process in names_listed(&root.join("proc"))? {
        if !process.starts_with(|first: char| first.is_ascii_digit()) || process == own {
            continue;
        }
        let files = fs::read_dir(root.join("proc").join(&process).join("fd"));
        for file in files.into_iter().flatten().take(MAX_FILES).flatten() {
            // The link is looked at first: following one to a dead network drive would hang.
            let is_device = fs::read_link(file.path()).is_ok_and(|to| to.starts_with("/dev"));
            let Some(found) = fs::metadata(file.path()).ok().filter(|_| is_device) else {
                continue;
            };
            let number = number_of(found.rdev());
            if let Some((_, device)) = numbers.iter().find(|(known, _)| *known == number) {
                let user = User::Open {
                    device: (*device).clone(),
                    process: named(root, &process),
                };
                if !users.contains(&user) {
                    users.push(user);
                }
            }
        }
    }
    Ok(users)
}

/// A process: its program's name, and its number.
fn named(root: &Path, process: &str) -> Process {
    Process {
        program: text(root.join("proc").join(process).join("comm")),
        id: process.to_owned(),
    }
}

/// Who holds a lock on `path` (`/proc/locks`, proc(5)): the program's name and process.
pub(super) fn lock_holder(root: &Path, path: &Path) -> Option<Process> {
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
    Some(named(root, process))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::super::tests::put;
    use super::*;

    #[test]
    fn users_of_a_disk_and_its_partitions_are_named() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        put(
            root,
            &[
                ("sys/class/block/sdx/dev", "8:0\n"),
                ("sys/class/block/sdx1/dev", "8:1\n"),
                ("sys/class/block/sdx2/dev", "8:2\n"),
                ("sys/class/block/sdx1/holders/dm-0/x", ""),
                ("sys/class/block/loop4/loop/backing_file", "/dev/sdx2\n"),
                (
                    "proc/self/mountinfo",
                    "30 1 8:1 / /mnt/data rw - ntfs /dev/sdx1 rw\n31 1 8:17 / /x rw - a b c\n\
                     32 1 0:44 / /mnt/user rw - fuse /dev/sdx2 rw\n",
                ),
                (
                    "proc/77/mountinfo",
                    "30 1 8:2 / /inside rw - ext4 /dev/other rw\n",
                ),
                ("proc/77/comm", "container\n"),
                ("proc/swaps", "Filename Type\n/dev/sdx partition 1\n"),
            ],
        );
        for (process, namespace) in [("self", "mnt:[1]"), ("77", "mnt:[2]"), ("78", "mnt:[1]")] {
            let folder = root.join("proc").join(process).join("ns");
            fs::create_dir_all(&folder).unwrap();
            symlink(namespace, folder.join("mnt")).unwrap();
        }
        let devices = ["sdx", "sdx1", "sdx2"].map(str::to_owned);
        let shown = || -> Vec<String> {
            let users = users_of(root, &devices);
            users.iter().map(User::to_string).collect()
        };
        assert_eq!(
            shown(),
            [
                "sdx1 is held by dm-0",
                "sdx1 is mounted at /mnt/data",
                "sdx2 is mounted at /mnt/user",
                "sdx2 is mounted at /inside, as container (process 77) sees it",
                "sdx is used as swap",
                "sdx2 is attached as /dev/loop4",
            ]
        );
    }

    #[test]
    fn a_place_that_cannot_be_read_leaves_it_unknown_who_uses_a_disk() {
        let places = [
            "proc/self/mountinfo",
            "proc/swaps",
            "sys/class/block/sdx/dev",
            "sys/class/block/sdx/holders",
        ];
        for spoilt in places {
            let dir = tempfile::tempdir().unwrap();
            let root = dir.path();
            for place in places {
                // A folder in place of a file, and a file in place of a folder, cannot be read as what they should be.
                let is_folder = place.ends_with("holders");
                match is_folder == (place == spoilt) {
                    true => put(root, &[(place, "")]),
                    false => fs::create_dir_all(root.join(place)).unwrap(),
                }
            }
            let users = users_of(root, &["sdx".to_owned()]);
            let [User::Unknown { place, .. }] = &users[..] else {
                panic!("{spoilt}: {users:?}");
            };
            assert_eq!(*place, root.join(spoilt));
        }
        let nothing = tempfile::tempdir().unwrap();
        let users = users_of(nothing.path(), &["sdx".to_owned()]);
        let shown: Vec<String> = users.iter().map(User::to_string).collect();
        assert_eq!(shown.len(), 2, "neither mounts nor processes: {shown:?}");
    }

    #[test]
    fn a_program_that_has_a_device_open_is_named() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        // The null device, 1:3, stands for a partition.
        put(
            root,
            &[
                ("sys/class/block/sdx3/dev", "1:3\n"),
                ("proc/self/mountinfo", ""),
                ("proc/90/comm", "imaging\n"),
                ("proc/90/fd/none", ""),
            ],
        );
        symlink("/dev/null", root.join("proc/90/fd/4")).unwrap();
        symlink("/dev/zero", root.join("proc/90/fd/5")).unwrap();
        let devices = ["sdx3".to_owned()];
        let users = users_of(root, &devices);
        let shown: Vec<String> = users.iter().map(User::to_string).collect();
        assert_eq!(shown, ["sdx3 is open in imaging (process 90)"]);
    }
}
