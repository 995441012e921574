//! `--policy FILE`: what a workshop has settled for all its jobs. So far: the keys of setup screens.
//!
//! The file is described in `docs/policy.md`.

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::Args;
use serde::Deserialize;

use crate::error::{CliError, Kind};

/// Where the policy comes from.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct PolicyOptions {
    /// The workshop's policy: keys of setup screens by maker
    #[arg(long = "policy", value_name = "FILE")]
    file: Option<PathBuf>,
}

/// A policy.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct Policy {
    /// Beginning of the maker's name, and the key.
    setup_keys: BTreeMap<String, String>,
}

impl PolicyOptions {
    /// The policy in the file, or one that settles nothing.
    pub(crate) fn read(&self) -> Result<Policy, CliError> {
        let Some(path) = &self.file else {
            return Ok(Policy::default());
        };
        let wrong = |error: &dyn std::fmt::Display| {
            CliError::new(
                Kind::Usage,
                format!("{}: {error}", path.display()),
                "A policy that is misread would settle something else than was meant.",
                "The keys are described in docs/policy.md",
            )
        };
        let text = std::fs::read_to_string(path).map_err(|error| wrong(&error))?;
        toml::from_str(&text).map_err(|error| wrong(&error.to_string().trim_end()))
    }
}

impl Policy {
    /// The key for the setup screen of PCs of this maker.
    pub(crate) fn setup_key(&self, maker: &str) -> Option<&str> {
        let maker = maker.to_lowercase();
        let mut keys = self.setup_keys.iter();
        keys.find(|(begins, _)| maker.starts_with(&begins.to_lowercase()))
            .map(|(_, key)| key.as_str())
    }
}
