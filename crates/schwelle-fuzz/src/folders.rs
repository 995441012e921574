//! What is read from files.

use std::cell::OnceCell;
use std::fs;
use std::path::Path;

use schwelle_core::firmware::{Machine, MachineFile};
use schwelle_core::host::SessionFacts;
use schwelle_core::job::JobFolder;
use schwelle_demo::{disks, make, make_pc};
use tempfile::TempDir;

/// What stands between the files of a job folder in an input.
const BETWEEN: &[u8] = b"\n----\n";
/// The files of a job folder that are read, in the order in which an input has them.
const JOB_FILES: [&str; 5] = [
    "state-a.json",
    "journal.json",
    "job.json",
    "outcome.json",
    "log.txt",
];

/// A folder of this thread.
fn with_folder<T>(work: impl FnOnce(&Path) -> T) -> T {
    thread_local! {
        static FOLDER: OnceCell<TempDir> = const { OnceCell::new() };
    }
    FOLDER.with(|folder| work(folder.get_or_init(|| tempfile::tempdir().unwrap()).path()))
}

/// A lighthouse service's PC, made for once.
fn with_pc<T>(work: impl FnOnce(&Path) -> T) -> T {
    let folder = tempfile::tempdir().unwrap();
    make_pc(folder.path(), "pc", "disk.img").unwrap();
    work(folder.path())
}

/// The table in which a PC tells of itself.
pub(crate) fn smbios(data: &[u8]) {
    let _machine = Machine::of_session(SessionFacts {
        smbios: Some(data.to_vec()),
        ..SessionFacts::default()
    });
}

pub(crate) fn smbios_seeds() -> Vec<Vec<u8>> {
    // Types 0, 1 and 127 with their texts (DMTF DSP0134 §7.1, §7.2).
    let firmware = [
        &[0, 26, 0, 0, 1, 2, 0, 0xE0, 3, 0xFF][..],
        &[0; 8],
        &[0x03, 0x08, 2, 8, 0xFF, 0xFF, 0, 0],
        b"Northpier\x002.8\x0003/11/2016\0\0",
    ];
    let system = [
        &[1, 27, 1, 0, 1, 2, 0, 0][..],
        &[7; 16],
        &[6, 0, 0],
        b"Skerry\0Tide Gauge\0\0",
    ];
    vec![[firmware.concat(), system.concat(), vec![127, 4, 2, 0, 0, 0]].concat()]
}

/// A machine file.
pub(crate) fn machine(data: &[u8]) {
    with_folder(|folder| {
        let path = folder.join("pc.toml");
        fs::write(&path, data).unwrap();
        if let Ok(file) = MachineFile::read(&path) {
            let _facts = (file.disks().len(), file.machine());
        }
    });
}

pub(crate) fn machine_seeds() -> Vec<Vec<u8>> {
    with_pc(|folder| vec![fs::read(folder.join("pc.toml")).unwrap()])
}

/// What the firmware of the demo's PC keeps, without the attributes in front.
pub(crate) fn variables() -> Vec<Vec<u8>> {
    with_pc(|folder| {
        let files = fs::read_dir(folder.join("pc.variables")).unwrap();
        let content = |file: std::io::Result<fs::DirEntry>| fs::read(file.unwrap().path()).unwrap();
        files.map(|file| content(file).split_off(4)).collect()
    })
}

/// A policy.
pub(crate) fn policy(data: &[u8]) {
    let _sound = schwelle::hostile::policy(&String::from_utf8_lossy(data));
}

pub(crate) fn policy_seeds() -> Vec<Vec<u8>> {
    let shipped = include_str!("../../../docs/policy.toml");
    vec![shipped.into(), shipped.replace("#: ", "").into()]
}

/// A job folder, and the report made from it.
pub(crate) fn job(data: &[u8]) {
    with_folder(|folder| {
        let mut rest = data;
        for name in JOB_FILES {
            let end = rest
                .windows(BETWEEN.len())
                .position(|window| window == BETWEEN);
            let (file, after) = rest.split_at(end.unwrap_or(rest.len()));
            rest = after.get(BETWEEN.len()..).unwrap_or_default();
            let sealed = (name == JOB_FILES[0]).then(|| sealed(file)).flatten();
            fs::write(folder.join(name), sealed.as_deref().unwrap_or(file)).unwrap();
        }
        for name in ["saved.bin", "new.bin"] {
            fs::write(folder.join(name), [7; 4096]).unwrap();
        }
        let _opened = JobFolder::open(folder);
        let _report = schwelle::hostile::report(folder);
        assert!(schwelle::hostile::overview(folder));
    });
}

/// A state with the hash over it made anew, so that what is damaged in it is looked at; `None` if it is no object.
fn sealed(text: &[u8]) -> Option<Vec<u8>> {
    let state: serde_json::Value = serde_json::from_slice(text).ok()?;
    state.as_object()?;
    let line = |check: &str| {
        format!(
            r#"{{"number":{},"state":{},"journal":{},"stage":{},"moved":{},"check":"{check}"}}"#,
            state["number"], state["state"], state["journal"], state["stage"], state["moved"]
        )
    };
    let check = blake3::hash(line("").as_bytes()).to_hex();
    Some(line(&check).into_bytes())
}

pub(crate) fn job_seeds() -> Vec<Vec<u8>> {
    let folder = tempfile::tempdir().unwrap();
    let beacon = disks()
        .iter()
        .find(|disk| disk.file == "beacon.img")
        .unwrap();
    make(beacon, folder.path()).unwrap();
    let image = folder.path().join(beacon.file);
    let job = folder.path().join("job");
    assert!(schwelle::hostile::convert(&image, &job));
    let files = JOB_FILES.map(|name| fs::read(job.join(name)).unwrap_or_default());
    // A journal that fits its hash, and one of a job that has not begun, whose record alone is read.
    let begun = br#"{"number":1,"state":"saving","journal":"","stage":null,"moved":null}"#.to_vec();
    let [_, journal, record, outcome, log] = files.clone();
    [files, [begun, journal, record, outcome, log]]
        .map(|files| files.join(BETWEEN))
        .into()
}
