//! Secure Boot's verdict: would a firmware with these keys let this program run?
//!
//! Source: UEFI 2.10 §32.5.3.3 (the order of `dbx` and `db`): a program whose hash or whose signer is
//! in `dbx` is refused whatever else holds; else it runs when its hash is in `db`, or when one of
//! its signatures leads to a certificate in `db`. RFC 5652 §5.4 (what a signature with signed
//! attributes is over).

use authenticode::AuthenticodeSignature;
use cms::cert::x509::attr::Attribute;
use cms::signed_data::SignerIdentifier;
use der::Encode;
#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::Sha256;

use super::certificate::{Cert, Hash};
use super::fact::Ground;
use super::keys::Keys;
use super::machine::Machine;
use super::signature_list::Signature;
use super::target::read_loader;
use crate::cause::Cause;
use crate::device::{ReadDevice, Window};
use crate::ntfs::NtfsVolume;
use crate::pe::SignedImage;
use crate::profile::{Profile, SignedSet, UefiLoaders, boot_system};

/// Certificates between signer and root, at most.
const MAX_CHAIN: usize = 8;
/// Certificates in a signature that are looked at.
const MAX_CERTIFICATES: usize = 32;

const MESSAGE_DIGEST: &str = "1.2.840.113549.1.9.4";

/// Whether a firmware lets a program run while Secure Boot is on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Verdict {
    /// It does.
    Accepted {
        /// Why.
        by: AcceptedBy,
    },
    /// It does not.
    Refused {
        /// Why: one objection for each signature, or one against the program.
        why: Vec<Objection>,
    },
    /// That is not known.
    NotReported {
        /// Why not.
        why: Unreported,
    },
}

/// What lets a program run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum AcceptedBy {
    /// Its hash is in `db`.
    Hash,
    /// A signature leads to a certificate in `db`.
    Signature {
        /// Who signed it.
        signer: String,
        /// The certificate in `db`.
        through: String,
    },
}

/// Why a program is refused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Objection {
    /// It is no program that can be judged.
    Malformed {
        /// What is wrong with it.
        fault: Cause,
    },
    /// Its headers contradict its length.
    HeadersContradict,
    /// Its hash is in `dbx`.
    HashRevoked,
    /// It is not signed, and its hash is not in `db`.
    NotSigned,
    /// Its signer is in `dbx`.
    SignerRevoked {
        /// Who signed it.
        signer: String,
    },
    /// The signature does not hold its signer's certificate.
    NoCertificate,
    /// It has been changed since it was signed.
    Changed,
    /// The signature does not verify.
    DoesNotVerify,
    /// The signature cannot be read.
    SignatureUnreadable {
        /// Why not.
        fault: Cause,
    },
    /// The signature is sound, and leads to no certificate in `db`.
    NotInDb {
        /// Who signed it.
        signer: String,
        /// Who issued the signer's certificate: that one would have to be in `db`.
        issuer: String,
    },
}

/// Why there is no verdict.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Unreported {
    /// A signature is of a kind that is not verified here (not RSA).
    NotVerified {
        /// Who signed it.
        signer: String,
    },
    /// There is no loader to judge.
    NoLoader,
    /// The loader cannot be read.
    LoaderUnreadable {
        /// Its path.
        path: String,
    },
    /// No keys are enrolled, and there are no factory-default ones.
    NoKeys,
    /// The keys are not known.
    KeysNotReported {
        /// Why not.
        why: Ground,
    },
}

impl Verdict {
    /// True when the program would run.
    pub fn accepts(&self) -> bool {
        matches!(self, Self::Accepted { .. })
    }

    /// The issuer whose certificate would have to be in `db`, where that is all that is missing.
    pub fn needs(&self) -> Option<&str> {
        let Self::Refused { why } = self else {
            return None;
        };
        why.iter().rev().find_map(|objection| match objection {
            Objection::NotInDb { issuer, .. } => Some(issuer.as_str()),
            _ => None,
        })
    }

    fn refused(objection: Objection) -> Self {
        let why = vec![objection];
        Self::Refused { why }
    }

    fn not_reported(why: Unreported) -> Self {
        Self::NotReported { why }
    }
}

