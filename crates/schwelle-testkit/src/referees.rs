//! Running programs that others wrote. A missing one fails the test: `tools/install-test-tools.sh`
//! brings them.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use serde_json::Value;

use crate::hash;

/// What a run gave.
pub struct Run {
    /// Its exit code; -1 where a signal ended it.
    pub code: i32,
    /// What it printed.
    pub stdout: String,
    /// What it complained about.
    pub stderr: String,
}

impl Run {
    /// What it printed, as one JSON document.
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.stdout)
            .unwrap_or_else(|error| panic!("{error}: {}{}", self.stdout, self.stderr))
    }

    /// It ended with this exit code, and complained in these words.
    #[track_caller]
    pub fn refuses(&self, code: i32, words: &str) {
        let is_so = self.code == code && self.stderr.contains(words);
        assert!(
            is_so,
            "not {code} and {words:?}: {} and {}",
            self.code, self.stderr
        );
    }
}

/// Runs a program that must succeed.
pub fn tool(name: &str, args: &[&str]) -> Run {
    let run = tool_any(name, args);
    assert_eq!(run.code, 0, "{name} {args:?}: {}{}", run.stdout, run.stderr);
    run
}

/// Runs a program, however it ends.
pub fn tool_any(name: &str, args: &[&str]) -> Run {
    let output = Command::new(name).args(args).stdin(Stdio::null()).output();
    let output = output
        .unwrap_or_else(|error| panic!("{name}: {error} (tools/install-test-tools.sh brings it)"));
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    Run {
        code: output.status.code().unwrap_or(-1),
        stdout: text(output.stdout),
        stderr: text(output.stderr),
    }
}

/// A file that `tools/real-data.sh` has fetched. `built` is the caller's own `CARGO_TARGET_TMPDIR`.
pub fn real_data(built: &str, name: &str) -> PathBuf {
    let path = Path::new(built).join("../real-data").join(name);
    let shown = "is missing: tools/install-test-tools.sh brings it";
    assert!(path.exists(), "{} {shown}", path.display());
    path
}

/// Copies a stretch of an image into a file of its own.
pub fn extract(image: &Path, (offset, len): (u64, u64), to: &Path) {
    use std::io::{Seek, SeekFrom as From};
    let mut source = File::open(image).unwrap();
    source.seek(From::Start(offset)).unwrap();
    std::io::copy(&mut source.take(len), &mut fs::File::create(to).unwrap()).unwrap();
}

/// A whole hive as a hive library dumps it: the values of each key, by their names, as text.
pub fn dump(hive: &Path, prefix: &str) -> BTreeMap<String, String> {
    let export = ["--export", "--prefix", prefix, hive.to_str().unwrap(), "\\"];
    let mut sections = BTreeMap::new();
    let mut key = String::new();
    for line in tool("hivexregedit", &export).stdout.lines() {
        if line.starts_with('[') {
            key = line.to_owned();
            sections.insert(key.clone(), String::new());
        } else if let Some(text) = sections.get_mut(&key) {
            text.push_str(line);
            text.push('\n');
        }
    }
    sections
}

/// Merges a text of keys and values into a hive, with the hive library.
pub fn merge(hive: &Path, prefix: &str, text: &str) {
    let file = hive.with_extension("reg");
    fs::write(
        &file,
        format!("Windows Registry Editor Version 5.00\n\n{text}"),
    )
    .unwrap();
    let (hive, file) = (hive.to_str().unwrap(), file.to_str().unwrap());
    let args = [
        "--merge",
        "--prefix",
        prefix,
        "--encoding",
        "UTF-16LE",
        hive,
        file,
    ];
    tool("hivexregedit", &args);
}

/// Bytes as such a text has them.
pub fn hex(bytes: &[u8]) -> String {
    let all: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    all.join(",")
}

/// A volume mounted read-only through the NTFS utilities' own driver.
pub struct Mounted(pub PathBuf);

impl Mounted {
    /// Mounts a volume, in an image of its own, at the folder `at`.
    pub fn new(at: PathBuf, volume: &Path) -> Self {
        fs::create_dir_all(&at).unwrap();
        tool(
            "ntfs-3g",
            &["-o", "ro", volume.to_str().unwrap(), at.to_str().unwrap()],
        );
        Self(at)
    }

    /// Path and hash of every file.
    pub fn hashes(&self) -> BTreeMap<PathBuf, blake3::Hash> {
        let (mut hashes, mut folders) = (BTreeMap::new(), vec![self.0.clone()]);
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder).unwrap() {
                let entry = entry.unwrap();
                if entry.file_type().unwrap().is_dir() {
                    folders.push(entry.path());
                } else {
                    hashes.insert(entry.path(), hash(&entry.path()));
                }
            }
        }
        hashes
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        unmount(&self.0);
    }
}

/// Unmounts what is mounted at `at`; false where it stays in use. A program that another test is starting holds what
/// this one has opened, for a moment.
pub fn unmount(at: &Path) -> bool {
    let at = at.to_str().unwrap();
    let mut tries = (0..200).map(|_| {
        let done = tool_any("umount", &[at]).code == 0;
        std::thread::sleep(Duration::from_millis(if done { 0 } else { 25 }));
        done
    });
    tries.any(|done| done)
}
