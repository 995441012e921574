//! What names the disk inside Windows: drive letters, recovery environment, and registries whose
//! last changes are still in their logs. Judged by a hive library and the NTFS utilities' driver.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::bytes::utf16_bytes;
use schwelle_core::device::{DiskFile, Extent, Window};
use schwelle_core::hive::HiveEditor;
use schwelle_core::ntfs::NtfsVolume;
use schwelle_demo::{LogFormat, interrupted, scatter};
use serde_json::Value;

use crate::menu::BOOT;
use crate::support::{COMPUTER, Lab, SIGNATURE, part, peek, place};
use crate::volumes::{Mount, edit_volume, is_consistent, real_data};
use schwelle_testkit::{Mounted, dump, extract, hash, hex, merge};

const SYSTEM: &str = "Windows/System32/config/SYSTEM";
const BESIDE: &str = "Recovery/WindowsRE/ReAgent.xml";
const RECOVERY: &str = "Windows/System32/Recovery/ReAgent.xml";
const MIB: u64 = 1 << 20;
/// The Windows volume of the standard disk.
const WINDOWS: (u64, u64) = (51 * MIB, 160 * MIB);

/// GUID of a partition of a converted disk.
fn id_of(image: &Path, record: &Value, role: &str) -> Vec<u8> {
    let number = part(record, role)["number"].as_u64().unwrap();
    peek(image, 1024 + (number - 1) * 128 + 16, 16)
}

/// A file of a partition of a converted disk, copied out through the driver.
fn file_of(lab: &Lab, image: &Path, record: &Value, role: &str, name: &str) -> PathBuf {
    let (volume, copy) = (lab.path("taken.img"), lab.path("taken.file"));
    extract(image, place(record, role), &volume);
    is_consistent(&volume).unwrap();
    fs::copy(
        Mounted::new(lab.path("mounted"), &volume).0.join(name),
        &copy,
    )
    .unwrap();
    copy
}

fn record(job: &Path) -> Value {
    serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap()
}

/// The lines that differ between two dumps, in both directions.
fn difference(
    before: &BTreeMap<String, String>,
    after: &BTreeMap<String, String>,
) -> [Vec<String>; 2] {
    let lines = |dump: &BTreeMap<String, String>| -> Vec<String> {
        let keys = dump.iter();
        keys.flat_map(|(key, text)| text.lines().map(move |line| format!("{key} {line}")))
            .collect()
    };
    let (before, after) = (lines(before), lines(after));
    let without = |all: &[String], other: &[String]| -> Vec<String> {
        let known: std::collections::BTreeSet<_> = other.iter().collect();
        all.iter()
            .filter(|line| !known.contains(line))
            .cloned()
            .collect()
    };
    [without(&before, &after), without(&after, &before)]
}

/// The values that must be carried over on the standard disk: name, and the role of their partition.
const IDENTITIES: [(&str, &str); 3] = [
    (r"\\DosDevices\\C:", "Windows"),
    (
        r"\\??\\Volume{7a5f0c11-51c3-11f0-9a44-0c5e9b1f7701}",
        "boot",
    ),
    (
        r"\\??\\Volume{7a5f0c12-51c3-11f0-9a44-0c5e9b1f7701}",
        "Windows",
    ),
];

/// Dumps as they must differ: the values of this disk by GUID, and nothing else.
fn assert_converted(lab: &Lab, image: &Path, record: &Value, before: &Path, name: &str) {
    let after = file_of(lab, image, record, "Windows", SYSTEM);
    assert_eq!(
        fs::metadata(&after).unwrap().len(),
        fs::metadata(before).unwrap().len()
    );
    let [gone, mut new] = difference(&dump(before, "S"), &dump(&after, "S"));
    let mut expected: Vec<String> = IDENTITIES
        .iter()
        .map(|(value, role)| {
            let data = [&b"DMIO:ID:"[..], &id_of(image, record, role)].concat();
            format!("[S\\MountedDevices] \"{value}\"=hex(3):{}", hex(&data))
        })
        .collect();
    expected.sort();
    new.sort();
    assert_eq!(new, expected, "{name}");
    assert_eq!(gone.len(), expected.len(), "{name}: {gone:?}");
    // Cell by cell: for each value its own cell, and the one that held its data. The key itself has
    // longer data than these.
    let (before, after) = (fs::read(before).unwrap(), fs::read(&after).unwrap());
    let touched = cells(&before).into_iter().filter(|(at, size)| {
        *size < 0 && {
            let cell = *at..*at + usize::try_from(-size).unwrap();
            before[cell.clone()] != after[cell]
        }
    });
    assert_eq!(touched.count(), 2 * expected.len(), "{name}");
}

