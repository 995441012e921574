//! Block devices: images attached to the kernel's loop driver, at both sector sizes.

use std::fs::File;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use crate::foreign::{tool, tool_any};
use crate::support::{Lab, hash};

/// A loop device on a stretch of an image, detached at the end.
pub(crate) struct Attached(pub(crate) PathBuf);

impl Attached {
    pub(crate) fn new(image: &Path, more: &[&str]) -> Self {
        let args = [&["--find", "--show"], more, &[image.to_str().unwrap()]].concat();
        Self(tool("losetup", &args).stdout.trim().into())
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
fn a_block_device_is_checked_converted_and_rehearsed_at_its_own_sector_size() {
    for sector in [512, 4096] {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", sector);
        let disk = Attached::new(&image, &["--sector-size", &sector.to_string()]);
        let survey = lab.run(&["survey", disk.path(), "--json"]).json();
        assert_eq!(
            (&survey["sector_bytes"], &survey["answer"]),
            (&sector.into(), &"ready".into())
        );

        let wrong = if sector == 512 { "4096" } else { "512" };
        let run = lab.run(&["check", disk.path(), "--sector-size", wrong]);
        assert_eq!(run.code, 2);
        assert!(
            run.stderr.contains("Leave --sector-size out"),
            "{}",
            run.stderr
        );

        // The image behind the device is in use by it.
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
    let told = format!("is mounted at {}", at.display());
    assert!(
        check.stdout.contains("medium.in-use") && check.stdout.contains(&told),
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
}

impl Drop for FileSystem {
    fn drop(&mut self) {
        tool_any("umount", &[self.0.to_str().unwrap()]);
    }
}

#[test]
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
fn a_job_folder_that_fills_up_leaves_the_disk_untouched() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = hash(&image);
    // From too small for the plan to too small for the last of the saved sectors.
    for (name, size) in [("tiny", "8k"), ("small", "64k"), ("almost", "192k")] {
        let mount = FileSystem::new(
            lab.path(name),
            &["-t", "tmpfs", "-o", &format!("size={size}"), "tmpfs"],
        );
        let run = lab.convert(&image, mount.0.join("job"), &["--quiet"]);
        assert_eq!(run.code, 3, "{size}: {}", run.stderr);
        assert!(
            run.stderr.contains("No space left") && run.stderr.contains("unchanged"),
            "{}",
            run.stderr
        );
        assert_eq!(hash(&image), before, "{size}");
    }
}

#[test]
fn a_device_that_somebody_holds_is_refused_for_every_command_that_writes() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let disk = Attached::new(&image, &[]);
    let job = lab.path("job");
    assert_eq!(lab.convert(&disk.0, &job, &["--quiet"]).code, 0);
    let (before, job) = (hash(&image), job.to_str().unwrap());
    let refused = |told: &str| {
        for command in [
            &["undo", "--yes", "--job", job][..],
            &["convert", disk.path(), "--yes", "--job", "other"],
        ] {
            let run = lab.run(command);
            assert!([1, 3].contains(&run.code), "{}", run.stderr);
            let said = format!("{}{}", run.stdout, run.stderr).to_lowercase();
            assert!(said.contains(told), "{told}: {said}");
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
