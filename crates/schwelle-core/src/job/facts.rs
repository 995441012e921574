//! What a job is: the typed part of its record, which finishing it and taking it back go by.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::disk_use::DiskUse;
use crate::identities::Style;

/// What a job does with a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum JobEnd {
    /// The disk has the other table.
    Converted,
    /// The disk is mended.
    Mended,
    /// The job was taken back.
    Undone,
}

/// What a job is. It stands in the journal, and so is covered by its hash.
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
}

impl JobFacts {
    /// From `job.json`, for a journal of version 1, which did not have them. What the program wrote only later
    /// was then as it is taken here: a conversion, to GPT, of a disk that starts a system. Anything else that
    /// is missing or is invalid is an error, which names it.
    pub(super) fn of_first_version(record: &Value) -> Result<Self, String> {
        fn stored<T: serde::de::DeserializeOwned>(
            plan: &Value,
            key: &str,
            before: T,
        ) -> Result<T, String> {
            match plan.get(key) {
                None | Some(Value::Null) => Ok(before),
                Some(value) => serde_json::from_value(value.clone())
                    .map_err(|error| format!("{key} is invalid: {error}")),
            }
        }
        let plan = record.get("plan").ok_or("it has no plan")?;
        let disk = record.get("disk").and_then(Value::as_str);
        let mended: Vec<Value> = stored(plan, "mended", Vec::new())?;
        Ok(Self {
            kind: match mended.is_empty() {
                true => JobKind::Convert,
                false => JobKind::Mend,
            },
            to: stored(plan, "to", Style::Gpt)?,
            disk_use: stored(plan, "disk_use", DiskUse::System)?,
            disk: disk.ok_or("it names no disk")?.into(),
            serial: stored(record, "serial", None)?,
        })
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_record_of_the_first_version_is_read_and_what_makes_no_sense_is_told() {
        let facts = |record: Value| JobFacts::of_first_version(&record);
        let whole = |kind, to, disk_use| JobFacts {
            kind,
            to,
            disk_use,
            disk: "/dev/sdq".into(),
            serial: None,
        };
        for (plan, expected) in [
            // The first ones had neither way nor use.
            (
                json!({}),
                whole(JobKind::Convert, Style::Gpt, DiskUse::System),
            ),
            (
                json!({ "to": "mbr", "disk_use": "data", "mended": [] }),
                whole(JobKind::Convert, Style::Mbr, DiskUse::Data),
            ),
            (
                json!({ "to": "gpt", "disk_use": "system", "mended": [{ "step": "esp" }] }),
                whole(JobKind::Mend, Style::Gpt, DiskUse::System),
            ),
        ] {
            let record = json!({ "disk": "/dev/sdq", "plan": plan });
            assert_eq!(facts(record), Ok(expected));
        }
        for (record, fault) in [
            (json!({ "disk": "/dev/sdq" }), "it has no plan"),
            (json!({ "plan": {} }), "it names no disk"),
            (
                json!({ "disk": "/dev/sdq", "plan": { "to": "apm" } }),
                "to is invalid",
            ),
            (
                json!({ "disk": "/dev/sdq", "plan": { "disk_use": 3 } }),
                "disk_use is invalid",
            ),
        ] {
            let stored = facts(record).unwrap_err();
            assert!(stored.starts_with(fault), "{stored}");
        }
    }
}
