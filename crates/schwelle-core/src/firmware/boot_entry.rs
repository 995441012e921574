//! Writing a boot entry for an EFI system partition, and asking for the setup screen.
//!
//! Source: UEFI 2.10 §3.1.1 to §3.1.3 (`BootOrder`, `Boot####`), §8.5.4 (`OsIndications`).

use crate::device::{Extent, ReadDevice, Window};
use crate::fat::FatVolume;
use crate::gpt::{GptPair, type_guid};

use super::fact::Ground;
use super::load_option::LoadOption;
use super::machine::{BootEntry, Machine, TO_SETUP};
use super::target::{AttachedDisk, Target};
use super::variables::{GLOBAL, LASTING, Variable, VariableError, Variables, entry_name};

/// Why no entry is written.
#[derive(Debug, thiserror::Error)]
pub enum EntryError {
    /// The disk has no EFI system partition.
    #[error("the disk has no EFI system partition")]
    NoEsp,
    /// There is no such loader on it.
    #[error("{path} is not on the EFI system partition")]
    NoLoader {
        /// Its path.
        path: String,
    },
    /// The firmware's entries are not known.
    #[error("the boot entries of this PC are not known")]
    NotReported(Ground),
    /// All numbers are taken.
    #[error("the firmware has no free number for another boot entry")]
    Full,
    /// The firmware does not offer this.
    #[error("this firmware cannot be asked for its setup screen")]
    NotOffered,
    /// A variable could not be read or written.
    #[error("{0}")]
    Variable(#[from] VariableError),
}

/// What will be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EntryPlan {
    /// Number of the entry: a free one, or that of the same entry written before.
    pub number: u16,
    /// Its content.
    pub option: LoadOption,
    /// The whole new boot order.
    pub order: Vec<u16>,
    /// Entries that lead nowhere, on this disk or on none of those attached: number and name. They
    /// are left as they are.
    pub dead: Vec<(u16, String)>,
    /// Nothing needs to be written: it is there and first.
    pub is_there: bool,
}

impl EntryPlan {
    /// Plans an entry for the loader at a path on the EFI system partition of the disk at place `at` among those
    /// attached, first in the order and called `name`.
    pub fn new(
        machine: &Machine,
        variables: &Variables,
        (disks, at): (&[AttachedDisk<'_>], usize),
        (name, path): (&str, &str),
    ) -> Result<Self, EntryError> {
        let disk = disks.get(at).ok_or(EntryError::NoEsp)?.device;
        let entries = machine
            .entries
            .value()
            .ok_or_else(|| EntryError::NotReported(machine.entries.ground().clone()))?;
        let (number, extent, id) = find_loader(disk, path)?;
        let option = LoadOption::for_file(name, (number, extent, id), path);
        let same = entries.iter().find(|entry| leads_to_same(entry, &option));
        let number = match same {
            Some(entry) => entry.number,
            None => free_number(entries).ok_or(EntryError::Full)?,
        };
        let option = match same.map(|entry| &entry.option) {
            Some(Ok(found)) if found.is_active() => found.clone(),
            _ => option,
        };
        // As it stands, with numbers that name no entry: they are not ours to tidy.
        let mut order = variables.boot_order()?;
        order.retain(|&ordered| ordered != number);
        order.insert(0, number);
        let is_there = same.is_some_and(|entry| {
            entry.place == Some(0) && entry.option.as_ref().is_ok_and(LoadOption::is_active)
        });
        let dead = entries.iter().filter_map(|entry| {
            let option = entry.option.as_ref().ok()?;
            let leads_nowhere = match Target::of(option, disks) {
                Target::NoPartition => true,
                Target::NoFile { disk, .. } => disk == at,
                Target::File { .. } | Target::Other(_) => false,
            };
            let is_other = entry.number != number;
            (is_other && leads_nowhere).then(|| (entry.number, option.description.clone()))
        });
        Ok(Self {
            number,
            option,
            order,
            dead: dead.collect(),
            is_there,
        })
    }

    /// Writes the entry, then the order: a cut between the two leaves an entry that is never tried.
    pub fn apply(&self, variables: &Variables) -> Result<(), EntryError> {
        if self.is_there {
            return Ok(());
        }
        let data = self.option.write().ok_or(EntryError::Full)?;
        let lasting = |data| Variable {
            attributes: LASTING,
            data,
        };
        variables.write(&entry_name(self.number), GLOBAL, &lasting(data))?;
        let order = self.order.iter().flat_map(|number| number.to_le_bytes());
        variables.write("BootOrder", GLOBAL, &lasting(order.collect()))?;
        Ok(())
    }
}

/// The EFI system partition with this loader: number, place, GUID.
fn find_loader(disk: &dyn ReadDevice, path: &str) -> Result<(u32, Extent, uuid::Uuid), EntryError> {
    let pair = GptPair::read(disk);
    let entries = pair.best().map(|copy| copy.entries.as_slice());
    let mut found = entries.unwrap_or_default().iter();
    let (number, entry) = found
        .find(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM)
        .ok_or(EntryError::NoEsp)?;
    let window = Window::new(disk, entry.extent).ok_or(EntryError::NoEsp)?;
    let file = FatVolume::open(&window).and_then(|fat| fat.find(path));
    match file {
        Ok(Some(file)) if !file.is_directory => {
            let number = u32::try_from(*number).map_err(|_too_large| EntryError::NoEsp)?;
            Ok((number, entry.extent, entry.id))
        }
        _ => Err(EntryError::NoLoader {
            path: path.to_owned(),
        }),
    }
}

fn leads_to_same(entry: &BootEntry, option: &LoadOption) -> bool {
    let same_file = |found: &LoadOption| {
        let files = found.file().zip(option.file());
        found.partition() == option.partition()
            && files.is_some_and(|(found, wanted)| found.eq_ignore_ascii_case(wanted))
    };
    entry.option.as_ref().is_ok_and(same_file)
}

fn free_number(entries: &[BootEntry]) -> Option<u16> {
    (0..=u16::MAX).find(|number| !entries.iter().any(|entry| entry.number == *number))
}

/// Asks the firmware to show its setup screen at the next start.
pub fn ask_for_setup(machine: &Machine, variables: &Variables) -> Result<(), EntryError> {
    if machine.can_ask_for_setup.value() != Some(&true) {
        return Err(EntryError::NotOffered);
    }
    // Other requests that wait there stay.
    let bits = variables.read_bits("OsIndications")?.unwrap_or(0) | TO_SETUP;
    let variable = Variable {
        attributes: LASTING,
        data: bits.to_le_bytes().to_vec(),
    };
    Ok(variables.write("OsIndications", GLOBAL, &variable)?)
}
