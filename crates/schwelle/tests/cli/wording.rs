//! The form of the docs: prose is wrapped, and the README is one page.

use std::fs;
use std::path::{Path, PathBuf};

fn files_below(folder: &Path, extension: &str, into: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files_below(&path, extension, into);
        } else if path.extension().is_some_and(|found| found == extension) {
            into.push(path);
        }
    }
}

/// The project's folder.
fn root() -> &'static Path {
    Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
}

/// The documents that people read.
fn documents() -> Vec<PathBuf> {
    let mut pages = Vec::new();
    files_below(&root().join("docs"), "md", &mut pages);
    let names = [
        "README",
        "ARCHITECTURE",
        "CHANGELOG",
        "CONTRIBUTING",
        "SECURITY",
    ];
    pages.extend(names.map(|name| root().join(name).with_extension("md")));
    pages
}

#[test]
fn prose_wraps_at_110_columns_and_the_readme_is_a_page() {
    for page in documents() {
        let text = fs::read_to_string(&page).unwrap();
        let mut is_output = false;
        for (number, line) in text.lines().enumerate() {
            is_output ^= line.starts_with("```");
            // Tables and outputs are as wide as they are.
            if !is_output && !line.starts_with(['|', ' ']) {
                let width = line.chars().count();
                assert!(width <= 110, "{}:{}: {width}", page.display(), number + 1);
            }
        }
        if page.ends_with("README.md") {
            assert!(
                text.lines().count() <= 100,
                "the README is longer than a page"
            );
        }
    }
}
