//! Hives that were being written when their system stopped: both formats of logs, and damaged ones.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::Command;

use schwelle_demo::{LogFormat, Unfinished, interrupted};
use schwelle_disk::bytes::ReadBytes;
use schwelle_formats::hive::{Hive, HiveEditor, Node, Recovered, Value};
use schwelle_testkit::Dice;

/// A hive with some hundred values, and the same with every third of them changed.
fn two_states() -> (Vec<u8>, Vec<u8>) {
    let value = |number: usize| Value {
        name: format!("value {number}"),
        kind: 3,
        data: vec![1; 40],
    };
    let root = Node {
        name: "root".into(),
        flags: 0x0C,
        values: (0..300).map(value).collect(),
        ..Node::default()
    };
    let old = root.to_hive(100, 7);
    let mut editor = HiveEditor::open(&old[..]).unwrap();
    for number in (0..300).step_by(3) {
        let name = format!("value {number}");
        editor.set_data("", &name, &[2; 40]).unwrap();
    }
    (old, editor.finish(200))
}

fn tree<S: ReadBytes + ?Sized>(source: &S) -> Node {
    Node::read(&Hive::open(source).unwrap()).unwrap()
}

fn recovered(unfinished: &Unfinished) -> Result<(Node, usize), String> {
    let recovered = Recovered::open(&unfinished.hive[..], &unfinished.logs);
    let recovered = recovered.map_err(|error| error.to_string())?;
    let hive = Hive::open(&recovered).unwrap();
    assert!(hive.is_cleanly_closed());
    Ok((tree(&recovered), recovered.applied()))
}

#[test]
fn what_is_pending_in_a_log_of_either_format_is_applied() {
    let (old, new) = two_states();
    assert_ne!(tree(&old[..]), tree(&new[..]));
    for (format, applied) in [
        (LogFormat::Old, 1),
        (LogFormat::New(1), 1),
        (LogFormat::New(2), 2),
        (LogFormat::New(7), 7),
    ] {
        let unfinished = interrupted(&old, &new, format);
        let (found, count) = recovered(&unfinished).unwrap();
        assert!(found == tree(&new[..]), "{format:?}");
        assert_eq!(count, applied, "{format:?}");
        // The order of the files does not matter.
        let mut turned = unfinished;
        turned.logs.reverse();
        assert!(
            recovered(&turned).unwrap().0 == tree(&new[..]),
            "{format:?}"
        );
    }
    // A hive that was closed needs no log, and takes none.
    let mut closed = interrupted(&old, &new, LogFormat::New(2));
    closed.hive = old.clone();
    let (found, count) = recovered(&closed).unwrap();
    assert!(found == tree(&old[..]) && count == 0);
}

#[test]
fn a_log_that_does_not_fit_is_refused_and_says_why() {
    let (old, new) = two_states();
    type Spoil = fn(&mut Unfinished);
    let cases: [(&str, LogFormat, Spoil, &str); 9] = [
        (
            "no log",
            LogFormat::Old,
            |u| u.logs.clear(),
            "there is no log beside it",
        ),
        (
            "empty logs",
            LogFormat::New(2),
            |u| {
                u.logs.iter_mut().for_each(|(_, log)| log.fill(0));
            },
            "there is no log beside it",
        ),
        (
            "half an old log",
            LogFormat::Old,
            |u| u.logs[0].1.truncate(2000),
            "its pages are cut off",
        ),
        (
            "an old log not finished",
            LogFormat::Old,
            |u| {
                u.logs[0].1[8] ^= 1;
                u.logs[0].1[0x1FC] ^= 1;
            },
            "it was not finished",
        ),
        (
            "an old log of another time",
            LogFormat::Old,
            |u| {
                u.logs[0].1[12] ^= 1;
                u.logs[0].1[0x1FC] ^= 1;
            },
            "it belongs to another state of the hive",
        ),
        (
            "an old log without its table",
            LogFormat::Old,
            |u| u.logs[0].1[512] = b'X',
            "it has no table of pages",
        ),
        (
            "a log's own header damaged",
            LogFormat::Old,
            |u| u.logs[0].1[40] ^= 1,
            "checksum of its base block is wrong",
        ),
        (
            "the first entry damaged",
            LogFormat::New(4),
            |u| u.logs[0].1[600] ^= 1,
            "begins at number",
        ),
        (
            "the first log lost",
            LogFormat::New(4),
            |u| drop(u.logs.remove(0)),
            "begins at number",
        ),
    ];
    for (name, format, spoil, expected) in cases {
        let mut unfinished = interrupted(&old, &new, format);
        spoil(&mut unfinished);
        let error = recovered(&unfinished).unwrap_err();
        assert!(error.contains(expected), "{name}: {error}");
    }
    // A later entry that is damaged in its header, its places or its pages, or that is missing, ends
    // the row: what came before it holds.
    let number = |log: &[u8], at: usize| {
        let bytes = log[at..at + 4].try_into().unwrap();
        usize::try_from(u32::from_le_bytes(bytes)).unwrap()
    };
    for spoil in 0..4 {
        let mut unfinished = interrupted(&old, &new, LogFormat::New(4));
        let log = &mut unfinished.logs[1].1;
        match spoil {
            0 => log[512 + 8] ^= 1,
            1 => log[512 + 41] ^= 0x10,
            2 => {
                let first_page = 512 + 40 + 8 * number(log, 512 + 20);
                log[first_page + 100] ^= 1;
            }
            _ => drop(log.drain(512..512 + number(log, 516))),
        }
        let (found, count) = recovered(&unfinished).unwrap();
        assert_eq!(count, 2, "{spoil}");
        assert!(found != tree(&old[..]) && found != tree(&new[..]));
    }
}

