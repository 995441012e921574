//! What undoing edits on volumes that have been used since: files that name partitions as the new table does name
//! them as the old one did.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::commit::{ChangeSet, Purpose};
use crate::device::{Draft, Lba, ReadDevice};
use crate::disk_use::DiskUse;
use crate::gpt::{GptPair, type_guid};
use crate::host::HostFacts;
use crate::identities::{Identities, Style};
use crate::job::{
    JobFacts, JobFolder, JobKind, PlannedUndo, RecoverError, Renaming, Side, Undoing, with_table,
};
use crate::mbr::{BootRecord, MbrTable};
use crate::placement::Placement;
use crate::profile::{NtfsHealth, Partition, Profile};

use super::edit::{self, EditedFile};

/// Why the files on a volume are not updated.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum WhyNotUpdated {
    /// A hibernated session waits on it, and would write what it remembers.
    Hibernated,
    /// Its volume is encrypted, and is not opened for this.
    Encrypted,
    /// It was not closed.
    NotClosed,
    /// Its books do not balance.
    Damaged,
    /// Its registry, or a file on it, cannot be edited.
    Uneditable {
        /// Why not.
        fault: Cause,
    },
}

/// A system whose files keep the names that partitions had in the new table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct NotUpdated {
    /// Number of its partition, as the disk is now.
    pub partition: usize,
    /// Why.
    pub why: WhyNotUpdated,
}

/// Files on volumes used since the job, updated to name the old table's partitions.
#[derive(Debug)]
pub struct RestoredNames {
    /// Files that are updated.
    pub files: Vec<EditedFile>,
    /// Systems whose files are not.
    pub left: Vec<NotUpdated>,
    /// Bytes that are written for it.
    pub bytes: u64,
}

impl RestoredNames {
    /// Plans the edits and takes them into the plan to undo a job; `None` if the job changes no names, or if nothing
    /// of it is on the disk. `written` is the time that edited hives get, in 100 ns since 1601.
    ///
    /// # Errors
    ///
    /// Disk or folder cannot be read. A file that cannot be edited is left, and reported.
    pub fn plan(planned: &mut PlannedUndo<'_>, written: u64) -> Result<Option<Self>, RecoverError> {
        let Some(undoing) = planned.plan() else {
            return Ok(None);
        };
        let job = planned.recovery().job();
        let Some(facts) = job
            .facts()
            .filter(|facts| facts.kind == JobKind::Convert && facts.disk_use == DiskUse::System)
        else {
            return Ok(None);
        };
        let Some(identities) = identities(job, facts, planned.disk())? else {
            return Ok(None);
        };
        let below = planned.below_renaming()?;
        let mut profile = Profile::read(&*below, HostFacts::default())?;
        let mut left = left_alone(&profile, undoing);
        let updated: Vec<usize> = profile
            .partitions
            .iter()
            .filter(|partition| !undoing.comes_back(partition.extent.first))
            .filter(|partition| why_not(partition).is_none())
            .map(|partition| partition.number)
            .filter(|number| left.iter().all(|left| left.partition != *number))
            .collect();
        let is_updated = |number: usize| updated.contains(&number);
        profile
            .systems
            .retain(|system| is_updated(system.partition));
        profile.recovery.retain(|image| is_updated(image.partition));

        let draft = Draft::over(below.clone());
        let placement = Placement::without_esp(DiskUse::System);
        let edits = edit::edit_files(&draft, &profile, &placement, &identities, written);
        let edited = edits.and_then(|edits| {
            let changes = ChangeSet::of(&draft, Purpose::MovedClusters, &edits.regions)?;
            let watched = edits.watch(&*below, &profile, &[])?;
            Ok((edits.files, changes.checked(false)?, watched))
        });
        let (files, renaming) = match edited {
            Ok((files, changes, watched)) if !files.is_empty() => {
                (files, Some(Renaming::new(below, draft, changes, watched)))
            }
            Ok(_) => (Vec::new(), None),
            Err(error) => {
                let fault = Cause::from(error);
                left.extend(profile.systems.iter().map(|system| NotUpdated {
                    partition: system.partition,
                    why: WhyNotUpdated::Uneditable {
                        fault: fault.clone(),
                    },
                }));
                (Vec::new(), None)
            }
        };
        let bytes = renaming.as_ref().map_or(0, Renaming::bytes);
        planned.rename(renaming)?;
        Ok(Some(Self { files, left, bytes }))
    }
}

