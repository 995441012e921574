//! A job folder holds parts of a customer's disk: only its user can read it, whatever the umask; where the file
//! system keeps no permissions, or an older program made the folder, that is reported.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use assert_cmd::cargo::cargo_bin;
use schwelle_testkit::{hash, tool};

use crate::job_files::job_args;
use crate::support::Lab;
use crate::volumes::Mount;

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap().mode() & 0o7777
}

/// The program under a umask.
fn under(lab: &Lab, umask: &str, args: &str) -> (i32, String) {
    let command = format!(
        "umask {umask}; exec {} {args}",
        cargo_bin("schwelle").display()
    );
    let output = std::process::Command::new("sh")
        .args(["-c", &command])
        .current_dir(lab.path(""))
        .output()
        .unwrap();
    let text = String::from_utf8(output.stderr).unwrap();
    (output.status.code().unwrap(), text)
}

#[test]
fn a_job_folder_is_its_users_alone_whatever_the_umask() {
    for umask in ["000", "022", "077"] {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", 512);
        // One that is there already, as one may be made for the customer.
        fs::create_dir(lab.path("made")).unwrap();
        fs::set_permissions(lab.path("made"), fs::Permissions::from_mode(0o755)).unwrap();
        for job in ["new/deep/job", "made"] {
            let run = under(
                &lab,
                umask,
                &format!("convert disk.img --job {job} --yes --quiet"),
            );
            assert_eq!(run, (0, String::new()), "{umask} {job}");
            let folder = lab.path(job);
            assert_eq!(mode(&folder), 0o700, "{umask} {job}");
            let files: Vec<_> = fs::read_dir(&folder)
                .unwrap()
                .map(|entry| entry.unwrap().path())
                .collect();
            assert!(files.len() > 6, "{files:?}");
            for file in &files {
                assert_eq!(mode(file), 0o600, "{umask} {}", file.display());
            }
            // The report in the folder is as private as the rest; one that is handed on is written elsewhere.
            let report = under(&lab, umask, &format!("report --job {job} --quiet"));
            assert_eq!(report, (0, String::new()), "{umask} {job}");
            assert_eq!(mode(&folder.join("report.html")), 0o600, "{umask}");
            let args = ["--yes", "--quiet", "--disk", image.to_str().unwrap()];
            assert_eq!(lab.run(&job_args("undo", &folder, &args)).code, 0);
        }
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_folder_that_others_can_read_is_told() {
    const TOLD: &str = "Other users of this system can read the job folder";
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let job = lab.path("job");
    assert_eq!(lab.convert(&image, &job, &["--quiet"]).stderr, "");
    fs::set_permissions(&job, fs::Permissions::from_mode(0o755)).unwrap();
    let named = ["--disk", image.to_str().unwrap()];
    for run in [
        lab.run(&["report", "--job", "job"]),
        lab.run(&job_args("resume", &job, &named)),
        lab.run(&job_args("undo", &job, &[&named[..], &["--yes"]].concat())),
    ] {
        assert_eq!(run.code, 0, "{}", run.stderr);
        assert!(
            run.stderr.contains(TOLD) && run.stderr.contains("chmod -R go= "),
            "{}",
            run.stderr
        );
    }

    // A file system that keeps none: NTFS, as it is mounted by default. FAT is seen in the virtual PC.
    let stick = lab.image("stick.img", 512, 40, |_| {});
    tool("mkntfs", &["-F", "-Q", "-q", stick.to_str().unwrap()]);
    let mounted = Mount::new(&stick, true);
    let run = lab.convert(&image, mounted.path("job"), &["--quiet"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    assert!(run.stderr.contains(TOLD), "{}", run.stderr);
}

#[test]
fn links_in_place_of_a_jobs_files_lead_nowhere() {
    let lab = Lab::new();
    let victim = lab.path("victim");
    let precious = "what somebody else's link leads to";
    // What is replaced, and how the record and the way back end then: what only people need stops only the record.
    for (name, recorded, code) in [
        ("log.txt", 3, 0),
        ("outcome.json", 3, 0),
        ("report.html", 0, 0),
        ("report.html.new", 0, 0),
        ("confirmation.json", 3, 0),
        ("state-a.json", 0, 0),
        ("state-b.json", 0, 0),
        ("journal.json", 3, 3),
        ("saved.bin", 3, 3),
    ] {
        let (image, _) = lab.standard(&format!("{name}.img"), 512);
        let job = lab.path(&format!("{name}.job"));
        assert_eq!(lab.convert(&image, &job, &["--quiet"]).code, 0);
        fs::write(&victim, precious).unwrap();
        fs::remove_file(job.join(name)).ok();
        std::os::unix::fs::symlink(&victim, job.join(name)).unwrap();
        let disk = ["--disk", image.to_str().unwrap()];
        let report = lab.run(&job_args("report", &job, &["--quiet"]));
        assert_eq!(report.code, recorded, "{name}: {}", report.stderr);
        let confirm = ["confirm", image.to_str().unwrap(), "--job"];
        lab.run(&[&confirm[..], &[job.to_str().unwrap()]].concat());
        let undo = lab.run(&job_args("undo", &job, &[&disk[..], &["--yes"]].concat()));
        assert_eq!(undo.code, code, "{name}: {}", undo.stderr);
        if code != 0 {
            assert!(
                undo.stderr.contains("it is a link"),
                "{name}: {}",
                undo.stderr
            );
        }
        assert_eq!(fs::read_to_string(&victim).unwrap(), precious, "{name}");
        fs::remove_file(&image).unwrap();
        fs::remove_dir_all(&job).unwrap();
    }
}

#[test]
fn a_folder_with_content_and_a_link_are_refused_as_they_are() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let before = hash(&image);
    let photos = lab.path("photos");
    fs::create_dir(&photos).unwrap();
    fs::write(photos.join("boat.jpg"), "a boat").unwrap();
    fs::set_permissions(&photos, fs::Permissions::from_mode(0o755)).unwrap();
    let empty = lab.path("empty");
    fs::create_dir(&empty).unwrap();
    fs::set_permissions(&empty, fs::Permissions::from_mode(0o755)).unwrap();
    std::os::unix::fs::symlink(&empty, lab.path("link")).unwrap();
    for (job, code) in [("photos", 2), ("link", 3)] {
        let run = lab.convert(&image, job, &[]);
        assert_eq!(run.code, code, "{job}: {}", run.stderr);
        assert_eq!(hash(&image), before);
    }
    for folder in [photos, empty] {
        let mode = fs::metadata(&folder).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o755, "{}", folder.display());
    }
}

#[test]
#[ignore = "needs root"]
fn a_folder_that_another_user_has_made_is_taken_from_them() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let job = lab.path("job");
    fs::create_dir(&job).unwrap();
    fs::set_permissions(&job, fs::Permissions::from_mode(0o777)).unwrap();
    std::os::unix::fs::chown(&job, Some(1000), Some(1000)).unwrap();
    let run = lab.convert(&image, &job, &["--quiet"]);
    assert_eq!((run.code, &*run.stderr), (0, ""));
    let folder = fs::metadata(&job).unwrap();
    assert_eq!((folder.uid(), mode(&job)), (0, 0o700));
}
