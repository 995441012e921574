//! Block devices: images attached to the kernel's loop driver, at both sector sizes.

use std::cell::RefCell;
use std::fs::{self, File};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::rc::{Rc, Weak};
use std::sync::{Mutex, MutexGuard, PoisonError};

use schwelle_core::device::Extent;
use serde_json::Value;

use crate::support::Lab;
use schwelle_testkit::{Run, hash, tool, tool_any};

/// One test at a time has disks attached: those of two tests would be taken for copies of each other.
static TURN: Mutex<()> = Mutex::new(());

thread_local! {
    /// This test's turn, for as long as it has a disk attached.
    static MINE: RefCell<Weak<MutexGuard<'static, ()>>> = const { RefCell::new(Weak::new()) };
}

/// A loop device on a stretch of an image, detached at the end.
pub(crate) struct Attached(
    pub(crate) PathBuf,
    #[expect(dead_code)] Rc<MutexGuard<'static, ()>>,
);

impl Attached {
    pub(crate) fn new(image: &Path, more: &[&str]) -> Self {
        let turn = MINE.with_borrow_mut(|mine| {
            mine.upgrade().unwrap_or_else(|| {
                let turn = Rc::new(TURN.lock().unwrap_or_else(PoisonError::into_inner));
                *mine = Rc::downgrade(&turn);
                turn
            })
        });
        let args = [&["--find", "--show"], more, &[image.to_str().unwrap()]].concat();
        Self(tool("losetup", &args).stdout.trim().into(), turn)
    }

    pub(crate) fn path(&self) -> &str {
        self.0.to_str().unwrap()
    }
}

impl Drop for Attached {
    fn drop(&mut self) {
        tool_any("losetup", &["--detach", self.path()]);
    }
}

