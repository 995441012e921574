//! After the switch: did the system on a converted disk really start in UEFI mode?
//!
//! The running system says so itself, where it is asked. Afterwards no file says so outright, since the values that
//! a running system has are volatile: [`confirm`] weighs what a start leaves on the disk, says how strong each piece
//! of evidence is, and admits when it proves nothing.

mod evidence;

pub use evidence::{Evidence, Lasting, Means, Says, Weight, Written};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::device::{Lba, ReadDevice, Window};
use crate::fat::FatVolume;
use crate::firmware::{BootMode, Machine};
use crate::gpt::{GptCopy, GptEntry, GptPair, attributes, type_guid};
use crate::host::User;
use crate::marker::{MARKER, MAX_MARKER_BYTES, Marker};
use crate::ntfs::NtfsVolume;
use crate::profile::Profile;
use crate::rehearse::{self, Rehearsal};

/// The answer as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Answer {
    /// It started in UEFI mode, and all is where it should be.
    Confirmed,
    /// It did not, or could not.
    NotConfirmed,
    /// What is on the disk does not say.
    Unknown,
}

impl Answer {
    /// The word in reports and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Confirmed => "confirmed",
            Self::NotConfirmed => "not-confirmed",
            Self::Unknown => "unknown",
        }
    }
}

/// Why the answer is as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Reason {
    /// The disk has no GPT.
    NoGpt,
    /// It would not start.
    RehearsalFails,
    /// The PC's firmware is in BIOS mode.
    FirmwareInBiosMode,
    /// No Windows on it has started since the conversion.
    NotStarted,
    /// The evidence contradicts itself.
    Contradiction,
    /// The disk could not be read here, and in other sectors perhaps.
    Unreadable {
        /// The first such sector.
        lba: Lba,
    },
    /// Nothing tells for sure.
    NothingTells,
    /// Windows has started, and not all is where it should be.
    StartedNotAllRight,
    /// Windows has started.
    Started,
    /// The running Windows was started from it, and not all is where it should be.
    RunningNotAllRight,
    /// The running Windows was started from it.
    Running,
}

/// What a look at the disk gave.
#[derive(Debug)]
pub struct Confirmation {
    /// The answer.
    pub answer: Answer,
    /// Why.
    pub reason: Reason,
    /// All evidence: about the PC, then about each system.
    pub evidence: Vec<Evidence>,
    /// The disk's rehearsal: that it can start, its letters and its recovery environment.
    pub rehearsal: Rehearsal,
}

/// Looks at a disk after the switch. `machine` is the PC it sits in, as far as that is known.
pub fn confirm(disk: &dyn ReadDevice, profile: &Profile, machine: &Machine) -> Confirmation {
    let rehearsal = rehearse::walk(disk, None);
    let mut evidence: Vec<Evidence> = running(profile, machine).into_iter().collect();
    evidence.push(firmware(machine));
    let pair = GptPair::read(disk);
    let Some(table) = pair.best() else {
        let (answer, reason) = match first_unreadable(disk) {
            Some(lba) => (Answer::Unknown, Reason::Unreadable { lba }),
            None => (Answer::NotConfirmed, Reason::NoGpt),
        };
        return Confirmation {
            answer,
            reason,
            evidence,
            rehearsal,
        };
    };
    let esp = table
        .entries
        .iter()
        .find(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM);
    let mut marker = None;
    if let Some((number, entry)) = esp {
        evidence.push(esp_is_hidden(*number, entry));
        evidence.extend(esp_is_mounted(profile, *number));
        let window = Window::new(disk, entry.extent);
        if let Some(fat) = window
            .as_ref()
            .and_then(|window| FatVolume::open(window).ok())
        {
            marker = read_marker(&fat, table);
            evidence.extend(evidence::of_esp(&fat, marker.as_ref()));
        }
    }
    evidence.push(about_marker(marker.as_ref()));
    for system in &profile.systems {
        let Some(partition) = profile.partition(system.partition) else {
            continue;
        };
        let Some(window) = Window::new(disk, partition.extent) else {
            continue;
        };
        if let Ok(volume) = NtfsVolume::open(&window) {
            let number = esp.map(|(number, _)| *number);
            let place = (table, partition.extent, number);
            let from = started_from(profile).filter(|_| profile.is_mounted(partition));
            evidence.extend(evidence::of_system(
                &volume,
                system,
                place,
                marker.as_ref(),
                from,
            ));
        }
    }
    let (answer, reason) = weigh(&evidence, &rehearsal, first_unreadable(disk));
    Confirmation {
        answer,
        reason,
        evidence,
        rehearsal,
    }
}

