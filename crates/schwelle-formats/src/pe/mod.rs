//! PE32+ images, as far as a boot path needs: machine, subsystem, and whether the file holds all
//! its sections; in `load.rs`, whether firmware loads them; in `authenticode.rs`, what is signed of them.
//!
//! Source: Microsoft's "PE Format"; the headers are read by the crate `object`.

#![warn(clippy::indexing_slicing)]

mod authenticode;
mod fit;
mod load;
mod version;

use object::LittleEndian as LE;
use object::pe::{
    IMAGE_DIRECTORY_ENTRY_SECURITY, IMAGE_FILE_MACHINE_AMD64, IMAGE_FILE_MACHINE_ARM64,
    IMAGE_FILE_MACHINE_I386, IMAGE_NT_OPTIONAL_HDR64_MAGIC, ImageDosHeader, ImageNtHeaders32,
    ImageNtHeaders64,
};
use object::read::pe::{ImageNtHeaders, ImageOptionalHeader};

use crate::bytes::ReadBytes;
use load::Loaded;

pub use authenticode::{SignatureFault, SignedImage};
pub use fit::ProgramFault;
pub use load::{LoadFault, Part};
pub use version::FileVersion;

/// Headers are looked for in this many bytes from the start of the file.
const HEADER_BYTES: u64 = 16 << 10;

/// Processor that an image is made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Machine {
    /// 64-bit x86.
    X64,
    /// 32-bit x86.
    X86,
    /// 64-bit ARM.
    Arm64,
    /// Any other, by its number.
    Other(u16),
}

impl std::fmt::Display for Machine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::X64 => f.write_str("x64"),
            Self::X86 => f.write_str("32-bit x86"),
            Self::Arm64 => f.write_str("ARM64"),
            Self::Other(number) => write!(f, "machine {number:04X}h"),
        }
    }
}

/// Subsystem of an EFI application: what firmware starts.
pub const EFI_APPLICATION: u16 = 10;
/// Subsystem of a Windows boot application: what the boot manager starts.
pub const BOOT_APPLICATION: u16 = 16;

/// Signed programs and loaders are checked whole up to this length; no loader and no kernel comes near it.
const MAX_WHOLE_BYTES: u64 = 64 << 20;

/// What the headers of an image say, and whether it is what was signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PeImage {
    /// Processor.
    pub machine: Machine,
    /// PE32+ (64-bit form).
    pub is_64_bit_form: bool,
    /// Subsystem number.
    pub subsystem: u16,
    /// First section whose content ends beyond the file: name and the byte where it ends.
    pub cut_off: Option<(String, u64)>,
    /// It has a certificate table.
    pub is_signed: bool,
    /// It is signed, and none of its signatures is about what it holds now.
    pub is_altered: bool,
    /// Why firmware would not load it; asked of EFI applications only.
    pub load_fault: Option<LoadFault>,
    /// It is an EFI application without a signature, and pages of its code are all zeros.
    pub is_hollow: bool,
    /// Which build it is, where it says so.
    pub version: Option<FileVersion>,
}

