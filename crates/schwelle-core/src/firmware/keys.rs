//! The keys that a firmware has enrolled for Secure Boot.

use uuid::Uuid;

use super::certificate::Cert;
use super::signature_list::{Signature, SignatureListError, parse_lists};
use super::variables::{GLOBAL, IMAGE_SECURITY, VariableError, Variables};

/// What is enrolled.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Keys {
    /// Platform key: whose owner may change `KEK`. Without one the firmware is in setup mode.
    pub platform: Vec<Signature>,
    /// Who may change `db` and `dbx`.
    pub exchange: Vec<Signature>,
    /// What may start.
    pub allowed: Vec<Signature>,
    /// What may not.
    pub forbidden: Vec<Signature>,
}

/// Why the keys are not known.
#[derive(Debug, thiserror::Error)]
pub enum KeysError {
    /// A variable cannot be read.
    #[error("{0}")]
    Variable(#[from] VariableError),
    /// A variable's content is invalid.
    #[error("variable {0}: {1}")]
    List(&'static str, SignatureListError),
}

/// The variables of the enrolled keys, and of those that the manufacturer delivers (UEFI 2.10 §3.3).
const ENROLLED: [&str; 4] = ["PK", "KEK", "db", "dbx"];
const DELIVERED: [&str; 4] = ["PKDefault", "KEKDefault", "dbDefault", "dbxDefault"];

impl Keys {
    /// Reads the enrolled ones from a firmware's variables; one that is not there is empty.
    pub fn read(variables: &Variables) -> Result<Self, KeysError> {
        Self::read_named(variables, ENROLLED)
    }

    /// Reads those that the manufacturer delivers, which a setup's "load factory keys" enrols; `None`
    /// where the firmware does not show any.
    pub fn factory(variables: &Variables) -> Result<Option<Self>, KeysError> {
        let keys = Self::read_named(variables, DELIVERED)?;
        Ok((!keys.platform.is_empty()).then_some(keys))
    }

    fn read_named(variables: &Variables, names: [&'static str; 4]) -> Result<Self, KeysError> {
        let read = |name: &'static str| {
            let variable = variables.read(name, space_of(name))?;
            let data = variable.map(|variable| variable.data).unwrap_or_default();
            parse_lists(&data).map_err(|error| KeysError::List(name, error))
        };
        let [platform, exchange, allowed, forbidden] = names.map(read);
        Ok(Self {
            platform: platform?,
            exchange: exchange?,
            allowed: allowed?,
            forbidden: forbidden?,
        })
    }

    /// Enrols what the manufacturer delivers; false where there is nothing.
    pub(crate) fn enrol_delivered(variables: &Variables) -> Result<bool, VariableError> {
        let mut is_any = false;
        // The platform key last: with it the others are closed.
        for (to, from) in ENROLLED.into_iter().zip(DELIVERED).rev() {
            if let Some(variable) = variables.read(from, space_of(from))? {
                variables.write(to, space_of(to), &variable)?;
                is_any = true;
            }
        }
        Ok(is_any)
    }

    /// True when there is no platform key, so that Secure Boot cannot be on.
    pub(crate) fn are_none(&self) -> bool {
        self.platform.is_empty()
    }

    /// The subjects of the certificates among `signatures`, as they come from the firmware.
    pub fn subjects(signatures: &[Signature]) -> Vec<String> {
        let subject = |signature: &Signature| match signature {
            Signature::Certificate(der) => Some(Cert::parse(der).map_or_else(
                || "a certificate that cannot be read".to_owned(),
                |cert| cert.subject(),
            )),
            _ => None,
        };
        signatures.iter().filter_map(subject).collect()
    }
}

/// The databases have a namespace of their own; the defaults are all in the global one.
fn space_of(name: &str) -> Uuid {
    match name {
        "db" | "dbx" => IMAGE_SECURITY,
        _ => GLOBAL,
    }
}