/// The first sector that could not be read so far: evidence is missing then, and missing evidence says nothing.
fn first_unreadable(disk: &dyn ReadDevice) -> Option<Lba> {
    let unreadable = disk.unreadable();
    unreadable.iter().map(|extent| extent.first).min()
}

/// What the running system says of itself, where it lies on the disk.
fn running(profile: &Profile, machine: &Machine) -> Option<Evidence> {
    let at = profile.host.users.iter().find_map(|user| match user {
        User::RunningSystem { at, .. } => Some(at.clone()),
        _ => None,
    })?;
    let mode = machine.session.value().copied();
    let says = match mode {
        Some(BootMode::Uefi) => Says::Yes,
        Some(BootMode::Bios) => Says::No,
        Some(BootMode::Both) | None => Says::Nothing,
    };
    let found = Lasting::Running { at, mode };
    Some(Evidence::new(Weight::Decisive, says, found))
}

fn started_from(profile: &Profile) -> Option<&str> {
    profile.host.users.iter().find_map(|user| match user {
        User::RunningSystem { started_from, .. } => started_from.as_deref(),
        _ => None,
    })
}

/// A drive letter, or a folder, that the running system shows the EFI system partition at.
fn esp_is_mounted(profile: &Profile, number: usize) -> Option<Evidence> {
    let partition = profile.partition(number)?;
    let first = profile.geometry.byte_of(partition.extent.first)?;
    let mut mounted = profile.host.mounted.iter();
    let volume = mounted.find(|volume| volume.first_bytes.contains(&first) && volume.is_shown)?;
    let at = volume.at.clone();
    let partition = number;
    let found = Lasting::EspMounted { partition, at };
    Some(Evidence::new(Weight::Aside, Says::No, found))
}

fn firmware(machine: &Machine) -> Evidence {
    let mode = machine.mode.value().copied();
    let says = match mode {
        Some(BootMode::Uefi) => Says::Yes,
        Some(BootMode::Bios) => Says::No,
        Some(BootMode::Both) | None => Says::Nothing,
    };
    let source = machine.mode.ground().clone();
    let found = Lasting::Firmware { mode, source };
    Evidence::new(Weight::Needed, says, found)
}

fn esp_is_hidden(number: usize, entry: &GptEntry) -> Evidence {
    let hidden = entry.attributes & attributes::NO_DRIVE_LETTER != 0;
    let says = match hidden {
        true => Says::Nothing,
        false => Says::No,
    };
    let partition = number;
    let found = Lasting::Esp { partition, hidden };
    Evidence::new(Weight::Aside, says, found)
}

fn read_marker(fat: &FatVolume<'_>, table: &GptCopy) -> Option<Marker> {
    let entry = fat.find(MARKER).ok()??;
    let bytes = fat.read_file(&entry, MAX_MARKER_BYTES).ok()?;
    Marker::parse(&bytes).filter(|marker| marker.disk == table.header.disk_id)
}

fn about_marker(marker: Option<&Marker>) -> Evidence {
    let found = marker.is_some();
    Evidence::new(Weight::Aside, Says::Nothing, Lasting::Marker { found })
}

