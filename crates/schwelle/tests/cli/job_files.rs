//! A job folder as tests see it: its files read, and written, without the code that they test.

use std::fs;
use std::path::Path;

use serde_json::Value;

use crate::support::peek;

/// A command for a job folder, which the technician vouches for.
pub(crate) fn job_args<'a>(command: &'a str, job: &'a Path, more: &[&'a str]) -> Vec<&'a str> {
    let name = job.file_name().unwrap().to_str().unwrap();
    let vouched: &[&str] = match command {
        "resume" | "undo" => &["--folder-name", name],
        _ => &[],
    };
    [&[command, "--job", job.to_str().unwrap()], vouched, more].concat()
}

pub(crate) fn journal(job: &Path) -> Value {
    serde_json::from_slice(&fs::read(job.join("journal.json")).unwrap()).unwrap()
}

pub(crate) fn state(job: &Path) -> String {
    newest_state(job)["state"].as_str().unwrap().to_owned()
}

/// The newer of the two states in a job folder. One that was being written when the program was killed is cut off.
pub(crate) fn newest_state(job: &Path) -> Value {
    let states = ["state-a.json", "state-b.json"].map(|name| fs::read(job.join(name)));
    let states = states.into_iter().flatten();
    let states = states.filter_map(|text| serde_json::from_slice::<Value>(&text).ok());
    states.max_by_key(|state| state["number"].as_u64()).unwrap()
}

/// Makes a finished job look like one that was cut off before its last word.
pub(crate) fn reopen(job: &Path) {
    set_state(job, "writing");
}

/// Gives a job folder another state, in the newest form.
pub(crate) fn set_state(job: &Path, to: &str) {
    let mut state = newest_state(job);
    state["state"] = to.into();
    keep_state(job, &state);
}

/// Keeps a state with its own hash, which is over one line of JSON in this order.
pub(crate) fn keep_state(job: &Path, state: &Value) {
    let line = |check: &str| {
        format!(
            r#"{{"number":{},"state":{},"journal":{},"stage":{},"moved":{},"check":"{check}"}}"#,
            state["number"], state["state"], state["journal"], state["stage"], state["moved"]
        )
    };
    let check = blake3::hash(line("").as_bytes()).to_hex().to_string();
    fs::write(job.join("state-a.json"), line(&check)).unwrap();
    fs::remove_file(job.join("state-b.json")).ok();
}

/// The bytes that a job writes to one of its extents: those in its folder, and where the disk gets the hash of the
/// journal, that.
pub(crate) fn new_bytes(job: &Path, extent: &Value) -> Vec<u8> {
    let journal_text = fs::read(job.join("journal.json")).unwrap();
    let journal: Value = serde_json::from_slice(&journal_text).unwrap();
    let sector = journal["sector_bytes"].as_u64().unwrap();
    let len = usize::try_from(extent["sectors"].as_u64().unwrap() * sector).unwrap();
    let new = &extent["new"];
    let mut bytes = match new["offset"].as_u64() {
        Some(offset) => peek(&job.join("new.bin"), offset, len),
        None => vec![u8::try_from(new["fill"].as_u64().unwrap()).unwrap(); len],
    };
    assert_eq!(new["blake3"], blake3::hash(&bytes).to_hex().to_string());
    let first = extent["first_lba"].as_u64().unwrap() * sector;
    let bound_at = journal["bound_at"].as_u64();
    if let Some(at) = bound_at.and_then(|at| usize::try_from(at.checked_sub(first)?).ok())
        && at < len
    {
        let hash = blake3::hash(&journal_text).to_hex();
        bytes[at..at + hash.len()].copy_from_slice(hash.as_bytes());
    }
    bytes
}
