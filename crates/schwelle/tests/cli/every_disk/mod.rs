//! The disks that come to the bench: each with its expected answer, and where it converts, the same
//! proofs. A partition lister that others wrote reads the table; file system checkers pass the
//! volumes; real firmware starts the system disks; what is not edited is the same byte for byte, what is has the same files; undo gives the
//! old disk back.

mod build;
mod disks;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value;

use build::build;
use disks::{Answer, Case, DATA, DISKS, Inside};

use crate::layouts::{Found, listed_at};
use crate::support::{Lab, poke};
use crate::volumes::{Seen, is_consistent, snapshot};
use schwelle_testkit::{extract, hash, tool};

const MIB: u64 = 1 << 20;

/// Files of a volume by path, but for those that the job edits.
fn files(lab: &Lab, image: &Path, place: (u64, u64), edited: &[String]) -> BTreeMap<PathBuf, Seen> {
    let copy = lab.path("volume");
    extract(image, place, &copy);
    assert_eq!(is_consistent(&copy), Ok(()));
    let mut files = snapshot(&copy);
    files.retain(|path, _| !edited.iter().any(|edited| Path::new(edited) == path));
    files
}

/// Asks the file system's own checker.
fn check_volume(lab: &Lab, image: &Path, place: (u64, u64), inside: Inside) {
    let copy = lab.path("volume");
    extract(image, place, &copy);
    let path = copy.to_str().unwrap();
    match inside {
        Inside::Fat32 => drop(tool("fsck.vfat", &["-n", path])),
        Inside::Ext => drop(tool("e2fsck", &["-f", "-n", path])),
        Inside::Ntfs => assert_eq!(is_consistent(&copy), Ok(())),
        _ => {}
    }
}

/// Hash of a stretch of an image.
fn hash_of(image: &Path, (offset, len): (u64, u64)) -> blake3::Hash {
    use std::io::{Read, Seek, SeekFrom};
    let mut file = fs::File::open(image).unwrap();
    file.seek(SeekFrom::Start(offset)).unwrap();
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(file.take(len)).unwrap();
    hasher.finalize()
}

fn paths_edited(record: &Value, number: u64) -> Vec<String> {
    let edited = record["plan"]["files_edited"].as_array().unwrap().iter();
    let here = edited.filter(|file| file["partition"] == number);
    here.map(|file| {
        file["path"]
            .as_str()
            .unwrap()
            .trim_start_matches('\\')
            .replace('\\', "/")
    })
    .collect()
}