/// The cells of a hive: place in the file, and size; negative for used ones.
fn cells(hive: &[u8]) -> Vec<(usize, i32)> {
    let number = |at: usize| i32::from_le_bytes(hive[at..at + 4].try_into().unwrap());
    let (mut cells, mut bin) = (Vec::new(), 4096);
    while bin < hive.len() && hive[bin..].starts_with(b"hbin") {
        let end = bin + usize::try_from(number(bin + 8)).unwrap();
        let mut cell = bin + 32;
        while cell < end {
            cells.push((cell, number(cell)));
            cell += usize::try_from(number(cell).unsigned_abs()).unwrap();
        }
        bin = end;
    }
    cells
}

#[test]
#[ignore = "needs root and outside programs"]
fn letters_cross_in_hives_of_every_shape_and_nothing_else_changes() {
    let many = (0..1500).map(|n| format!("[S\\Setup\\Many\\key{n:04}]\n\"v\"=dword:{n:08x}\n\n"));
    let deep: String = (0..60).map(|n| format!("\\level{n}")).collect();
    // What the standard disk's registry has, for others.
    let mounted = |(name, role): &(&str, &str)| {
        let first = if *role == "boot" { MIB } else { WINDOWS.0 };
        let data = [&SIGNATURE.to_le_bytes()[..], &first.to_le_bytes()].concat();
        format!("\"{name}\"=hex(3):{}\n", hex(&data))
    };
    let mounted: String = IDENTITIES.iter().map(mounted).collect();
    let mounted = format!("[S\\MountedDevices]\n{mounted}\n");
    let shapes = [
        ("as it is", String::new()),
        ("dfwinreg/SYSTEM", mounted.clone()),
        ("dissect.regf/SYSTEM", mounted),
        ("wide", many.collect()),
        (
            "deep",
            format!("[S\\Setup{deep}]\n\"bottom\"=dword:00000001\n\n"),
        ),
        (
            "with large data",
            format!(
                "[S\\Setup]\n\"large\"=hex(3):{}\n\n",
                hex(&vec![0x5A; 50_000])
            ),
        ),
    ];
    for (name, text) in shapes {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", 512);
        let before = lab.path("before");
        edit_volume(&image, WINDOWS, |mount| {
            match name.contains('/') {
                // The registry of another Windows.
                true => fs::copy(real_data(name), &before).unwrap(),
                false => fs::copy(mount.path(SYSTEM), &before).unwrap(),
            };
            if !text.is_empty() {
                // Parents first: the library makes no keys in between.
                let mut parents = String::from("[S\\Setup]\n\n[S\\Setup\\Many]\n\n");
                let mut path = "S\\Setup".to_owned();
                for level in deep.split('\\').filter(|level| !level.is_empty()) {
                    path = format!("{path}\\{level}");
                    parents += &format!("[{path}]\n\n");
                }
                merge(&before, "S", &(parents + &text));
                fs::copy(&before, mount.path(SYSTEM)).unwrap();
            }
        });
        let job = lab.path("job");
        let old = hash(&image);
        let run = lab.convert(&image, &job, &["--quiet"]);
        assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
        let record = record(&job);
        assert_converted(&lab, &image, &record, &before, name);
        let edited = record["plan"]["files_edited"].as_array().unwrap();
        assert_eq!(edited.len(), 2, "{name}: {edited:?}");
        let undo = ["undo", "--job", job.to_str().unwrap(), "--yes"];
        assert_eq!(lab.run(&undo).code, 0, "{name}");
        assert_eq!(hash(&image), old, "{name}");
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn the_recovery_environment_is_found_by_its_gpt_disk_also_where_its_file_lies_in_its_record() {
    for (name, mib) in [("with room", 340), ("shrunk", 211)] {
        let lab = Lab::new();
        let image = lab.image("disk.img", 512, mib, |disk| {
            disk.standard(SIGNATURE, COMPUTER).unwrap();
        });
        let zero = "{00000000-0000-0000-0000-000000000000}";
        let text = |id: u32, guid: &str| {
            format!(
                "<WindowsRE version=\"2.0\"><!-- id=\"7\" --><WinreLocation path=\"\\Recovery\\WindowsRE\" \
                 id=\"{id}\" offset=\"1048576\" guid=\"{guid}\"/><InstallState state=\"1\"/></WindowsRE>\n"
            )
        };
        edit_volume(&image, WINDOWS, |mount| {
            fs::remove_file(mount.path(RECOVERY)).unwrap();
            fs::write(mount.path(RECOVERY), text(SIGNATURE, zero)).unwrap();
        });
        // Beside the image lies a copy.
        edit_volume(&image, BOOT, |mount| {
            fs::write(mount.path(BESIDE), text(SIGNATURE, zero)).unwrap();
            fs::write(mount.path("bootTel.dat"), [7; 100]).unwrap();
        });
        if name == "shrunk" {
            // The MFT lies where the room is taken: the record moves, and is edited there.
            let device = DiskFile::open_write(&image, Some(512)).unwrap();
            let extent = Extent::new(crate::support::lba(51 * 2048), 160 * 2048).unwrap();
            scatter(&Window::new(&device, extent).unwrap(), &[(0, 0x80)]).unwrap();
        }
        {
            let device = DiskFile::open_read(&image, Some(512)).unwrap();
            let extent = Extent::new(crate::support::lba(51 * 2048), 160 * 2048).unwrap();
            let window = Window::new(&device, extent).unwrap();
            let volume = NtfsVolume::open(&window).unwrap();
            let found = volume.find(&RECOVERY.replace('/', "\\")).unwrap().unwrap();
            assert!(volume.open_file(found.record).unwrap().runs().is_empty());
        }
        let (job, old) = (lab.path("job"), fs::read(&image).unwrap());
        let run = lab.convert(&image, &job, &["--quiet", "--esp-size", "108M"]);
        assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
        let record = record(&job);
        let moved = record["plan"]["bytes_moved"].as_u64().unwrap();
        assert_eq!(moved > 0, name == "shrunk");
        let id = uuid::Uuid::from_slice_le(&peek(&image, 512 + 56, 16)).unwrap();
        let found =
            fs::read_to_string(file_of(&lab, &image, &record, "Windows", RECOVERY)).unwrap();
        let expected = text(0, &format!("{{{id}}}"));
        let blanks = text(SIGNATURE, zero).len() - expected.len();
        let expected = expected.replace(
            "\"/><Install",
            &format!("\"{}/><Install", " ".repeat(blanks)),
        );
        assert_eq!(found, expected, "{name}");
        let beside = fs::read_to_string(file_of(&lab, &image, &record, "boot", BESIDE)).unwrap();
        assert_eq!(beside, expected, "{name}, beside the image");
        let rehearsal = lab
            .run(&["rehearse", image.to_str().unwrap(), "--json"])
            .json();
        let mut steps = rehearsal["steps"].as_array().unwrap().iter();
        let step = steps.find(|step| step["step"] == "recovery").unwrap();
        assert_eq!(step["outcome"], "pass");
        let undo = ["undo", "--job", job.to_str().unwrap(), "--yes"];
        assert_eq!(lab.run(&undo).code, 0, "{name}");
        // Free clusters keep what was moved to them; everything in use is as it was.
        let volume = lab.path("volume.img");
        extract(&image, WINDOWS, &volume);
        is_consistent(&volume).unwrap();
        assert!(name == "shrunk" || fs::read(&image).unwrap() == old);
        let file = Mount::new(&volume, false);
        assert_eq!(
            fs::read_to_string(file.path(RECOVERY)).unwrap(),
            text(SIGNATURE, zero)
        );
    }
}

/// A file record that two stages write: its stream beside the content moves, which the shrink notes in
/// it, and the content in it is edited at the end. Power fails when the one is about to begin.
#[test]
#[ignore = "needs root and outside programs"]
fn a_record_that_is_shrunk_and_then_edited_survives_a_cut_in_between() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 211, |disk| {
        disk.standard(SIGNATURE, COMPUTER).unwrap();
    });
    let text = format!(
        "<WindowsRE><WinreLocation path=\"\\Recovery\\WindowsRE\" id=\"{SIGNATURE}\" \
         offset=\"1048576\" guid=\"{{00000000-0000-0000-0000-000000000000}}\"/></WindowsRE>"
    );
    edit_volume(&image, WINDOWS, |mount| {
        fs::remove_file(mount.path(RECOVERY)).unwrap();
        fs::write(mount.path(RECOVERY), &text).unwrap();
        // What is written after a large file comes to lie where the room is taken.
        fs::write(mount.path("filler"), vec![1; 112 << 20]).unwrap();
        fs::write(mount.path(&format!("{RECOVERY}:notes")), vec![2; 30_000]).unwrap();
        fs::remove_file(mount.path("filler")).unwrap();
    });
    let (job, old) = (lab.path("job"), fs::read(&image).unwrap());
    let run = lab.convert(&image, &job, &["--quiet", "--esp-size", "108M"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let converted = fs::read(&image).unwrap();
    let journal = crate::job_files::journal(&job);
    let sectors = |stage: &str| -> std::collections::BTreeSet<u64> {
        let extents = journal["extents"].as_array().unwrap().iter();
        let number = |extent: &Value, key: &str| extent[key].as_u64().unwrap();
        extents
            .filter(|extent| extent["stage"] == stage)
            .flat_map(|e| number(e, "first_lba")..number(e, "first_lba") + number(e, "sectors"))
            .collect()
    };
    assert!(!sectors("shrink").is_disjoint(&sectors("edit")));
    // Everything has been moved, and nothing shrunk.
    let mut cut = old.clone();
    for moved in journal["moves"].as_array().unwrap() {
        let bytes = |key: &str| usize::try_from(moved[key].as_u64().unwrap() * 512).unwrap();
        let (to, len) = (bytes("to_lba"), bytes("sectors"));
        cut[to..to + len].copy_from_slice(&converted[to..to + len]);
    }
    for command in ["resume", "undo"] {
        fs::write(&image, &cut).unwrap();
        crate::job_files::reopen(&job);
        let yes: &[&str] = if command == "undo" { &["--yes"] } else { &[] };
        let run = lab.run(&crate::job_files::job_args(command, &job, yes));
        assert_eq!(run.code, 0, "{command}: {}", run.stderr);
        let found = fs::read(&image).unwrap();
        if command == "resume" {
            assert!(found == converted);
        } else {
            // The table, and all that was not free.
            assert!(found[..512] == old[..512]);
            let volume = lab.path("volume.img");
            extract(&image, WINDOWS, &volume);
            is_consistent(&volume).unwrap();
            let mount = Mount::new(&volume, false);
            assert_eq!(fs::read_to_string(mount.path(RECOVERY)).unwrap(), text);
        }
    }
}

/// A registry that was being written when the power failed: what is pending is applied first, as
/// the system would, and only then the letters are carried over.
#[test]
#[ignore = "needs root and outside programs"]
fn pending_changes_are_applied_first_and_told() {
    for format in [LogFormat::Old, LogFormat::New(3)] {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", 512);
        let expected = lab.path("expected");
        edit_volume(&image, WINDOWS, |mount| {
            let old = fs::read(mount.path(SYSTEM)).unwrap();
            let mut editor = HiveEditor::open(&old[..]).unwrap();
            let key = "ControlSet001\\Control\\ComputerName\\ComputerName";
            let name = utf16_bytes("NEW-SIGNALS\0");
            editor.set_data(key, "ComputerName", &name).unwrap();
            let new = editor.finish(5);
            fs::write(&expected, &new).unwrap();
            let left = interrupted(&old, &new, format);
            fs::write(mount.path(SYSTEM), &left.hive).unwrap();
            for (ending, log) in left.logs {
                fs::write(mount.path(&format!("{SYSTEM}.{ending}")), log).unwrap();
            }
        });
        let json = lab
            .run(&["check", image.to_str().unwrap(), "--json"])
            .json();
        assert_eq!(
            (&json["answer"], &json["disk_name"]),
            (&"caution".into(), &"NEW-SIGNALS".into())
        );
        let shown = json["findings"].to_string();
        assert!(
            shown.contains("pending in its log, applied before reading"),
            "{format:?}"
        );
        let job = lab.path("job");
        let run = lab.convert(&image, &job, &["--quiet"]);
        assert_eq!(run.code, 0, "{format:?}: {}{}", run.stdout, run.stderr);
        let record = record(&job);
        assert_converted(&lab, &image, &record, &expected, &format!("{format:?}"));
        let edited = record["plan"]["files_edited"].to_string();
        assert!(edited.contains("pending in its log, applied"), "{edited}");
    }
}

/// Marks the free cells of a hive that a longer value could take as used, but for some of just the
/// size that one value needs.
fn use_up(hive: &mut [u8], keep: usize) {
    let free: Vec<(usize, i32)> = cells(hive)
        .into_iter()
        .filter(|(_, size)| *size >= 16)
        .collect();
    let mut put = |at: usize, size: i32| hive[at..at + 4].copy_from_slice(&size.to_le_bytes());
    for (index, (at, size)) in free.into_iter().enumerate() {
        match size - 32 {
            rest if index < keep && rest >= 0 => {
                put(at, 32);
                if rest > 0 {
                    put(at + 32, -rest);
                }
            }
            _ => put(at, -size),
        }
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_registry_without_room_blocks_or_cautions_by_what_would_be_lost() {
    for (keep, answer, rule_outcome) in [(0, "blocked", "block"), (1, "caution", "caution")] {
        let lab = Lab::new();
        let (image, places) = lab.standard("disk.img", 512);
        {
            let device = DiskFile::open_write(&image, Some(512)).unwrap();
            let path = format!("\\{}", SYSTEM.replace('/', "\\"));
            schwelle_demo::edit_file(&device, places.windows, &path, |hive| use_up(hive, keep))
                .unwrap();
        }
        let before = hash(&image);
        let json = lab
            .run(&["check", image.to_str().unwrap(), "--json"])
            .json();
        assert_eq!(json["answer"], answer, "{keep}: {}", json["findings"]);
        let findings = json["findings"].as_array().unwrap();
        let letters = findings
            .iter()
            .find(|f| f["rule"] == "system.letters")
            .unwrap();
        assert_eq!(letters["outcome"], rule_outcome, "{letters}");
        assert!(
            letters["evidence"]["text"]
                .as_str()
                .unwrap()
                .contains("no free space for"),
            "{letters}"
        );
        let run = lab.convert(&image, "job", &["--json"]);
        assert_eq!(run.code, i32::from(keep == 0), "{}", run.stderr);
        if keep == 0 {
            assert_eq!(hash(&image), before);
        } else {
            // Its own letter converted; the other names stay as they were.
            let record = record(&lab.path("job"));
            let after = dump(&file_of(&lab, &image, &record, "Windows", SYSTEM), "S");
            let text = &after["[S\\MountedDevices]"];
            let gpt = hex(b"DMIO:ID:");
            assert_eq!(text.matches(&gpt).count(), 1, "{text}");
            assert!(
                text.lines()
                    .any(|line| line.contains("C:") && line.contains(&gpt)),
                "{text}"
            );
        }
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_hostile_registry_is_answered_and_its_names_reach_no_terminal() {
    use schwelle_core::hive::{Node, Value as HiveValue};
    let place = [&SIGNATURE.to_le_bytes()[..], &(51 * MIB).to_le_bytes()].concat();
    for (count, code, expected) in [(1500, 1, "more than 1000 names"), (3, 0, "u{1b}[2J")] {
        let values = (0..count).map(|n| HiveValue {
            name: format!("\\DosDevices\\\u{1b}[2J\u{202e}{n}:"),
            kind: 3,
            data: place.clone(),
        });
        let key = |name: &str, values: Vec<HiveValue>| Node {
            name: name.into(),
            values,
            ..Node::default()
        };
        let current = HiveValue {
            name: "Current".into(),
            kind: 4,
            data: vec![1, 0, 0, 0],
        };
        let root = Node {
            flags: 0x0C,
            subkeys: vec![
                key("MountedDevices", values.collect()),
                key("Select", vec![current]),
            ],
            ..key("root", Vec::new())
        };
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", 512);
        edit_volume(&image, WINDOWS, |mount| {
            // Two bins' worth of room after, as the systems leave it.
            let mut bytes = root.to_hive(1, 1);
            bytes.resize(bytes.len() + 8192, 0);
            fs::write(mount.path(SYSTEM), bytes).unwrap();
        });
        for command in ["check", "plan"] {
            let run = lab.run(&[command, image.to_str().unwrap(), "--all"]);
            assert_eq!(run.code, code, "{count}: {}", run.stdout);
            let flat = run.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
            assert!(flat.contains(expected), "{count}: {flat}");
            let hostile = ['\u{1b}', '\u{202e}'];
            assert!(!run.stdout.contains(hostile), "{}", run.stdout);
        }
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_compressed_registry_is_read_but_blocks_since_it_cannot_be_edited() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    edit_volume(&image, WINDOWS, |mount| {
        let bytes = fs::read(mount.path(SYSTEM)).unwrap();
        mount.compressed_folder("Windows/System32/config");
        fs::remove_file(mount.path(SYSTEM)).unwrap();
        fs::write(mount.path(SYSTEM), bytes).unwrap();
    });
    let json = lab
        .run(&["check", image.to_str().unwrap(), "--json"])
        .json();
    assert_eq!(
        (&json["answer"], &json["disk_name"]),
        (&"blocked".into(), &COMPUTER.into())
    );
    let findings = json["findings"].as_array().unwrap();
    let letters = findings
        .iter()
        .find(|f| f["rule"] == "system.letters")
        .unwrap();
    let evidence = letters["evidence"]["text"].as_str().unwrap();
    assert!(
        evidence.contains("is compressed and cannot be edited"),
        "{evidence}"
    );
}
