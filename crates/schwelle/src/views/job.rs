//! The documents of a job folder: `job.json` when it begins, `outcome.json` when it has ended.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::firmware::{Fact, Ground, Machine};
use schwelle_core::job::JobEnd;
use schwelle_core::profile::TableStyle;
use serde::{Deserialize, Serialize};

use super::confirm::Confirmed;
use super::json::{Plan, Rehearsed};
use super::sheet::Sheet;
use super::worded::Worded;
use crate::disk::Disk;
use crate::words;

/// Document of a job folder: a [`JobRecord`].
pub(crate) const RECORD: &str = "job.json";
/// Document of a job folder: an [`Outcome`].
pub(crate) const OUTCOME: &str = "outcome.json";
/// Document of a job folder: a [`KeptConfirmation`].
pub(crate) const CONFIRMATION: &str = "confirmation.json";

/// `job.json` in the job folder.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct JobRecord {
    pub(crate) made_by: String,
    /// RFC 3339
    pub(crate) started: String,
    pub(crate) disk: String,
    /// The disk's serial number, where it tells one
    pub(crate) serial: Option<String>,
    /// What the disk is called from start to start: its by-id name, its serial number, or its path
    pub(crate) lasting_name: String,
    /// Who confirmed the disk and the backup: "the technician" or "--yes"
    pub(crate) answered_by: String,
    /// What the policy had asked beside, each answered with yes
    pub(crate) questions: Vec<String>,
    /// The workshop's name, by the policy
    pub(crate) shop: Option<String>,
    pub(crate) disk_facts: DiskDoc,
    /// What is known of the PC
    pub(crate) pc: Vec<PcFactDoc>,
    pub(crate) plan: Plan,
}

/// What is reported about a disk beside its layout.
#[derive(Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct DiskDoc {
    pub(crate) size_bytes: u64,
    pub(crate) model: Option<String>,
    pub(crate) disk_name: Option<String>,
    pub(crate) systems: Vec<String>,
    /// Before the job
    pub(crate) table: Option<TableStyle>,
}

impl DiskDoc {
    pub(crate) fn of(disk: &Disk) -> Self {
        let profile = &disk.profile;
        Self {
            size_bytes: profile.geometry.len_bytes(),
            model: profile.host.model.clone(),
            disk_name: profile.disk_name(),
            systems: profile
                .titles()
                .into_iter()
                .map(|(_, title)| title)
                .collect(),
            table: Some(profile.table_style()),
        }
    }
}

/// A fact about the PC.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct PcFactDoc {
    /// Which: "manufacturer", "model", "firmware", "firmware date", "UEFI mode", "firmware architecture", "boot mode",
    /// "CSM", "Secure Boot"
    pub(crate) fact: String,
    pub(crate) value: String,
    /// Where from
    pub(crate) evidence: Worded<Ground>,
}

impl PcFactDoc {
    /// The facts that are known.
    pub(crate) fn of(machine: &Machine) -> Vec<Self> {
        fn fact<T>(name: &str, fact: &Fact<T>, show: impl Fn(&T) -> String) -> Option<PcFactDoc> {
            fact.value().map(|value| PcFactDoc {
                fact: name.to_owned(),
                value: show(value),
                evidence: Worded::of(fact.ground().clone(), words::facts::ground),
            })
        }
        let switch = |on: &bool| if *on { "on" } else { "off" }.to_owned();
        let known = [
            fact("manufacturer", &machine.manufacturer, String::clone),
            fact("model", &machine.model, String::clone),
            fact("firmware", &machine.firmware, String::clone),
            fact("firmware date", &machine.firmware_date, String::clone),
            fact("UEFI mode", &machine.uefi, |can| {
                if *can { "supported" } else { "not supported" }.to_owned()
            }),
            fact("firmware architecture", &machine.bits, |bits| {
                format!("{bits}-bit")
            }),
            fact("boot mode", &machine.mode, |mode| {
                mode.name().to_uppercase()
            }),
            fact("CSM", &machine.csm, switch),
            fact("Secure Boot", &machine.secure_boot, switch),
        ];
        known.into_iter().flatten().collect()
    }
}

/// `confirmation.json` in the job folder: what the last `confirm --job` said.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct KeptConfirmation {
    /// RFC 3339
    pub(crate) made: String,
    #[serde(flatten)]
    pub(crate) confirmed: Confirmed,
}

/// `outcome.json` in the job folder: how the last of `convert`, `mend`, `resume` and `undo` ended.
#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Outcome {
    pub(crate) answer: JobEnd,
    /// RFC 3339
    pub(crate) finished: String,
    /// The rehearsal of the finished disk; null after `undo`
    pub(crate) rehearsal: Option<Rehearsed>,
    /// The switch sheet for the PC as it is known; null for a disk that is not to start in UEFI mode
    pub(crate) sheet: Option<Sheet>,
    /// `undo`: every sector that matters is as it was
    pub(crate) exact: Option<bool>,
    /// What the technician was warned of at the end
    pub(crate) warnings: Vec<String>,
}
