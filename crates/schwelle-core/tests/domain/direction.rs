//! Dependencies point one way, between crates and between the rooms of a crate: each knows only what is listed
//! above it. The compiler keeps the first as long as the manifests do; nothing but this keeps the second.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// The crates, from the ground up.
const CRATES: [&str; 9] = [
    "schwelle-kernel",
    "schwelle-disk",
    "schwelle-testkit",
    "schwelle-formats",
    "schwelle-core",
    "schwelle-emulator",
    "schwelle-demo",
    "schwelle",
    "schwelle-fuzz",
];

/// The rooms of the crates that have several, each above those that may know it.
const ROOMS: [(&str, &[&str]); 4] = [
    (
        "schwelle-disk",
        &["bytes", "cause", "host", "device", "ahead", "commit"],
    ),
    (
        "schwelle-formats",
        &[
            "grub",
            "mbr",
            "gpt",
            "fat",
            "unpack",
            "ntfs",
            "hive",
            "identities",
            "bcd",
            "pe",
            "windows",
            "bitlocker",
            "ext",
            "swap",
        ],
    ),
    (
        "schwelle-core",
        &[
            "commit",
            "families",
            "disk_use",
            "next",
            "gaps",
            "marker",
            "profile",
            "firmware",
            "rehearse",
            "switch",
            "confirm",
            "placement",
            "fit",
            "job",
            "starts",
            "rules",
            "draft",
            "mend",
            "pipeline",
            "overview",
        ],
    ),
    (
        "schwelle",
        &[
            "text", "sizes", "words", "error", "random", "linux", "machine", "many", "document",
            "policy", "unlock", "options", "which", "events", "screen", "emulate", "progress",
            "disk", "views", "commands", "cli", "hostile",
        ],
    ),
];

/// Rooms that do not look at one below: the first knows nothing of the second.
const APART: [(&str, &str); 6] = [
    ("rehearse", "firmware"),
    ("placement", "rehearse"),
    ("placement", "firmware"),
    ("draft", "rules"),
    ("draft", "rehearse"),
    ("job", "rehearse"),
];

pub(crate) fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// All sources below a folder, or the one that is named.
pub(crate) fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    if folder.is_file() {
        return vec![folder.to_owned()];
    }
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(sources(&path));
        } else if path.extension().is_some_and(|kind| kind == "rs") {
            found.push(path);
        }
    }
    found
}

/// The rooms of its own crate that a source names outside its tests.
fn named(source: &Path) -> BTreeSet<String> {
    let text = fs::read_to_string(source).unwrap();
    let text = text.split("#[cfg(test)]\nmod ").next().unwrap();
    let several = text.contains("crate::{");
    assert!(!several, "{}: one room in a line", source.display());
    let parts = text.split("crate::").skip(1);
    let name = |part: &str| -> String {
        let is_name = |c: &char| c.is_ascii_alphanumeric() || *c == '_';
        part.chars().take_while(is_name).collect()
    };
    parts.map(name).collect()
}

#[test]
fn crates_know_only_those_below() {
    for (floor, name) in CRATES.iter().enumerate() {
        let manifest = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        // Tests may drive what stands above.
        let manifest = manifest.split("[dev-dependencies]").next().unwrap();
        let known = manifest
            .lines()
            .filter_map(|line| line.strip_suffix(".workspace = true"))
            .filter(|known| known.starts_with("schwelle"));
        for known in known {
            let below = CRATES.iter().position(|other| other == &known).unwrap();
            assert!(below < floor, "{name} knows {known}");
        }
    }
}

#[test]
fn rooms_know_only_those_below() {
    for (name, rooms) in ROOMS {
        let folder = crates().join(name).join("src");
        let mut found = BTreeSet::new();
        for source in sources(&folder) {
            let inside = source.strip_prefix(&folder).unwrap();
            let room = inside.iter().next().unwrap().to_str().unwrap();
            let room = room.trim_end_matches(".rs");
            if room == "lib" || room == "main" {
                continue;
            }
            let floor = rooms.iter().position(|other| *other == room);
            let floor = floor.unwrap_or_else(|| panic!("{name}: {room} has no floor"));
            found.insert(rooms[floor]);
            for known in named(&source) {
                // What the lower crates have is no room of this one.
                let Some(below) = rooms.iter().position(|other| *other == known) else {
                    continue;
                };
                let apart = APART.contains(&(room, known.as_str()));
                let place = source.display();
                assert!(below <= floor && !apart, "{place}: {room} knows {known}");
            }
        }
        assert_eq!(found.len(), rooms.len(), "{name}");
    }
}

/// The files and folders of a room that a source in it names: by as many "super" as it lies deep.
fn beside(source: &Path, folder: &Path) -> BTreeSet<String> {
    let text = fs::read_to_string(source).unwrap();
    let text = text.split("#[cfg(test)]\nmod ").next().unwrap();
    let inside = source.strip_prefix(folder).unwrap();
    let depth = inside.iter().count() - usize::from(inside.ends_with("mod.rs"));
    let up = "super::".repeat(depth);
    let is_name = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let mut found = BTreeSet::new();
    for (at, _) in text.match_indices(&up) {
        let rest = &text[at + up.len()..];
        if text[..at].ends_with("super::") || rest.starts_with("super::") {
            continue;
        }
        let list = rest.strip_prefix('{').map_or_else(
            || rest.split(|c| !is_name(c)).next().unwrap(),
            |list| list.split('}').next().unwrap(),
        );
        found.extend(list.split(|c| !is_name(c)).map(str::to_owned));
    }
    found
}

/// What can be reached from each file of a room.
fn reached(known: &BTreeMap<String, BTreeSet<String>>, from: &str) -> BTreeSet<String> {
    let (mut found, mut open) = (BTreeSet::new(), vec![from.to_owned()]);
    while let Some(name) = open.pop() {
        for next in known.get(&name).into_iter().flatten() {
            if known.contains_key(next) && found.insert(next.clone()) {
                open.push(next.clone());
            }
        }
    }
    found
}

#[test]
fn no_more_than_three_files_of_a_room_know_each_other_in_a_circle() {
    let mut rooms = 0;
    for (name, _) in ROOMS {
        let base = crates().join(name).join("src");
        let all = sources(&base);
        let folders: BTreeSet<&Path> = all.iter().filter_map(|source| source.parent()).collect();
        for folder in folders.into_iter().filter(|folder| *folder != base) {
            let mut known: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
            for source in all.iter().filter(|source| source.starts_with(folder)) {
                let inside = source.strip_prefix(folder).unwrap();
                let file = inside.iter().next().unwrap().to_str().unwrap();
                let file = file.trim_end_matches(".rs").to_owned();
                if file != "mod" {
                    known
                        .entry(file)
                        .or_default()
                        .extend(beside(source, folder));
                }
            }
            rooms += 1;
            for file in known.keys() {
                let mut circle = reached(&known, file);
                circle.retain(|other| reached(&known, other).contains(file));
                assert!(circle.len() <= 3, "{}: {circle:?}", folder.display());
            }
        }
    }
    assert!(rooms > 20);
}