/// Converts the disk and proves the result; the disk is the old one again afterwards.
fn prove(lab: &Lab, image: &Path, case: &Case) {
    let name = case.name;
    let whole = hash(image);
    let before = lab
        .run(&[&["plan", "disk.img", "--json"][..], case.args].concat())
        .json();
    let sector = u64::from(case.sector);
    let job = lab.path("job");
    fs::remove_dir_all(&job).ok();
    // What each partition holds, by its first sector.
    let parts = before["before"].as_array().unwrap().iter();
    let parts: Vec<&Value> = parts.filter(|part| part["number"].is_u64()).collect();
    let lbas = |part: &Value| {
        (
            part["first_lba"].as_u64().unwrap(),
            part["last_lba"].as_u64().unwrap(),
        )
    };
    let bytes = |(first, last): (u64, u64)| (first * sector, (last + 1 - first) * sector);
    let record = |number: u64| paths_edited(&serde_json::json!({ "plan": before }), number);
    let number = |part: &Value| part["number"].as_u64().unwrap();
    let shrunk = |part: &Value| {
        let mut shrinks = before["shrunk"].as_array().unwrap().iter();
        shrinks
            .find(|shrink| shrink["partition"] == part["number"])
            .map(|shrink| shrink["last_lba_after"].as_u64().unwrap())
    };
    enum Content {
        Bytes(blake3::Hash),
        Files(BTreeMap<PathBuf, Seen>),
    }
    let look = |part: &Value, place: (u64, u64)| {
        let edited = record(number(part));
        if edited.is_empty() && shrunk(part).is_none() {
            Content::Bytes(hash_of(image, bytes(place)))
        } else {
            Content::Files(files(lab, image, bytes(place), &edited))
        }
    };
    let gone = before["placement"]["kind"] == "takeover";
    let kept: Vec<&Value> = parts
        .into_iter()
        .filter(|part| !(gone && part["number"] == before["placement"]["taken_from"]))
        .filter(|part| !(before["placement"]["kind"] == "existing" && part["role"] == "EFI system"))
        .collect();
    let contents: Vec<Content> = kept.iter().map(|part| look(part, lbas(part))).collect();

    let run = lab.convert(image, "job", &[case.args, &["--quiet"]].concat());
    assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
    let mut expected: Vec<Found> = Vec::new();
    for (part, content) in kept.iter().zip(contents) {
        let (first, last) = lbas(part);
        let after = (first, shrunk(part).unwrap_or(last));
        expected.push(Found(first, after.1 + 1 - first));
        match (content, look(part, after)) {
            (Content::Bytes(before), Content::Bytes(after)) => assert_eq!(before, after, "{name}"),
            (Content::Files(before), Content::Files(after)) => {
                assert_eq!(before.len(), after.len(), "{name}");
                for (path, seen) in before {
                    assert_eq!(Some(&seen), after.get(&path), "{name}: {}", path.display());
                }
            }
            _ => panic!("{name}: looked at in two ways"),
        }
    }
    for part in case.parts.iter().chain(case.logical) {
        let per_mib = MIB / sector;
        let first = part.1 * per_mib;
        if let Some(Found(_, sectors)) = expected.iter().find(|found| found.0 == first) {
            check_volume(lab, image, (first * sector, sectors * sector), part.3);
        }
    }
    if let Some(esp) = before["placement"].as_object() {
        let (first, last) = (
            esp["first_lba"].as_u64().unwrap(),
            esp["last_lba"].as_u64().unwrap(),
        );
        expected.push(Found(first, last + 1 - first));
        check_volume(lab, image, bytes((first, last)), Inside::Fat32);
    }
    expected.sort();
    let mut found = listed_at(image, case.sector);
    found.sort();
    assert_eq!(found, expected, "{name}");
    // A system disk is started by real firmware, too.
    if case.args.contains(&"--data-disk") {
        let run = lab.run(&[&["rehearse", "disk.img"][..], DATA].concat());
        assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
    } else {
        lab.started(&["disk.img"]);
    }

    let undo = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
    assert_eq!(undo.code, 0, "{name}: {}", undo.stderr);
    // What was moved leaves copies in free clusters; all else is as it was.
    if before["bytes_moved"] == 0 {
        assert_eq!(hash(image), whole, "{name}");
    }
    let again = lab
        .run(&[&["check", "disk.img", "--json"][..], case.args].concat())
        .json();
    assert_ne!(again["answer"], "blocked", "{name}");
}