/// The verdict on the program in `image`.
pub fn verdict(image: &[u8], keys: &Keys) -> Verdict {
    let program = match SignedImage::parse(image) {
        Ok(program) => program,
        Err(error) => {
            let fault = error.into();
            return Verdict::refused(Objection::Malformed { fault });
        }
    };
    let Some(own_hash) = program.hash::<Sha256>() else {
        return Verdict::refused(Objection::HeadersContradict);
    };
    let lists_hash = |list: &[Signature]| {
        let mut hashes = list.iter();
        hashes.any(|entry| matches!(entry, Signature::ImageHash(hash) if hash[..] == own_hash))
    };
    if lists_hash(&keys.forbidden) {
        return Verdict::refused(Objection::HashRevoked);
    }
    if lists_hash(&keys.allowed) {
        return Verdict::Accepted {
            by: AcceptedBy::Hash,
        };
    }
    let signatures = program.signatures();
    if signatures.is_empty() {
        return Verdict::refused(Objection::NotSigned);
    }
    let mut accepted = None;
    let (mut why, mut unknown) = (Vec::new(), None);
    for signature in signatures {
        let judged = signature
            .map_err(|fault| {
                let fault = fault.into();
                Refusal::Other(Objection::SignatureUnreadable { fault })
            })
            .and_then(|signature| judge(&program, &signature, keys));
        match judged {
            Ok(by) => accepted = accepted.or(Some(by)),
            // One forbidden signer is enough, however many others are allowed.
            Err(Refusal::Forbidden { signer }) => {
                return Verdict::refused(Objection::SignerRevoked { signer });
            }
            Err(Refusal::NotVerified { signer }) => {
                unknown = Some(Unreported::NotVerified { signer });
            }
            Err(Refusal::Other(objection)) => why.push(objection),
        }
    }
    match (accepted, unknown) {
        (Some(by), _) => Verdict::Accepted { by },
        (None, Some(why)) => Verdict::not_reported(why),
        (None, None) => Verdict::Refused { why },
    }
}

/// Why a signature does not help.
enum Refusal {
    /// Its signer is revoked: the program is refused.
    Forbidden { signer: String },
    /// It is of a kind that is not verified here: it may lead to `db`.
    NotVerified { signer: String },
    /// It is of no use; another one may be.
    Other(Objection),
}

/// What accepts the program by this signature.
fn judge(
    program: &SignedImage<'_>,
    signature: &AuthenticodeSignature,
    keys: &Keys,
) -> Result<AcceptedBy, Refusal> {
    let certificates: Vec<Cert> = signature
        .certificates()
        .take(MAX_CERTIFICATES)
        .filter_map(Cert::of)
        .collect();
    let signer =
        find_signer(signature, &certificates).ok_or(Refusal::Other(Objection::NoCertificate))?;
    if program.matches(signature) != Some(true) {
        return Err(Refusal::Other(Objection::Changed));
    }
    if !signer.has_rsa_key() {
        let signer = signer.subject();
        return Err(Refusal::NotVerified { signer });
    }
    if !signature_holds(signature, signer) {
        return Err(Refusal::Other(Objection::DoesNotVerify));
    }
    let forbids = |entry: &Signature| match entry {
        Signature::Certificate(der) => {
            Cert::parse(der).is_some_and(|cert| leads_to(signer, &cert, &certificates))
        }
        // A time of revocation is not compared with a time stamp: who revokes means it.
        Signature::CertificateHash(hash, _) => certificates
            .iter()
            .any(|cert| cert.signed_part_hash() == Some(*hash)),
        _ => false,
    };
    let name = signer.subject();
    if keys.forbidden.iter().any(forbids) {
        return Err(Refusal::Forbidden { signer: name });
    }
    let mut allowed = keys.allowed.iter().filter_map(|entry| match entry {
        Signature::Certificate(der) => Cert::parse(der),
        _ => None,
    });
    match allowed.find(|cert| leads_to(signer, cert, &certificates)) {
        Some(root) => Ok(AcceptedBy::Signature {
            signer: name,
            through: root.subject(),
        }),
        None => {
            let issuer = certificates.iter().find(|cert| cert.has_issued(signer));
            let issuer = issuer.map_or_else(|| issuer_name(signer), Cert::subject);
            Err(Refusal::Other(Objection::NotInDb {
                signer: name,
                issuer,
            }))
        }
    }
}

fn issuer_name(cert: &Cert) -> String {
    cert.inner.tbs_certificate.issuer.to_string()
}

/// The certificate that the signature says it was made with.
fn find_signer<'c>(
    signature: &AuthenticodeSignature,
    certificates: &'c [Cert],
) -> Option<&'c Cert> {
    let SignerIdentifier::IssuerAndSerialNumber(id) = &signature.signer_info().sid else {
        return None;
    };
    certificates.iter().find(|cert| {
        let found = &cert.inner.tbs_certificate;
        found.issuer == id.issuer && found.serial_number == id.serial_number
    })
}