/// Any damage to hive and logs is an error or a hive, never a panic or an endless loop.
#[test]
fn damage_anywhere_is_survived() {
    let (old, new) = two_states();
    let mut dice = Dice::new(0x1065);
    let mut roll = |limit: usize| dice.index(limit);
    let mut read = 0;
    for case in 0..3000 {
        let format = [LogFormat::Old, LogFormat::New(3)][case % 2];
        let mut unfinished = interrupted(&old, &new, format);
        for _ in 0..=roll(4) {
            let file = roll(1 + unfinished.logs.len());
            let bytes = match file {
                0 => &mut unfinished.hive,
                log => &mut unfinished.logs[log - 1].1,
            };
            let at = roll(bytes.len().min(2000));
            bytes[at] = roll(256).to_le_bytes()[0];
            if roll(5) == 0 {
                bytes.truncate(at + 1);
            }
        }
        if let Ok(recovered) = Recovered::open(&unfinished.hive[..], &unfinished.logs) {
            let tree = Hive::open(&recovered).and_then(|hive| Node::read(&hive));
            read += usize::from(tree.is_ok());
        }
    }
    assert!(read > 100, "{read} could still be read");
}

/// The folder of a crate's package that `tools/real-data` names.
fn package(name: &str) -> PathBuf {
    let manifest = concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../tools/real-data/Cargo.toml"
    );
    let listed = Command::new(env!("CARGO"))
        .args([
            "metadata",
            "--locked",
            "--format-version=1",
            "--manifest-path",
            manifest,
        ])
        .output()
        .unwrap();
    let shown = String::from_utf8_lossy(&listed.stderr);
    assert!(listed.status.success(), "{shown}");
    let listed: serde_json::Value = serde_json::from_slice(&listed.stdout).unwrap();
    let packages = listed["packages"].as_array().unwrap();
    let found = packages.iter().find(|package| package["name"] == name);
    let manifest = found.unwrap()["manifest_path"].as_str().unwrap();
    PathBuf::from(manifest).parent().unwrap().to_owned()
}

/// A hive that Windows 10 was writing, with its logs.
fn real(folder: &str) -> (Unfinished, PathBuf) {
    let folder = package("nt_hive2").join("tests/data").join(folder);
    let read = |name: &str| std::fs::read(folder.join(name)).unwrap();
    let log = |ending: &str| (ending.to_owned(), read(&format!("NewDirtyHive.{ending}")));
    let hive = read("NewDirtyHive");
    let logs = ["LOG1", "LOG2"].map(log).to_vec();
    (Unfinished { hive, logs }, folder)
}