/// The answer of the check, and what it says.
fn answers(lab: &Lab, image: &Path, case: &Case) {
    let name = case.name;
    let run = lab.run(&[&["check", "disk.img", "--json"][..], case.args].concat());
    let check = run.json();
    let findings = check["findings"].as_array().unwrap();
    let of = |outcome: &str| -> Vec<&Value> {
        findings
            .iter()
            .filter(|finding| finding["outcome"] == outcome)
            .collect()
    };
    match case.answer {
        Answer::Blocked(rule, expected) => {
            assert_eq!(run.code, 1, "{name}");
            let blocks = of("block");
            let texts: Vec<String> = blocks.iter().map(ToString::to_string).collect();
            let found = blocks.iter().position(|block| block["rule"] == rule);
            let found = found.unwrap_or_else(|| panic!("{name}: {texts:?}"));
            assert!(texts[found].contains(expected), "{name}: {texts:?}");
            let whole = hash(image);
            fs::remove_dir_all(lab.path("job")).ok();
            let run = lab.convert(image, "job", &[case.args, &["--quiet"]].concat());
            assert_eq!((run.code, hash(image)), (1, whole), "{name}");
            assert!(!lab.path("job").exists(), "{name}");
        }
        Answer::Converts(cautions) => {
            assert_eq!(run.code, 0, "{name}: {:?}", of("block"));
            let found = of("caution");
            let found: Vec<&str> = found
                .iter()
                .map(|finding| finding["rule"].as_str().unwrap())
                .collect();
            assert_eq!(found, cautions, "{name}");
            prove(lab, image, case);
        }
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn every_disk_gets_its_answer_and_what_converts_is_proven() {
    let lab = Lab::new();
    for case in DISKS {
        let image = build(&lab, case);
        answers(&lab, &image, case);
    }
}

/// Of the table's disk of this name, the conversion as it is recorded.
fn converted(lab: &Lab, name: &str) -> (PathBuf, Value) {
    let case = DISKS.iter().find(|case| case.name == name).unwrap();
    let image = build(lab, case);
    let run = lab.convert(&image, "job", &[case.args, &["--quiet"]].concat());
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let record = fs::read_to_string(lab.path("job/job.json")).unwrap();
    (image, serde_json::from_str(&record).unwrap())
}

#[test]
#[ignore = "needs outside programs"]
fn an_esp_that_is_there_keeps_its_files() {
    let lab = Lab::new();
    let (image, record) = converted(&lab, "an EFI system partition that is there");
    let plan = &record["plan"];
    assert_eq!(plan["placement"]["kind"], "existing");
    assert_eq!(
        plan["files_replaced"],
        serde_json::json!(["\\EFI\\BOOT\\BOOTX64.EFI"])
    );
    let esp = format!("{}@@{}", image.display(), 212 * MIB);
    let out = lab.path("keeper.efi");
    tool(
        "mcopy",
        &[
            "-i",
            &esp,
            "::EFI/keeper/keeperx64.efi",
            out.to_str().unwrap(),
        ],
    );
    assert_eq!(fs::read(out).unwrap(), vec![0x4B; 50_000]);
    let run = lab.run(&["check", "disk.img"]);
    assert!(
        run.stdout.contains("The disk has a GPT already"),
        "{}",
        run.stdout
    );
    // Used since: its files stay, the table goes back.
    let note = lab.path("note");
    fs::write(&note, "since").unwrap();
    tool("mcopy", &["-i", &esp, note.to_str().unwrap(), "::EFI/note"]);
    let undo = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
    assert_eq!(undo.code, 0, "{}", undo.stderr);
    assert!(
        undo.stdout.contains("has been used since the conversion"),
        "{}",
        undo.stdout
    );
    let back = lab.path("back");
    tool("mcopy", &["-i", &esp, "::EFI/note", back.to_str().unwrap()]);
    tool(
        "mcopy",
        &[
            "-o",
            "-i",
            &esp,
            "::EFI/Microsoft/Boot/BCD",
            back.to_str().unwrap(),
        ],
    );
    assert_eq!(lab.run(&["check", "disk.img"]).code, 0);
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_boot_partition_taken_over_comes_back_whole_even_after_use() {
    let lab = Lab::new();
    let case = DISKS
        .iter()
        .find(|case| case.name == "the boot partition taken over")
        .unwrap();
    let whole = hash(&build(&lab, case));
    let (image, record) = converted(&lab, case.name);
    let plan = &record["plan"];
    assert_eq!(plan["placement"]["kind"], "takeover");
    let stages: Vec<&str> = plan["stages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|stage| stage["stage"].as_str().unwrap())
        .collect();
    assert_eq!(stages, ["prepare", "commit", "takeover", "edit"]);
    // Every sector of the place is used by others, and comes back all the same.
    poke(&image, 211 * MIB + (20 << 20), &vec![0xA5; 80 << 20]);
    let undo = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
    assert_eq!(undo.code, 0, "{}{}", undo.stdout, undo.stderr);
    assert!(
        undo.stdout
            .contains("what was put there after the conversion is lost"),
        "{}",
        undo.stdout
    );
    assert_eq!(hash(&image), whole);
}