/// The systems on used volumes whose files cannot be updated.
fn left_alone(profile: &Profile, undoing: &Undoing) -> Vec<NotUpdated> {
    let systems = profile.systems.iter();
    let left = systems.filter_map(|system| {
        let partition = profile.partition(system.partition)?;
        if undoing.comes_back(partition.extent.first) {
            return None;
        }
        let fault = system.letters.as_ref().err().cloned();
        let uneditable = fault.map(|fault| WhyNotUpdated::Uneditable { fault });
        Some(NotUpdated {
            partition: partition.number,
            why: why_not(partition).or(uneditable)?,
        })
    });
    let is_used = |partition: &&Partition| {
        let mut used = undoing.used.iter();
        partition.encryption.is_some() && used.any(|(at, _)| *at == partition.extent.first)
    };
    let closed = profile.partitions.iter().filter(is_used);
    let closed = closed.map(|partition| NotUpdated {
        partition: partition.number,
        why: WhyNotUpdated::Encrypted,
    });
    left.chain(closed).collect()
}

/// What speaks against writing to a volume with a system. One that is no NTFS has none.
fn why_not(partition: &Partition) -> Option<WhyNotUpdated> {
    let health: &NtfsHealth = partition.volume.ntfs.as_ref()?;
    let unsound = health.audit.faults.iter().any(|fault| !fault.is_harmless());
    if health.is_hibernated() {
        Some(WhyNotUpdated::Hibernated)
    } else if health.dirty || !health.log_is_clean() {
        Some(WhyNotUpdated::NotClosed)
    } else if unsound || !health.faults.is_empty() {
        Some(WhyNotUpdated::Damaged)
    } else {
        None
    }
}

/// The names of the partitions that are in both of the job's tables, on the way back.
fn identities(
    job: &JobFolder,
    facts: &JobFacts,
    disk: &dyn ReadDevice,
) -> Result<Option<Identities>, RecoverError> {
    let ([gpt, mbr], to) = match facts.to {
        Style::Gpt => ([Side::New, Side::Old], Style::Mbr),
        Style::Mbr => ([Side::Old, Side::New], Style::Gpt),
    };
    let (gpt, mbr) = (with_table(job, disk, gpt)?, with_table(job, disk, mbr)?);
    let record = BootRecord::parse(&mbr.read_sector(Lba(0))?);
    let pair = GptPair::read(&gpt);
    let (Some(record), Some(copy)) = (record, pair.best()) else {
        return Ok(None);
    };
    let signature = record.disk_signature;
    let table = MbrTable::read(&mbr, record)?;
    let is_in_both = |first: Lba| {
        let mut partitions = table.partitions.iter();
        partitions.any(|partition| partition.extent.first == first)
    };
    let entries = copy.entries.iter().map(|(_, entry)| entry);
    let esp = entries
        .clone()
        .find(|entry| entry.kind == type_guid::EFI_SYSTEM);
    let named = entries.filter(|entry| is_in_both(entry.extent.first));
    let named = named.filter_map(|entry| {
        let offset = disk.geometry().byte_of(entry.extent.first)?;
        Some((offset, entry.id))
    });
    Ok(Some(Identities {
        to,
        signature,
        disk: copy.header.disk_id,
        esp: esp.map(|entry| entry.id).unwrap_or_default(),
        partitions: named.collect(),
    }))
}
