//! How far a job has come, in two files, each of which is enough.
//!
//! `state-a.json` and `state-b.json` each hold a state with a number and a hash over it. A new state is written in
//! place to both files, one after the other, and each is flushed before the next write: at every moment one of them
//! is whole on the medium. Nothing that relies on the new state happens before both are written, so a reader may go
//! by either file alone; of two whole ones, the higher number counts. A torn or unreadable file is passed over.

use std::io;

use serde::{Deserialize, Serialize};

use super::storage::{Storage, StoredFile};
use super::{JobState, State};
use crate::commit::StageKind;

/// The files that record a job's state. A folder with one of them is a job folder.
pub(super) const STATE_FILES: [&str; 2] = ["state-a.json", "state-b.json"];
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

/// The state of a job as recorded on the medium.
#[derive(Debug)]
pub(super) struct PersistedState {
    pub(super) state: State,
    /// The BLAKE3 hash of `moved.json`, in hex, once the state names that file.
    pub(super) moved: Option<String>,
    /// Number of the last state written; 0 before the first.
    pub(super) number: u64,
    /// A state file that could not be read or written, and why. The other one holds the state.
    pub(super) lost: Option<(&'static str, io::Error)>,
}

impl PersistedState {
    pub(super) fn nothing() -> Self {
        Self {
            state: State::saving(),
            moved: None,
            number: 0,
            lost: None,
        }
    }

    /// Reads the last whole state in a folder; `None` if neither file exists or is whole.
    ///
    /// # Errors
    ///
    /// A state file cannot be read, and the other one holds no whole state.
    pub(super) fn read(storage: &dyn Storage) -> io::Result<Option<Self>> {
        let mut newest: Option<Slot> = None;
        let mut lost = None;
        for name in STATE_FILES {
            let text = match read_up_to(storage, name, SLOT_BYTES as u64) {
                Ok(text) => text,
                Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
                Err(error) => {
                    lost = lost.or(Some((name, error)));
                    continue;
                }
            };
            let slot = Slot::parse(&text);
            let before = newest.as_ref().map_or(0, |slot| slot.number);
            newest = slot.filter(|slot| slot.number > before).or(newest);
        }
        match (newest, lost) {
            (None, Some((_, error))) => Err(error),
            (None, None) => Ok(None),
            (Some(slot), lost) => Ok(Some(Self {
                state: State {
                    state: slot.state,
                    journal: slot.journal,
                    stage: slot.stage,
                    moved: None,
                },
                moved: slot.moved,
                number: slot.number,
                lost,
            })),
        }
    }

    /// Records the state in both files. When this returns, it is on the medium in at least one of them; a file that
    /// could not be written is in `lost`.
    ///
    /// # Errors
    ///
    /// Neither file could be written: the last recorded state still counts.
    pub(super) fn write(&mut self, storage: &dyn Storage) -> io::Result<()> {
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
        let mut lost = None;
        for name in STATE_FILES {
            if let Err(error) = write_slot(storage, name, &text) {
                match lost {
                    None => lost = Some((name, error)),
                    Some(_) => return Err(error),
                }
            }
        }
        self.number = number;
        self.lost = lost;
        Ok(())
    }
}

/// Writes a state file in place. When this returns, it is on the medium.
fn write_slot(storage: &dyn Storage, name: &str, text: &[u8]) -> io::Result<()> {
    let (file, is_new) = match storage.open(name, true) {
        Ok(file) => (file, false),
        Err(error) if error.kind() == io::ErrorKind::NotFound => (storage.create(name)?, true),
        Err(error) => return Err(error),
    };
    file.write_at(0, text)?;
    file.sync()?;
    if is_new {
        storage.sync_names()?;
    }
    Ok(())
}

/// Reads a file, up to a length.
pub(super) fn read_up_to(storage: &dyn Storage, name: &str, most: u64) -> io::Result<Vec<u8>> {
    let file = storage.open(name, false)?;
    read_file(&*file, most)
}

fn read_file(file: &dyn StoredFile, most: u64) -> io::Result<Vec<u8>> {
    let len = usize::try_from(file.len_bytes()?.min(most)).map_err(io::Error::other)?;
    let mut text = vec![0; len];
    file.read_at(0, &mut text)?;
    Ok(text)
}
