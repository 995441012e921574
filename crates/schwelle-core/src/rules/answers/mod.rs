//! The answers of the rules, as values: what each is about, what was found, and what to do. The sentences
//! made of them are the command line's.
//!
//! One file per family of rules. Kinds are unique over all families, so that a value that was stored is read
//! back as what it was.

pub mod back;
pub mod backup;
pub mod boot;
pub mod common;
pub mod firmware;
pub mod medium;
pub mod room;
pub mod system;
pub mod table;
pub mod volume;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Outcome, RuleId, Severity};
use crate::families::families;
use crate::next::Next;
use crate::profile::{Partition, Profile, Titled};

/// A rule's answer about one subject.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// The rule.
    pub rule: RuleId,
    /// The answer.
    pub outcome: Outcome,
    /// What it is about.
    pub subject: Subject,
    /// What was found, and where.
    pub evidence: Evidence,
    /// What to do; there for every outcome but `pass`, and where a policy made a pass of another.
    pub remedy: Option<Remedy>,
    /// Where a policy takes the answer otherwise than the rule gave it.
    pub by_policy: Option<ByPolicy>,
}

/// What a policy made of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ByPolicy {
    /// The rule's own answer.
    pub was: Outcome,
    /// How seriously the policy takes it.
    pub severity: Severity,
}

/// What a finding is about. Labels and titles come from the disk and are escaped before they are shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Subject {
    /// The disk.
    Disk,
    /// Its partition table.
    PartitionTable,
    /// A record of the chain of logical partitions.
    ExtendedBootRecord,
    /// A partition.
    Partition(Titled),
    /// An installed Windows, by its name, version and build.
    System {
        /// As its registry says.
        name: String,
    },
    /// The BCD store.
    BcdStore,
    /// An entry of the BCD store.
    Entry {
        /// Its title.
        title: String,
    },
    /// The job folder.
    JobFolder,
    /// The PC around the disk.
    Pc,
    /// What the customer has on the disk.
    CustomerData,
}

impl Subject {
    /// A partition with its label.
    pub(super) fn of(partition: &Partition) -> Self {
        Self::Partition(partition.titled())
    }

    /// The partition with this number.
    pub(super) fn numbered(profile: &Profile, number: usize) -> Self {
        let without = Titled {
            number,
            label: String::new(),
        };
        let titled = profile.partition(number).map(Partition::titled);
        Self::Partition(titled.unwrap_or(without))
    }
}

families! {
    "RuleEvidence", "RuleRemedy":
    Common common,
    Medium medium,
    Table table,
    Room room,
    Volume volume,
    System system,
    Boot boot,
    Firmware firmware,
    Back back,
    Backup backup,
}

impl Evidence {
    /// Nothing against it, and nothing to tell.
    pub fn is_silent(&self) -> bool {
        *self == Self::Common(common::Evidence::NothingFound)
    }
}

/// A finding before its rule's id is put in.
pub(super) struct Answer {
    pub(super) outcome: Outcome,
    pub(super) subject: Subject,
    pub(super) evidence: Evidence,
    pub(super) remedy: Option<Remedy>,
}

impl Answer {
    pub(super) fn pass(subject: Subject, evidence: impl Into<Evidence>) -> Self {
        Self {
            outcome: Outcome::Pass,
            subject,
            evidence: evidence.into(),
            remedy: None,
        }
    }

    /// A pass that says why the rule asked nothing.
    pub(super) fn not_asked(subject: Subject, because: common::NotAsked) -> Self {
        Self::pass(subject, common::Evidence::NotAsked { because })
    }

    pub(super) fn new(
        outcome: Outcome,
        subject: Subject,
        evidence: impl Into<Evidence>,
        remedy: impl Into<Remedy>,
    ) -> Self {
        Self {
            outcome,
            subject,
            evidence: evidence.into(),
            remedy: Some(remedy.into()),
        }
    }

    pub(super) fn block(
        subject: Subject,
        evidence: impl Into<Evidence>,
        remedy: impl Into<Remedy>,
    ) -> Self {
        Self::new(Outcome::Block, subject, evidence, remedy)
    }

    pub(super) fn caution(
        subject: Subject,
        evidence: impl Into<Evidence>,
        remedy: impl Into<Remedy>,
    ) -> Self {
        Self::new(Outcome::Caution, subject, evidence, remedy)
    }

    pub(super) fn unknown(
        subject: Subject,
        evidence: impl Into<Evidence>,
        remedy: impl Into<Remedy>,
    ) -> Self {
        Self::new(Outcome::Unknown, subject, evidence, remedy)
    }
}
