//! Certificates as far as Secure Boot needs them: subject, and whether one has issued another.
//!
//! Source: RFC 5280 §4.1 (fields), §4.2.1.9 (basic constraints); RFC 8017 §8.2 (RSASSA-PKCS1-v1_5).
//! Firmware looks neither at validity dates nor at the purposes a certificate is made for (UEFI 2.10
//! §32.5.3.3 leaves time to the databases), so neither is looked at here.

use der::asn1::ObjectIdentifier;
use der::{Decode, Encode};
use rsa::RsaPublicKey;
use rsa::pkcs1v15::Pkcs1v15Sign;
use rsa::pkcs8::DecodePublicKey;
use sha1::Sha1;
use sha2::{Digest, Sha256, Sha384, Sha512};
use x509_cert::Certificate;
use x509_cert::certificate::Version;
use x509_cert::ext::pkix::BasicConstraints;

/// A public key longer than this takes too long to work with; firmware knows up to 4096 bits.
const MAX_KEY_DER_BYTES: usize = 2200;

/// A hash function of a signature.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Hash {
    Sha1,
    Sha256,
    Sha384,
    Sha512,
}

impl Hash {
    /// By the identifier of the hash alone, or of the hash with RSA.
    pub(super) fn of(id: &ObjectIdentifier) -> Option<Self> {
        match id.to_string().as_str() {
            "1.3.14.3.2.26" | "1.2.840.113549.1.1.5" => Some(Self::Sha1),
            "2.16.840.1.101.3.4.2.1" | "1.2.840.113549.1.1.11" => Some(Self::Sha256),
            "2.16.840.1.101.3.4.2.2" | "1.2.840.113549.1.1.12" => Some(Self::Sha384),
            "2.16.840.1.101.3.4.2.3" | "1.2.840.113549.1.1.13" => Some(Self::Sha512),
            _ => None,
        }
    }

    pub(super) fn of_bytes(self, bytes: &[u8]) -> Vec<u8> {
        match self {
            Self::Sha1 => Sha1::digest(bytes).to_vec(),
            Self::Sha256 => Sha256::digest(bytes).to_vec(),
            Self::Sha384 => Sha384::digest(bytes).to_vec(),
            Self::Sha512 => Sha512::digest(bytes).to_vec(),
        }
    }

    fn padding(self) -> Pkcs1v15Sign {
        match self {
            Self::Sha1 => Pkcs1v15Sign::new::<Sha1>(),
            Self::Sha256 => Pkcs1v15Sign::new::<Sha256>(),
            Self::Sha384 => Pkcs1v15Sign::new::<Sha384>(),
            Self::Sha512 => Pkcs1v15Sign::new::<Sha512>(),
        }
    }
}

/// A certificate that can be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Cert {
    pub(super) inner: Certificate,
    der: Vec<u8>,
}

impl Cert {
    pub(super) fn parse(der: &[u8]) -> Option<Self> {
        // Lists pad certificates of different lengths with zeros, so the reader may leave some.
        let mut reader = der::SliceReader::new(der).ok()?;
        let inner = <Certificate as Decode<'_>>::decode(&mut reader).ok()?;
        let der = inner.to_der().ok()?;
        Some(Self { inner, der })
    }

    pub(super) fn of(inner: &Certificate) -> Option<Self> {
        let der = inner.to_der().ok()?;
        Some(Self {
            inner: inner.clone(),
            der,
        })
    }

    pub(super) fn is(&self, other: &Self) -> bool {
        self.der == other.der
    }

    /// The common name of the subject, else all of it.
    pub(super) fn subject(&self) -> String {
        const COMMON_NAME: &str = "2.5.4.3";
        let subject = &self.inner.tbs_certificate.subject;
        let parts = subject.0.iter().flat_map(|set| set.0.iter());
        let mut names = parts.filter(|part| part.oid.to_string() == COMMON_NAME);
        names
            .find_map(|name| std::str::from_utf8(name.value.value()).ok())
            .map_or_else(|| subject.to_string(), str::to_owned)
    }

    /// Hash of the signed part, by which `dbx` revokes certificates.
    pub(super) fn signed_part_hash(&self) -> Option<[u8; 32]> {
        let part = self.inner.tbs_certificate.to_der().ok()?;
        Some(Sha256::digest(part).into())
    }

    /// True when its key is one that signatures can be verified with here.
    pub(super) fn has_rsa_key(&self) -> bool {
        const RSA: &str = "1.2.840.113549.1.1.1";
        let key = &self.inner.tbs_certificate.subject_public_key_info;
        key.algorithm.oid.to_string() == RSA
    }

    /// True when this one's key has made `signature` over something with this hash.
    pub(super) fn verifies(&self, hash: Hash, hashed: &[u8], signature: &[u8]) -> bool {
        let key = self.inner.tbs_certificate.subject_public_key_info.to_der();
        key.ok()
            .filter(|key| key.len() <= MAX_KEY_DER_BYTES)
            .and_then(|key| RsaPublicKey::from_public_key_der(&key).ok())
            .is_some_and(|key| key.verify(hash.padding(), hashed, signature).is_ok())
    }

    /// True when this one has issued `other`.
    pub(super) fn has_issued(&self, other: &Self) -> bool {
        let (this, other) = (&self.inner, &other.inner);
        let may_issue = match this.tbs_certificate.get::<BasicConstraints>() {
            Ok(Some((_, constraints))) => constraints.ca,
            Ok(None) => this.tbs_certificate.version == Version::V1,
            Err(_) => false,
        };
        let verified = || {
            let hash = Hash::of(&other.signature_algorithm.oid)?;
            let signed = other.tbs_certificate.to_der().ok()?;
            let signature = other.signature.as_bytes()?;
            Some(self.verifies(hash, &hash.of_bytes(&signed), signature))
        };
        may_issue
            && this.tbs_certificate.subject == other.tbs_certificate.issuer
            && verified() == Some(true)
    }
}
