//! NTFS volumes made by the file system's own utilities and filled through their driver; and what
//! such a volume holds, down to times, streams and attributes.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use schwelle_testkit::Dice;

use schwelle_testkit::{extract, tool, tool_any, unmount};

/// Makes an empty volume in a file.
pub(crate) fn format(path: &Path, len_bytes: u64, sector: u32, cluster: u32) {
    File::create(path).unwrap().set_len(len_bytes).unwrap();
    let (sector, cluster) = (sector.to_string(), cluster.to_string());
    let geometry = ["-p", "0", "-H", "255", "-S", "63"];
    let sizes = ["-s", &sector, "-c", &cluster];
    let path = path.to_str().unwrap();
    let args = [
        &["-F", "-Q", "-q", "-L", "Prüfstand"][..],
        &sizes,
        &geometry,
        &[path],
    ]
    .concat();
    tool("mkntfs", &args);
}

/// A volume mounted through the driver, with everything the driver can show.
pub(crate) struct Mount {
    pub(crate) at: PathBuf,
    driver: Child,
    made: u64,
    files: Vec<PathBuf>,
}

impl Mount {
    pub(crate) fn new(volume: &Path, writable: bool) -> Self {
        Self::with_streams(volume, writable, "xattr")
    }

    /// With named streams shown as attributes ("xattr") or as files after a colon ("windows").
    pub(crate) fn with_streams(volume: &Path, writable: bool, streams: &str) -> Self {
        let at = volume.with_extension("mnt");
        fs::create_dir_all(&at).unwrap();
        let mode = if writable { "rw" } else { "ro" };
        let options =
            format!("{mode},no_detach,compression,streams_interface={streams},efs_raw,noatime");
        let device = |path: &Path| fs::metadata(path).unwrap().dev();
        let outside = device(&at);
        let mut driver = Command::new("ntfs-3g")
            .args(["-o", &options])
            .args([volume, &at])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        while device(&at) == outside {
            assert!(driver.try_wait().unwrap().is_none(), "the driver gave up");
            std::thread::sleep(Duration::from_millis(2));
        }
        Self {
            at,
            driver,
            made: 0,
            files: Vec::new(),
        }
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.at.join(name)
    }

    /// A folder whose files are compressed from now on.
    pub(crate) fn compressed_folder(&self, name: &str) -> PathBuf {
        let path = self.path(name);
        fs::create_dir_all(&path).unwrap();
        let flags = [0, 0, 8, 0]; // compressed, most significant byte first
        let none = rustix::fs::XattrFlags::empty();
        rustix::fs::setxattr(&path, "system.ntfs_attrib_be", &flags, none).unwrap();
        path
    }

    /// Share of the volume in use, in percent.
    pub(crate) fn fill(&self) -> u64 {
        let found = rustix::fs::statvfs(&self.at).unwrap();
        100 - found.f_bfree * 100 / found.f_blocks
    }

    /// One random change; false when the volume is full.
    fn change(&mut self, dice: &mut Dice, cluster: u64) -> bool {
        self.made += 1;
        let folder = dice.pick(&["plain", "packed", "deep/er", "crowd"]);
        let path = self.at.join(folder).join(format!("{:05}.dat", self.made));
        let known = |dice: &mut Dice, files: &[PathBuf]| {
            (!files.is_empty()).then(|| {
                let at = dice.below(files.len() as u64);
                (
                    usize::try_from(at).unwrap(),
                    files[usize::try_from(at).unwrap()].clone(),
                )
            })
        };
        let done = match dice.below(20) {
            // Small enough for the record, or not.
            0..4 => {
                let len = dice.below(900);
                fs::write(&path, dice.bytes(len)).map(|()| self.files.push(path))
            }
            4..9 => {
                let len = dice.between(1, 30) * cluster - dice.below(cluster);
                fs::write(&path, text(dice, len)).map(|()| self.files.push(path))
            }
            // Grows at its end, in turns with others: many runs.
            9..14 => match known(dice, &self.files) {
                Some((_, path)) => {
                    let more = text(dice, cluster);
                    let file = OpenOptions::new().append(true).open(&path);
                    file.and_then(|mut file| file.write_all(&more))
                }
                None => Ok(()),
            },
            14 => {
                let (at, len) = (dice.below(200) * cluster, dice.between(1, cluster));
                let content = dice.bytes(len);
                let file = File::create(&path);
                file.and_then(|file| file.write_all_at(&content, at))
                    .map(|()| self.files.push(path))
            }
            15 => match known(dice, &self.files) {
                Some((_, path)) => {
                    let len = dice.between(1, 40_000);
                    let (value, none) = (dice.bytes(len), rustix::fs::XattrFlags::empty());
                    let name = format!("user.stream{}", dice.below(3));
                    let done = rustix::fs::setxattr(&path, &name, &value, none);
                    done.map_err(std::io::Error::from)
                }
                None => Ok(()),
            },
            16 => match known(dice, &self.files) {
                Some((_, known)) => fs::hard_link(known, &path).map(|()| self.files.push(path)),
                None => Ok(()),
            },
            _ => match known(dice, &self.files) {
                Some((at, path)) => {
                    self.files.swap_remove(at);
                    fs::remove_file(path)
                }
                None => Ok(()),
            },
        };
        done.is_ok()
    }

