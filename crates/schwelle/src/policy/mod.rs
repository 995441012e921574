//! `--policy FILE`: what a workshop has decided for all its jobs.

mod file;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_core::bytes::read_file;
use schwelle_core::gpt::TypeTable;
use schwelle_core::host::this_pc;
use schwelle_core::rules::{RuleId, Severity};
use serde::Deserialize;

use crate::error::{CliError, Kind};
use crate::text::typed;
use crate::words::here::here;

/// A longer file is not one.
const MAX_BYTES: u64 = 1 << 20;
/// The file below the folders in which settings are kept.
const NAME: &str = "schwelle/policy.toml";

/// Where the policy comes from.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct PolicyOptions {
    #[arg(
        long,
        value_name = "FILE",
        help = format!("The workshop's policy [default: schwelle/policy.toml in {}]", here().settings)
    )]
    policy: Option<PathBuf>,
}

/// A policy.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Policy {
    /// The file; `None` where there is none.
    pub(crate) from: Option<PathBuf>,
    /// The workshop's name, on reports.
    pub(crate) shop: Option<String>,
    /// Where job folders are made that are not named.
    pub(crate) job_root: Option<PathBuf>,
    /// Size of a new EFI system partition, in bytes; `None`: whatever fits best.
    pub(crate) esp_size: Option<u64>,
    /// Where its room may come from.
    pub(crate) places: Vec<Place>,
    pub(crate) confirmations: Confirmations,
    /// Rules that are taken more, or less, seriously than by themselves.
    pub(crate) severities: BTreeMap<RuleId, Severity>,
    /// Beginning of the manufacturer's name, and the key of the setup screen.
    pub(crate) setup_keys: BTreeMap<String, String>,
    /// Which partition types become which.
    pub(crate) types: TypeTable,
}

/// Where the room for an EFI system partition may come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Place {
    Gap,
    Shrink,
    Takeover,
}

impl Place {
    const ALL: [Self; 3] = [Self::Gap, Self::Shrink, Self::Takeover];

    /// The word on the command line.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Gap => "gap",
            Self::Shrink => "shrink",
            Self::Takeover => "takeover",
        }
    }
}

/// What is asked before a disk is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Confirmations {
    /// `--yes` may answer.
    pub(crate) yes_option: bool,
    /// Questions beside the one about a backup.
    pub(crate) questions: Vec<String>,
}

impl Default for Policy {
    fn default() -> Self {
        Self {
            from: None,
            shop: None,
            job_root: None,
            esp_size: None,
            places: Place::ALL.to_vec(),
            confirmations: Confirmations {
                yes_option: true,
                questions: Vec::new(),
            },
            severities: BTreeMap::new(),
            setup_keys: BTreeMap::new(),
            types: TypeTable::default(),
        }
    }
}

impl PolicyOptions {
    /// As they are typed.
    pub(crate) fn typed(&self) -> String {
        let file = self.policy.as_ref();
        file.map_or(String::new(), |file| format!(" --policy {}", typed(file)))
    }

    /// The policy in the file that is named, or in the first that is found; else one that decides nothing.
    pub(crate) fn read(&self) -> Result<Policy, CliError> {
        if let Some(path) = &self.policy {
            return read(path);
        }
        let folders = this_pc().settings_folders().into_iter();
        let mut files = folders.map(|folder| folder.join(NAME));
        // A link that leads nowhere is no reason to go on without what the workshop has decided.
        let found = files.find(|file| file.symlink_metadata().is_ok());
        found.map_or_else(|| Ok(Policy::default()), |file| read(&file))
    }
}

/// The text is a policy.
pub(crate) fn is_sound(text: &str) -> bool {
    file::parse(text).is_ok()
}

fn read(path: &Path) -> Result<Policy, CliError> {
    let wrong = |error: &dyn std::fmt::Display| {
        CliError::new(
            Kind::Usage,
            format!("{}: {error}", path.display()),
            "A misread policy would decide something that was not meant.",
            "Every key with its default is in docs/policy.toml; what a policy decides: schwelle rules \
             --policy FILE",
        )
    };
    let bytes = read_file(path, MAX_BYTES).map_err(|error| wrong(&error))?;
    let is_open = this_pc().others_can_write(path);
    if is_open.map_err(|error| wrong(&error))? {
        return Err(CliError::new(
            Kind::Usage,
            format!("{}: other users can change this policy", path.display()),
            "A policy decides which questions are asked and what blocks. Nothing was read or written.",
            "Remove write permission for group and others from the file and its folder: chmod go-w.",
        ));
    }
    let text = String::from_utf8(bytes).map_err(|error| wrong(&error))?;
    let policy = file::parse(&text).map_err(|error| wrong(&error))?;
    Ok(Policy {
        from: Some(path.to_owned()),
        ..policy
    })
}

impl Policy {
    /// Refuses `--yes` where the policy wants a person to answer.
    pub(crate) fn may_answer(&self, yes: bool) -> Result<(), CliError> {
        if !yes || self.confirmations.yes_option {
            return Ok(());
        }
        Err(CliError::new(
            Kind::Usage,
            "the policy does not allow --yes",
            "The policy wants a person to answer the questions. Nothing was written.",
            "Repeat the command without --yes.",
        ))
    }

    /// The key for the setup screen of PCs of this manufacturer.
    pub(crate) fn setup_key(&self, manufacturer: &str) -> Option<&str> {
        let manufacturer = manufacturer.to_lowercase();
        let mut keys = self.setup_keys.iter();
        keys.find(|(begins, _)| manufacturer.starts_with(&begins.to_lowercase()))
            .map(|(_, key)| key.as_str())
    }

    /// The room for an EFI system partition may come from here.
    pub(crate) fn allows(&self, place: Place) -> bool {
        self.places.contains(&place)
    }
}
