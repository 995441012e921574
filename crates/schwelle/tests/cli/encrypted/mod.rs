//! An encrypted Windows: opened, converted, finished and taken back. The volume is encrypted by a script with a
//! cryptography library of its own, and judged by a reader that others wrote (libbde).

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use assert_cmd::cargo::cargo_bin;
use schwelle_core::device::{DiskFile, ReadDevice};
use schwelle_testkit::{Run, copy_image, extract, hash, tool, tool_any, unmount};
use serde_json::Value;

use crate::job_files::{job_args, journal, reopen};
use crate::support::{Lab, peek, poke};
use crate::volumes::snapshot;

const PASSWORD: &str = "528561-251702-140283-271590-717365-674234-182611-409563";
const OTHER: &str = "238183-251702-140283-271590-717365-674234-182611-409563";

/// A volume of an image: first byte and length.
type Place = (u64, u64);

/// A disk with an encrypted Windows.
struct Disk {
    lab: Lab,
    image: PathBuf,
    /// As it was before it was encrypted.
    plain: PathBuf,
    /// As it was encrypted.
    before: PathBuf,
    windows: Place,
    sector: u32,
    /// What may stand nowhere.
    secrets: Vec<Vec<u8>>,
    ids: Vec<String>,
    /// All that was printed.
    printed: String,
}

impl Disk {
    fn new(sector: u32, method: &str, protectors: &[&str]) -> Self {
        let lab = Lab::new();
        let (image, places) = lab.standard("disk.img", sector);
        let (plain, before) = (lab.path("plain.img"), lab.path("before.img"));
        copy_image(&image, &plain);
        let bytes = u64::from(sector);
        let windows = (
            places.windows.first.0 * bytes,
            places.windows.sectors() * bytes,
        );
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cli/encrypted/encrypt.py");
        let numbers = [windows.0, windows.1, bytes].map(|number| number.to_string());
        let file = format!("file:{}", lab.path("key.bek").display());
        let protectors = protectors.iter().map(|how| match *how {
            "file" => file.as_str(),
            how => how,
        });
        let image_and_script = [script.to_str().unwrap(), image.to_str().unwrap()];
        let args: Vec<&str> = image_and_script
            .into_iter()
            .chain(numbers.iter().map(String::as_str))
            .chain([method])
            .chain(protectors)
            .collect();
        let made = tool("/usr/bin/python3", &args).json();
        copy_image(&image, &before);
        let texts = |key: &str| -> Vec<String> {
            let all = made[key].as_array().unwrap().iter();
            all.map(|text| text.as_str().unwrap().to_owned()).collect()
        };
        let from_hex = |text: &String| -> Vec<u8> {
            let pairs = (0..text.len()).step_by(2);
            pairs
                .map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap())
                .collect()
        };
        let mut secrets: Vec<Vec<u8>> = texts("keys").iter().map(from_hex).collect();
        secrets.extend(texts("keys").into_iter().map(String::into_bytes));
        secrets.push(PASSWORD.as_bytes().to_vec());
        fs::write(lab.path("password.txt"), PASSWORD).unwrap();
        Self {
            image,
            plain,
            before,
            windows,
            sector,
            secrets,
            ids: texts("ids"),
            printed: String::new(),
            lab,
        }
    }

    fn run(&mut self, command: &str, more: &[&str]) -> Run {
        let run = self
            .lab
            .run(&[&[command, self.image.to_str().unwrap()], more].concat());
        self.printed += &run.stdout;
        self.printed += &run.stderr;
        run
    }

    /// The volume as the other reader decrypts it, in a file of its own.
    fn decrypted(&self, image: &Path, how: &[&str], name: &str) -> PathBuf {
        let (at, to) = (self.lab.path(&format!("{name}.mnt")), self.lab.path(name));
        fs::create_dir(&at).unwrap();
        let offset = self.windows.0.to_string();
        let rest = ["-o", &offset, image.to_str().unwrap(), at.to_str().unwrap()];
        tool("bdemount", &[how, &rest[..]].concat());
        fs::copy(at.join("bde1"), &to).unwrap();
        assert!(unmount(&at));
        to
    }

    /// Sectors of the Windows volume in which two files differ, each beginning at its own place.
    fn differing(&self, (a, at_a): (&Path, u64), (b, at_b): (&Path, u64)) -> Vec<u64> {
        let sector = usize::try_from(self.sector).unwrap();
        let len = usize::try_from(self.windows.1).unwrap();
        let (a, b) = (peek(a, at_a, len), peek(b, at_b, len));
        let pairs = a.chunks(sector).zip(b.chunks(sector)).enumerate();
        pairs
            .filter(|(_, (a, b))| a != b)
            .map(|(index, _)| index as u64)
            .collect()
    }

    /// No key, no password, and no content of the volume is in the job folder or was printed.
    fn keeps_secrets(&self, job: &Path) {
        let mut kept: BTreeMap<PathBuf, Vec<u8>> = BTreeMap::new();
        kept.insert("what was printed".into(), self.printed.clone().into_bytes());
        for entry in fs::read_dir(job).unwrap() {
            let path = entry.unwrap().path();
            kept.insert(path.clone(), fs::read(path).unwrap());
        }
        assert!(kept.len() > 5);
        for (path, content) in kept {
            for secret in &self.secrets {
                let found = content.windows(secret.len()).any(|part| part == secret);
                assert!(!found, "{}: a secret", path.display());
            }
        }
    }
}

