//! Fixes a GPT disk that does not start: one that another program converted, that was copied to a larger disk, or
//! that is damaged.
//!
//! The rehearsal finds the step at which a start ends. What that step needs is drafted, the draft is rehearsed,
//! and so on until all steps hold; steps that hold only with some firmware are fixed as well. If there is no
//! remedy, the error says so, with the step's own advice. If all steps hold, there is no plan.

mod answers;
mod build;
mod kept;
mod names;
mod remedies;

use crate::device::{DeviceError, Draft, Extent, ReadDevice};
use crate::disk_use::DiskUse;
use crate::draft::{DraftError, Plan, Source};
use crate::gpt::{GptLayout, GptPair, type_guid};
use crate::identities::Style;
use crate::placement::{EspRequest, NoRoom};
use crate::profile::{BOOTMGFW, Profile, Table, TableStyle, VolumeKind, volume_kind};
use crate::rehearse::{Rehearsal, Step, StepId, walk, walk_to};

pub use answers::{FixKind, NotMended, StoreFrom};

use remedies::Remedies;

/// Something that is mended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fix {
    /// The step that did not hold, or that cautioned about it.
    pub step: StepId,
    /// What is done about it.
    pub what: FixKind,
}

/// Why a disk cannot be mended here.
#[derive(Debug, thiserror::Error)]
pub enum MendError {
    /// Not a GPT disk.
    #[error("it is no GPT disk: its table is {}", .style.name())]
    NotGpt {
        /// What it is.
        style: TableStyle,
    },
    /// A step does not hold for which there is no remedy here.
    #[error("the step {} does not hold", .step.id.name())]
    NoRemedy {
        /// The step, with advice.
        step: Box<Step>,
        /// Why nothing can be done about it here.
        why: NotMended,
    },
    /// There is no room for an EFI system partition.
    #[error("there is no room for an EFI system partition")]
    NoRoom(NoRoom),
    /// The mended disk's rehearsal does not pass.
    #[error("the mended disk would not pass its rehearsal")]
    NotPassed,
    /// The draft could not be made.
    #[error(transparent)]
    Draft(#[from] DraftError),
    /// The disk could not be read.
    #[error(transparent)]
    Device(#[from] DeviceError),
}

/// Plans to mend `disk`: the draft of the mended disk, and what is mended. `None` when all holds.
pub(crate) fn plan<'a>(
    disk: &'a dyn ReadDevice,
    profile: &Profile,
    request: EspRequest,
    mut source: Source<'_>,
) -> Result<Option<(Plan<'a>, Vec<Fix>)>, MendError> {
    let Table::Gpt { pair, .. } = &profile.table else {
        let style = profile.table_style();
        return Err(MendError::NotGpt { style });
    };
    let by_backup;
    let right = right_copy(disk, pair)?;
    let prefers_backup = matches!(right, RightCopy::Backup(_));
    let profile = match right {
        RightCopy::Primary => profile,
        RightCopy::Backup(layout) => {
            let corrected = Draft::new(disk);
            layout.write(&corrected)?;
            by_backup = Profile::read(&corrected, profile.host.clone())?;
            &by_backup
        }
        RightCopy::Unknown { partition } => {
            let rehearsal = rehearse(disk, request.disk_use);
            let why = NotMended::TablesDisagree { partition };
            let step = rehearsal
                .steps
                .iter()
                .find(|step| step.id == StepId::TablesAgree);
            let step = Box::new(step.ok_or(MendError::NotPassed)?.clone());
            return Err(MendError::NoRemedy { step, why });
        }
    };
    let mut remedies = Remedies::new(disk, profile, pair, request, &mut *source.new_guid);
    let mut rehearsal = rehearse(disk, request.disk_use);
    let mut built: Option<Plan<'a>> = None;
    if prefers_backup {
        remedies.take_backup();
        let plan = build::build(disk, profile, &remedies, &mut source)?;
        rehearsal = rehearse(&plan.draft, request.disk_use);
        built = Some(plan);
    }
    loop {
        match rehearsal.first_fault() {
            Some(step) => match &built {
                Some(plan) => remedies.add(step, &plan.draft)?,
                None => remedies.add(step, disk)?,
            },
            None if remedies.edit_files(&rehearsal) => {
                let plan = build::build(disk, profile, &remedies, &mut source)?;
                // Where there is nothing to edit, what is reported of is not for us to mend.
                if !plan.files_edited.is_empty() {
                    remedies.note_decided(&rehearsal, &rehearse(&plan.draft, request.disk_use));
                    built = Some(plan);
                }
                break;
            }
            None => break,
        }
        let plan = build::build(disk, profile, &remedies, &mut source)?;
        rehearsal = rehearse(&plan.draft, request.disk_use);
        built = Some(plan);
    }
    Ok(built.map(|plan| (plan, remedies.fixes())))
}

/// Which of two sound copies of the table is right.
enum RightCopy {
    /// The primary one, which firmware and systems go by.
    Primary,
    /// The backup, with this layout: only where it names partitions do volumes begin.
    Backup(GptLayout),
    /// The content does not tell.
    Unknown {
        /// Number of a partition about whose start they disagree.
        partition: usize,
    },
}

/// Asks the volumes on the disk which of two sound copies is right, if they disagree about where partitions begin.
///
/// # Errors
///
/// The disk cannot be read.
fn right_copy(disk: &dyn ReadDevice, pair: &GptPair) -> Result<RightCopy, DeviceError> {
    let (Ok(primary), Ok(backup)) = (&pair.primary, &pair.backup) else {
        return Ok(RightCopy::Primary);
    };
    let (mut by_primary, mut by_backup, mut by_none) = (None, None, None);
    for (number, entry) in &primary.entries {
        let others = backup.entries.iter();
        let other = others
            .filter(|(other, _)| other == number)
            .map(|(_, entry)| entry)
            .next();
        let Some(other) = other.filter(|other| other.extent.first != entry.extent.first) else {
            continue;
        };
        let holds = |extent: Extent| -> Result<bool, DeviceError> {
            let kind = volume_kind(disk, extent)?;
            Ok(!matches!(
                kind,
                None | Some(VolumeKind::Blank | VolumeKind::Unknown)
            ))
        };
        match (holds(entry.extent)?, holds(other.extent)?) {
            (true, _) => by_primary = Some(*number),
            (false, true) => by_backup = Some(*number),
            (false, false) if entry.kind != type_guid::RESERVED => by_none = Some(*number),
            (false, false) => {}
        }
    }
    Ok(match (by_primary, by_backup, by_none) {
        (Some(_), None, _) | (None, None, None) => RightCopy::Primary,
        (None, Some(number), None) => match GptLayout::of(backup) {
            Some(layout) => RightCopy::Backup(layout),
            None => RightCopy::Unknown { partition: number },
        },
        (_, backup, none) => RightCopy::Unknown {
            partition: none.or(backup).unwrap_or_default(),
        },
    })
}

/// The walk as the mended disk must pass it: by the removable-media path, and by the one that boot
/// entries name.
fn rehearse(disk: &dyn ReadDevice, disk_use: DiskUse) -> Rehearsal {
    let rehearsal = walk_to(disk, Style::Gpt, disk_use);
    if !rehearsal.starts() {
        return rehearsal;
    }
    let named = walk(disk, Some(BOOTMGFW));
    if named.starts() { rehearsal } else { named }
}
