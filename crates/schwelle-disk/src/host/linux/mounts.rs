//! The mounts of the running system, in every mount namespace that can be seen (proc(5), mountinfo).

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// A mount.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Mount {
    /// Device number, "major:minor".
    pub(super) number: String,
    /// Where, as its process sees it.
    pub(super) at: PathBuf,
    /// Name of the file system.
    pub(super) file_system: String,
    /// What is mounted: a device path as a rule.
    pub(super) source: String,
    /// Options of the file system, separated by commas.
    options: String,
    /// The process in whose namespace it is, where that is not this one.
    pub(super) process: Option<String>,
}

impl Mount {
    fn parse(line: &str) -> Option<Self> {
        let (place, rest) = line.split_once(" - ")?;
        let mut place = place.split(' ').skip(2);
        let number = place.next()?.to_owned();
        let at = unescaped(place.nth(1)?).into();
        let mut rest = rest.split(' ');
        Some(Self {
            number,
            at,
            file_system: rest.next()?.to_owned(),
            source: unescaped(rest.next()?),
            options: rest.next().unwrap_or_default().to_owned(),
            process: None,
        })
    }

    /// The value of an option.
    pub(super) fn option(&self, name: &str) -> Option<String> {
        let mut options = self.options.split(',');
        let value = options.find_map(|option| option.strip_prefix(name)?.strip_prefix('='));
        value.map(unescaped)
    }
}

/// The mounts of this process.
///
/// # Errors
///
/// The kernel's list cannot be read.
pub(super) fn mounts(root: &Path) -> io::Result<Vec<Mount>> {
    of_process(root, "self")
}

/// Where the kernel lists the mounts of this process.
pub(super) fn list_of_mounts(root: &Path) -> PathBuf {
    root.join("proc/self/mountinfo")
}

/// The mounts of this process, and those of every other mount namespace that this user may see.
///
/// # Errors
///
/// The kernel's list for this process cannot be read.
pub(super) fn all_mounts(root: &Path) -> io::Result<Vec<Mount>> {
    let namespace = |process: &str| fs::read_link(root.join("proc").join(process).join("ns/mnt"));
    let mut seen: BTreeSet<PathBuf> = namespace("self").into_iter().collect();
    let mut all = mounts(root)?;
    for process in super::names_in(root.join("proc")) {
        if !process.starts_with(|first: char| first.is_ascii_digit()) {
            continue;
        }
        let Ok(namespace) = namespace(&process) else {
            continue;
        };
        // A process that has ended, or that this user may not look into, has no list here.
        if let Ok(mounts) = of_process(root, &process)
            && seen.insert(namespace)
        {
            all.extend(mounts.into_iter().map(|mount| Mount {
                process: Some(process.clone()),
                ..mount
            }));
        }
    }
    Ok(all)
}

fn of_process(root: &Path, process: &str) -> io::Result<Vec<Mount>> {
    let path = root.join("proc").join(process).join("mountinfo");
    let text = fs::read(path)?;
    let text = String::from_utf8_lossy(&text);
    Ok(text.lines().filter_map(Mount::parse).collect())
}

/// Blanks and the like are written as three octal digits.
fn unescaped(field: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = field.as_bytes();
    while let [first, after @ ..] = rest {
        let digits = after.get(..3).filter(|_| *first == b'\\');
        let byte =
            digits.and_then(|digits| u8::from_str_radix(std::str::from_utf8(digits).ok()?, 8).ok());
        match byte {
            Some(byte) => {
                bytes.push(byte);
                rest = after.get(3..).unwrap_or_default();
            }
            None => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_taken_apart() {
        let line = "36 35 0:34 / /mnt/a\\040stick rw,noatime master:1 - overlay over rw,lowerdir=/l,upperdir=/run/u\\054p";
        let mount = Mount::parse(line).unwrap();
        assert_eq!(mount.at, Path::new("/mnt/a stick"));
        assert_eq!(
            (mount.number.as_str(), mount.file_system.as_str()),
            ("0:34", "overlay")
        );
        assert_eq!(mount.option("upperdir").as_deref(), Some("/run/u,p"));
        assert_eq!(mount.option("upper"), None);
        assert_eq!(Mount::parse("36 35 98:0 / /mnt rw master:1"), None);
    }
}
