//! Takes an installed Windows' drive letters across: the values of `MountedDevices` that name this disk.

use crate::hive::{EditError, Hive, HiveEditor, HiveError, LogError};
use crate::identities::Identities;

use super::{HiveFile, MOUNTED_DEVICES, MountTarget, MountedName};

/// Values of one disk, at most: each is looked up among all.
const MAX_NAMES: usize = 1000;

/// Why the letters cannot be taken across.
#[derive(Debug, thiserror::Error)]
pub enum LettersError {
    /// The hive is not up to date and cannot be made so.
    #[error(transparent)]
    Log(#[from] LogError),
    /// The hive cannot be edited.
    #[error(transparent)]
    Edit(#[from] EditError),
    /// More than any system has.
    #[error("it has more than {MAX_NAMES} names for volumes of this disk")]
    TooMany,
    /// What the logs hold needs a longer file.
    #[error("what its log holds needs a file of {needed} bytes, it has {has}")]
    FileTooShort {
        /// Bytes needed.
        needed: u64,
        /// Bytes of the file.
        has: u64,
    },
}

impl From<HiveError> for LettersError {
    fn from(error: HiveError) -> Self {
        Self::Edit(error.into())
    }
}

/// A hive SYSTEM with its letters taken across.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConvertedHive {
    /// The file's new content, as long as before.
    pub bytes: Vec<u8>,
    /// Values that name this disk by GUID now.
    pub converted: Vec<MountedName>,
    /// Values for which the hive had no room: they stay, and name what is no longer there.
    pub left: Vec<MountedName>,
    /// Logs, or entries of logs, that were applied first.
    pub applied: usize,
}

/// The values of `MountedDevices`; none when there is no such key.
pub fn mounted_names<S: crate::bytes::ReadBytes + ?Sized>(
    hive: &Hive<'_, S>,
) -> Result<Vec<MountedName>, HiveError> {
    let Some(key) = hive.find(MOUNTED_DEVICES)? else {
        return Ok(Vec::new());
    };
    Ok(key.values()?.iter().map(MountedName::of).collect())
}

/// Takes the letters in `hive` across; `own` is the byte offset of the partition that this Windows
/// lies on, whose letter comes first where room is scarce. `None` when nothing names this disk.
pub fn convert_letters(
    hive: &HiveFile<'_>,
    identities: &Identities,
    own: u64,
    written: u64,
) -> Result<Option<ConvertedHive>, LettersError> {
    let recovered = hive.recovered()?;
    let mut names = mounted_names(&Hive::open(&recovered)?)?;
    names.retain(|name| name.converted(identities).is_some());
    if names.is_empty() {
        return Ok(None);
    }
    if names.len() > MAX_NAMES {
        return Err(LettersError::TooMany);
    }
    let (needed, has) = (
        crate::bytes::ReadBytes::len_bytes(&recovered),
        hive.len_bytes(),
    );
    if needed > has {
        return Err(LettersError::FileTooShort { needed, has });
    }
    names.sort_by_key(|name| (!name.is_letter_of(own), name.letter().is_none()));
    let mut editor = HiveEditor::open(&recovered)?;
    let (mut converted, mut left) = (Vec::new(), Vec::new());
    for name in names {
        let Some(data) = name.converted(identities) else {
            continue;
        };
        match editor.set_data(MOUNTED_DEVICES, &name.name, &data) {
            Ok(()) => converted.push(name),
            Err(EditError::NoRoom { .. }) => left.push(name),
            Err(error) => return Err(error.into()),
        }
    }
    Ok(Some(ConvertedHive {
        bytes: editor.finish(written),
        converted,
        left,
        applied: recovered.applied(),
    }))
}

/// Drive letters, and how many names of volumes beside them.
pub fn shared_out(names: &[MountedName]) -> (Vec<String>, usize) {
    let letters: Vec<String> = names
        .iter()
        .filter_map(MountedName::letter)
        .map(str::to_owned)
        .collect();
    let others = names.len().saturating_sub(letters.len());
    (letters, others)
}

impl MountedName {
    /// True for a drive letter of the MBR partition at this byte offset.
    pub fn is_letter_of(&self, at: u64) -> bool {
        let names = matches!(self.target, MountTarget::Mbr { offset, .. } if offset == at);
        names && self.letter().is_some()
    }
}
