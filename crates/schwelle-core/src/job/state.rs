//! How far a job has come, in two files that are written in turn.
//!
//! `state-a.json` and `state-b.json` each hold one state with a number and a hash over it. A new state
//! goes in place over the older of the two, so that at every moment the newer one is whole on the
//! medium; of the two, the whole one with the higher number holds. A torn file is passed over.

use std::io;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::storage::{Storage, StoredFile};
use super::{JobState, State};
use crate::commit::StageKind;

const SLOTS: [&str; 2] = ["state-a.json", "state-b.json"];
/// The only file of the first version, replaced by renaming. Still read.
pub(super) const FIRST_VERSION: &str = "state.json";
/// Each of the two files has this length, filled up with blanks, so that nothing but its content
/// changes when it is written again.
const SLOT_BYTES: usize = 4096;

/// One of the two files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Slot {
    /// Counts the states of a job, from 1 on.
    number: u64,
    state: JobState,
    /// BLAKE3 hash of `journal.json`, in hex; empty while saving.
    journal: String,
    stage: Option<StageKind>,
    /// BLAKE3 hash of `moved.json`, in hex.
    moved: Option<String>,
    /// BLAKE3 hash over the fields above, as one line of JSON with this one empty, in hex.
    check: String,
}

impl Slot {
    fn sealed(mut self) -> Self {
        self.check = String::new();
        let text = serde_json::to_string(&self).unwrap_or_default();
        self.check = blake3::hash(text.as_bytes()).to_hex().to_string();
        self
    }

    fn parse(text: &[u8]) -> Option<Self> {
        let slot: Self = serde_json::from_slice(text).ok()?;
        (slot.clone().sealed() == slot).then_some(slot)
    }
}

/// The state of a job, as last kept.
#[derive(Debug)]
pub(super) struct Kept {
    pub(super) state: State,
    /// The hash of `moved.json`, where the state names that file.
    pub(super) moved: Option<String>,
    /// Number of the last state kept; 0 where it is of the first version, or none.
    pub(super) number: u64,
}

impl Kept {
    pub(super) fn nothing() -> Self {
        Self {
            state: State::saving(),
            moved: None,
            number: 0,
        }
    }

    /// The last whole state in a folder; `None` where there is none.
    pub(super) fn read(storage: &dyn Storage) -> io::Result<Option<Self>> {
        let mut newest: Option<Slot> = None;
        for name in SLOTS {
            let text = match read_up_to(storage, name, SLOT_BYTES as u64) {
                Ok(text) => text,
                Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
                Err(error) => return Err(error),
            };
            let slot = Slot::parse(&text);
            let before = newest.as_ref().map_or(0, |slot| slot.number);
            newest = slot.filter(|slot| slot.number > before).or(newest);
        }
        Ok(newest.map(|slot| Self {
            state: State {
                state: slot.state,
                journal: slot.journal,
                stage: slot.stage,
                moved: None,
            },
            moved: slot.moved,
            number: slot.number,
        }))
    }

    /// Keeps the state as it is now. When this returns, it is on the medium; where it fails, the last
    /// one kept still holds.
    pub(super) fn keep(&mut self, storage: &dyn Storage) -> io::Result<()> {
        let number = self.number.saturating_add(1);
        let slot = Slot {
            number,
            state: self.state.state,
            journal: self.state.journal.clone(),
            stage: self.state.stage,
            moved: self.moved.clone(),
            check: String::new(),
        };
        let mut text = serde_json::to_string_pretty(&slot.sealed())?.into_bytes();
        if text.len() >= SLOT_BYTES {
            return Err(io::Error::other("the state is too long"));
        }
        text.resize(SLOT_BYTES - 1, b' ');
        text.push(b'\n');
        let [first, second] = SLOTS;
        let name = if number.is_multiple_of(2) {
            first
        } else {
            second
        };
        let (file, is_new) = match storage.open(name, true) {
            Ok(file) => (file, false),
            Err(error) if error.kind() == io::ErrorKind::NotFound => (storage.create(name)?, true),
            Err(error) => return Err(error),
        };
        file.write_at(0, &text)?;
        file.sync()?;
        if is_new {
            storage.sync_names()?;
        }
        self.number = number;
        Ok(())
    }
}

/// True when a folder has files that keep a job's state, so that it may be a job folder.
pub(super) fn is_kept_in(folder: &Path) -> bool {
    let mut names = SLOTS.into_iter().chain([FIRST_VERSION]);
    names.any(|name| folder.join(name).is_file())
}

/// Reads a file, up to a length.
pub(super) fn read_up_to(storage: &dyn Storage, name: &str, most: u64) -> io::Result<Vec<u8>> {
    let file = storage.open(name, false)?;
    read_file(&*file, most)
}

fn read_file(file: &dyn StoredFile, most: u64) -> io::Result<Vec<u8>> {
    let len = usize::try_from(file.len_bytes()?.min(most)).unwrap_or(0);
    let mut text = vec![0; len];
    file.read_at(0, &mut text)?;
    Ok(text)
}