    /// Changes the volume at random until it is `percent` full.
    pub(crate) fn fill_up(&mut self, dice: &mut Dice, percent: u64, cluster: u64) {
        for folder in ["plain", "deep/er", "crowd"] {
            fs::create_dir_all(self.path(folder)).unwrap();
        }
        self.compressed_folder("packed");
        let mut refused = 0;
        for _ in 0..4000 {
            if self.fill() >= percent || refused > 20 {
                return;
            }
            if !self.change(dice, cluster) {
                refused += 1;
            }
        }
    }
}

impl Drop for Mount {
    fn drop(&mut self) {
        // The driver writes its last when the mount is gone, and ends then.
        if !unmount(&self.at) {
            eprintln!("{} is still in use", self.at.display());
            // Without its driver it would stay as a folder that nobody can read, also for other tests.
            tool_any("umount", &["--lazy", self.at.to_str().unwrap()]);
            self.driver.kill().ok();
        }
        self.driver.wait().ok();
    }
}

/// Bytes that compress somewhat, as real files do.
fn text(dice: &mut Dice, len: u64) -> Vec<u8> {
    let mut bytes = dice.bytes(len);
    let half = bytes.len() / 2;
    bytes[half..].fill(b'.');
    bytes
}

/// Takes a volume out of an image, lets `edit` change it through the driver, and puts it back. Named
/// streams are files after a colon.
pub(crate) fn edit_volume(image: &Path, (offset, len): (u64, u64), edit: impl FnOnce(&Mount)) {
    let volume = image.with_extension("volume");
    extract(image, (offset, len), &volume);
    edit(&Mount::with_streams(&volume, true, "windows"));
    crate::support::poke(image, offset, &fs::read(&volume).unwrap());
    fs::remove_file(volume).unwrap();
}

/// Everything about a file that a shrink must leave alone.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Seen {
    record: u64,
    links: u64,
    len_bytes: u64,
    content: Option<blake3::Hash>,
    /// Named streams, times, flags and access rights, as the driver shows them.
    attributes: BTreeMap<String, Vec<u8>>,
}

/// All files and folders of a volume, by path.
pub(crate) fn snapshot(volume: &Path) -> BTreeMap<PathBuf, Seen> {
    let mount = Mount::new(volume, false);
    let (mut seen, mut folders) = (BTreeMap::new(), vec![mount.at.clone()]);
    while let Some(folder) = folders.pop() {
        let entries = fs::read_dir(&folder)
            .unwrap()
            .map(|entry| entry.unwrap().path());
        for path in std::iter::once(folder.clone()).chain(entries) {
            let found = fs::symlink_metadata(&path).unwrap();
            if found.is_dir() && path != folder {
                folders.push(path);
                continue;
            }
            let mut buffer = vec![0; 64 << 10];
            let len = rustix::fs::listxattr(&path, &mut buffer).unwrap_or(0);
            let listed = buffer[..len].split(|&byte| byte == 0);
            let mut names: Vec<String> = listed
                .filter(|name| !name.is_empty())
                .map(|name| String::from_utf8(name.to_vec()).unwrap())
                .collect();
            names
                .extend(["times_be", "attrib_be", "acl"].map(|name| format!("system.ntfs_{name}")));
            let attributes = names.into_iter().map(|name| {
                let len = rustix::fs::getxattr(&path, &name, &mut buffer).unwrap_or(0);
                (name, buffer[..len].to_vec())
            });
            let attributes = attributes.collect();
            let content = found.is_file().then(|| schwelle_testkit::hash(&path));
            let key = path.strip_prefix(&mount.at).unwrap().to_owned();
            seen.insert(
                key,
                Seen {
                    record: found.ino(),
                    links: found.nlink(),
                    len_bytes: found.len(),
                    content,
                    attributes,
                },
            );
        }
    }
    seen
}