/// The answer that the evidence gives, as far as the disk could be read.
fn weigh(
    evidence: &[Evidence],
    rehearsal: &Rehearsal,
    unreadable: Option<Lba>,
) -> (Answer, Reason) {
    let says = |weight: Weight, says: Says| {
        let mut all = evidence.iter();
        all.any(|piece| piece.weight == weight && piece.says == says)
    };
    let all_right = rehearsal.answer() == rehearse::Answer::Starts
        && rehearsal.cautions() == 0
        && !says(Weight::Aside, Says::No)
        && unreadable.is_none();
    if says(Weight::Decisive, Says::Yes) {
        return match all_right {
            true => (Answer::Confirmed, Reason::Running),
            false => (Answer::Confirmed, Reason::RunningNotAllRight),
        };
    }
    if says(Weight::Decisive, Says::No) {
        return (Answer::NotConfirmed, Reason::FirmwareInBiosMode);
    }
    // The firmware's mode is not read from the disk.
    let is_bios = says(Weight::Needed, Says::No);
    if let Some(lba) = unreadable.filter(|_| !is_bios) {
        return (Answer::Unknown, Reason::Unreadable { lba });
    }
    if rehearsal.answer() == rehearse::Answer::DoesNotStart && unreadable.is_none() {
        return (Answer::NotConfirmed, Reason::RehearsalFails);
    }
    if is_bios {
        return (Answer::NotConfirmed, Reason::FirmwareInBiosMode);
    }
    match started(evidence) {
        Some(false) => (Answer::NotConfirmed, Reason::NotStarted),
        None if says(Weight::Strong, Says::Yes) => (Answer::Unknown, Reason::Contradiction),
        None => (Answer::Unknown, Reason::NothingTells),
        Some(true) if rehearsal.cautions() > 0 || says(Weight::Aside, Says::No) => {
            (Answer::Confirmed, Reason::StartedNotAllRight)
        }
        Some(true) => (Answer::Confirmed, Reason::Started),
    }
}

/// Whether any system has started, by the strong evidence; `None` when that does not say.
fn started(evidence: &[Evidence]) -> Option<bool> {
    let strong = || {
        evidence
            .iter()
            .filter(|piece| piece.weight == Weight::Strong)
    };
    let mut systems: Vec<Option<usize>> = strong().map(|piece| piece.system).collect();
    systems.sort_unstable();
    systems.dedup();
    let says = |system: Option<usize>, says: Says| {
        strong().any(|piece| piece.system == system && piece.says == says)
    };
    let yes = |system: &Option<usize>| says(*system, Says::Yes);
    let no = |system: &Option<usize>| says(*system, Says::No);
    // One that has started is enough; the others need not have.
    let of_systems = || systems.iter().filter(|system| system.is_some());
    if of_systems().any(|system| yes(system) && !no(system)) {
        return Some(true);
    }
    match (systems.iter().any(yes), systems.iter().any(no)) {
        (true, false) => Some(true),
        (false, true) => Some(false),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_system_that_started_is_enough_and_contradictions_are_admitted() {
        use Says::{No, Nothing, Yes};
        let piece = |system: Option<usize>, says: Says| Evidence {
            system,
            ..Evidence::new(Weight::Strong, says, Lasting::Marker { found: true })
        };
        for (pieces, expected) in [
            (&[(Some(2), Yes), (Some(3), No)][..], Some(true)),
            (
                &[(Some(2), No), (Some(3), No), (None, Nothing)],
                Some(false),
            ),
            (&[(Some(2), Yes), (Some(2), No)], None),
            (&[(None, Yes), (Some(2), No)], None),
            (&[(None, Yes), (Some(2), Nothing)], Some(true)),
            (&[(None, Nothing)], None),
            (&[], None),
        ] {
            let pieces: Vec<_> = pieces
                .iter()
                .map(|&(system, says)| piece(system, says))
                .collect();
            assert_eq!(started(&pieces), expected, "{pieces:?}");
        }
        // What is weak does not decide.
        let marker = Lasting::Marker { found: true };
        let weak = [Evidence::new(Weight::Weak, Yes, marker)];
        assert_eq!(started(&weak), None);
    }
}