#[test]
#[ignore = "needs outside programs"]
fn what_windows_left_in_its_logs_is_applied_as_windows_does() {
    let (left, folder) = real("NewDirtyHive1");
    let replayed = Recovered::open(&left.hive[..], &left.logs).unwrap();
    assert!(replayed.applied() > 0);
    let mut ours = vec![0; usize::try_from(replayed.len_bytes()).unwrap()];
    replayed.read_bytes(0, &mut ours).unwrap();
    let mut theirs = std::fs::read(folder.join("RecoveredHive_Windows10")).unwrap();
    // Windows opened the hive for writing afterwards: the two numbers are one higher, and the checksum
    // follows.
    for bytes in [&mut ours, &mut theirs] {
        bytes[4..12].fill(0);
        bytes[0x1FC..0x200].fill(0);
    }
    let differs = ours.iter().zip(&theirs).position(|(a, b)| a != b);
    assert_eq!((differs, ours.len()), (None, theirs.len()));

    let (left, _) = real("NewDirtyHive2");
    assert!(recovered(&left).unwrap().1 > 0);
}

/// A key and all below it as the hive library dumps them: the values of each, sorted.
fn dumped(node: &Node, path: &str, into: &mut BTreeMap<String, Vec<String>>) {
    let line = |value: &Value| {
        let name = match &value.name[..] {
            "" => "@".to_owned(),
            name => format!("\"{}\"", name.replace('\\', r"\\").replace('"', "\\\"")),
        };
        match (value.kind, &value.data[..]) {
            (4, &[a, b, c, d]) => {
                format!("{name}=dword:{:08x}", u32::from_le_bytes([a, b, c, d]))
            }
            (kind, data) => format!("{name}=hex({kind:x}):{}", schwelle_testkit::hex(data)),
        }
    };
    let mut lines: Vec<String> = node.values.iter().map(line).collect();
    lines.sort();
    into.insert(format!("[{path}]"), lines);
    for below in &node.subkeys {
        let parent = path.trim_end_matches('\\');
        dumped(below, &format!("{parent}\\{}", below.name), into);
    }
}

/// A file that `tools/real-data.sh` has fetched.
fn real_data(name: &str) -> PathBuf {
    schwelle_testkit::real_data(env!("CARGO_TARGET_TMPDIR"), name)
}

#[test]
#[ignore = "needs outside programs"]
fn the_registries_of_real_systems_are_read_as_another_library_reads_them() {
    for name in ["NTUSER.DAT", "SAM", "SECURITY", "SYSTEM", "UsrClass.dat"]
        .map(|name| format!("dfwinreg/{name}"))
        .into_iter()
        .chain(["dissect.regf/SYSTEM".to_owned()])
    {
        let file = real_data(&name);
        let bytes = std::fs::read(&file).unwrap();
        let mut ours = BTreeMap::new();
        dumped(&tree(&bytes[..]), "\\", &mut ours);
        let theirs = schwelle_testkit::dump(&file, "");
        assert!(theirs.len() > 10, "{name}");
        for (key, text) in &theirs {
            let mut lines: Vec<String> = text
                .lines()
                .map(str::to_owned)
                .filter(|line| !line.is_empty())
                .collect();
            lines.sort();
            if let Some(ours) = ours.remove(key) {
                assert_eq!(ours, lines, "{name}: {key}");
            } else {
                panic!("{name}: {key} is not read");
            }
        }
        assert_eq!(
            ours.len(),
            0,
            "{name}: {:?}",
            ours.keys().take(3).collect::<Vec<_>>()
        );
    }
}

#[test]
#[ignore = "needs outside programs"]
fn a_hive_library_reads_every_form_that_is_written() {
    let value = |name: &str, len: usize| Value {
        name: name.to_owned(),
        kind: 3,
        data: vec![7; len],
    };
    let key = |name: String, values| Node {
        name,
        values,
        ..Node::default()
    };
    let mut subkeys: Vec<Node> = (0..700)
        .map(|number| key(format!("Key{number:04}"), Vec::new()))
        .collect();
    subkeys.push(key(
        "Länge".to_owned(),
        vec![value("short", 3), value("long", 20_000)],
    ));
    let root = Node {
        subkeys,
        ..key("root".to_owned(), Vec::new())
    };
    let dir = tempfile::tempdir().unwrap();
    let dumped = |minor: u32| {
        let file = dir.path().join(minor.to_string());
        std::fs::write(&file, root.to_hive_as(100, 7, minor)).unwrap();
        schwelle_testkit::dump(&file, "X")
    };
    let newest = dumped(5);
    assert!(newest.len() > 700);
    for minor in [3, 6] {
        assert_eq!(dumped(minor), newest, "{minor}");
    }
}
