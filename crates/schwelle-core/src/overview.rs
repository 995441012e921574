//! What a technician wants to know of a disk first, before any detail.
//!
//! "Blocked" is kept for a disk that should be converted and cannot be. A disk that needs no conversion gets an
//! answer of its own: whether it starts in UEFI mode, or what else it is.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::disk_use::DiskUse;
use crate::identities::Style;
use crate::pipeline::Judged;
use crate::profile::{Profile, Role, Table};
use crate::rehearse::{self, LinuxOnEsp, Step};
use crate::rules::{Outcome, RuleId};

/// The first answer about a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum DiskAnswer {
    /// It can be converted.
    Ready,
    /// It can be converted; there is something to know first.
    Caution,
    /// It should be converted, and a rule blocks.
    Blocked,
    /// A GPT disk that starts in UEFI mode.
    Starts,
    /// A GPT disk that some firmware starts and some does not.
    Depends,
    /// A GPT disk with Windows, or a Linux, that does not start in UEFI mode.
    DoesNotStart,
    /// A GPT disk whose Windows cannot be read, since it is encrypted or damaged.
    Closed,
    /// A PC may start another system from it; Windows is not on it.
    NoWindows,
    /// It holds data only.
    Data,
    /// It holds nothing: no table, and nothing where volumes begin.
    Blank,
    /// Neither a table nor a file system is recognised.
    Unknown,
    /// It could not be read.
    Unreadable,
}

impl DiskAnswer {
    /// All, in the order in which they are counted.
    pub const ALL: [Self; 12] = [
        Self::Ready,
        Self::Caution,
        Self::Blocked,
        Self::Starts,
        Self::Depends,
        Self::DoesNotStart,
        Self::Closed,
        Self::NoWindows,
        Self::Data,
        Self::Blank,
        Self::Unknown,
        Self::Unreadable,
    ];

    /// What the rules say of a conversion.
    pub fn of_rules(outcome: Outcome) -> Self {
        match outcome {
            Outcome::Pass | Outcome::Unknown => Self::Ready,
            Outcome::Caution => Self::Caution,
            Outcome::Block => Self::Blocked,
        }
    }

    /// True where the answer is what the rules say of a conversion, and not another one.
    pub fn is_of_rules(self) -> bool {
        matches!(self, Self::Ready | Self::Caution | Self::Blocked)
    }
}

/// The first answer, with what it rests on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Overview {
    /// The answer.
    pub answer: DiskAnswer,
    /// The step of the rehearsal that decides, where a GPT disk does not start everywhere.
    pub step: Option<Step>,
}

impl Overview {
    /// Looks at a disk that has been judged. A GPT disk with Windows is rehearsed for it; one without a system is
    /// judged again as a data disk.
    pub fn of(judged: &Judged<'_, '_>) -> Self {
        let profile = judged.profile();
        let is_system = judged.disk_use() == DiskUse::System;
        let plain = |answer| Self { answer, step: None };
        let by_rules = || plain(DiskAnswer::of_rules(judged.answer()));
        // A job that was stopped, or a folder that may hold one, comes before whatever the disk looks like.
        let has_stopped_job = judged
            .with(Outcome::Block)
            .any(|finding| finding.rule == RuleId::MediumStoppedJob);
        if judged.to() == Style::Mbr || has_stopped_job {
            return by_rules();
        }
        match profile.table {
            Table::Gpt { .. } => of_gpt(judged, profile),
            Table::Blank if is_system && profile.trace.is_none() => plain(DiskAnswer::Blank),
            Table::Blank if !judged.is_blocked() => by_rules(),
            Table::Blank | Table::Unknown => plain(DiskAnswer::Unknown),
            Table::Bare => plain(DiskAnswer::Data),
            Table::Mbr { .. } if is_system && judged.is_blocked() && !has_windows(profile) => {
                plain(without_windows(judged))
            }
            Table::Mbr { .. } => by_rules(),
        }
    }
}

/// Windows is on it, or may be: a volume cannot be read.
fn has_windows(profile: &Profile) -> bool {
    let mut partitions = profile.partitions.iter();
    !profile.systems.is_empty() || partitions.any(|partition| partition.is_closed())
}

fn of_gpt(judged: &Judged<'_, '_>, profile: &Profile) -> Overview {
    let mut partitions = profile.partitions.iter();
    let has_linux = || LinuxOnEsp::find(judged.disk()).is_some();
    let answer = match (profile.systems.is_empty(), has_windows(profile)) {
        (is_empty, closed) if !is_empty || (!closed && has_linux()) => {
            let rehearsal = rehearse::walk(judged.disk(), None);
            return Overview {
                answer: match rehearsal.answer() {
                    rehearse::Answer::Starts => DiskAnswer::Starts,
                    rehearse::Answer::Depends => DiskAnswer::Depends,
                    rehearse::Answer::DoesNotStart => DiskAnswer::DoesNotStart,
                },
                step: rehearsal.first_fault().cloned(),
            };
        }
        (_, true) => DiskAnswer::Closed,
        (_, false) if partitions.any(|partition| partition.role == Role::Esp) => {
            DiskAnswer::NoWindows
        }
        (_, false) => DiskAnswer::Data,
    };
    Overview { answer, step: None }
}

/// An MBR disk without Windows: data, unless a PC may start something from it, or it could not even be converted
/// as a data disk.
fn without_windows(judged: &Judged<'_, '_>) -> DiskAnswer {
    let as_data = judged.as_data();
    let may_start = |rule| {
        let mut findings = as_data.findings().iter();
        findings.any(|finding| finding.rule == rule && finding.outcome >= Outcome::Caution)
    };
    match as_data.answer() {
        _ if may_start(RuleId::SystemActive) || may_start(RuleId::BcdStore) => {
            DiskAnswer::NoWindows
        }
        Outcome::Block => DiskAnswer::Blocked,
        _ => DiskAnswer::Data,
    }
}
