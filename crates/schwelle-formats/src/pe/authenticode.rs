//! Signatures of programs: what of the file is hashed, and the signatures in its certificate table.
//!
//! Source: Microsoft's "PE Format" (certificate table) and "Windows Authenticode Portable Executable
//! Signature Format". Hash and container are read by the crate `authenticode`, which verifies
//! nothing; that is done in `firmware`.

use std::ops::Range;

use authenticode::{
    AttributeCertificateIterator, AuthenticodeSignature, PeOffsetError, PeOffsets, PeTrait,
    authenticode_digest,
};
use object::LittleEndian as LE;
use object::pe::{IMAGE_DIRECTORY_ENTRY_SECURITY, ImageDosHeader, ImageNtHeaders64};
use object::read::pe::{ImageNtHeaders, ImageOptionalHeader};
use sha1::Sha1;
use sha2::{Digest, Sha256, Sha384, Sha512};

use super::{PeError, describe};

/// More signatures than any loader has.
const MAX_SIGNATURES: usize = 16;

/// Byte offsets in the optional header (both forms), and of the security directory in the PE32+ form.
const CHECK_SUM: usize = 64;
const SECURITY_DIRECTORY_64: usize = 112 + 4 * 8;
/// Signature and file header before the optional header.
const BEFORE_OPTIONAL_HEADER: usize = 4 + 20;

/// Why a signature cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SignatureFault {
    /// The certificate table leaves the file.
    #[error("the certificate table leaves the file")]
    TableOutside,
    /// An entry of that table is damaged.
    #[error("an entry of the certificate table is damaged")]
    Entry,
    /// It has another form.
    #[error("a signature that cannot be read")]
    Form,
}

/// A whole program (PE32+), with what its hash leaves out.
#[derive(Debug)]
pub struct SignedImage<'a> {
    data: &'a [u8],
    sections: Vec<Range<usize>>,
    certificates: Option<Range<usize>>,
    offsets: PeOffsets,
}

impl<'a> SignedImage<'a> {
    /// Reads the headers of the program that `data` holds.
    pub fn parse(data: &'a [u8]) -> Result<Self, PeError> {
        let header = |error: object::read::Error| PeError::Header(describe(&error));
        let outside = PeError::Header("its headers lie outside the file");
        let dos = ImageDosHeader::parse(data).map_err(header)?;
        let nt_at = usize::try_from(dos.nt_headers_offset()).unwrap_or(usize::MAX);
        let mut offset = u64::from(dos.nt_headers_offset());
        let (nt, directories) = ImageNtHeaders64::parse(data, &mut offset).map_err(header)?;
        let optional_at = nt_at.saturating_add(BEFORE_OPTIONAL_HEADER);
        let range = |start: u32, len: u32| {
            let (start, len) = (usize::try_from(start).ok()?, usize::try_from(len).ok()?);
            Some(start..start.checked_add(len)?)
        };
        let sections = nt.sections(data, offset).map_err(header)?;
        let sections: Option<Vec<_>> = sections
            .iter()
            .map(|section| {
                let start = section.pointer_to_raw_data.get(LE);
                range(start, section.size_of_raw_data.get(LE))
            })
            .collect();
        let certificates = directories
            .get(IMAGE_DIRECTORY_ENTRY_SECURITY)
            .map(|entry| entry.address_range())
            .filter(|(_, len)| *len > 0)
            .and_then(|(start, len)| range(start, len));
        let after_header = usize::try_from(nt.optional_header().size_of_headers());
        Ok(Self {
            data,
            sections: sections.ok_or(outside)?,
            certificates,
            offsets: PeOffsets {
                check_sum: optional_at.saturating_add(CHECK_SUM),
                after_check_sum: optional_at.saturating_add(CHECK_SUM + 4),
                security_data_dir: optional_at.saturating_add(SECURITY_DIRECTORY_64),
                after_security_data_dir: optional_at.saturating_add(SECURITY_DIRECTORY_64 + 8),
                after_header: after_header.unwrap_or(usize::MAX),
            },
        })
    }

    /// The hash that a signature is about; `None` when the headers contradict the file.
    pub fn hash<D: Digest + sha2::digest::Update>(&self) -> Option<Vec<u8>> {
        let mut digest = D::new();
        authenticode_digest(self, &mut digest).ok()?;
        Some(digest.finalize().to_vec())
    }

    /// True when the hash that `signature` keeps is this program's; `None` for an algorithm that no loader uses.
    pub fn matches(&self, signature: &AuthenticodeSignature) -> Option<bool> {
        // RFC 3279 §2.1 (SHA-1), RFC 5754 §2 (SHA-2).
        let hash = match signature.digest_algorithm().oid.to_string().as_str() {
            "1.3.14.3.2.26" => self.hash::<Sha1>(),
            "2.16.840.1.101.3.4.2.1" => self.hash::<Sha256>(),
            "2.16.840.1.101.3.4.2.2" => self.hash::<Sha384>(),
            "2.16.840.1.101.3.4.2.3" => self.hash::<Sha512>(),
            _ => return None,
        };
        Some(hash.is_some_and(|hash| hash == signature.digest()))
    }

    /// True when it is signed, and none of its signatures is about what it holds now.
    pub fn is_altered(&self) -> bool {
        let signatures = self.signatures();
        let known = signatures.iter().flatten();
        let answers: Vec<bool> = known.filter_map(|one| self.matches(one)).collect();
        !answers.is_empty() && answers.iter().all(|&matches| !matches)
    }

    /// The signatures in the certificate table, each as it was read or with why not.
    pub fn signatures(&self) -> Vec<Result<AuthenticodeSignature, SignatureFault>> {
        let entries = match AttributeCertificateIterator::new(self) {
            Ok(Some(entries)) => entries,
            Ok(None) => return Vec::new(),
            Err(_) => return vec![Err(SignatureFault::TableOutside)],
        };
        let read = |entry: Result<authenticode::AttributeCertificate<'_>, _>| {
            let entry = entry.map_err(|_fault| SignatureFault::Entry)?;
            let signature = entry.get_authenticode_signature();
            signature.map_err(|_fault| SignatureFault::Form)
        };
        entries.take(MAX_SIGNATURES).map(read).collect()
    }
}

impl PeTrait for SignedImage<'_> {
    fn data(&self) -> &[u8] {
        self.data
    }

    fn num_sections(&self) -> usize {
        self.sections.len()
    }

    fn section_data_range(&self, index: usize) -> Result<Range<usize>, PeOffsetError> {
        let section = index.checked_sub(1).and_then(|at| self.sections.get(at));
        section.cloned().ok_or(PeOffsetError)
    }

    fn certificate_table_range(&self) -> Result<Option<Range<usize>>, PeOffsetError> {
        Ok(self.certificates.clone())
    }

    fn offsets(&self) -> Result<PeOffsets, PeOffsetError> {
        Ok(self.offsets.clone())
    }
}