#[test]
#[ignore = "needs root"]
fn a_block_device_is_checked_converted_and_rehearsed_at_its_own_sector_size() {
    for sector in [512, 4096] {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", sector);
        let disk = Attached::new(&image, &["--sector-size", &sector.to_string()]);
        let survey = lab.run(&["survey", disk.path(), "--json"]).json();
        assert_eq!(
            (&survey["sector_bytes"], &survey["answer"]),
            (&sector.into(), &"ready".into()),
            "{}",
            lab.run(&["check", disk.path()]).stdout
        );

        let wrong = if sector == 512 { "4096" } else { "512" };
        let run = lab.run(&["check", disk.path(), "--sector-size", wrong]);
        assert_eq!(run.code, 2);
        assert!(
            run.stderr.contains("Leave --sector-size out"),
            "{}",
            run.stderr
        );

        // The image under the device is in use by it.
        let before = hash(&image);
        let run = lab.convert(&image, "no-job", &[]);
        assert_eq!(run.code, 1);
        assert!(
            run.stdout.contains("medium.in-use") && run.stdout.contains(disk.path()),
            "{}",
            run.stdout
        );
        assert_eq!(hash(&image), before);

        let run = lab.convert(&disk.0, "job", &["--json"]);
        assert_eq!(
            (run.code, &run.json()["rehearsal"]["starts"]),
            (0, &true.into()),
            "{}",
            run.stderr
        );
        assert_eq!(lab.run(&["rehearse", disk.path(), "--quiet"]).code, 0);
        let path = disk.path().to_owned();
        drop(disk);
        assert_eq!(
            lab.run(&["rehearse", image.to_str().unwrap(), "--quiet"])
                .code,
            0,
            "{path}"
        );
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_mounted_device_is_refused_with_the_place_where_it_is_mounted() {
    let lab = Lab::new();
    let (image, places) = lab.standard("disk.img", 512);
    let (offset, size) = (places.windows.first.0 * 512, places.windows.sectors() * 512);
    let volume = Attached::new(
        &image,
        &[
            "--offset",
            &offset.to_string(),
            "--sizelimit",
            &size.to_string(),
        ],
    );
    let at = lab.path("mounted");
    std::fs::create_dir(&at).unwrap();
    tool(
        "ntfs-3g",
        &["-o", "ro", volume.path(), at.to_str().unwrap()],
    );
    let check = lab.run(&["check", volume.path()]);
    let convert = lab.convert(&volume.0, "job", &[]);
    tool("umount", &[at.to_str().unwrap()]);
    assert_eq!((check.code, convert.code), (1, 1));
    let shown = format!("is mounted at {}", at.display());
    assert!(
        check.stdout.contains("medium.in-use") && check.stdout.contains(&shown),
        "{}",
        check.stdout
    );
    assert!(!lab.path("job").exists());
}

/// A file system mounted for a test, unmounted at its end.
pub(crate) struct FileSystem(pub(crate) PathBuf);

impl FileSystem {
    pub(crate) fn new(at: PathBuf, args: &[&str]) -> Self {
        std::fs::create_dir(&at).unwrap();
        tool("mount", &[args, &[at.to_str().unwrap()]].concat());
        Self(at)
    }

    /// One in memory, of so many KiB.
    pub(crate) fn in_memory(at: PathBuf, kib: u32) -> Self {
        let size = format!("size={kib}k");
        Self::new(at, &["-t", "tmpfs", "-o", &size, "tmpfs"])
    }

    /// Takes all room but so many blocks. The file that holds it: deleted, the room is free again.
    pub(crate) fn fill_up(&self, but: u64) -> PathBuf {
        let room = rustix::fs::statvfs(&self.0).unwrap();
        let len = usize::try_from((room.f_bavail - but) * room.f_bsize).unwrap();
        let filler = self.0.join("filler");
        fs::write(&filler, vec![1; len]).unwrap();
        filler
    }
}

impl Drop for FileSystem {
    fn drop(&mut self) {
        tool_any("umount", &[self.0.to_str().unwrap()]);
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_job_folder_on_the_disk_itself_is_refused() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 16, |_| {});
    let disk = Attached::new(&image, &[]);
    tool("mkfs.ext4", &["-q", disk.path()]);
    let mount = FileSystem::new(lab.path("mounted"), &[disk.path()]);
    let judged = |job: PathBuf| {
        let run = lab.convert(&disk.0, &job, &["--json"]);
        assert_eq!((run.code, job.exists()), (1, false), "{}", run.stderr);
        let findings = run.json()["findings"].as_array().unwrap().clone();
        findings
            .into_iter()
            .find(|finding| finding["rule"] == "medium.job-elsewhere")
            .unwrap()
    };
    // The folder itself need not be there yet: the nearest one above it tells.
    let on_disk = judged(mount.0.join("deep/job"));
    assert_eq!(on_disk["outcome"], "block", "{on_disk}");
    assert_eq!(judged(lab.path("elsewhere"))["outcome"], "pass");
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_job_folder_in_memory_is_accepted_by_name_and_not_by_yes() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = hash(&image);
    let finding = |run: &Run| {
        let findings = run.json()["findings"].as_array().unwrap().clone();
        let is_wanted = |finding: &&Value| finding["rule"] == "medium.job-lasting";
        findings.iter().find(is_wanted).unwrap().clone()
    };
    // What a policy takes lightly is a caution at most.
    fs::write(
        lab.path("policy.toml"),
        "[severity]\n\"medium.job-lasting\" = \"known\"\n",
    )
    .unwrap();
    let memory = FileSystem::new(lab.path("memory"), &["-t", "tmpfs", "tmpfs"]);
    for more in [&[][..], &["--policy", "policy.toml"]] {
        let run = lab.convert(&image, memory.0.join("job"), &[&["--json"], more].concat());
        assert_eq!(run.code, 1, "{}", run.stderr);
        assert_eq!(finding(&run)["outcome"], "block");
        assert_eq!(
            (memory.0.join("job").exists(), hash(&image)),
            (false, before)
        );
    }
    // So is one on a file system on an image in memory.
    let file = memory.0.join("stick.img");
    fs::File::create(&file).unwrap().set_len(16 << 20).unwrap();
    tool("mkfs.ext4", &["-q", file.to_str().unwrap()]);
    let stick = FileSystem::new(lab.path("stick"), &["-o", "loop", file.to_str().unwrap()]);
    let run = lab.convert(&image, stick.0.join("job"), &["--json"]);
    assert_eq!((run.code, &finding(&run)["outcome"]), (1, &"block".into()));
    drop(stick);

    let job = memory.0.join("job");
    let run = lab.convert(&image, &job, &["--job-in-memory", "--json"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let record: Value = serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
    let findings = record["plan"]["findings"].as_array().unwrap();
    let lasting = findings.iter().find(|f| f["rule"] == "medium.job-lasting");
    assert_eq!(lasting.unwrap()["outcome"], "caution");
    assert_ne!(hash(&image), before);
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_job_folder_without_room_or_write_protected_leaves_the_disk_untouched() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = hash(&image);
    let needed = lab.run(&["plan", "disk.img", "--json"]).json()["job_folder_bytes"].clone();
    for (name, size) in [("tiny", 8), ("almost", 640)] {
        let mount = FileSystem::in_memory(lab.path(name), size);
        let job = mount.0.join("job");
        let run = lab.convert(&image, &job, &["--quiet", "--job-in-memory"]);
        assert_eq!(
            (run.code, job.exists()),
            (3, false),
            "{size}: {}",
            run.stderr
        );
        assert!(
            run.stderr.contains("the job folder needs up to") && run.stderr.contains("unchanged"),
            "{}",
            run.stderr
        );
        assert_eq!(hash(&image), before, "{size}");
    }
    // What it needed in the end is no more than what was said.
    let job = lab.path("job");
    let copy = lab.path("copy.img");
    fs::copy(&image, &copy).unwrap();
    assert_eq!(lab.convert(&copy, &job, &[]).code, 0);
    let sizes = fs::read_dir(&job)
        .unwrap()
        .map(|file| file.unwrap().metadata().unwrap().len());
    assert!(sizes.sum::<u64>() <= needed.as_u64().unwrap());

    let file = lab.path("stick.img");
    fs::File::create(&file).unwrap().set_len(16 << 20).unwrap();
    tool("mkfs.ext4", &["-q", file.to_str().unwrap()]);
    let stick = FileSystem::new(
        lab.path("stick"),
        &["-o", "loop,ro", file.to_str().unwrap()],
    );
    let run = lab.convert(&image, stick.0.join("job"), &[]);
    assert_eq!((run.code, hash(&image)), (1, before));
    assert!(run.stdout.contains("mounted read-only"), "{}", run.stdout);
}

#[test]
#[ignore = "needs root"]
fn a_device_that_somebody_holds_is_refused_for_every_command_that_writes() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let disk = Attached::new(&image, &[]);
    let job = lab.path("job");
    assert_eq!(lab.convert(&disk.0, &job, &["--quiet"]).code, 0);
    let (before, job) = (hash(&image), job.to_str().unwrap());
    let refused = |expected: &str| {
        for command in [
            &["undo", "--yes", "--job", job][..],
            &["convert", disk.path(), "--yes", "--job", "other"],
        ] {
            let run = lab.run(command);
            assert!([1, 3].contains(&run.code), "{}", run.stderr);
            let said = format!("{}{}", run.stdout, run.stderr).to_lowercase();
            assert!(said.contains(expected), "{expected}: {said}");
        }
        assert_eq!(hash(&image), before);
    };
    {
        // As another Schwelle would: exclusively, with a lock.
        let holder = File::options()
            .read(true)
            .write(true)
            .custom_flags(rustix::fs::OFlags::EXCL.bits().cast_signed())
            .open(&disk.0)
            .unwrap();
        holder.try_lock().unwrap();
        refused("is in use by cli-");
    }
    // A driver above it.
    let above = Attached::new(&disk.0, &[]);
    refused(&format!("attached as {}", above.path()));
}

/// A process that ends with the test.
struct Holder(std::process::Child);

impl Holder {
    /// Runs a shell script that says when it is ready, and then waits; and another one at the end.
    fn new(script: &str, end: &str) -> Self {
        use std::io::{BufRead, BufReader};
        use std::process::{Command, Stdio};
        let mut child = Command::new("unshare")
            .args(["--mount", "--propagation", "private", "sh", "-c"])
            .arg(format!("{script}; echo ready; read wait; {end}"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        let stdout = child.stdout.as_mut().unwrap();
        BufReader::new(stdout).read_line(&mut line).unwrap();
        assert_eq!(line, "ready\n", "{script}");
        Self(child)
    }
}

impl Drop for Holder {
    fn drop(&mut self) {
        // At the end of its input it goes on, and ends with what it holds.
        drop(self.0.stdin.take());
        self.0.wait().ok();
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_partition_in_use_in_any_way_is_a_block_for_every_command_that_writes() {
    let lab = Lab::new();
    let (image, places) = lab.standard("disk.img", 512);
    let disk = Attached::new(&image, &["--partscan"]);
    let (first, second) = (format!("{}p1", disk.path()), format!("{}p2", disk.path()));
    // A kernel may be built without knowing the table; then its partitions are named to it.
    let named = |number: &str, extent: Extent| {
        let (at, sectors) = (extent.first.0.to_string(), extent.sectors().to_string());
        tool_any("addpart", &[disk.path(), number, &at, &sectors]);
    };
    let show_partitions = || {
        named("1", places.boot);
        named("2", places.windows);
        assert!(Path::new(&first).exists() && Path::new(&second).exists());
    };
    let at = lab.path("mounted");
    fs::create_dir(&at).unwrap();
    let at = at.to_str().unwrap();
    let refused = |way: &str, shown: &str, command: &[&str]| {
        let before = hash(&image);
        let run = lab.run(command);
        let said = format!("{}{}", run.stdout, run.stderr).replace('\n', " ");
        let said = said.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!([1, 3].contains(&run.code), "{way}: {} {said}", run.code);
        assert!(said.contains(shown), "{way}: {shown}: {said}");
        assert_eq!(hash(&image), before, "{way}");
    };
    let in_every_way = |command: &[&str]| {
        show_partitions();
        {
            tool("ntfs-3g", &["-o", "ro", &second, at]);
            let mounted = std::panic::catch_unwind(|| {
                refused("user space", &format!("is mounted at {at}"), command);
            });
            tool("umount", &[at]);
            mounted.unwrap();
        }
        {
            let _holder = Holder::new(
                &format!("ntfs-3g -o ro {second} {at}"),
                &format!("umount {at}"),
            );
            refused("another namespace", &format!("is mounted at {at}"), command);
        }
        {
            let _holder = Holder::new(&format!("exec 5<{first}"), "");
            refused("open file", "p1 is open in sh (process", command);
        }
        {
            let above = Attached::new(Path::new(&first), &[]);
            let shown = format!("is attached as {}", above.path());
            refused("loop device", &shown, command);
        }
    };
    in_every_way(&["convert", disk.path(), "--yes", "--job", "never"]);
    assert!(!lab.path("never").exists());
    // A file system in user space ends some time after it was unmounted.
    let is_in_use = || {
        let check = lab.run(&["check", disk.path(), "--json"]).stdout;
        std::thread::sleep(std::time::Duration::from_millis(50));
        check.contains("p2 is open") || check.contains("p2 is mounted")
    };
    assert!((0..200).any(|_| !is_in_use()));
    let run = lab.convert(&disk.0, "job", &[]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    assert!(!run.stderr.contains("warning"), "{}", run.stderr);
    in_every_way(&["undo", "--yes", "--job", "job", "--disk", disk.path()]);
    assert!((0..200).any(|_| !is_in_use()));
    let run = lab.run(&["undo", "--yes", "--job", "job", "--disk", disk.path()]);
    assert_eq!(run.code, 0, "{}", run.stderr);
}