/// The signature is over the signed attributes, which hold the hash of the content.
fn signature_holds(signature: &AuthenticodeSignature, signer: &Cert) -> bool {
    let holds = || {
        let info = signature.signer_info();
        let hash = Hash::of(&info.digest_alg.oid)?;
        let content = hash.of_bytes(signature.encapsulated_content()?);
        let Some(attributes) = &info.signed_attrs else {
            return Some(signer.verifies(hash, &content, signature.signature()));
        };
        let is_digest = |attribute: &&Attribute| attribute.oid.to_string() == MESSAGE_DIGEST;
        let digest = attributes.iter().find(is_digest)?.values.iter().next()?;
        let over = hash.of_bytes(&attributes.to_der().ok()?);
        Some(digest.value() == content && signer.verifies(hash, &over, signature.signature()))
    };
    holds() == Some(true)
}

/// True when `signer` is `root`, or was issued by it, directly or through `others`.
fn leads_to(signer: &Cert, root: &Cert, others: &[Cert]) -> bool {
    // Breadth first; a certificate is taken once, so that a circle ends.
    let mut reached = vec![signer];
    let mut at = 0;
    while let Some(current) = reached.get(at).copied() {
        if current.is(root) || root.has_issued(current) {
            return true;
        }
        if reached.len() < MAX_CHAIN {
            for cert in others {
                if !reached.iter().any(|known| known.is(cert)) && cert.has_issued(current) {
                    reached.push(cert);
                }
            }
        }
        at += 1;
    }
    false
}

/// Which of a system's signed sets of boot files suits a PC.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoaderChoice {
    /// The set to place.
    pub set: SignedSet,
    /// The verdict on the set to place; nothing where no loader could be read.
    pub verdict: Verdict,
    /// The verdict on the other set, where there is one.
    pub other: Option<Verdict>,
}

/// Chooses the set of boot files that this PC's Secure Boot accepts: the first one, unless only the
/// second is accepted.
pub(crate) fn choose(disk: &dyn ReadDevice, profile: &Profile, machine: &Machine) -> LoaderChoice {
    if let (None, Some(loaders)) = (boot_system(profile), linux_loaders(profile)) {
        let mut files = loaders.files();
        let first = files.find(|(name, _)| *name == loaders.first());
        return LoaderChoice {
            set: SignedSet::First,
            verdict: match (machine.keys_to_go_by(), first) {
                (Ok(keys), Some((_, file))) => verdict(&file.content, keys),
                (Err(why), _) => Verdict::not_reported(why),
                (Ok(_), None) => Verdict::not_reported(Unreported::NoLoader),
            },
            other: None,
        };
    }
    let judge = |set| verdict_on_set(disk, profile, machine, set);
    let nothing = || Verdict::not_reported(Unreported::NoLoader);
    let first = judge(SignedSet::First).unwrap_or_else(nothing);
    match judge(SignedSet::Second) {
        Some(second) if second.accepts() && !first.accepts() => LoaderChoice {
            set: SignedSet::Second,
            verdict: second,
            other: Some(first),
        },
        second => LoaderChoice {
            set: SignedSet::First,
            verdict: first,
            other: second,
        },
    }
}

/// The loaders of the first Linux that has some.
pub(crate) fn linux_loaders(profile: &Profile) -> Option<&UefiLoaders> {
    let mut systems = profile.linux.iter();
    systems.find_map(|system| system.loaders.as_ref().ok())
}

/// The verdict on the loader at `path` on the EFI system partition of a converted disk.
pub fn verdict_on_loader(disk: &dyn ReadDevice, machine: &Machine, path: &str) -> Verdict {
    match (machine.keys_to_go_by(), read_loader(disk, path)) {
        (Err(why), _) => Verdict::not_reported(why),
        (_, None) => Verdict::not_reported(Unreported::LoaderUnreadable {
            path: path.to_owned(),
        }),
        (Ok(keys), Some(image)) => verdict(&image, keys),
    }
}

/// The verdict on the boot manager of a set; `None` where the set has none that can be read.
fn verdict_on_set(
    disk: &dyn ReadDevice,
    profile: &Profile,
    machine: &Machine,
    set: SignedSet,
) -> Option<Verdict> {
    let system = boot_system(profile)?;
    let file = system.boot_files.boot_manager(set)?;
    let extent = profile.partition(system.partition)?.extent;
    let keys = match machine.keys_to_go_by() {
        Ok(keys) => keys,
        Err(why) => return Some(Verdict::not_reported(why)),
    };
    let window = Window::new(disk, extent)?;
    let volume = NtfsVolume::open(&window).ok()?;
    let image = volume.open_file(file.record).ok()?.read_all(file.len_bytes);
    Some(verdict(&image.ok()?, keys))
}
