//! Signature lists: what `PK`, `KEK`, `db` and `dbx` hold.
//!
//! Source: UEFI 2.10 §32.4.1 (`EFI_SIGNATURE_LIST`, `EFI_SIGNATURE_DATA` and the types). A list has a
//! header of 28 bytes: type, bytes of all, of its own header, of one signature; each signature begins
//! with its owner's GUID.

#![warn(clippy::indexing_slicing)]

use uuid::{Uuid, uuid};

use crate::bytes::{array_at, u32_at};

const X509: Uuid = uuid!("a5c059a1-94e4-4aa7-87b5-ab155c2bf072");
const SHA256: Uuid = uuid!("c1c41626-504c-4092-aca9-41f936934328");
const X509_SHA256: Uuid = uuid!("3bd2a492-96c0-4079-b420-fcf98ef103ed");

const HEAD_BYTES: usize = 28;
const OWNER_BYTES: usize = 16;

/// One signature of a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Signature {
    /// A certificate, DER.
    Certificate(Vec<u8>),
    /// The SHA-256 image hash of one program.
    ImageHash([u8; 32]),
    /// The SHA-256 hash of the signed part of a certificate, and from when on it is revoked (all
    /// zero: always).
    CertificateHash([u8; 32], [u8; 16]),
    /// Of a type that is not looked into.
    Other(Uuid),
}

/// Why bytes are no signature lists.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("damaged signature list: {what} (byte {offset})")]
pub struct SignatureListError {
    /// Where, in the variable's content.
    pub offset: usize,
    /// What is wrong.
    pub what: &'static str,
}

/// All signatures of the lists that follow one another in `bytes`.
pub fn parse_lists(bytes: &[u8]) -> Result<Vec<Signature>, SignatureListError> {
    let mut found = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let fault = |what| SignatureListError { offset: at, what };
        let list = bytes.get(at..).unwrap_or_default();
        let field = |offset| u32_at(list, offset).and_then(|value| usize::try_from(value).ok());
        let kind = array_at(list, 0).map(Uuid::from_bytes_le);
        let (Some(kind), Some(all), Some(header), Some(each)) =
            (kind, field(16), field(20), field(24))
        else {
            return Err(fault("cut off inside its header"));
        };
        let list = list.get(..all).ok_or(fault("it leaves the variable"))?;
        let signatures = HEAD_BYTES
            .checked_add(header)
            .and_then(|from| list.get(from..))
            .ok_or(fault("its header leaves it"))?;
        if each <= OWNER_BYTES || !signatures.len().is_multiple_of(each) {
            return Err(fault("its signatures do not fill it"));
        }
        for signature in signatures.chunks_exact(each) {
            let data = signature.get(OWNER_BYTES..).unwrap_or_default();
            let known = match kind {
                X509 => Some(Signature::Certificate(data.to_vec())),
                SHA256 => data.try_into().ok().map(Signature::ImageHash),
                X509_SHA256 => array_at(data, 0)
                    .zip(array_at(data, 32))
                    .filter(|_| data.len() == 48)
                    .map(|(hash, since)| Signature::CertificateHash(hash, since)),
                _ => Some(Signature::Other(kind)),
            };
            found.push(known.ok_or(fault("a signature has a wrong length"))?);
        }
        at += all;
    }
    Ok(found)
}

/// A list with one certificate.
pub fn certificate_list(certificate: &[u8], owner: Uuid) -> Vec<u8> {
    let each = u32::try_from(certificate.len() + OWNER_BYTES).unwrap_or(u32::MAX);
    let all = each.saturating_add(28);
    let mut list = X509.to_bytes_le().to_vec();
    for field in [all, 0, each] {
        list.extend(field.to_le_bytes());
    }
    list.extend(owner.to_bytes_le());
    list.extend(certificate);
    list
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn list(kind: Uuid, fields: [u32; 3], rest: &[u8]) -> Vec<u8> {
        let fields = fields.iter().flat_map(|field| field.to_le_bytes());
        kind.to_bytes_le()
            .into_iter()
            .chain(fields)
            .chain(rest.iter().copied())
            .collect()
    }

    #[test]
    fn lists_follow_one_another() {
        let mut bytes = certificate_list(b"DER", Uuid::nil());
        bytes.extend(list(SHA256, [28 + 2 * 48, 0, 48], &[7; 96]));
        bytes.extend(list(X509_SHA256, [28 + 4 + 64, 4, 64], &[0; 68]));
        bytes.extend(list(Uuid::nil(), [28 + 20, 0, 20], &[1; 20]));
        assert_eq!(
            parse_lists(&bytes).unwrap(),
            [
                Signature::Certificate(b"DER".to_vec()),
                Signature::ImageHash([7; 32]),
                Signature::ImageHash([7; 32]),
                Signature::CertificateHash([0; 32], [0; 16]),
                Signature::Other(Uuid::nil()),
            ]
        );
    }

    #[test]
    fn lists_that_lie_about_their_size_are_refused() {
        let cases = [
            (
                list(SHA256, [76, 0, 48], &[0; 48])[..27].to_vec(),
                "inside its header",
            ),
            (list(SHA256, [77, 0, 48], &[0; 48]), "leaves the variable"),
            (list(SHA256, [0, 0, 48], &[0; 48]), "its header leaves it"),
            (list(SHA256, [76, 49, 48], &[0; 48]), "its header leaves it"),
            (
                list(SHA256, [76, u32::MAX, 48], &[0; 48]),
                "its header leaves it",
            ),
            (list(SHA256, [76, 0, 0], &[0; 48]), "do not fill it"),
            (list(SHA256, [76, 0, 47], &[0; 48]), "do not fill it"),
            (list(SHA256, [76, 0, 24], &[0; 48]), "wrong length"),
        ];
        for (bytes, expected) in cases {
            let error = parse_lists(&bytes).unwrap_err();
            assert!(error.to_string().contains(expected), "{error}");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_end(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            parse_lists(&bytes).ok();
        }
    }
}
