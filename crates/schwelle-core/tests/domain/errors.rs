//! Where what is written is decided, an error is not turned into a value: no `.ok()` and the like on a result, outside of
//! a list with the reason for each. The linter's `map_err_ignore` keeps the rest.

use std::collections::BTreeMap;
use std::fs;

use crate::direction::{crates, sources};

/// The rooms in which that is decided.
const ROOMS: [&str; 6] = [
    "schwelle-disk/src/commit",
    "schwelle-disk/src/device",
    "schwelle-disk/src/ahead.rs",
    "schwelle-core/src/job",
    "schwelle-core/src/pipeline",
    "schwelle/src/commands",
];

/// What turns an error into a value.
const SWALLOWS: [&str; 5] = [
    ".ok()",
    ".unwrap_or_default()",
    ".is_ok_and(",
    ".is_ok()",
    ".unwrap_or_else(|_",
];

/// How often a file does so, and why it may.
const ALLOWED: [(&str, usize, &str); 20] = [
    (
        "schwelle-disk/src/commit/moving.rs",
        3,
        "the result is returned as well; channels",
    ),
    (
        "schwelle-disk/src/device/direct.rs",
        1,
        "the result is returned as well",
    ),
    (
        "schwelle-disk/src/device/disk_file.rs",
        2,
        "unlocking on drop; the words of a refusal",
    ),
    ("schwelle-disk/src/device/draft.rs", 1, "a number"),
    ("schwelle-disk/src/device/health.rs", 1, "a number"),
    (
        "schwelle-disk/src/ahead.rs",
        3,
        "channels; a pool of buffers",
    ),
    (
        "schwelle-core/src/job/find.rs",
        1,
        "only to show a folder once",
    ),
    ("schwelle-core/src/job/folder.rs", 1, "a name to show"),
    ("schwelle-core/src/job/journal.rs", 1, "a number"),
    ("schwelle-core/src/job/writer.rs", 1, "a number"),
    (
        "schwelle-core/src/job/state.rs",
        2,
        "text, read before; a damaged state is no state",
    ),
    ("schwelle-core/src/job/torn.rs", 2, "numbers"),
    (
        "schwelle/src/commands/carry_out.rs",
        3,
        "the folder is made and tested later; no disk name is none",
    ),
    (
        "schwelle/src/commands/convert.rs",
        2,
        "no disk name; pictures of the emulator",
    ),
    ("schwelle/src/commands/firmware.rs", 1, "no name was given"),
    ("schwelle/src/commands/mend.rs", 1, "no disk name is none"),
    ("schwelle/src/commands/recover.rs", 1, "opening says why"),
    (
        "schwelle/src/commands/report.rs",
        1,
        "a page left over; creating the new one says why",
    ),
    (
        "schwelle/src/commands/resume.rs",
        1,
        "a policy is no reason to leave a disk half-way",
    ),
    ("schwelle-core/src/job/stick.rs", 2, "a test"),
];

#[test]
fn an_error_becomes_a_value_only_for_a_reason() {
    let mut found: BTreeMap<String, usize> = BTreeMap::new();
    for room in ROOMS {
        for source in sources(&crates().join(room)) {
            let text = fs::read_to_string(&source).unwrap();
            let code = text.split("#[cfg(test)]\nmod tests").next().unwrap();
            let lines = code.lines().filter(|line| !line.trim().starts_with("//"));
            let count = lines
                .filter(|line| SWALLOWS.iter().any(|swallow| line.contains(swallow)))
                .count();
            let name = source.strip_prefix(crates()).unwrap();
            found.insert(name.display().to_string(), count);
        }
    }
    found.retain(|_, count| *count > 0);
    let allowed: BTreeMap<String, usize> = ALLOWED
        .iter()
        .map(|(file, count, _)| ((*file).to_owned(), *count))
        .collect();
    assert_eq!(found, allowed);
}
