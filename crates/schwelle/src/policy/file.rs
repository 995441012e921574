//! The policy file: TOML, read strictly. Every key with its default stands in `docs/policy.toml`.

use std::collections::BTreeMap;
use std::fmt;
use std::ops::Range;
use std::path::PathBuf;

use schwelle_core::gpt::{MappedType, TypeTable, attributes};
use schwelle_core::rules::{self, RuleId, Severity};
use serde::Deserialize;
use toml::Spanned;
use uuid::Uuid;

use super::{Confirmations, Place, Policy};
use crate::sizes::size;

/// What is wrong with a policy, and where: lines and columns count from 1.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Fault {
    line: usize,
    column: usize,
    what: String,
}

impl fmt::Display for Fault {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            out,
            "line {}, column {}: {}",
            self.line, self.column, self.what
        )
    }
}

impl Fault {
    fn at(text: &str, span: Range<usize>, what: impl Into<String>) -> Self {
        let before = text.get(..span.start).unwrap_or_default();
        let line_begins = before.rfind('\n').map_or(0, |at| at + 1);
        Self {
            line: before.matches('\n').count() + 1,
            column: before
                .get(line_begins..)
                .unwrap_or_default()
                .chars()
                .count()
                + 1,
            what: what.into(),
        }
    }
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct PolicyFile {
    shop: Option<String>,
    job_root: Option<Spanned<PathBuf>>,
    efi_system_partition: EspSection,
    confirmations: ConfirmationSection,
    severity: BTreeMap<Spanned<String>, SeverityWord>,
    setup_keys: BTreeMap<String, String>,
    #[serde(rename = "type")]
    types: Vec<Spanned<TypeLine>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct EspSection {
    size: Option<EspSize>,
    places: Option<Spanned<Vec<Place>>>,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(try_from = "String")]
struct EspSize(Option<u64>);

impl TryFrom<String> for EspSize {
    type Error = String;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        match text.as_str() {
            "auto" => Ok(Self(None)),
            text => size(text).map(|bytes| Self(Some(bytes))),
        }
    }
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct ConfirmationSection {
    yes_option: Option<bool>,
    questions: Vec<String>,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum SeverityWord {
    Normal,
    Strict,
    Known,
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

/// The policy in this text.
pub(super) fn parse(text: &str) -> Result<Policy, Fault> {
    let file: PolicyFile = toml::from_str(text)
        .map_err(|error| Fault::at(text, error.span().unwrap_or(0..0), error.message()))?;
    let job_root = match file.job_root {
        Some(root) if !root.get_ref().is_absolute() => {
            return Err(Fault::at(
                text,
                root.span(),
                "a job root is an absolute path",
            ));
        }
        root => root.map(Spanned::into_inner),
    };
    let places = match file.efi_system_partition.places {
        Some(places) if places.get_ref().is_empty() => {
            return Err(Fault::at(
                text,
                places.span(),
                "at least one place must be allowed",
            ));
        }
        places => places.map(Spanned::into_inner),
    };
    Ok(Policy {
        from: None,
        shop: file.shop.filter(|shop| !shop.is_empty()),
        job_root,
        esp_size: file.efi_system_partition.size.and_then(|size| size.0),
        places: places.unwrap_or(Place::ALL.to_vec()),
        confirmations: Confirmations {
            yes_option: file.confirmations.yes_option.unwrap_or(true),
            questions: file.confirmations.questions,
        },
        severities: severities(text, file.severity)?,
        setup_keys: file.setup_keys,
        types: types(text, file.types)?,
    })
}

fn severities(
    text: &str,
    expected: BTreeMap<Spanned<String>, SeverityWord>,
) -> Result<BTreeMap<RuleId, Severity>, Fault> {
    let mut severities = BTreeMap::new();
    for (id, word) in expected {
        let rule = rules::find(id.get_ref()).ok_or_else(|| {
            let what = format!("there is no rule {}; all ids: schwelle rules", id.get_ref());
            Fault::at(text, id.span(), what)
        })?;
        let severity = match word {
            SeverityWord::Normal => continue,
            // It is open until it is asked, and what is blocked is never asked.
            SeverityWord::Strict if rule.id == RuleId::BackupMade => {
                let what = "convert asks for a backup in any case, and goes no further without one";
                return Err(Fault::at(text, id.span(), what));
            }
            SeverityWord::Strict => Severity::Strict,
            SeverityWord::Known => Severity::Known,
        };
        severities.insert(rule.id, severity);
    }
    Ok(severities)
}

fn types(text: &str, lines: Vec<Spanned<TypeLine>>) -> Result<TypeTable, Fault> {
    let mut types = TypeTable::default();
    for line in lines {
        let span = line.span();
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
                "type {:02X} cannot be given this form: types of the layout (00, 05, 0F, 42, 85, EE) and of \
                 EFI system partitions are not carried over as they are",
                byte.0
            );
            return Err(Fault::at(text, span, what));
        }
    }
    Ok(types)
}

#[cfg(test)]
mod tests {
    use super::*;

    const SHIPPED: &str = include_str!("../../../../docs/policy.toml");

    #[test]
    fn the_shipped_file_has_every_key_with_its_default() {
        let shipped = parse(SHIPPED).unwrap();
        assert_eq!(shipped, Policy::default());
        // And what stands there as an example can be used as it stands.
        let examples: String = SHIPPED
            .lines()
            .map(|line| line.strip_prefix("#: ").unwrap_or(line).to_owned() + "\n")
            .collect();
        let all = parse(&examples).unwrap();
        assert!(all.shop.is_some() && all.job_root.is_some());
        assert_eq!(all.severities.len(), 2);
        assert!(all.setup_key("Skerry Works").is_some() && all.types != TypeTable::default());
    }

    #[test]
    fn what_is_wrong_is_refused_with_line_and_column() {
        for (text, at, said) in [
            (
                "shop = \"A\"\nshopp = \"B\"\n",
                (2, 1),
                "unknown field `shopp`",
            ),
            ("shop = 5\n", (1, 8), "invalid type"),
            ("job_root = \"jobs\"\n", (1, 12), "absolute path"),
            ("[efi_system_partition]\nsize = \"5T\"\n", (2, 8), "K, M, G"),
            (
                "[efi_system_partition]\nplaces = [\"gap\", \"tail\"]\n",
                (2, 18),
                "unknown variant `tail`",
            ),
            (
                "[efi_system_partition]\nplaces = []\n",
                (2, 10),
                "at least one",
            ),
            (
                "[severity]\n\"table.mbrr\" = \"strict\"\n",
                (2, 1),
                "no rule table.mbrr",
            ),
            (
                "[severity]\n\"table.mbr\" = \"pass\"\n",
                (2, 15),
                "unknown variant `pass`",
            ),
            (
                "[severity]\n\"backup.made\" = \"strict\"\n",
                (2, 1),
                "in any case",
            ),
            (
                "[confirmations]\nyes_option = \"no\"\n",
                (2, 14),
                "invalid type",
            ),
            ("[[type]]\nbyte = \"5\"\n", (2, 8), "two hexadecimal digits"),
            (
                "\n[[type]]\nbyte = \"EE\"\nguid = \"bfbfafe7-a34f-448a-9a5b-6213eb736c22\"\n",
                (2, 1),
                "type EE",
            ),
            ("shop = \"\u{0}\n", (1, 10), "invalid"),
        ] {
            let fault = parse(text).unwrap_err();
            assert_eq!((fault.line, fault.column), at, "{fault}: {text}");
            assert!(fault.what.contains(said), "{fault}: {text}");
        }
    }
}
