//! What a job is: the typed part of its record, which finishing it and taking it back go by.

use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::disk_use::DiskUse;
use crate::identities::Style;

/// What a job does with a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum JobKind {
    /// It gets the other table.
    Convert,
    /// A GPT disk that does not start is mended.
    Mend,
}

impl JobKind {
    /// How a job of this kind has ended when it is done.
    pub fn done(self) -> JobEnd {
        match self {
            Self::Convert => JobEnd::Converted,
            Self::Mend => JobEnd::Mended,
        }
    }
}

/// How a job ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum JobEnd {
    /// The disk has the other table.
    Converted,
    /// The disk is mended.
    Mended,
    /// The job was taken back.
    Undone,
}

/// What a job is. It is part of the journal, and so covered by its hash.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct JobFacts {
    /// What it does.
    pub kind: JobKind,
    /// The table that the disk has afterwards.
    pub to: Style,
    /// What the disk is for.
    pub disk_use: DiskUse,
    /// The disk as it was named. A name alone is never believed.
    pub disk: PathBuf,
    /// The disk's serial number, where it tells one.
    pub serial: Option<String>,
    /// The computer's name in the registry of the first Windows on it, where that can be read.
    pub computer: Option<String>,
}

/// A disk differs from what a job says of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OtherFact {
    /// What it is.
    pub kind: FactKind,
    /// Of the job's disk.
    pub of_job: String,
    /// Of this one.
    pub of_disk: String,
}

/// What tells disks apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FactKind {
    /// The serial number.
    Serial,
    /// The computer's name.
    Computer,
}

impl JobFacts {
    /// The first fact in which a disk differs from the job's. What either of them does not tell is not compared.
    pub fn other(&self, serial: Option<&str>, computer: Option<&str>) -> Option<OtherFact> {
        let facts = [
            (FactKind::Serial, self.serial.as_deref(), serial),
            (FactKind::Computer, self.computer.as_deref(), computer),
        ];
        facts.into_iter().find_map(|(kind, of_job, of_disk)| {
            let (of_job, of_disk) = of_job.zip(of_disk)?;
            (of_job != of_disk).then(|| OtherFact {
                kind,
                of_job: of_job.to_owned(),
                of_disk: of_disk.to_owned(),
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_disk_is_another_only_if_both_tell_and_differ() {
        let facts = JobFacts {
            kind: JobKind::Convert,
            to: Style::Gpt,
            disk_use: DiskUse::System,
            disk: "disk.img".into(),
            serial: Some("S-1".to_owned()),
            computer: Some("LANTERN-ONE".to_owned()),
        };
        let kind = |serial, computer| facts.other(serial, computer).map(|other| other.kind);
        assert_eq!(kind(Some("S-1"), Some("LANTERN-ONE")), None);
        assert_eq!(kind(None, None), None);
        assert_eq!(kind(Some("S-2"), None), Some(FactKind::Serial));
        assert_eq!(kind(None, Some("BEACON-ROOM")), Some(FactKind::Computer));
        let untold = JobFacts {
            serial: None,
            computer: None,
            ..facts.clone()
        };
        assert_eq!(untold.other(Some("S-2"), Some("BEACON-ROOM")), None);
    }
}
