//! The page about security names a test for each promise: those tests are there.

use std::fs;
use std::path::{Path, PathBuf};

/// Where the tests of the command line lie, as the page calls it.
const CLI: &str = "crates/schwelle/tests/cli";

/// All that stands between backticks.
fn quoted(text: &str) -> impl Iterator<Item = &str> {
    text.split('`').skip(1).step_by(2)
}

/// Every source below a path, one after the other.
fn sources(path: &Path) -> String {
    if path.is_file() {
        return fs::read_to_string(path).unwrap();
    }
    let entries = fs::read_dir(path).unwrap();
    entries
        .map(|entry| sources(&entry.unwrap().path()))
        .collect()
}

#[test]
fn every_promise_names_a_test_that_there_is() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let page = fs::read_to_string(root.join("docs/security.md")).unwrap();
    let promised = page
        .split("\n## ")
        .find(|part| part.starts_with("What is promised"))
        .unwrap();
    let mut promises = 0;
    for row in promised
        .lines()
        .filter(|line| line.starts_with("| ") && !line.starts_with("| promise "))
    {
        let cells: Vec<&str> = row.split(" | ").collect();
        let [_, test] = cells[..] else {
            panic!("{row}")
        };
        let mut files: Vec<PathBuf> = Vec::new();
        for name in quoted(test) {
            let is_path = name.contains('/');
            if is_path {
                let path = match name.strip_prefix("cli/") {
                    Some(name) => root.join(CLI).join(name),
                    None => root.join(name),
                };
                assert!(path.exists(), "{name}: {row}");
                files.push(path);
            } else if name.contains('_') {
                // A long name ends in dots.
                let start = format!("fn {}", name.trim_end_matches("..."));
                let found = files.iter().any(|file| sources(file).contains(&start));
                assert!(found, "{name}: {row}");
            }
        }
        let is_outside = test.contains("cargo-deny");
        assert!(!files.is_empty() || is_outside, "no test: {row}");
        promises += 1;
    }
    assert!(promises > 15, "{promises}");
}