/// The utilities' consistency report: every cluster accounted for, nothing owned twice.
pub(crate) fn is_consistent(volume: &Path) -> Result<(), String> {
    let path = volume.to_str().unwrap();
    let report = tool_any(
        "ntfsresize",
        &[
            "--info",
            "--force",
            "--bad-sectors",
            "--no-progress-bar",
            path,
        ],
    );
    let fixed = tool_any("ntfsfix", &["-n", path]);
    // What comes after the check, advice on sizes, fails on a full volume.
    let clean = report.stdout.contains("Collecting resizing constraints")
        && fixed.stdout.contains("was processed successfully");
    if clean {
        Ok(())
    } else {
        Err(format!(
            "{}{}{}",
            report.stdout, report.stderr, fixed.stdout
        ))
    }
}

/// Mounts for writing, makes files and a folder, reads them again, and takes one away.
pub(crate) fn takes_new_files(volume: &Path) {
    {
        let mount = Mount::new(volume, true);
        fs::create_dir(mount.path("new")).unwrap();
        for (name, len) in [("small", 300), ("large", 20_000)] {
            fs::write(mount.path(&format!("new/{name}")), Dice::new(9).bytes(len)).unwrap();
        }
        fs::remove_file(mount.path("new/small")).unwrap();
    }
    let mount = Mount::new(volume, false);
    assert!(fs::read(mount.path("new/large")).unwrap() == Dice::new(9).bytes(20_000));
}

/// Moves streams into the last quarter of a volume, see [`schwelle_demo::scatter`].
pub(crate) fn scatter(volume: &Path, sector: u32, streams: &[(u64, u32)]) {
    let device = schwelle_core::device::DiskFile::open_write(volume, Some(sector)).unwrap();
    schwelle_demo::scatter(&device, streams).unwrap();
}

/// What the utilities' cluster report finds in a range: "record name/$ATTRIBUTE".
pub(crate) fn owners(volume: &Path, first: u64, last: u64) -> Vec<String> {
    let range = format!("{first}-{last}");
    let run = tool_any(
        "ntfscluster",
        &["-f", "-c", &range, volume.to_str().unwrap()],
    );
    let lines = run.stdout.lines();
    lines
        .filter_map(|line| line.strip_prefix("Inode "))
        .map(str::to_owned)
        .collect()
}

/// Begins the log of a volume as a system does that has closed it again: with a restart page that no
/// client uses. The driver here keeps its logs empty.
pub(crate) fn begin_log(volume: &Path, sector: u32) {
    use schwelle_core::device::{BlockDevice, DiskFile};
    use schwelle_core::ntfs::{LogState, NtfsVolume};
    let device = DiskFile::open_write(volume, Some(sector)).unwrap();
    let first = {
        let opened = NtfsVolume::open(&device).unwrap();
        let log = opened.open_file(2).unwrap();
        log.runs()[0].lcn.unwrap().0 * u64::from(opened.shape().cluster_bytes)
    };
    let mut page = vec![0; 4096];
    page[..4].copy_from_slice(b"RSTR");
    page[4..8].copy_from_slice(&[0x1E, 0, 9, 0]);
    page[0x10..0x14].copy_from_slice(&4096u32.to_le_bytes());
    page[0x18] = 0x30;
    page[0x30] = 9;
    page[0x3C..0x3E].copy_from_slice(&[0xFF, 0xFF]);
    page[0x1E] = 7;
    (1..=8).for_each(|stride| page[stride * 512 - 2] = 7);
    device.write_at(first, &page).unwrap();
    let opened = NtfsVolume::open(&device).unwrap();
    assert_eq!(opened.log_state().unwrap(), LogState::Clean);
}

/// A file from the tests of others; tools/real-data.sh fetches it.
pub(crate) fn real_data(name: &str) -> PathBuf {
    schwelle_testkit::real_data(env!("CARGO_TARGET_TMPDIR"), name)
}