/// What a rule says.
fn finding(checked: &Run, rule: &str) -> Value {
    let json = checked.json();
    let findings = json["findings"].as_array().unwrap();
    let mut about = findings.iter();
    let found = about.find(|finding| finding["rule"] == rule);
    found.unwrap().clone()
}

/// How the program opens it, and how the other reader does.
fn opened_by<'a>(protector: &'a str, key: &'a str) -> (Vec<&'a str>, Vec<&'a str>) {
    match protector {
        "clear" => (vec![], vec![]),
        "file" => (vec!["--unlock", key], vec!["-s", key]),
        _ => (vec!["--unlock", "password.txt"], vec!["-r", PASSWORD]),
    }
}

fn crosses_and_comes_back(sector: u32, method: &str, protectors: &[&str]) {
    let mut disk = Disk::new(sector, method, protectors);
    let key = disk.lab.path("key.bek");
    let key = key.to_str().unwrap();
    let (unlock, theirs) = opened_by(protectors[0], key);
    let is_suspended = protectors[0] == "clear";
    // The script encrypted what was there; where the metadata lies, zeros are seen.
    let decrypted = disk.decrypted(&disk.before, &theirs, "before.bin");
    let plain = disk.differing((&decrypted, 0), (&disk.plain, disk.windows.0));
    assert!(plain.is_empty(), "{plain:?}");

    if !is_suspended {
        let closed = disk.run("check", &["--json"]);
        let found = finding(&closed, "volume.encryption");
        assert_eq!((closed.code, &found["outcome"]), (1, &"block".into()));
        let start = finding(&closed, "boot.start");
        assert_eq!(start["outcome"], "unknown", "{start}");
    }
    let mut args = unlock.clone();
    args.push("--json");
    let checked = disk.run("check", &args);
    let found = finding(&checked, "volume.encryption");
    assert_eq!(
        (checked.code, &found["outcome"]),
        (0, &"caution".into()),
        "{found}"
    );
    let expected = if is_suspended {
        "seals-its-key-anew"
    } else {
        "recovery-password-at-hand"
    };
    assert_eq!(found["remedy"]["kind"], expected);

    let job = disk.lab.path("job");
    let convert = ["--job", "job", "--yes"];
    if !is_suspended {
        let refused = disk.run("convert", &[&convert[..], &unlock].concat());
        refused.refuses(2, "--recovery-key-at-hand");
        assert_eq!(hash(&disk.image), hash(&disk.before));
    }
    let at_hand = ["--recovery-key-at-hand"];
    let converted = disk.run("convert", &[&convert[..], &unlock, &at_hand].concat());
    assert_eq!(
        converted.code, 0,
        "{}{}",
        converted.stdout, converted.stderr
    );

    // Exactly the sectors of the edited files, as the plan has them; the other reader sees the same.
    let raw = disk.differing(
        (&disk.image, disk.windows.0),
        (&disk.before, disk.windows.0),
    );
    let first = disk.windows.0 / u64::from(sector);
    let mut edits: Vec<u64> = Vec::new();
    for extent in journal(&job)["extents"].as_array().unwrap() {
        if extent["stage"] == "edit" {
            let at = extent["first_lba"].as_u64().unwrap() - first;
            edits.extend(at..at + extent["sectors"].as_u64().unwrap());
        }
    }
    edits.sort_unstable();
    assert!(!raw.is_empty() && raw == edits, "{raw:?}, {edits:?}");
    let decrypted_after = disk.decrypted(&disk.image, &theirs, "after.bin");
    assert_eq!(disk.differing((&decrypted_after, 0), (&decrypted, 0)), raw);

    // All files are as before, but for the two that name the disk.
    let (files_before, files_after) = (snapshot(&decrypted), snapshot(&decrypted_after));
    assert_eq!(files_before.len(), files_after.len());
    let changed: Vec<&PathBuf> = files_before
        .iter()
        .filter(|(path, seen)| files_after.get(*path) != Some(*seen))
        .map(|(path, _)| path)
        .collect();
    let names: Vec<_> = changed.iter().filter_map(|path| path.file_name()).collect();
    assert_eq!(names, ["ReAgent.xml", "SYSTEM"], "{changed:?}");

    // Decrypted, it is a disk that starts; so it is where it is open, and where it is not, that is reported.
    let open = disk.lab.path("open.img");
    copy_image(&disk.image, &open);
    poke(&open, disk.windows.0, &fs::read(&decrypted_after).unwrap());
    let starts = disk
        .lab
        .run(&["rehearse", open.to_str().unwrap(), "--quiet"]);
    assert_eq!(starts.code, 0, "{}", starts.stderr);
    let rehearsed = disk.run("rehearse", &unlock);
    assert_eq!(rehearsed.code, 0, "{}", rehearsed.stdout);
    let confirmed = disk.run("confirm", &unlock);
    assert!(
        confirmed.stdout.contains("No Windows on it has started"),
        "{}",
        confirmed.stdout
    );
    if !is_suspended {
        let closed = disk.run("rehearse", &[]);
        assert_eq!(closed.code, 1);
        assert!(closed.stdout.contains("Depends") && closed.stdout.contains("--unlock"));
    }
    let sheet = disk.run("firmware", &[]);
    assert_ne!(sheet.code, 0);
    let report = disk
        .lab
        .run(&["report", "--job", "job", "--out", "job/report.html"]);
    disk.printed += &report.stdout;
    disk.keeps_secrets(&job);

    // Stopped half-way: it is finished without the key. And taken back without it.
    let finished = hash(&disk.image);
    let edited = disk.windows.0 + raw[0] * u64::from(sector);
    poke(
        &disk.image,
        edited,
        &peek(&disk.before, edited, sector as usize),
    );
    poke(&disk.image, 0, &peek(&disk.before, 0, sector as usize));
    reopen(&job);
    let resumed = disk.lab.run(&job_args("resume", &job, &[]));
    let (code, said) = match is_suspended {
        true => (0, "Converted."),
        false => (1, "its volume is encrypted and not open"),
    };
    let told = resumed
        .stdout
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ");
    assert_eq!(resumed.code, code, "{told}{}", resumed.stderr);
    assert!(told.contains(said), "{told}");
    assert_eq!(hash(&disk.image), finished);
    used_since_is_seen(&disk, &job);
    let undone = disk.lab.run(&job_args("undo", &job, &["--yes"]));
    assert_eq!(undone.code, 0, "{}{}", undone.stdout, undone.stderr);
    assert_eq!(hash(&disk.image), hash(&disk.before));
    disk.keeps_secrets(&job);
}

