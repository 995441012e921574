//! A user without rights, for helper programs.

use std::fs;
use std::os::unix::fs::chown;
use std::path::Path;

/// Numbers that no account has: those that systemd gives to services for as long as they run (systemd,
/// "Users, Groups, UIDs and GIDs on systemd Systems": 61184 to 65519). The account `nobody` may have other programs.
const FIRST: u32 = 61_184;
const COUNT: u32 = 4_336;

/// Gives a folder and its files to such a user; `None` where this is not root, or the file system keeps no owners.
pub(super) fn give(folder: &Path) -> Option<u32> {
    if !rustix::process::geteuid().is_root() {
        return None;
    }
    let user = FIRST + std::process::id() % COUNT;
    for file in fs::read_dir(folder).ok()? {
        chown(file.ok()?.path(), Some(user), Some(user)).ok()?;
    }
    chown(folder, Some(user), Some(user)).ok()?;
    Some(user)
}
