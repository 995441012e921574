//! A lab: a temporary folder with disks in it, and the program to run on them.

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use assert_cmd::Command;
use schwelle_core::device::{BlockDevice, DiskFile, Extent, Lba, MIB};
use schwelle_demo::{DiskBuilder, MbrEntry, Standard};
use schwelle_testkit::Run;
use serde_json::Value;
use tempfile::TempDir;

pub(crate) const SIGNATURE: u32 = 0x5EA5_1DE5;
pub(crate) const COMPUTER: &str = "SIGNAL-MAST";

pub(crate) struct Lab {
    dir: TempDir,
}

impl Lab {
    pub(crate) fn new() -> Self {
        Self {
            dir: tempfile::tempdir().unwrap(),
        }
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// An image of zeros, with `build` run on it.
    pub(crate) fn image(
        &self,
        name: &str,
        sector: u32,
        mib: u64,
        build: impl FnOnce(&DiskBuilder<'_>),
    ) -> PathBuf {
        let path = self.path(name);
        File::create(&path).unwrap().set_len(mib * MIB).unwrap();
        let device = DiskFile::open_write(&path, Some(sector)).unwrap();
        build(&DiskBuilder::new(&device));
        device.flush().unwrap();
        path
    }

    /// A standard system disk with space for an EFI system partition.
    pub(crate) fn standard(&self, name: &str, sector: u32) -> (PathBuf, Standard) {
        let mib = if sector == 512 { 340 } else { 480 };
        let mut places = None;
        let path = self.image(name, sector, mib, |disk| {
            places = Some(disk.standard(SIGNATURE, COMPUTER).unwrap());
        });
        (path, places.unwrap())
    }

    /// A standard system disk of this signature and computer, with a third volume: an ext one with this label, of
    /// which there is no more than the superblock. `more` changes it.
    pub(crate) fn labelled(
        &self,
        name: &str,
        (signature, computer): (u32, &str),
        label: &[u8],
        more: impl FnOnce(&DiskBuilder<'_>, Standard),
    ) -> PathBuf {
        const FIRST: u32 = 452_608;
        let path = self.image(name, 512, 340, |disk| {
            let places = disk.standard(signature, computer).unwrap();
            let entry = |active, kind, first, sectors: u64| MbrEntry {
                active,
                kind,
                first,
                sectors: u32::try_from(sectors).unwrap(),
            };
            let at = |extent: Extent| u32::try_from(extent.first.0).unwrap();
            let [boot, windows] = [places.boot, places.windows];
            let entries = [
                entry(true, 7, at(boot), boot.sectors()),
                entry(false, 7, at(windows), windows.sectors()),
                entry(false, 0x83, FIRST, 8192),
            ];
            disk.boot_record(lba(0), signature, &entries).unwrap();
            more(disk, places);
        });
        let superblock = u64::from(FIRST) * 512 + 1024;
        poke(&path, superblock + 56, &[0x53, 0xEF]);
        poke(&path, superblock + 120, label);
        path
    }

    /// A standard disk, converted.
    pub(crate) fn converted(&self, name: &str, sector: u32) -> (PathBuf, Value) {
        let (path, _) = self.standard(name, sector);
        let job = self.path(&format!("{name}.job"));
        let run = self.convert(&path, &job, &["--quiet"]);
        assert_eq!((run.code, run.stderr.as_str()), (0, ""), "{}", run.stdout);
        let record = fs::read_to_string(job.join("job.json")).unwrap();
        (path, serde_json::from_str(&record).unwrap())
    }

    /// Converts `image` without questions; the job folder is `job`, as a path or as a name in the
    /// lab.
    pub(crate) fn convert(&self, image: &Path, job: impl AsRef<Path>, more: &[&str]) -> Run {
        let job = job.as_ref().to_str().unwrap();
        let args = ["convert", image.to_str().unwrap(), "--job", job, "--yes"];
        self.run(&[&args[..], more].concat())
    }

    /// Runs the program with a cleared environment, in the lab's folder.
    pub(crate) fn run(&self, args: &[&str]) -> Run {
        self.run_in("", args, "")
    }

    /// The same, with something on its standard input.
    pub(crate) fn run_with(&self, args: &[&str], stdin: &str) -> Run {
        self.run_in("", args, stdin)
    }

    /// The same, where the emulator is found.
    pub(crate) fn emulate(&self, args: &[&str]) -> Run {
        self.run_in("/usr/bin:/bin", args, "")
    }

    /// Rehearses on real firmware as well, which was there and started the disk. What `rehearse` says.
    pub(crate) fn started(&self, args: &[&str]) -> Value {
        let run = self.emulate(&[&["rehearse"][..], args, &["--emulate", "--json"]].concat());
        assert_eq!(run.code, 0, "{args:?}: {}{}", run.stdout, run.stderr);
        let rehearsed = run.json();
        let ran = (
            &rehearsed["emulated"]["ran"],
            &rehearsed["emulated"]["passed"],
        );
        assert_eq!(ran, (&true.into(), &true.into()), "{args:?}: {rehearsed}");
        rehearsed
    }

    /// The same, with these folders of programs.
    pub(crate) fn run_in(&self, path: &str, args: &[&str], stdin: &str) -> Run {
        self.run_env(&[("PATH", path)], args, stdin)
    }

    /// The same, with this environment and no other.
    pub(crate) fn run_env(&self, env: &[(&str, &str)], args: &[&str], stdin: &str) -> Run {
        let output = Command::cargo_bin("schwelle")
            .unwrap()
            .args(args)
            .env_clear()
            .envs(env.iter().copied())
            .current_dir(self.dir.path())
            .write_stdin(stdin)
            .output()
            .unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        Run {
            code: output.status.code().unwrap_or(-1),
            stdout: text(output.stdout),
            stderr: text(output.stderr),
        }
    }
}

/// Writes into an image without the program.
pub(crate) fn poke(path: &Path, offset: u64, bytes: &[u8]) {
    File::options()
        .write(true)
        .open(path)
        .unwrap()
        .write_all_at(bytes, offset)
        .unwrap();
}

/// Reads from an image.
pub(crate) fn peek(path: &Path, offset: u64, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    File::open(path)
        .unwrap()
        .read_exact_at(&mut bytes, offset)
        .unwrap();
    bytes
}

/// The partition with this role in a plan's "after".
pub(crate) fn part<'a>(record: &'a Value, role: &str) -> &'a Value {
    let parts = record["plan"]["after"].as_array().unwrap();
    parts.iter().find(|part| part["role"] == role).unwrap()
}

/// A finding says what was seen, with `evidence` in it, and what to do.
#[track_caller]
pub(crate) fn explains(finding: &Value, evidence: &str, name: &str) {
    let text = |key: &str| finding[key]["text"].as_str().unwrap_or_default();
    let is_explained = text("evidence").contains(evidence) && text("remedy").len() > 20;
    assert!(is_explained, "{name}: {finding}");
}

/// Bytes of a partition in a plan: offset and length.
pub(crate) fn place(record: &Value, role: &str) -> (u64, u64) {
    let sector = record["plan"]["sector_bytes"].as_u64().unwrap();
    let part = part(record, role);
    let (first, last) = (
        part["first_lba"].as_u64().unwrap(),
        part["last_lba"].as_u64().unwrap(),
    );
    (first * sector, (last + 1 - first) * sector)
}

pub(crate) fn lba(number: u64) -> Lba {
    Lba(number)
}