/// What Windows has written since is kept, and that is seen without the key: on a copy of the disk and its job.
fn used_since_is_seen(disk: &Disk, job: &Path) {
    let (image, copy) = (disk.lab.path("used.img"), disk.lab.path("job-used"));
    copy_image(&disk.image, &image);
    fs::create_dir(&copy).unwrap();
    for entry in fs::read_dir(job).unwrap() {
        let path = entry.unwrap().path();
        fs::copy(&path, copy.join(path.file_name().unwrap())).unwrap();
    }
    let sealed = &journal(job)["volumes"][0]["sealed"];
    let sealed = sealed.as_array().unwrap().last().unwrap();
    let at = sealed["first_lba"].as_u64().unwrap() * u64::from(disk.sector) + 7;
    let byte = peek(&image, at, 1)[0];
    poke(&image, at, &[!byte]);
    let windows = peek(&image, disk.windows.0, 4 << 20);
    let undo = ["--yes", "--disk", image.to_str().unwrap()];
    let undone = disk.lab.run(&job_args("undo", &copy, &undo));
    assert_eq!(undone.code, 0, "{}{}", undone.stdout, undone.stderr);
    let told = undone
        .stdout
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ");
    assert!(told.contains("has been used since"), "{told}");
    assert_eq!(peek(&image, 0, 512), peek(&disk.before, 0, 512));
    assert!(peek(&image, disk.windows.0, 4 << 20) == windows);
    let why = "its volume is encrypted, and not opened";
    assert!(told.contains(why), "{told}");
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_windows_with_a_recovery_password_crosses_and_comes_back() {
    crosses_and_comes_back(512, "xts-128", &[PASSWORD]);
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_windows_with_protection_suspended_crosses_and_comes_back() {
    crosses_and_comes_back(512, "cbc-256", &["clear", PASSWORD]);
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_windows_with_a_key_file_crosses_and_comes_back() {
    crosses_and_comes_back(4096, "xts-128", &["file", PASSWORD]);
}

#[test]
#[ignore = "needs root"]
fn what_does_not_open_it_is_told() {
    let mut disk = Disk::new(4096, "xts-128", &[PASSWORD]);
    let before = hash(&disk.image);
    let shown = disk.run("check", &[]).stdout;
    let id = disk.ids[0].to_uppercase();
    assert!(shown.replace("\n", " ").contains(&id), "{shown}");
    // Each by its exit code, and its message.
    fs::write(
        disk.lab.path("mistyped.txt"),
        PASSWORD.replace("717365", "717366"),
    )
    .unwrap();
    fs::write(disk.lab.path("other.txt"), OTHER).unwrap();
    fs::write(disk.lab.path("nothing.txt"), "").unwrap();
    fs::write(disk.lab.path("noise.bin"), [0xC3, 0x28, 0, 0xFF]).unwrap();
    for (file, code, said) in [
        ("missing.txt", 2, "No such file"),
        (
            "mistyped.txt",
            2,
            "group 5 of the recovery password is mistyped",
        ),
        ("nothing.txt", 2, "it is empty"),
        ("noise.bin", 2, "neither a password nor a key file"),
        ("other.txt", 3, "is not opened by what was given"),
    ] {
        let run = disk.run("convert", &["--job", "job", "--yes", "--unlock", file]);
        assert_eq!(run.code, code, "{file}: {}", run.stderr);
        assert!(run.stderr.contains(said), "{file}: {}", run.stderr);
    }
    // Typed without being shown, and from the environment.
    let image = disk.image.to_str().unwrap().to_owned();
    let typed = disk
        .lab
        .run_with(&["check", &image, "--unlock", "-"], PASSWORD);
    assert_eq!(typed.code, 0, "{}", typed.stderr);
    let next = typed.stdout.lines().last().unwrap();
    assert!(next.ends_with("--unlock -"), "{next}");
    let variable = [("SCHWELLE_UNLOCK", PASSWORD)];
    let run = disk.lab.run_env(&variable, &["check", &image], "");
    assert_eq!(run.code, 0, "{}", run.stderr);
    assert_eq!(hash(&disk.image), before);
    // While it runs, no other program finds it in the environment or in an image of the memory.
    let mut running = Command::new(env!("CARGO_BIN_EXE_schwelle"))
        .args(["check", &image, "--unlock", "-"])
        .env("SCHWELLE_UNLOCK", PASSWORD)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let told = |name: &str| {
        let path = format!("/proc/{}/{name}", running.id());
        String::from_utf8_lossy(&fs::read(path).unwrap()).into_owned()
    };
    let is_protected = || {
        let limits = told("limits");
        let core = limits
            .lines()
            .find(|line| line.starts_with("Max core file"));
        // The limit that cannot be raised again.
        let core = core.and_then(|line| line.split_whitespace().nth(5));
        core == Some("0") && !told("environ").contains(PASSWORD)
    };
    let begun = std::time::Instant::now();
    while !is_protected() {
        assert!(begun.elapsed().as_secs() < 20, "{}", told("environ"));
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    running.kill().unwrap();
    running.wait().unwrap();

    // One copy of its metadata damaged, two, all three.
    let header = peek(&disk.image, disk.windows.0 + 176, 24);
    for (count, place) in header.as_chunks::<8>().0.iter().enumerate() {
        let at = disk.windows.0 + u64::from_le_bytes(*place) + 100;
        let byte = peek(&disk.image, at, 1)[0];
        poke(&disk.image, at, &[!byte]);
        let run = disk.run("check", &["--unlock", "password.txt", "--json"]);
        let (code, outcome) = if count < 2 {
            (0, "caution")
        } else {
            (1, "block")
        };
        assert_eq!(
            (run.code, &finding(&run, "volume.encryption")["outcome"]),
            (code, &outcome.into()),
            "{count}"
        );
    }
}

#[test]
#[ignore = "needs outside programs"]
fn an_encrypted_volume_is_never_shrunk() {
    // No room but in the volumes.
    let lab = Lab::new();
    let image = crate::recover::full_disk(&lab, "disk.img");
    let device = DiskFile::open_read(&image, None).unwrap();
    let len = device.geometry().len_bytes();
    drop(device);
    let table = peek(&image, 446, 64);
    let entry = |index: usize| {
        let number =
            |at: usize| u32::from_le_bytes(table[16 * index + at..][..4].try_into().unwrap());
        (u64::from(number(8)) * 512, u64::from(number(12)) * 512)
    };
    let (first, bytes) = entry(1);
    assert!(first + bytes + (1 << 20) >= len);
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cli/encrypted/encrypt.py");
    let (first, bytes) = (first.to_string(), bytes.to_string());
    let script = script.to_str().unwrap();
    let image = image.to_str().unwrap();
    tool(
        "/usr/bin/python3",
        &[script, image, &first, &bytes, "512", "xts-128", "clear"],
    );
    let run = lab.run(&["check", image, "--place", "shrink"]);
    assert_eq!(run.code, 1, "{}", run.stdout);
    assert!(run.stdout.contains("shrunk by Windows"), "{}", run.stdout);
    let volume = lab.path("volume.img");
    extract(
        Path::new(image),
        (first.parse().unwrap(), bytes.parse().unwrap()),
        &volume,
    );
    // The header that the script writes is one for the disk encryption tool as well.
    let dump = tool_any("cryptsetup", &["bitlkDump", volume.to_str().unwrap()]);
    assert!(
        dump.stdout.contains("VMK protected with clear key"),
        "{}{}",
        dump.stdout,
        dump.stderr
    );
}

#[test]
fn a_password_that_is_typed_is_not_shown() {
    let disk = Disk::new(4096, "xts-128", &[PASSWORD]);
    // In a terminal of its own, typed half a second after the question.
    let program = cargo_bin("schwelle");
    let command = format!("{} check disk.img --unlock -", program.display());
    let typing = format!("sleep 0.5; echo {PASSWORD}; sleep 5");
    let output = Command::new("sh")
        .args([
            "-c",
            &format!("({typing}) | script -qec '{command}' /dev/null"),
        ])
        .env_clear()
        .envs([
            ("PATH", "/usr/bin:/bin"),
            ("TERM", "xterm"),
            ("SHELL", "/bin/sh"),
        ])
        .current_dir(disk.lab.path(""))
        .output()
        .unwrap();
    let shown = String::from_utf8(output.stdout).unwrap();
    assert!(
        shown.contains("it is not shown") && shown.contains("opened here"),
        "{shown}"
    );
    assert!(!shown.contains(&PASSWORD[..13]), "{shown}");
}

#[test]
#[ignore = "needs root and outside programs"]
fn an_encrypted_windows_goes_back_to_an_mbr() {
    let mut disk = Disk::new(512, "cbc-128", &["clear"]);
    let converted = disk.run("convert", &["--job", "job", "--yes"]);
    assert_eq!(
        converted.code, 0,
        "{}{}",
        converted.stdout, converted.stderr
    );
    let gpt = hash(&disk.image);
    let back = disk.run("convert", &["--to", "mbr", "--job", "back", "--yes"]);
    assert_eq!(back.code, 0, "{}{}", back.stdout, back.stderr);
    let starts = disk.run("rehearse", &["--to", "mbr"]);
    assert_eq!(starts.code, 0, "{}", starts.stdout);
    // The files on it are as the other reader decrypts them before and after, but for the two.
    let files = |image: &Path, name: &str| snapshot(&disk.decrypted(image, &[], name));
    let (before, after) = (files(&disk.before, "a.bin"), files(&disk.image, "b.bin"));
    let changed = before
        .iter()
        .filter(|(path, seen)| after.get(*path) != Some(*seen));
    assert!((1..=2).contains(&changed.count()));
    let undone = disk
        .lab
        .run(&job_args("undo", &disk.lab.path("back"), &["--yes"]));
    assert_eq!(undone.code, 0, "{}{}", undone.stdout, undone.stderr);
    assert_eq!(hash(&disk.image), gpt);
}
