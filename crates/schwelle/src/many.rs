//! Many disks in one call: which ones are meant, and looking at several at a time.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::thread;

use schwelle_core::host::{Kind, this_pc};

use crate::error::{self, CliError};

/// A disk takes some ten MiB of memory while it is looked at; more at a time would not be faster.
const MAX_AT_ONCE: usize = 8;
/// More disks in one call are a slip of the finger.
const MAX_DISKS: usize = 100_000;

/// What images in a folder are called.
const IMAGE_EXTENSIONS: [&str; 4] = ["img", "raw", "dd", "image"];

/// True when a path names more than one disk: a folder, or a pattern.
pub(crate) fn names_many(path: &Path) -> bool {
    path.is_dir() || is_pattern(path)
}

fn is_pattern(path: &Path) -> bool {
    let text = path.to_string_lossy();
    // Paths to disks may have a question mark in them.
    let is_disk = this_pc().kind(path).is_ok_and(|kind| kind == Kind::Disk);
    !is_disk && !path.exists() && text.contains(['*', '?', '['])
}

/// The disks that the paths name: images and devices as they are, the images in a folder, and what a
/// pattern fits. In the order named; what a folder or a pattern gives, by name; each once.
pub(crate) fn disks_of(paths: &[PathBuf]) -> Result<Vec<PathBuf>, CliError> {
    let mut disks: Vec<PathBuf> = Vec::new();
    for path in paths {
        let found = if is_pattern(path) {
            fitting(path)?
        } else if path.is_dir() {
            images_in(path)?
        } else {
            vec![path.clone()]
        };
        if found.is_empty() {
            let what = format!("{}: there is no disk or image", path.display());
            return Err(wrong(what));
        }
        for disk in found {
            if disks.len() >= MAX_DISKS {
                return Err(wrong(format!("more than {MAX_DISKS} disks")));
            }
            disks.push(disk);
        }
    }
    let mut seen = std::collections::BTreeSet::new();
    disks.retain(|disk| seen.insert(disk.clone()));
    Ok(disks)
}

fn fitting(pattern: &Path) -> Result<Vec<PathBuf>, CliError> {
    let text = pattern.to_string_lossy();
    let all = glob::glob(&text).map_err(|error| wrong(format!("{text}: {error}")))?;
    let files = all.filter_map(Result::ok).filter(|path| !path.is_dir());
    Ok(files.take(MAX_DISKS + 1).collect())
}

fn images_in(folder: &Path) -> Result<Vec<PathBuf>, CliError> {
    let unread = |error: std::io::Error| {
        CliError::new(
            error::Kind::Unchanged,
            format!("{}: {error}", folder.display()),
            "The images in it cannot be listed.",
            "Name a folder that can be read, or the images themselves.",
        )
    };
    let mut images = Vec::new();
    for entry in folder.read_dir().map_err(unread)? {
        let path = entry.map_err(unread)?.path();
        let extension = path
            .extension()
            .map(|text| text.to_string_lossy().to_lowercase());
        let is_image = extension.is_some_and(|text| IMAGE_EXTENSIONS.contains(&text.as_str()));
        if is_image && path.is_file() {
            images.push(path);
        }
    }
    images.sort();
    Ok(images)
}

fn wrong(what: String) -> CliError {
    CliError::new(
        error::Kind::Usage,
        what,
        "Nothing was looked at.",
        "Name images, block devices, a folder with images (.img, .raw, .dd, .image), or a pattern in \
         quotes.",
    )
}

/// Looks at the disks, several at a time, and shows what came of each in the order named, as soon as
/// those before it are done.
pub(crate) fn in_order<T: Send>(
    disks: &[PathBuf],
    look: impl Fn(&Path) -> T + Sync,
    mut show: impl FnMut(T),
) {
    let processors = thread::available_parallelism().map_or(1, usize::from);
    let workers = processors.min(MAX_AT_ONCE).min(disks.len());
    let next = AtomicUsize::new(0);
    thread::scope(|scope| {
        let (send, receive) = sync_channel(workers.max(1));
        for _ in 0..workers {
            let send = send.clone();
            let (next, look) = (&next, &look);
            scope.spawn(move || {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    let Some(disk) = disks.get(at) else { break };
                    if send.send((at, look(disk))).is_err() {
                        break;
                    }
                }
            });
        }
        drop(send);
        let (mut waiting, mut at) = (BTreeMap::new(), 0);
        for (place, found) in receive {
            waiting.insert(place, found);
            while let Some(found) = waiting.remove(&at) {
                show(found);
                at += 1;
            }
        }
    });
}
