//! `--policy FILE`: what a workshop has settled for all its jobs. So far: which partition types become
//! which, and the keys of setup screens.
//!
//! The file is described in `docs/policy.md`.

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::Args;
use schwelle_core::bytes::read_file;
use schwelle_core::gpt::{MappedType, TypeTable, attributes};
use serde::Deserialize;
use toml::Spanned;
use uuid::Uuid;

use crate::error::{CliError, Kind};

/// A longer file is not one.
const MAX_BYTES: u64 = 1 << 20;

/// Where the policy comes from.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct PolicyOptions {
    /// The workshop's policy: partition types, keys of setup screens
    #[arg(long, value_name = "FILE")]
    policy: Option<PathBuf>,
}

/// A policy.
#[derive(Debug, Clone, Default)]
pub(crate) struct Policy {
    /// Beginning of the maker's name, and the key.
    setup_keys: BTreeMap<String, String>,
    /// Which partition types become which.
    pub(crate) types: TypeTable,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct PolicyFile {
    setup_keys: BTreeMap<String, String>,
    #[serde(rename = "type")]
    types: Vec<Spanned<TypeLine>>,
}

/// An MBR type and what becomes of it.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct TypeLine {
    byte: TypeByte,
    guid: Uuid,
    #[serde(default)]
    attributes: Vec<Attribute>,
    name: Option<String>,
}

/// A type byte, two hexadecimal digits.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(try_from = "String")]
struct TypeByte(u8);

impl TryFrom<String> for TypeByte {
    type Error = &'static str;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        let number = u8::from_str_radix(&text, 16)
            .ok()
            .filter(|_| text.len() == 2);
        number
            .map(Self)
            .ok_or("a type is two hexadecimal digits, such as \"A0\"")
    }
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Attribute {
    Required,
    ReadOnly,
    Hidden,
    NoDriveLetter,
}

impl Attribute {
    fn bit(self) -> u64 {
        match self {
            Self::Required => attributes::REQUIRED,
            Self::ReadOnly => attributes::READ_ONLY,
            Self::Hidden => attributes::HIDDEN,
            Self::NoDriveLetter => attributes::NO_DRIVE_LETTER,
        }
    }
}

impl PolicyOptions {
    /// The policy in the file, or one that settles nothing.
    pub(crate) fn read(&self) -> Result<Policy, CliError> {
        let Some(path) = &self.policy else {
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
        let bytes = read_file(path, MAX_BYTES).map_err(|error| wrong(&error))?;
        let text = String::from_utf8(bytes).map_err(|error| wrong(&error))?;
        let file: PolicyFile =
            toml::from_str(&text).map_err(|error| wrong(&error.to_string().trim_end()))?;
        let mut types = TypeTable::default();
        for line in file.types {
            let at = text.get(..line.span().start).unwrap_or_default();
            let number = at.matches('\n').count() + 1;
            let TypeLine {
                byte,
                guid,
                attributes,
                name,
            } = line.into_inner();
            let attributes = attributes.iter().map(|attribute| attribute.bit());
            let mapped = MappedType {
                guid,
                attributes: attributes.fold(0, |all, bit| all | bit),
                name,
            };
            if !types.add(byte.0, mapped) {
                let what = format!(
                    "line {number}: type {:02X} cannot be given this form: types of the layout (00, 05, 0F, \
                     42, 85, EE) and of EFI system partitions are not carried over as they are",
                    byte.0
                );
                return Err(wrong(&what));
            }
        }
        Ok(Policy {
            setup_keys: file.setup_keys,
            types,
        })
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
