//! Secure Boot's verdict on a program.

use schwelle_core::firmware::{AcceptedBy, Objection, Unreported, Verdict};

use super::facts::ground;

/// Why the verdict is as it is.
pub(crate) fn reason(verdict: &Verdict) -> String {
    match verdict {
        Verdict::Accepted { by } => accepted(by),
        Verdict::Refused { why } => {
            let why: Vec<String> = why.iter().map(objection).collect();
            why.join("; ")
        }
        Verdict::NotReported { why } => not_reported(why),
    }
}

fn accepted(by: &AcceptedBy) -> String {
    match by {
        AcceptedBy::Hash => "its hash is in db".to_owned(),
        AcceptedBy::Signature { signer, through } => {
            format!("it is signed by \"{signer}\", which db allows through \"{through}\"")
        }
    }
}

fn objection(objection: &Objection) -> String {
    match objection {
        Objection::Malformed { fault } | Objection::SignatureUnreadable { fault } => {
            fault.to_string()
        }
        Objection::HeadersContradict => "its headers contradict its length".to_owned(),
        Objection::HashRevoked => "its hash is in dbx: it has been revoked".to_owned(),
        Objection::NotSigned => "it is not signed, and its hash is not in db".to_owned(),
        Objection::SignerRevoked { signer } => {
            format!("it is signed by \"{signer}\", which dbx has revoked")
        }
        Objection::NoCertificate => {
            "its signature does not contain its signer's certificate".to_owned()
        }
        Objection::Changed => {
            "it has been changed since it was signed: its hash is not the signed one".to_owned()
        }
        Objection::DoesNotVerify => "its signature does not verify".to_owned(),
        Objection::NotInDb { signer, issuer } => format!(
            "it is signed by \"{signer}\" (issued by \"{issuer}\"), and db holds no certificate that this leads to"
        ),
    }
}

fn not_reported(why: &Unreported) -> String {
    match why {
        Unreported::NotVerified { signer } => {
            format!(
                "it is signed by \"{signer}\", in a way that Schwelle does not verify (not RSA)"
            )
        }
        Unreported::NoLoader => "there is no loader to judge".to_owned(),
        Unreported::LoaderUnreadable { path } => format!("{path} cannot be read"),
        Unreported::NoKeys => "no keys are enrolled".to_owned(),
        Unreported::KeysNotReported { why } => format!("its keys are not known: {}", ground(why)),
    }
}

/// What is true about Secure Boot with this verdict on the boot manager.
pub(crate) fn advice(verdict: &Verdict) -> String {
    let why = reason(verdict);
    match (verdict, verdict.needs()) {
        (Verdict::Accepted { .. }, _) => {
            format!("It can go on after the switch: the boot manager is accepted ({why}).")
        }
        (Verdict::Refused { .. }, Some(issuer)) => format!(
            "Leave it off until the firmware has the newer certificate, \"{issuer}\" (a firmware update, or its \
             page for keys, may bring it): the boot manager is sound, but {why}."
        ),
        (Verdict::Refused { .. }, None) => {
            format!("Leave it off: this firmware would not start the boot manager: {why}.")
        }
        (Verdict::NotReported { .. }, _) => format!(
            "Leave it off for the switch. Whether it can go on afterwards is not known ({why}): try it when everything \
             else works, and switch it off again if Windows does not start."
        ),
    }
}