/// Why a file is not an image.
#[derive(Debug, thiserror::Error)]
pub enum PeError {
    /// The headers do not make sense.
    #[error("not a program image: {0}")]
    Header(&'static str),
    /// The file could not be read.
    #[error("{0}")]
    Source(Box<dyn std::error::Error + Send + Sync>),
}

/// Where the resources of an image lie in the file, in bytes, and in memory.
struct Resources {
    at: u64,
    len: u64,
    address: u32,
}

impl PeImage {
    /// Reads the headers of an image.
    pub fn read<S: ReadBytes + ?Sized>(source: &S) -> Result<Self, PeError> {
        let len_bytes = source.len_bytes();
        let mut head = vec![0; usize::try_from(len_bytes.min(HEADER_BYTES)).unwrap_or(0)];
        source
            .read_bytes(0, &mut head)
            .map_err(|error| PeError::Source(error.into()))?;
        let data = head.as_slice();
        let header = |error: object::read::Error| PeError::Header(describe(&error));
        let dos = ImageDosHeader::parse(data).map_err(header)?;
        let mut offset = u64::from(dos.nt_headers_offset());
        let magic_at = usize::try_from(offset.saturating_add(24)).unwrap_or(usize::MAX);
        let magic = crate::bytes::u16_at(data, magic_at)
            .ok_or(PeError::Header("the headers lie outside the file"))?;
        let (mut image, resources) = if magic == IMAGE_NT_OPTIONAL_HDR64_MAGIC {
            let (nt, _) = ImageNtHeaders64::parse(data, &mut offset).map_err(header)?;
            Self::from_headers(nt, data, offset, len_bytes)
        } else {
            let (nt, _) = ImageNtHeaders32::parse(data, &mut offset).map_err(header)?;
            Self::from_headers(nt, data, offset, len_bytes)
        }?;
        if let Some(Resources { at, len, address }) = resources {
            let len = len
                .min(len_bytes.saturating_sub(at))
                .min(version::MAX_RESOURCE_BYTES);
            let mut bytes = vec![0; usize::try_from(len).unwrap_or(0)];
            // A version that cannot be read is none; whether the file can be read is asked elsewhere.
            let read = source.read_bytes(at, &mut bytes);
            image.version = read.ok().and_then(|()| version::find(&bytes, address));
        }
        image.is_signed = image.is_64_bit_form && is_signed(data);
        let is_loader = image.is_64_bit_form && image.subsystem == EFI_APPLICATION;
        if (image.is_signed || is_loader) && len_bytes <= MAX_WHOLE_BYTES {
            let mut whole = vec![0; usize::try_from(len_bytes).unwrap_or(0)];
            source
                .read_bytes(0, &mut whole)
                .map_err(|error| PeError::Source(error.into()))?;
            image.is_altered = SignedImage::parse(&whole).is_ok_and(|signed| signed.is_altered());
            if is_loader {
                image.judge_loading(&whole);
            }
        }
        Ok(image)
    }

    fn judge_loading(&mut self, whole: &[u8]) {
        match Loaded::load(whole) {
            Ok(loaded) => self.is_hollow = !self.is_signed && loaded.has_hollow_code(),
            Err(fault) => self.load_fault = Some(fault),
        }
    }

    /// What the headers say, and where the resources lie.
    fn from_headers<H: ImageNtHeaders>(
        nt: &H,
        data: &[u8],
        offset: u64,
        len_bytes: u64,
    ) -> Result<(Self, Option<Resources>), PeError> {
        let sections = nt
            .sections(data, offset)
            .map_err(|error| PeError::Header(describe(&error)))?;
        let (mut cut_off, mut resources) = (None, None);
        for section in sections.iter() {
            let start = u64::from(section.pointer_to_raw_data.get(LE));
            let end = start.saturating_add(section.size_of_raw_data.get(LE).into());
            if section.raw_name() == b".rsrc" {
                resources = Some(Resources {
                    at: start,
                    len: section.size_of_raw_data.get(LE).into(),
                    address: section.virtual_address.get(LE),
                });
            }
            if end > len_bytes && cut_off.is_none() {
                let name = section.raw_name().escape_ascii().to_string();
                cut_off = Some((name, end));
            }
        }
        let machine = match nt.file_header().machine.get(LE) {
            IMAGE_FILE_MACHINE_AMD64 => Machine::X64,
            IMAGE_FILE_MACHINE_I386 => Machine::X86,
            IMAGE_FILE_MACHINE_ARM64 => Machine::Arm64,
            number => Machine::Other(number.0),
        };
        let image = Self {
            machine,
            is_64_bit_form: nt.is_type_64(),
            subsystem: nt.optional_header().subsystem().0,
            cut_off,
            is_signed: false,
            is_altered: false,
            load_fault: None,
            is_hollow: false,
            version: None,
        };
        Ok((image, resources))
    }
}

/// True where the headers of a 64-bit image name a certificate table.
fn is_signed(head: &[u8]) -> bool {
    let mut offset = match ImageDosHeader::parse(head) {
        Ok(dos) => u64::from(dos.nt_headers_offset()),
        Err(_) => return false,
    };
    ImageNtHeaders64::parse(head, &mut offset).is_ok_and(|(_, directories)| {
        let table = directories.get(IMAGE_DIRECTORY_ENTRY_SECURITY);
        table.is_some_and(|table| table.address_range().1 > 0)
    })
}

/// The crate's errors are plain texts without place; the ones met here, in our words.
fn describe(error: &object::read::Error) -> &'static str {
    let text = error.to_string();
    if text.contains("DOS") {
        "it does not begin like one (no MZ header)"
    } else if text.contains("section") {
        "its section table lies outside the file"
    } else {
        "its PE headers are invalid or lie outside the file"
    }
}
