//! Which disk is meant: a path, or a name that the disk keeps from start to start.
//!
//! `/dev/sdX` may be another disk at the next start. So a disk can also be named by its serial number, by its
//! name below `/dev/disk/by-id`, or by the disk name that is read from it; and what is printed for after a
//! restart uses such a name.

use std::path::{Path, PathBuf};

use schwelle_core::device::{DeviceError, DiskFile, Lba, ReadDevice};
use schwelle_core::gpt::{GptError, GptPair};
use schwelle_core::host::{HostFacts, User, this_pc};
use schwelle_core::mbr::BootRecord;
use schwelle_core::profile::Profile;
use schwelle_core::rules::Twin;
use uuid::Uuid;

use crate::error::{CliError, Kind};
use crate::text::typed;

/// A disk as it was named.
#[derive(Debug, Clone)]
pub(crate) struct Named {
    /// Its path now.
    pub(crate) path: PathBuf,
    /// It was named by its serial number or its by-id name, which no copy of it has.
    pub(crate) surely: bool,
}

/// Finds the disk that a name means. A path that is there is taken as it is.
pub(crate) fn resolve(name: &Path) -> Result<Named, CliError> {
    let text = name.to_string_lossy();
    if name.exists() || this_pc().reads_as_path(&text) {
        return Ok(Named {
            path: name.to_owned(),
            surely: this_pc().is_lasting(name),
        });
    }
    let disks = this_pc().disks().into_iter();
    let disks: Vec<(PathBuf, HostFacts)> = disks
        .map(|path| {
            let facts = this_pc().facts(&path, true);
            (path, facts)
        })
        .collect();
    let by_name = |(_, facts): &&(PathBuf, HostFacts)| {
        facts.serial.as_deref() == Some(&*text) || facts.stable_names.iter().any(|n| *n == text)
    };
    let surely: Vec<_> = disks.iter().filter(by_name).collect();
    let read: Vec<_> = if surely.is_empty() {
        let is_called = |(path, facts): &&(PathBuf, HostFacts)| {
            let device = DiskFile::open_read(path, None).ok();
            let profile = device.and_then(|device| Profile::read(&device, facts.clone()).ok());
            let found = profile.and_then(|profile| profile.disk_name());
            found.is_some_and(|found| found.eq_ignore_ascii_case(&text))
        };
        disks.iter().filter(is_called).collect()
    } else {
        Vec::new()
    };
    match (&surely[..], &read[..]) {
        ([(path, _)], _) => Ok(Named {
            path: path.clone(),
            surely: true,
        }),
        (_, [(path, _)]) => Ok(Named {
            path: path.clone(),
            surely: false,
        }),
        // Nothing is called so: opening it as a path says what is wrong.
        ([], []) => Ok(Named {
            path: name.to_owned(),
            surely: false,
        }),
        _ => {
            let all = surely.iter().chain(&read);
            let each: Vec<String> = all.map(|(path, facts)| described(path, facts)).collect();
            Err(CliError::new(
                Kind::Usage,
                format!("several disks are called {text}: {}", each.join("; ")),
                "One may be a copy of the other. Nothing was read or written.",
                "Name the right one by its serial number.",
            ))
        }
    }
}

/// A disk with its model and serial number.
pub(crate) fn described(path: &Path, facts: &HostFacts) -> String {
    let mut text = path.display().to_string();
    if let Some(model) = &facts.model {
        text += &format!(", {model}");
    }
    if let Some(serial) = &facts.serial {
        text += &format!(", serial {serial}");
    }
    text
}

/// A disk as it is typed after a restart: by its by-id name, else by its serial number, else as it was.
pub(crate) fn after_restart(path: &Path, facts: &HostFacts) -> String {
    if !facts.is_block_device {
        return typed(path);
    }
    if let Some(path) = this_pc().lasting_path(facts) {
        return typed(&path);
    }
    match &facts.serial {
        // A serial number that reads like a path would be taken for one.
        Some(serial) if !this_pc().reads_as_path(serial) => typed(Path::new(serial)),
        _ => typed(path),
    }
}

/// The disk of this PC with the running system on it, where the host tells.
pub(crate) fn running() -> Option<PathBuf> {
    let is_running = |path: &PathBuf| {
        let users = this_pc().facts(path, true).users;
        let mut users = users.iter();
        users.any(|user| matches!(user, User::RunningSystem { .. }))
    };
    this_pc().disks().into_iter().find(is_running)
}

/// What distinguishes a disk from all others, as far as its content goes; `None` if it has no such identity.
///
/// # Errors
///
/// The sectors that hold it cannot be read.
fn disk_id(device: &dyn ReadDevice) -> Result<Option<DiskId>, DeviceError> {
    let Some(record) = BootRecord::parse(&device.read_sector(Lba(0))?) else {
        return Ok(None);
    };
    if !record.is_protective() {
        let is_used = record.entries.iter().any(Option::is_some);
        let signature = record.disk_signature;
        return Ok((is_used && signature != 0).then_some(DiskId::Mbr(signature)));
    }
    let GptPair { primary, backup } = GptPair::read(device);
    match (primary, backup) {
        (Ok(table), _) | (Err(_), Ok(table)) => Ok(Some(DiskId::Gpt(table.header.disk_id))),
        (Err(GptError::Device(error)), _) | (_, Err(GptError::Device(error))) => Err(error),
        (Err(_), Err(_)) => Ok(None),
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum DiskId {
    Mbr(u32),
    Gpt(Uuid),
}

/// The other disks of this PC that have the same signature or GUID as this one, or of which that cannot be read.
pub(crate) fn twins(device: &DiskFile, path: &Path) -> Vec<Twin> {
    // Of an image, and of a disk that cannot be read, other rules say so.
    let own = match disk_id(device) {
        Ok(Some(own)) if device.is_block_device() => own,
        _ => return Vec::new(),
    };
    let twin = |other: PathBuf| {
        // A card reader without a card cannot be opened, and is no disk.
        let opened = DiskFile::open_read(&other, None).ok()?;
        let unread = match disk_id(&opened) {
            Ok(id) if id == Some(own) => None,
            Ok(_different) => return None,
            Err(error) => Some(error.into()),
        };
        let facts = this_pc().facts(&other, true);
        Some(Twin {
            path: other,
            model: facts.model,
            serial: facts.serial,
            unread,
        })
    };
    let others = this_pc().disks().into_iter();
    let others = others.filter(|other| !this_pc().is_same_disk(other, path));
    others.filter_map(twin).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn after_a_restart_a_disk_is_called_by_what_stays() {
        let path = Path::new("/dev/sdb");
        let disk = |serial: Option<&str>, names: &[&str]| HostFacts {
            is_block_device: true,
            serial: serial.map(str::to_owned),
            stable_names: names.iter().map(|name| (*name).to_owned()).collect(),
            ..HostFacts::default()
        };
        for (facts, expected) in [
            (
                disk(Some("S-1"), &["ata-X_S-1", "wwn-0x5"]),
                "/dev/disk/by-id/ata-X_S-1",
            ),
            (disk(Some("S-1"), &[]), "S-1"),
            (disk(Some("S 1"), &[]), "'S 1'"),
            (disk(Some("a/b"), &[]), "/dev/sdb"),
            (disk(None, &[]), "/dev/sdb"),
            (HostFacts::default(), "/dev/sdb"),
        ] {
            assert_eq!(after_restart(path, &facts), expected);
        }
        assert!(!resolve(path).unwrap().surely);
    }
}
